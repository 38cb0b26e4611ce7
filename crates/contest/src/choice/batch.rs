//! How many rows or statements go together.

use super::entry::{ChoiceEntry, OptionEntry, option, options};

options! {
    /// How many rows or statements go together.
    Batch {
        /// One row a statement, and each statement a trip.
        Single,
        /// So many statements in one trip.
        Sent,
        /// So many rows in one statement.
        Values,
        /// The engine's own way for many rows.
        Bulk,
    }
}

/// An option with so many of something.
const fn sized(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { has_size: true, has_auto: true, ..option(word, about) }
}

pub(super) static BATCH: ChoiceEntry = ChoiceEntry {
    word: "batch",
    about: "how many rows or statements go together",
    usual: None,
    turn: 14,
    is_manner: false,
    options: &[
        option("single", "a row a statement, and each statement a trip"),
        sized("sent", "so many statements in one trip"),
        sized("values", "so many rows in one statement"),
        option("bulk", "the engine's own way for many rows"),
    ],
};
