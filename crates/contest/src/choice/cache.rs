//! Whether answers are kept between calls.

use super::entry::{ChoiceEntry, OptionEntry, option, options};

options! {
    /// Whether answers are kept between calls.
    Cache {
        /// None is.
        None,
        /// They are, by their parameters.
        Warm,
    }
}

pub(super) static CACHE: ChoiceEntry = ChoiceEntry {
    word: "cache",
    about: "whether answers are kept between calls",
    usual: Some(0),
    turn: 9,
    is_manner: true,
    options: &[
        option("none", "none is: each call asks the database"),
        OptionEntry {
            enters: false,
            ..option("warm", "they are kept in the process by their parameters, and given again however old they are")
        },
    ],
};
