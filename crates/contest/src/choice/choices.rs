//! One option for each choice: what a contender is.

use std::fmt;

use serde::de::{Error, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::entry::{Choice, ChoiceOption, Opt};
use super::label::Label;

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
