//! Options of choices, and types of keys, as kampf.toml names them.

use kampf_contest::{Choice, Opt};
use kampf_schema::{KeyType, did_you_mean};

use super::written::Written;
use crate::problem::{Problem, TextFile};

/// The option of a choice that a word names; what is wrong with the word where there is none.
pub(super) fn option(source: &TextFile, choice: Choice, written: &Written) -> Result<Opt, Problem> {
    choice.option(&written.value).ok_or_else(|| {
        let (word, size) = written.value.split_once(':').map_or((written.value.as_str(), ""), |(word, size)| (word, size));
        let known = choice.options().find(|option| option.word() == word);
        let hint = match known {
            Some(option) if option.entry().has_size => {
                Some(format!("behind the colon stand rows at a time, from 1 to {}, not `{size}`: `{word}:100`", Opt::MOST_ROWS))
            }
            Some(_) => Some(format!("`{word}` has no size; leave the colon out")),
            None => did_you_mean(word, choice.options().map(Opt::word)),
        };
        Problem::wrong(format!("`{}` is not an option of {}", written.value, choice.word())).at(source.place(written.span)).maybe_hint(hint)
    })
}

/// The type of keys that a word names; what is wrong with the word where there is none.
pub(super) fn key_type(word: &str) -> Result<KeyType, Problem> {
    KeyType::from_word(word).ok_or_else(|| {
        let known = KeyType::ALL.map(KeyType::word);
        Problem::wrong(format!("`{word}` is not a type that keys can be made of")).maybe_hint(did_you_mean(word, known))
    })
}
