//! Keys by which rows are recognised.

use std::fmt::Write;

use kampf_schema::ValueRef;

/// A key by which rows are recognised.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Key {
    /// A single whole number, the common case.
    Integer(i64),
    /// Anything else, as text with the parts' lengths.
    Other(Box<str>),
}

impl Key {
    /// The key of some values; none where one of them is null.
    pub(crate) fn of<'a>(values: impl ExactSizeIterator<Item = ValueRef<'a>>) -> Option<Key> {
        let single = values.len() == 1;
        let mut text = String::new();
        for value in values {
            match value {
                ValueRef::Null => return None,
                ValueRef::Integer(number) if single => return Some(Key::Integer(number)),
                other => {
                    let start = text.len();
                    write!(text, "{other}").expect("a string takes all text");
                    let length = text.len() - start;
                    write!(text, "\u{1}{length}").expect("a string takes all text");
                }
            }
        }
        Some(Key::Other(text.into()))
    }
}
