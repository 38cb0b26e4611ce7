//! Which columns are fetched.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// Which columns are fetched.
    Columns {
        /// All of them.
        All,
        /// Only those the need uses.
        Needed,
    }
}

pub(super) static COLUMNS: ChoiceEntry = ChoiceEntry {
    word: "columns",
    about: "which columns are fetched",
    usual: None,
    turn: 2,
    is_manner: false,
    options: &[option("all", "all of them"), option("needed", "only those that are used")],
};
