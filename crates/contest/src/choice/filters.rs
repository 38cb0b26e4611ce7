//! What becomes of conditions whose parameter is not given.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// What becomes of conditions whose parameter is not given.
    Filters {
        /// They stand in the text, each with a word that it does not count then.
        Text,
        /// They are left out of the text, with the joins that only they need.
        Given,
    }
}

pub(super) static FILTERS: ChoiceEntry = ChoiceEntry {
    word: "filters",
    about: "what becomes of conditions whose parameter is not given",
    usual: Some(0),
    turn: 4,
    is_manner: false,
    options: &[
        option("one-text", "they stand in one text for all cases, and say that they do not count"),
        option("given", "they are left out of the text, with the joins that only they need"),
    ],
};
