//! What a row becomes.

use super::entry::{ChoiceEntry, OptionEntry, option, options};

options! {
    /// What a row becomes.
    Hydration {
        /// An entity, its place in an identity map, and a snapshot for change detection.
        Managed,
        /// An entity.
        Plain,
        /// A map from name to value.
        Map,
        /// A record typed by position.
        Record,
        /// Nothing: values are used in place.
        Raw,
    }
}

pub(super) static HYDRATION: ChoiceEntry = ChoiceEntry {
    word: "hydration",
    about: "what a row becomes",
    usual: None,
    turn: 3,
    is_manner: false,
    options: &[
        OptionEntry {
            former: &["tracked"],
            ..option("managed", "an entity, its place in an identity map, and a snapshot to find changes by")
        },
        option("plain", "an entity"),
        option("map", "a map from name to value"),
        option("record", "a record by position"),
        option("raw", "nothing: values are used in place"),
    ],
};
