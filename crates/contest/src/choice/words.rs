//! Words of choices and options, read and said.

use std::fmt;

use super::entry::{Choice, Opt, OptionEntry};
use super::label::Label;

impl Choice {
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
            Some("auto") if option.entry().has_auto => Some(option.of_size(Opt::AUTO)),
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

    /// The size that leaves the number to the engine's limits.
    pub const AUTO: u32 = u32::MAX;

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
        match self.size() {
            None => Ok(()),
            Some(Opt::AUTO) => f.write_str(":auto"),
            Some(size) => write!(f, ":{size}"),
        }
    }
}
