//! `[entities]`.

use super::form::table;
use crate::project::written::Written;

table! {
    /// What a mapper does with the entities of a table.
    EntityTable {
        /// Relations that are loaded whenever an entity of the table is.
        "always" always: Vec<Written>,
    }
}
