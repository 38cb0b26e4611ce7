//! The choices a developer makes, and the options of each.

use std::fmt;

use serde::{Deserialize, Serialize};

macro_rules! options {
    ($(#[$doc:meta])* $name:ident { $($(#[$option_doc:meta])* $option:ident = $word:literal),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "lowercase")]
        pub enum $name { $($(#[$option_doc])* $option),+ }

        impl $name {
            /// All options, from the naive one on.
            pub const ALL: &'static [$name] = &[$($name::$option),+];

            /// The word in names and files.
            pub fn word(self) -> &'static str {
                match self { $($name::$option => $word),+ }
            }

            /// The option of a word.
            pub fn from_word(word: &str) -> Option<$name> {
                Self::ALL.iter().copied().find(|option| option.word() == word)
            }
        }
    };
}

options! {
    /// How related rows are reached.
    Loading {
        /// A statement per parent when touched.
        Lazy = "lazy",
        /// One more statement per relation, by key list.
        Batched = "batched",
        /// One statement, parents de-duplicated.
        Joined = "joined",
        /// Join and group in the database.
        Grouped = "grouped",
        /// Sub-selects in the database.
        Computed = "computed",
    }
}

options! {
    /// Where filtering, sorting and limiting of the root happen.
    Work {
        /// In the application, after everything was fetched.
        App = "app",
        /// In the database.
        Database = "database",
    }
}

options! {
    /// Which columns are fetched.
    Columns {
        /// All of them.
        All = "all",
        /// Only those the need uses.
        Needed = "needed",
    }
}

options! {
    /// What a row becomes.
    Hydration {
        /// An entity, its place in an identity map, and a snapshot for change detection.
        Tracked = "tracked",
        /// An entity.
        Plain = "plain",
        /// A map from name to value.
        Map = "map",
        /// A record typed by position.
        Record = "record",
        /// Nothing: values are used in place.
        Raw = "raw",
    }
}

/// One option per choice; none where the choice changes nothing for the need.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Choices {
    /// How related rows are reached.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub loading: Option<Loading>,
    /// Where the selection happens.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub work: Option<Work>,
    /// Which columns.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub columns: Option<Columns>,
    /// What a row becomes.
    pub hydration: Hydration,
}

impl Choices {
    /// How many choices differ from another contender's.
    pub fn distance(&self, other: &Choices) -> usize {
        usize::from(self.loading != other.loading)
            + usize::from(self.work != other.work)
            + usize::from(self.columns != other.columns)
            + usize::from(self.hydration != other.hydration)
    }
}

/// The contender's name: its options in fixed order, joined by points.
impl fmt::Display for Choices {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(loading) = self.loading {
            write!(f, "{}.", loading.word())?;
        }
        if let Some(work) = self.work {
            write!(f, "{}.", work.word())?;
        }
        if let Some(columns) = self.columns {
            write!(f, "{}.", columns.word())?;
        }
        f.write_str(self.hydration.word())
    }
}
