//! The choices a developer makes, and the options of each: one registry that everything else reads.
//!
//! Names of contenders, `[contest.X.choices]`, the field, the ladder, the verdict by choice, documents and their JSON Schema take
//! words, order and meaning from here. A further choice is an enum of options and a line in [`Choice::entry`]; one among what the user names has
//! no enum, and labels instead.

mod label;
mod options;
mod registry;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use serde::de::{Error, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::nature::Nature;
use crate::plan::Plan;
use crate::planner::Ways;
pub use label::Label;
pub use options::{Cache, Columns, Fetch, Filters, Habit, Hydration, Loading, Statement, Unit, Work};
use registry::{CACHE, COLUMNS, FETCH, FILTERS, HABIT, HYDRATION, INDEX, KEYS, LOADING, STATEMENT, UNIT, WORK};

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
    /// Whether it has a size: a number of rows, behind a colon.
    pub has_size: bool,
    /// Whether it stands for something that the user names.
    pub is_named: bool,
    /// Whether it enters though it is not what everybody has: else only where it is asked for.
    pub(crate) enters: bool,
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
    /// Its size; 0 where it has none.
    size: u32,
    /// What it stands for, where the user names that.
    label: Option<Label>,
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

impl Choice {
    /// All of them, in the order of names.
    pub const ALL: [Choice; 12] = [
        Choice::Loading,
        Choice::Work,
        Choice::Columns,
        Choice::Hydration,
        Choice::Filters,
        Choice::Habit,
        Choice::Fetch,
        Choice::Statement,
        Choice::Unit,
        Choice::Cache,
        Choice::Index,
        Choice::Keys,
    ];

    /// What is known of it.
    pub fn entry(self) -> &'static ChoiceEntry {
        match self {
            Choice::Loading => &LOADING,
            Choice::Work => &WORK,
            Choice::Columns => &COLUMNS,
            Choice::Hydration => &HYDRATION,
            Choice::Filters => &FILTERS,
            Choice::Habit => &HABIT,
            Choice::Fetch => &FETCH,
            Choice::Statement => &STATEMENT,
            Choice::Unit => &UNIT,
            Choice::Cache => &CACHE,
            Choice::Index => &INDEX,
            Choice::Keys => &KEYS,
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

    /// Its options, from the naive one on, without sizes and labels.
    pub fn options(self) -> impl Iterator<Item = Opt> {
        (0..self.entry().options.len()).map(move |rank| Opt { choice: self, rank: rank as u8, size: 0, label: None })
    }

    /// The option of a word, also of one that it had in an earlier version, with its size behind a colon where it has one. What the user
    /// names is the name of an index variant, or a table and a type of keys: `hive:uuid7`.
    pub fn option(self, word: &str) -> Option<Opt> {
        let whole = word;
        let (word, size) = word.split_once(':').map_or((word, None), |(word, size)| (word, Some(size)));
        let is_meant = |option: &Opt| !option.entry().is_named && (option.word() == word || option.entry().former.contains(&word));
        let option = self.options().find(is_meant);
        let Some(option) = option else {
            let named = self.options().find(|option| option.entry().is_named).filter(|_| size.is_some() == (self == Choice::Keys))?;
            return Some(Opt { label: Some(Label::of(whole)?), ..named });
        };
        match size {
            None => Some(option),
            Some(size) if option.entry().has_size => {
                let size: u32 = size.parse().ok().filter(|size| (1..=Opt::MOST_ROWS).contains(size))?;
                Some(option.of_size(size))
            }
            Some(_) => None,
        }
    }
}

impl Opt {
    /// Most rows at a time.
    pub const MOST_ROWS: u32 = 1_000_000;

    /// The same with a size, where it has one.
    #[must_use]
    pub fn of_size(self, size: u32) -> Opt {
        if self.entry().has_size { Opt { size, ..self } } else { self }
    }

    /// Its size; none where it has none or leaves it open.
    pub fn size(self) -> Option<u32> {
        (self.size > 0).then_some(self.size)
    }

    /// Whether another is the same, where this one leaves its size open whatever size that has.
    pub(crate) fn covers(self, other: Opt) -> bool {
        self == other || (self.size == 0 && self.label.is_none() && self == Opt { size: 0, label: None, ..other })
    }

    /// What it stands for, where the user names that.
    pub fn label(self) -> Option<Label> {
        self.label
    }

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

/// An option as it stands in names and files: its word, and behind a colon its size; what the user names stands for itself.
impl fmt::Display for Opt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.label.map_or(self.word(), Label::as_str))?;
        self.size().map_or(Ok(()), |size| write!(f, ":{size}"))
    }
}

/// One option per choice; none where the choice changes nothing for the need.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Choices {
    options: [Option<Opt>; Choice::ALL.len()],
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
        self.options[option.choice as usize] = Some(option);
        self
    }

    /// The option of a choice.
    pub fn get<O: ChoiceOption>(&self) -> Option<O> {
        self.of(O::CHOICE).map(|option| O::ALL[option.rank()])
    }

    /// The option of a choice.
    pub fn of(&self, choice: Choice) -> Option<Opt> {
        self.options[choice as usize]
    }

    /// The options there are, in the order of names.
    pub fn options(&self) -> impl Iterator<Item = Opt> + '_ {
        Choice::ALL.into_iter().filter_map(|choice| self.of(choice))
    }

    /// The same with a choice that changes nothing left out.
    #[must_use]
    pub fn without(mut self, choice: Choice) -> Choices {
        self.options[choice as usize] = None;
        self
    }

    /// Whether two contenders differ in a choice; one for which it changes nothing differs from none.
    fn differs(&self, other: &Choices, choice: Choice) -> bool {
        matches!((self.of(choice), other.of(choice)), (Some(one), Some(other)) if one != other)
    }

    /// The schema that it runs on, where that is not the plain one: the name of a variant.
    pub fn variant(&self) -> Option<Label> {
        self.options().find_map(Opt::label)
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

/// The contender's name: its options in fixed order, joined by points; behind a plus what differs from what everybody has, and behind
/// an at sign the schema that it runs on.
impl fmt::Display for Choices {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, option) in self.options().filter(|option| option.choice.entry().usual.is_none()).enumerate() {
            write!(f, "{}{option}", if at > 0 { "." } else { "" })?;
        }
        self.options()
            .filter(|option| option.choice.entry().usual.is_some_and(|usual| usual != option.rank()))
            .try_for_each(|option| write!(f, "{}{option}", if option.entry().is_named { '@' } else { '+' }))
    }
}

impl Serialize for Choices {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        for option in self.options() {
            map.serialize_entry(option.choice.word(), &option.to_string())?;
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

/// The options a contest is limited to, a choice that is not in it allows all; and what is tried besides what always is.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Restriction {
    allowed: BTreeMap<Choice, Vec<Opt>>,
    tried: BTreeSet<Choice>,
    /// What the user names and has enter.
    labels: Vec<Opt>,
}

impl Restriction {
    /// Allows an option, and of its choice no others than those allowed.
    pub fn allow(&mut self, option: Opt) {
        self.allowed.entry(option.choice).or_default().push(option);
    }

    /// Has the other options of a choice enter too, which only do so where there is reason to.
    pub fn try_others(&mut self, choice: Choice) {
        self.tried.insert(choice);
    }

    /// Whether an option may be taken.
    pub fn allows(&self, option: Opt) -> bool {
        self.allowed.get(&option.choice).is_none_or(|allowed| allowed.iter().any(|one| one.covers(option)))
    }

    /// Whether an option that is not what everybody has enters.
    pub(crate) fn enters(&self, option: Opt) -> bool {
        option.entry().enters || option.label.is_some() || self.tried.contains(&option.choice) || self.allowed.contains_key(&option.choice)
    }

    /// What is asked for of an option that the user names.
    pub(crate) fn labelled(&self, option: Opt) -> Vec<Opt> {
        let allowed = self.allowed.get(&option.choice).into_iter().flatten().copied().filter(|one| one.label.is_some());
        let mut all: Vec<Opt> = self.labels.iter().copied().filter(|one| one.choice == option.choice).chain(allowed).collect();
        let mut seen = BTreeSet::new();
        all.retain(|one| seen.insert(*one));
        all
    }

    /// What is allowed of a choice that the user names.
    pub fn labels(&self, choice: Choice) -> impl Iterator<Item = Label> + '_ {
        self.allowed.get(&choice).into_iter().flatten().filter_map(|one| one.label())
    }

    /// Has something enter that the user names.
    pub fn label(&mut self, option: Opt) {
        self.labels.push(option);
    }

    /// The sizes that are asked for of an option.
    pub(crate) fn sizes(&self, option: Opt) -> Vec<u32> {
        let allowed = self.allowed.get(&option.choice).into_iter().flatten();
        allowed.filter(|one| option.covers(**one)).filter_map(|one| one.size()).collect()
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
        // What everybody has does not stand in names.
        let stands = |option: &Opt| option.choice().entry().usual != Some(option.rank());
        let mut words: Vec<&str> = Choice::ALL.into_iter().flat_map(Choice::options).filter(stands).map(Opt::word).collect();
        let all = words.len();
        words.sort_unstable();
        words.dedup();
        assert_eq!(words.len(), all, "a name is read by its words alone");
        let mut turns: Vec<usize> = Choice::ALL.iter().map(|choice| choice.entry().turn).collect();
        turns.sort_unstable();
        assert_eq!(turns, (0..Choice::ALL.len()).collect::<Vec<_>>());
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
        assert_eq!(other.with(Loading::Computed).ranks(), [0, 5, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0]);
        let chunks = other.with_opt(Fetch::Chunks.opt().of_size(500)).with(Statement::Built);
        assert_eq!(chunks.to_string(), "lazy.app.raw+chunks:500+built");
        assert_eq!(read(&serde_json::to_string(&chunks).unwrap()).unwrap(), chunks);
        assert!(read(r#"{"fetch":"chunks:0"}"#).is_err() && read(r#"{"fetch":"whole:5"}"#).is_err());
        let (indexed, plain) =
            (other.with_opt(Choice::Index.option("by_hive").unwrap()), other.with_opt(Choice::Index.option("none").unwrap()));
        assert_eq!((indexed.to_string(), plain.to_string()), ("lazy.app.raw@by_hive".into(), "lazy.app.raw".into()));
        assert_eq!(read(&serde_json::to_string(&indexed).unwrap()).unwrap(), indexed);
        assert_eq!(
            indexed.difference(&plain).map(|(one, none)| (one.to_string(), none.to_string())),
            Some(("by_hive".into(), "none".into()))
        );
        assert!(read(r#"{"index":"by hive"}"#).is_err() && Choice::Index.option("by_hive:5").is_none());
    }
}
