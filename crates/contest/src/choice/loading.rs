//! How related rows are reached.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// How related rows are reached.
    Loading {
        /// A statement per parent when touched.
        Lazy,
        /// One more statement per relation, by key list.
        Batched,
        /// One statement, parents de-duplicated.
        Joined,
        /// Join and group in the database.
        Grouped,
        /// Window functions in the database.
        Ranked,
        /// Sub-selects in the database.
        Computed,
        /// A JSON text per parent, made in the database.
        Nested,
    }
}

pub(super) static LOADING: ChoiceEntry = ChoiceEntry {
    word: "loading",
    about: "how related rows are reached",
    usual: None,
    turn: 1,
    is_manner: false,
    options: &[
        option("lazy", "a statement for each parent, when it is touched"),
        option("batched", "one more statement for each relation, by a list of keys"),
        option("joined", "one statement; repeated parents are recognised by their keys"),
        option("grouped", "joined and grouped in the database"),
        option("ranked", "related rows numbered in the database, and only the first ones fetched"),
        option("computed", "sub-selects in the database"),
        option("nested", "related rows as one JSON text of their parent, made in the database and read in the application"),
    ],
};
