//! Texts that are made to differ.

use crate::batch::Batch;
use crate::derived::Derived;
use crate::maker::Maker;
use crate::vocabulary::{Vocabulary, capital, cut};

/// Texts that may be as long as this have room for two words that spell a number, and addresses for them and where they are kept.
const LEAST_SPELLED: u64 = 28;
const LEAST_SPELLED_ADDRESS: u64 = 48;

/// How a text takes a number.
#[derive(Clone, Copy, PartialEq)]
enum Form {
    /// Everybody's address is kept somewhere else.
    Address,
    /// A name of several parts.
    Name,
    /// Words joined by hyphens.
    Slug,
    /// More words.
    Words,
    /// What ends in digits anyway.
    Digits { joint: &'static str, before: Option<char> },
}

impl Maker {
    fn form(&self) -> Form {
        match self {
            Maker::Email => Form::Address,
            Maker::Name | Maker::FirstName | Maker::LastName | Maker::Place => Form::Name,
            Maker::Url | Maker::Slug(..) => Form::Slug,
            Maker::Host => Form::Digits { joint: "", before: Some('.') },
            Maker::Login => Form::Digits { joint: "", before: None },
            Maker::Street => Form::Digits { joint: " ", before: None },
            Maker::From(derived) => match **derived {
                Derived::Email(_) => Form::Address,
                Derived::Joined(_) => Form::Name,
                _ => Form::Slug,
            },
            _ => Form::Words,
        }
    }

    /// Makes the text just made different from others by a number. It is spelled by words where there is room for them, and written in digits
    /// where there is not. With another key all numbers are spelled otherwise.
    pub(crate) fn number(&self, number: u64, key: u64, longest: Option<u64>, words: &Vocabulary, out: &mut Batch) {
        let form = self.form();
        let least = if form == Form::Address { LEAST_SPELLED_ADDRESS } else { LEAST_SPELLED };
        let has_room = longest.is_none_or(|longest| longest >= least);
        let spelled = if has_room && !matches!(form, Form::Digits { .. }) { words.spell(number, key) } else { None };
        out.amend_text(|text, start| {
            let mark = match form {
                Form::Address => Some('@'),
                Form::Digits { before, .. } => before,
                _ => None,
            };
            let tail = mark.and_then(|mark| text[start..].find(mark)).map_or_else(String::new, |at| text.split_off(start + at));
            let ending = match spelled {
                Some(words) => form.spelled(words, &tail),
                None => {
                    let joint = match form {
                        Form::Digits { joint, .. } => joint,
                        Form::Address => "",
                        Form::Slug => "-",
                        Form::Name | Form::Words => " ",
                    };
                    format!("{joint}{}{tail}", number + 1)
                }
            };
            if let Some(longest) = longest {
                cut(text, start, longest.saturating_sub(ending.chars().count() as u64));
            }
            text.push_str(&ending);
        });
    }
}

impl Form {
    /// What stands behind a text that a number is spelled by: the last of its words, and the one before it.
    fn spelled(self, (last, before): (&str, Option<&str>), tail: &str) -> String {
        let words = before.into_iter().chain([last]);
        match self {
            Form::Address => tail.replacen('@', &format!("@{}.", words.collect::<Vec<_>>().join("-")), 1),
            Form::Name => words.fold(String::new(), |mut ending, word| {
                ending.push('-');
                capital(word, &mut ending);
                ending
            }),
            Form::Slug => words.map(|word| format!("-{word}")).collect(),
            Form::Words | Form::Digits { .. } => words.map(|word| format!(" {word}")).collect(),
        }
    }
}
