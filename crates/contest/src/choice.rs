//! The choices a developer makes, and the options of each: one registry that everything else reads.
//!
//! Names of contenders, `[contest.X.choices]`, the field, the ladder, the verdict by choice, documents and their JSON Schema take
//! words, order and meaning from here. A further choice is an enum of options and a line in [`Choice::entry`].

use std::collections::BTreeMap;
use std::fmt;

use kampf_schema::HopKind;
use serde::de::{Error, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::nature::Nature;
use crate::plan::{Plan, PlanNode, Reach};
use crate::planner::Ways;

/// Something the developer decides. In the order in which options stand in a contender's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Choice {
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
    /// Whether it can change anything for a need.
    pub(crate) applies: fn(&Nature) -> bool,
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
    /// Whether it is an option for a need at all.
    pub(crate) applies: fn(&Nature) -> bool,
    /// Why it is not derived together with others; none where it is.
    pub(crate) refusal: fn(&Nature, &Ways, &Plan) -> Option<&'static str>,
}

/// One option of one choice.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Opt {
    choice: Choice,
    rank: u8,
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
        Opt { choice: Self::CHOICE, rank: self.rank() }
    }

    /// The word in names and files.
    fn word(self) -> &'static str {
        self.opt().word()
    }
}

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
    /// What becomes of conditions whose parameter is not given.
    Filters {
        /// They stand in the text, each with a word that it does not count then.
        Text,
        /// They are left out of the text, with the joins that only they need.
        Given,
    }
}

const fn option(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { word, former: &[], about, applies: |_| true, refusal: |_, _, _| None }
}

const UNKNOWN_REPEATS: &str = "without a primary key rows that a join repeats cannot be recognised";

/// An option of loading, under which rows may be joined all the same: where it has no form of its own, or a relation is fixed.
const fn loading(word: &'static str, about: &'static str) -> OptionEntry {
    OptionEntry { refusal: |_, _, plan| unknown_repeats(plan), ..option(word, about) }
}

/// Where a statement's join repeats rows, each must have a key.
fn unknown_repeats(plan: &Plan) -> Option<&'static str> {
    let is_joined = |node: &&PlanNode| node.link.as_ref().is_none_or(|link| link.reach != Reach::Nested);
    let is_many = |node: &PlanNode| node.link.as_ref().is_some_and(|link| link.reach == Reach::Joined && link.kind == HopKind::Many);
    let is_unknown = |with: usize| {
        let mut members = plan.nodes.iter().filter(|node| node.with == with).filter(is_joined);
        members.any(|node| plan.layouts[node.layout].key.is_empty())
    };
    plan.nodes.iter().any(|node| is_many(node) && is_unknown(node.with)).then_some(UNKNOWN_REPEATS)
}

static LOADING: ChoiceEntry = ChoiceEntry {
    word: "loading",
    about: "how related rows are reached",
    usual: None,
    turn: 1,
    applies: |nature| nature.has_relations || nature.has_habits,
    options: &[
        loading("lazy", "a statement for each parent, when it is touched"),
        loading("batched", "one more statement for each relation, by a list of keys"),
        OptionEntry {
            refusal: |nature, _, plan| {
                let unknown = nature.reaches_many && !nature.has_all_keys;
                unknown.then_some(UNKNOWN_REPEATS).or_else(|| unknown_repeats(plan))
            },
            ..option("joined", "one statement; repeated parents are recognised by their keys")
        },
        OptionEntry { applies: |nature| nature.has_grouped, ..loading("grouped", "joined and grouped in the database") },
        OptionEntry {
            applies: |nature| nature.has_ranked,
            ..loading("ranked", "related rows numbered in the database, and only the first ones fetched")
        },
        OptionEntry { applies: |nature| nature.has_computed, ..loading("computed", "sub-selects in the database") },
        OptionEntry {
            applies: |nature| nature.has_nested,
            ..loading("nested", "related rows as one JSON text of their parent, made in the database and read in the application")
        },
    ],
};

static WORK: ChoiceEntry = ChoiceEntry {
    word: "work",
    about: "where rows are filtered, sorted and cut",
    usual: None,
    turn: 0,
    applies: |nature| nature.has_selection,
    options: &[option("app", "in the application, after everything was fetched"), option("database", "in the database")],
};

static COLUMNS: ChoiceEntry = ChoiceEntry {
    word: "columns",
    about: "which columns are fetched",
    usual: None,
    turn: 2,
    applies: |nature| nature.columns_matter,
    options: &[
        OptionEntry {
            refusal: |nature, _, plan| nature.groups_in_database(plan).then_some("a grouped statement gives only what is asked for"),
            ..option("all", "all of them")
        },
        option("needed", "only those that are used"),
    ],
};

static HYDRATION: ChoiceEntry = ChoiceEntry {
    word: "hydration",
    about: "what a row becomes",
    usual: None,
    turn: 3,
    applies: |_| true,
    options: &[
        OptionEntry {
            former: &["tracked"],
            refusal: |nature, ways, plan| {
                if nature.groups_in_database(plan) {
                    return Some("a group has no identity, so it cannot be managed");
                }
                if plan.nodes.iter().any(|node| node.link.as_ref().is_some_and(|link| link.reach == Reach::Nested)) {
                    return Some("rows out of a JSON text are no entities that could be saved");
                }
                if nature.columns_matter && ways.columns == Columns::Needed {
                    return Some("an entity with some of its columns cannot be compared and saved");
                }
                let has_keys = if plan.nodes.len() == 1 { nature.has_root_key } else { nature.has_all_keys };
                (!has_keys).then_some("without a primary key an entity has no identity")
            },
            ..option("managed", "an entity, its place in an identity map, and a snapshot to find changes by")
        },
        option("plain", "an entity"),
        option("map", "a map from name to value"),
        option("record", "a record by position"),
        OptionEntry {
            refusal: |_, ways, plan| {
                if plan.is_plain_stream() {
                    return None;
                }
                if ways.work == Work::App {
                    return Some("raw keeps nothing, so there is nothing to filter, sort, group or cut in the application");
                }
                let joined = plan.nodes.iter().filter_map(|node| node.link.as_ref()).any(|link| link.reach == Reach::Joined);
                Some(match plan.nodes.len() {
                    2.. if joined => "raw keeps nothing, so rows that a join repeats cannot be recognised",
                    2.. if plan.left.is_empty() => "raw keeps nothing, so there is no row to load relations for",
                    _ => "raw keeps nothing, so there is nothing to do in the application what the engine cannot say",
                })
            },
            ..option("raw", "nothing: values are used in place")
        },
    ],
};

static FILTERS: ChoiceEntry = ChoiceEntry {
    word: "filters",
    about: "what becomes of conditions whose parameter is not given",
    usual: Some(0),
    turn: 4,
    applies: |nature| nature.has_optional,
    options: &[
        option("one-text", "they stand in one text for all cases, and say that they do not count"),
        option("given", "they are left out of the text, with the joins that only they need"),
    ],
};

static HABIT: ChoiceEntry = ChoiceEntry {
    word: "habit",
    about: "whether entities come with the relations that they always load",
    usual: Some(1),
    turn: 5,
    applies: |nature| nature.has_habits,
    options: &[
        OptionEntry {
            refusal: |_, ways, plan| {
                let is_entity = matches!(ways.hydration, Hydration::Managed | Hydration::Plain);
                if !is_entity {
                    return Some("only entities have habits");
                }
                if let Some(unknown) = unknown_repeats(plan) {
                    return Some(unknown);
                }
                (!plan.nodes.iter().any(|node| node.always)).then_some("the database makes what is asked for, and no entities")
            },
            ..option("kept", "entities come with the relations that they always load")
        },
        option("dropped", "only what is asked for is loaded"),
    ],
};

impl Choice {
    /// All of them, in the order of names.
    pub const ALL: [Choice; 6] = [Choice::Loading, Choice::Work, Choice::Columns, Choice::Hydration, Choice::Filters, Choice::Habit];

    /// What is known of it.
    pub fn entry(self) -> &'static ChoiceEntry {
        match self {
            Choice::Loading => &LOADING,
            Choice::Work => &WORK,
            Choice::Columns => &COLUMNS,
            Choice::Hydration => &HYDRATION,
            Choice::Filters => &FILTERS,
            Choice::Habit => &HABIT,
        }
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        self.entry().word
    }

    /// The choice of a word.
    pub fn from_word(word: &str) -> Option<Choice> {
        Choice::ALL.into_iter().find(|choice| choice.word() == word)
    }

    /// Its options, from the naive one on.
    pub fn options(self) -> impl Iterator<Item = Opt> {
        (0..self.entry().options.len()).map(move |rank| Opt { choice: self, rank: rank as u8 })
    }

    /// The option of a word, also of one that it had in an earlier version.
    pub fn option(self, word: &str) -> Option<Opt> {
        self.options().find(|option| option.word() == word || option.entry().former.contains(&word))
    }
}

impl Opt {
    /// The choice.
    pub fn choice(self) -> Choice {
        self.choice
    }

    /// Its place among the choice's options; 0 is the most naive.
    pub fn rank(self) -> usize {
        usize::from(self.rank)
    }

    /// What is known of it.
    pub fn entry(self) -> &'static OptionEntry {
        &self.choice.entry().options[self.rank()]
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        self.entry().word
    }
}

/// One option per choice; none where the choice changes nothing for the need.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Choices {
    ranks: [Option<u8>; Choice::ALL.len()],
}

impl Choices {
    /// The same with another option.
    #[must_use]
    pub fn with(self, option: impl ChoiceOption) -> Choices {
        self.with_opt(option.opt())
    }

    /// The same with another option.
    #[must_use]
    pub fn with_opt(mut self, option: Opt) -> Choices {
        self.ranks[option.choice as usize] = Some(option.rank);
        self
    }

    /// The option of a choice.
    pub fn get<O: ChoiceOption>(&self) -> Option<O> {
        self.ranks[O::CHOICE as usize].map(|rank| O::ALL[usize::from(rank)])
    }

    /// The option of a choice.
    pub fn of(&self, choice: Choice) -> Option<Opt> {
        self.ranks[choice as usize].map(|rank| Opt { choice, rank })
    }

    /// The options there are, in the order of names.
    pub fn options(&self) -> impl Iterator<Item = Opt> + '_ {
        Choice::ALL.into_iter().filter_map(|choice| self.of(choice))
    }

    /// The same with a choice that changes nothing left out.
    #[must_use]
    pub fn without(mut self, choice: Choice) -> Choices {
        self.ranks[choice as usize] = None;
        self
    }

    /// Whether two contenders differ in a choice; one for which it changes nothing differs from none.
    fn differs(&self, other: &Choices, choice: Choice) -> bool {
        matches!((self.of(choice), other.of(choice)), (Some(one), Some(other)) if one != other)
    }

    /// How many choices differ from another contender's.
    pub fn distance(&self, other: &Choices) -> usize {
        Choice::ALL.into_iter().filter(|&choice| self.differs(other, choice)).count()
    }

    /// Both options of the choice in which another contender differs, where it is one alone.
    pub fn difference(&self, other: &Choices) -> Option<(Opt, Opt)> {
        let choice = Choice::ALL.into_iter().find(|&choice| self.differs(other, choice)).filter(|_| self.distance(other) == 1)?;
        Some((self.of(choice)?, other.of(choice)?))
    }

    /// The ranks of its options in the order in which choices are changed; all zero at the naive end.
    pub fn ranks(&self) -> [usize; Choice::ALL.len()] {
        let mut ranks = [0; Choice::ALL.len()];
        self.options().for_each(|option| ranks[option.choice.entry().turn] = option.rank());
        ranks
    }
}

/// The contender's name: its options in fixed order, joined by points; behind a plus what differs from what everybody has.
impl fmt::Display for Choices {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, option) in self.options().filter(|option| option.choice.entry().usual.is_none()).enumerate() {
            write!(f, "{}{}", if at > 0 { "." } else { "" }, option.word())?;
        }
        self.options()
            .filter(|option| option.choice.entry().usual.is_some_and(|usual| usual != option.rank()))
            .try_for_each(|option| write!(f, "+{}", option.word()))
    }
}

impl Serialize for Choices {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        for option in self.options() {
            map.serialize_entry(option.choice.word(), option.word())?;
        }
        map.end()
    }
}

impl<'de> Deserialize<'de> for Choices {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Choices, D::Error> {
        struct Words;

        impl<'de> Visitor<'de> for Words {
            type Value = Choices;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an option for each choice")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Choices, A::Error> {
                let mut choices = Choices::default();
                while let Some((choice, option)) = map.next_entry::<String, Option<String>>()? {
                    let known = Choice::from_word(&choice).ok_or_else(|| A::Error::custom(format!("there is no choice `{choice}`")))?;
                    let Some(word) = option else { continue };
                    let option = known.option(&word).ok_or_else(|| A::Error::custom(format!("`{word}` is not an option of {choice}")))?;
                    choices = choices.with_opt(option);
                }
                Ok(choices)
            }
        }

        deserializer.deserialize_map(Words)
    }
}

/// The options a contest is limited to; a choice that is not in it allows all.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Restriction {
    allowed: BTreeMap<Choice, Vec<Opt>>,
}

impl Restriction {
    /// Allows an option, and of its choice no others than those allowed.
    pub fn allow(&mut self, option: Opt) {
        self.allowed.entry(option.choice).or_default().push(option);
    }

    /// Whether an option may be taken.
    pub fn allows(&self, option: Opt) -> bool {
        self.allowed.get(&option.choice).is_none_or(|allowed| allowed.contains(&option))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_registry_agrees_with_the_enums_and_no_word_is_taken_twice() {
        assert_eq!(
            Loading::ALL.iter().map(|one| one.word()).collect::<Vec<_>>(),
            ["lazy", "batched", "joined", "grouped", "ranked", "computed", "nested"]
        );
        assert_eq!(Hydration::ALL.iter().map(|one| one.word()).collect::<Vec<_>>(), ["managed", "plain", "map", "record", "raw"]);
        assert_eq!(Work::ALL.len() + Columns::ALL.len(), WORK.options.len() + COLUMNS.options.len());
        let mut words: Vec<&str> = Choice::ALL.into_iter().flat_map(Choice::options).map(Opt::word).collect();
        let all = words.len();
        words.sort_unstable();
        words.dedup();
        assert_eq!(words.len(), all, "a name is read by its words alone");
        let mut turns: Vec<usize> = Choice::ALL.iter().map(|choice| choice.entry().turn).collect();
        turns.sort_unstable();
        assert_eq!(turns, [0, 1, 2, 3, 4, 5]);
    }

    #[test]
    fn choices_are_a_map_from_choice_to_option_and_read_words_of_before() {
        let choices = Choices::default().with(Loading::Lazy).with(Work::App).with(Hydration::Managed);
        assert_eq!(choices.to_string(), "lazy.app.managed");
        let json = serde_json::to_string(&choices).unwrap();
        assert_eq!(json, r#"{"loading":"lazy","work":"app","hydration":"managed"}"#);
        let read = |json: &str| serde_json::from_str::<Choices>(json);
        assert_eq!(read(&json).unwrap(), choices);
        assert_eq!(read(r#"{"loading":"lazy","work":"app","columns":null,"hydration":"tracked"}"#).unwrap(), choices);
        assert!(read(r#"{"loading":"sideways"}"#).unwrap_err().to_string().contains("`sideways` is not an option of loading"));
        assert!(read(r#"{"weather":"fine"}"#).unwrap_err().to_string().contains("there is no choice `weather`"));
        assert_eq!((choices.get::<Columns>(), choices.get::<Work>()), (None, Some(Work::App)));
        let other = choices.with(Hydration::Raw);
        assert_eq!((choices.distance(&other), choices.difference(&other)), (1, Some((Hydration::Managed.opt(), Hydration::Raw.opt()))));
        assert_eq!(choices.difference(&other.with(Work::Database)), None);
        assert_eq!(other.with(Loading::Computed).ranks(), [0, 5, 0, 4, 0, 0]);
    }
}
