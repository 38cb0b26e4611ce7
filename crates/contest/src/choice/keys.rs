//! What primary keys are made of.

use super::entry::{ChoiceEntry, OptionEntry, option};

pub(super) static KEYS: ChoiceEntry = ChoiceEntry {
    word: "keys",
    about: "what the primary keys of a table, and all references to them, are made of",
    usual: Some(0),
    turn: 11,
    is_manner: true,
    options: &[
        option("own", "what the schema declares"),
        OptionEntry {
            is_named: true,
            enters: false,
            ..option("TABLE:TYPE", "those of the table, or of `all`, are of the type: integer, uuid4, uuid7 or text")
        },
    ],
};
