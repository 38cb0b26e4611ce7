//! Names that users give to what becomes an option.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::{Mutex, PoisonError};

/// A name that a user has given, as small as an option is: there are as many as a project and its results have variants, and each is
/// kept for as long as the process.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Label(&'static str);

/// Characters of a word of a label at most.
const LONGEST: usize = 40;

static KNOWN: Mutex<BTreeSet<&'static str>> = Mutex::new(BTreeSet::new());

impl Label {
    /// The label of a text: letters, digits and underscores, a letter first, at most forty; or two such words with a colon between. None for
    /// any other text.
    pub fn of(text: &str) -> Option<Label> {
        let is_word = |text: &str| {
            let begins = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic());
            begins && text.len() <= LONGEST && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_')
        };
        if !text.split_once(':').map_or_else(|| is_word(text), |(one, other)| is_word(one) && is_word(other)) {
            return None;
        }
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(label) = known.get(text) {
            return Some(Label(label));
        }
        let label: &'static str = Box::leak(text.to_owned().into_boxed_str());
        known.insert(label);
        Some(Label(label))
    }

    /// Its text.
    pub fn as_str(self) -> &'static str {
        self.0
    }
}

impl fmt::Display for Label {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }
}

impl fmt::Debug for Label {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self.0, f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_texts_are_one_label_and_odd_ones_are_none() {
        let (one, other) = (Label::of("by_hive").unwrap(), Label::of(&["by", "hive"].join("_")).unwrap());
        assert!(one == other && std::ptr::eq(one.as_str(), other.as_str()));
        assert_eq!(Label::of("hive:uuid7").map(Label::as_str), Some("hive:uuid7"));
        for odd in [":", "hive:", ":text", "a:b:c", "", "1st", "by-hive", "by hive", "by.hive", "bü", "_x", &"x".repeat(41)] {
            assert_eq!(Label::of(odd), None, "{odd}");
        }
    }
}
