//! Which indexes there are besides those of the schema.

use super::entry::{ChoiceEntry, OptionEntry, option};

pub(super) static INDEX: ChoiceEntry = ChoiceEntry {
    word: "index",
    about: "which indexes there are besides those of the schema",
    usual: Some(0),
    turn: 10,
    is_manner: true,
    options: &[
        option("none", "none: the schema as it is declared"),
        OptionEntry { is_named: true, enters: false, ..option("NAME", "those of the variant of that name, `[index.NAME]`") },
    ],
};
