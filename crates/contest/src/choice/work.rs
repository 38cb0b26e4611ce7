//! Where filtering, sorting and limiting of the root happen.

use super::entry::{ChoiceEntry, option, options};

options! {
    /// Where filtering, sorting and limiting of the root happen.
    Work {
        /// In the application, after everything was fetched.
        App,
        /// In the database.
        Database,
    }
}

pub(super) static WORK: ChoiceEntry = ChoiceEntry {
    word: "work",
    about: "where rows are filtered, sorted and cut",
    usual: None,
    turn: 0,
    is_manner: false,
    options: &[option("app", "in the application, after everything was fetched"), option("database", "in the database")],
};
