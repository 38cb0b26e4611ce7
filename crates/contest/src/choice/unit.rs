//! What holds the statements of a call together.

use super::entry::{ChoiceEntry, OptionEntry, option, options};

options! {
    /// What holds the statements of a call together.
    Unit {
        /// Nothing: each is by itself.
        None,
        /// A transaction.
        One,
    }
}

pub(super) static UNIT: ChoiceEntry = ChoiceEntry {
    word: "unit",
    about: "what holds the statements of a call together",
    usual: Some(0),
    turn: 8,
    is_manner: true,
    options: &[
        option("none", "nothing: each is by itself"),
        OptionEntry { enters: false, ..option("one", "a transaction that sees one state of the data throughout") },
    ],
};
