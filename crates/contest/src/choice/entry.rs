//! The options of each choice, from the naive one on.

use serde::{Deserialize, Serialize};

use super::{Choice, ChoiceOption};

macro_rules! options {
    ($(#[$doc:meta])* $name:ident { $($(#[$option_doc:meta])* $option:ident),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum $name { $($(#[$option_doc])* $option),+ }

        impl ChoiceOption for $name {
            const CHOICE: Choice = Choice::$name;
            const ALL: &'static [$name] = &[$($name::$option),+];

            fn rank(self) -> u8 {
                self as u8
            }
        }
    };
}

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

options! {
    /// Where filtering, sorting and limiting of the root happen.
    Work {
        /// In the application, after everything was fetched.
        App,
        /// In the database.
        Database,
    }
}

options! {
    /// Which columns are fetched.
    Columns {
        /// All of them.
        All,
        /// Only those the need uses.
        Needed,
    }
}

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

options! {
    /// Whether entities come with what they are used to.
    Habit {
        /// What is loaded whenever an entity of a table is, though nobody asks for it.
        Kept,
        /// Only what is asked for.
        Dropped,
    }
}

options! {
    /// How many rows are read at a time.
    Fetch {
        /// All before the first is used.
        Whole,
        /// So many by limit and offset, again and again.
        Pages,
        /// So many behind the key of the last one, again and again.
        Chunks,
        /// So many from an open cursor.
        Stream,
    }
}

options! {
    /// How statements are sent.
    Statement {
        /// Their text is made anew each time, and read anew by the engine.
        Built,
        /// Their text is there, and read anew by the engine each time.
        Parsed,
        /// They are prepared once and kept.
        Prepared,
    }
}

options! {
    /// What holds the statements of a call together.
    Unit {
        /// Nothing: each is by itself.
        None,
        /// A transaction.
        One,
    }
}

options! {
    /// Whether answers are kept between calls.
    Cache {
        /// None is.
        None,
        /// They are, by their parameters.
        Warm,
    }
}

options! {
    /// What becomes of conditions whose parameter is not given.
    Filters {
        /// They stand in the text, each with a word that it does not count then.
        Text,
        /// They are left out of the text, with the joins that only they need.
        Given,
    }
}
