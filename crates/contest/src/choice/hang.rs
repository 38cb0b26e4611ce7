//! Who deletes what hangs on a row.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// Who deletes what hangs on a row.
    Hang {
        /// Statements, one for each table, children first.
        Stepwise,
        /// The database, where the schema says so.
        Cascade,
    }
}

pub(super) static HANG: ChoiceEntry = ChoiceEntry {
    word: "hang",
    about: "who deletes what hangs on a row",
    usual: Some(0),
    turn: 16,
    is_manner: false,
    options: &[
        option("stepwise", "a statement for each table does, children first"),
        option("cascade", "the database does, as the references of the schema say"),
    ],
};
