//! How many rows are read at a time.

use super::entry::{ChoiceEntry, OptionEntry, option, options};

options! {
    /// How many rows are read at a time.
    Fetch {
        /// All before the first is used.
        Whole,
        /// So many by limit and offset, again and again.
        Pages,
        /// So many behind the key of the last one, again and again.
        Chunks,
        /// So many from an open cursor.
        Stream,
    }
}

/// An option that brings rows in portions.
const fn portions(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { has_size: true, enters: false, ..option(word, about) }
}

pub(super) static FETCH: ChoiceEntry = ChoiceEntry {
    word: "fetch",
    about: "how many rows are read at a time",
    usual: Some(0),
    turn: 6,
    is_manner: true,
    options: &[
        option("whole", "all, before the first is used"),
        portions("pages", "so many by limit and offset, again and again"),
        portions("chunks", "so many behind the key of the last one, again and again"),
        portions("stream", "so many from a cursor that stays open"),
    ],
};
