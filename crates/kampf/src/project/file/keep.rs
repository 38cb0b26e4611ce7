//! `[keep]`.

use super::form::table;
use super::numbers::{Few, Size};

table! {
    /// What is kept of what was loaded.
    KeepTable {
        /// Datasets besides the current one.
        "datasets" datasets: Few,
        /// Variants of a dataset besides those that are asked for.
        "variants" variants: Few,
        /// How much of the disk all that is not asked for may take together.
        "disk" disk: Size,
    }
}
