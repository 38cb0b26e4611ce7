//! How keys that the database makes come back.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// How keys that the database makes come back.
    Back {
        /// A statement after each insert asks for it.
        Asked,
        /// The insert gives it back.
        Returned,
        /// They do not.
        Unasked,
    }
}

pub(super) static BACK: ChoiceEntry = ChoiceEntry {
    word: "back",
    about: "how keys that the database makes come back",
    usual: Some(0),
    turn: 15,
    is_manner: false,
    options: &[
        option("asked", "a statement after each insert asks for the key"),
        option("returned", "the insert gives the keys back"),
        option("unasked", "nobody asks for them"),
    ],
};
