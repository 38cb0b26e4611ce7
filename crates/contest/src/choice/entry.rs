//! What a choice is, and what an option: their words, and nothing of what decides whether they can be taken.

use super::label::Label;

macro_rules! choices {
    ($($(#[$doc:meta])* $choice:ident),+ $(,)?) => {
        /// Something the developer decides. In the order in which options stand in a contender's name.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Choice { $($(#[$doc])* $choice),+ }

        impl Choice {
            /// All of them, in the order of names.
            pub const ALL: [Choice; [$(Choice::$choice),+].len()] = [$(Choice::$choice),+];
        }
    };
}

choices! {
    /// How related rows are reached.
    Loading,
    /// Where filtering, sorting and limiting of the root happen.
    Work,
    /// Which columns are fetched.
    Columns,
    /// What a row becomes.
    Hydration,
    /// What becomes of conditions whose parameter is not given.
    Filters,
    /// Whether entities come with what they are used to.
    Habit,
    /// How many rows are read at a time.
    Fetch,
    /// How statements are sent.
    Statement,
    /// What holds the statements of a call together.
    Unit,
    /// Whether answers are kept between calls.
    Cache,
    /// Which indexes there are besides those of the schema.
    Index,
    /// What primary keys are made of.
    Keys,
    /// Who says what is to be written.
    Path,
    /// How many rows or statements go together.
    Batch,
    /// What a transaction holds.
    Commit,
    /// How keys that the database makes come back.
    Back,
    /// Who deletes what hangs on a row.
    Hang,
}

/// What is known of a choice.
#[derive(Debug)]
pub struct ChoiceEntry {
    /// Its word in files and on the screen.
    pub word: &'static str,
    /// What it decides.
    pub about: &'static str,
    /// Its options, from the naive one on: an option's place is its rank.
    pub options: &'static [OptionEntry],
    /// The rank of the option that everybody has, where there is one: names say only other ones, behind a plus.
    pub usual: Option<usize>,
    /// When it is changed on the way from the naive end, where several ways are equally short.
    pub turn: usize,
    /// Whether it only says in what manner a plan is carried out: what is asked for and what is made of it stay the same, so that
    /// nearly every option goes with all others.
    pub is_manner: bool,
}

/// What is known of an option.
#[derive(Debug)]
pub struct OptionEntry {
    /// Its word in names, files and on the screen.
    pub word: &'static str,
    /// Words it had in earlier versions, which saved results are still read with.
    pub former: &'static [&'static str],
    /// What it means.
    pub about: &'static str,
    /// Whether it has a size: a number of rows, behind a colon.
    pub has_size: bool,
    /// Whether that may be left to the engine's limits: `auto`.
    pub has_auto: bool,
    /// Whether it stands for something that the user names.
    pub is_named: bool,
    /// Whether it enters though it is not what everybody has: else only where it is asked for.
    pub(crate) enters: bool,
}

/// One option of one choice.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Opt {
    pub(super) choice: Choice,
    pub(super) rank: u8,
    /// Its size; 0 where it has none.
    pub(super) size: u32,
    /// What it stands for, where the user names that.
    pub(super) label: Option<Label>,
}

/// An enum of all options of one choice, from the naive one on.
pub trait ChoiceOption: Copy + 'static {
    /// The choice.
    const CHOICE: Choice;
    /// All options by rank.
    const ALL: &'static [Self];

    /// Its place among them.
    fn rank(self) -> u8;

    /// The same as one option among those of all choices.
    fn opt(self) -> Opt {
        Opt { choice: Self::CHOICE, rank: self.rank(), size: 0, label: None }
    }

    /// The word in names and files.
    fn word(self) -> &'static str {
        self.opt().word()
    }
}

/// The options of a choice as an enum.
macro_rules! options {
    ($(#[$doc:meta])* $name:ident { $($(#[$option_doc:meta])* $option:ident),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
        pub enum $name { $($(#[$option_doc])* $option),+ }

        impl $crate::choice::ChoiceOption for $name {
            const CHOICE: $crate::choice::Choice = $crate::choice::Choice::$name;
            const ALL: &'static [$name] = &[$($name::$option),+];

            fn rank(self) -> u8 {
                self as u8
            }
        }
    };
}

pub(super) use options;

/// An option without anything out of the ordinary.
pub(super) const fn option(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { word, former: &[], about, has_size: false, has_auto: false, is_named: false, enters: true }
}
