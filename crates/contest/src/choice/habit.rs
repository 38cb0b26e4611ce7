//! Whether entities come with what they are used to.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// Whether entities come with what they are used to.
    Habit {
        /// What is loaded whenever an entity of a table is, though nobody asks for it.
        Kept,
        /// Only what is asked for.
        Dropped,
    }
}

pub(super) static HABIT: ChoiceEntry = ChoiceEntry {
    word: "habit",
    about: "whether entities come with the relations that they always load",
    usual: Some(1),
    turn: 5,
    is_manner: false,
    options: &[
        option("kept", "entities come with the relations that they always load"),
        option("dropped", "only what is asked for is loaded"),
    ],
};
