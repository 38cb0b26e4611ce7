//! Who says what is to be written.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// Who says what is to be written.
    Path {
        /// Statements do.
        Direct,
    }
}

pub(super) static PATH: ChoiceEntry = ChoiceEntry {
    word: "path",
    about: "who says what is to be written",
    usual: None,
    turn: 12,
    is_manner: false,
    options: &[option("direct", "statements say what is to be done")],
};
