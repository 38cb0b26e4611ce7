//! What a transaction holds.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// What a transaction holds.
    Commit {
        /// One statement: each by itself.
        Each,
        /// All statements of a call.
        Once,
    }
}

pub(super) static COMMIT: ChoiceEntry = ChoiceEntry {
    word: "commit",
    about: "what a transaction holds",
    usual: None,
    turn: 13,
    is_manner: false,
    options: &[
        option("each", "each statement is a transaction by itself"),
        option("once", "one transaction holds all statements of a call"),
    ],
};
