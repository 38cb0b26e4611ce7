//! How statements are sent.

use super::entry::{ChoiceEntry, OptionEntry, option, options};

options! {
    /// How statements are sent.
    Statement {
        /// Their text is made anew each time, and read anew by the engine.
        Built,
        /// Their text is there, and read anew by the engine each time.
        Parsed,
        /// They are prepared once and kept.
        Prepared,
    }
}

pub(super) static STATEMENT: ChoiceEntry = ChoiceEntry {
    word: "statement",
    about: "how statements are sent",
    usual: Some(2),
    turn: 7,
    is_manner: true,
    options: &[
        option("built", "their text is made anew for each, and sent to be read anew"),
        OptionEntry { enters: false, ..option("parsed", "their text is there, and sent to be read anew each time") },
        option("prepared", "prepared once, and kept for as long as the connection"),
    ],
};
