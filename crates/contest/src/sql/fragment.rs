//! SQL text with the values bound in it, in the order in which they stand.

use std::collections::HashMap;

use kampf_schema::{LogicalType, Value};

use super::print::literal;
use crate::dialect::{Dialect, KeyList};

/// What is bound to a placeholder.
#[derive(Clone, Debug, PartialEq)]
pub enum Bind {
    /// A fixed value.
    Value(Value),
    /// The need's parameter at a place; a list as a whole where the engine takes lists.
    Parameter(usize),
    /// One value of a parameter that is a list.
    Item(usize, usize),
    /// A value of the keys that rows are wanted for, counted over all of them.
    Key(usize),
    /// All keys as one list.
    Keys,
    /// How many rows were read before.
    Before,
    /// A value of the key of the last row that was read.
    Last(usize),
}

#[derive(Clone, Debug, PartialEq)]
enum Piece {
    Text(String),
    Bind(Bind),
    /// The values of a parameter that is a list, one after the other.
    List(usize),
}

/// A piece of SQL. Pieces are put together in any order; placeholders are numbered when it is whole.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Sql(Vec<Piece>);

/// A statement as it is sent.
#[derive(Clone, Debug, PartialEq)]
pub struct Printed {
    /// Its text.
    pub sql: String,
    /// What is bound to its placeholders, in order.
    pub binds: Vec<Bind>,
}

impl Sql {
    pub(crate) fn text(text: impl Into<String>) -> Sql {
        Sql(vec![Piece::Text(text.into())])
    }

    pub(crate) fn bind(bind: Bind) -> Sql {
        Sql(vec![Piece::Bind(bind)])
    }

    /// The values of a list, one after the other.
    pub(crate) fn values(parameter: usize) -> Sql {
        Sql(vec![Piece::List(parameter)])
    }

    pub(crate) fn push(&mut self, text: &str) -> &mut Sql {
        match self.0.last_mut() {
            Some(Piece::Text(last)) => last.push_str(text),
            _ => self.0.push(Piece::Text(text.to_owned())),
        }
        self
    }

    pub(crate) fn add(&mut self, other: Sql) -> &mut Sql {
        for piece in other.0 {
            match piece {
                Piece::Text(text) => {
                    self.push(&text);
                }
                other => self.0.push(other),
            }
        }
        self
    }

    /// The same between two texts.
    #[must_use]
    pub(crate) fn within(self, before: &str, after: &str) -> Sql {
        let mut sql = Sql::text(before);
        sql.add(self).push(after);
        sql
    }

    /// The same with another piece behind it.
    #[must_use]
    pub(crate) fn join_with(mut self, other: Sql) -> Sql {
        self.add(other);
        self
    }

    /// Several pieces with a text between.
    pub(crate) fn join(pieces: impl IntoIterator<Item = Sql>, between: &str) -> Sql {
        let mut all = Sql::default();
        for (at, piece) in pieces.into_iter().enumerate() {
            if at > 0 {
                all.push(between);
            }
            all.add(piece);
        }
        all
    }

    /// Each line moved to the right.
    pub(crate) fn indented(mut self, by: &str) -> Sql {
        for piece in &mut self.0 {
            if let Piece::Text(text) = piece {
                *text = indented(text, by);
            }
        }
        self
    }

    /// Fills `{0}`, `{1}` and so on of a dialect's template.
    pub(crate) fn template(template: &str, parts: &[Sql]) -> Sql {
        let mut filled = Sql::default();
        let mut rest = template;
        while let Some(at) = rest.find('{') {
            filled.push(&rest[..at]);
            let number = rest[at + 1..].bytes().next().map_or(0, |digit| usize::from(digit.saturating_sub(b'0')));
            if let Some(part) = parts.get(number) {
                filled.add(part.clone());
            }
            rest = &rest[at + 3..];
        }
        filled.push(rest);
        filled
    }

    /// The text with the engine's placeholders, and what is bound to them; what is bound twice has one. `length` is that of a
    /// list parameter; none where the list is null.
    pub(crate) fn finish(self, dialect: &Dialect, length: &dyn Fn(usize) -> Option<usize>) -> Printed {
        let mut printed = Printed { sql: String::new(), binds: Vec::new() };
        let mut places = Places::default();
        for piece in self.0 {
            match piece {
                Piece::Text(text) => printed.sql.push_str(&text),
                Piece::Bind(bind) => printed.bind(dialect, bind, &mut places),
                Piece::List(parameter) => match length(parameter) {
                    None => printed.sql.push_str("NULL"),
                    Some(values) => {
                        for at in 0..values {
                            printed.sql.push_str(if at > 0 { ", " } else { "" });
                            printed.bind(dialect, Bind::Item(parameter, at), &mut places);
                        }
                    }
                },
            }
        }
        printed
    }
}

impl Printed {
    /// The text as a person copies it: with `:name` for parameters and fixed values written out. Keys of other statements keep their placeholders.
    pub fn named(&self, dialect: &Dialect, parameters: &[String]) -> String {
        self.with_words(|bind| match bind {
            Bind::Parameter(at) | Bind::Item(at, _) => parameters.get(*at).map(|name| format!(":{name}")),
            Bind::Value(value) => Some(literal(dialect, value)),
            _ => None,
        })
    }

    /// The text with the names of the values of a row in place of their placeholders, as parameters are written.
    pub(crate) fn with_keys_named(&self, names: &[String]) -> String {
        self.with_words(|bind| match bind {
            Bind::Key(at) if !names.is_empty() => Some(format!(":{}", names[at % names.len()])),
            _ => None,
        })
    }

    /// The text with words in place of placeholders, where there is a word for what is bound to one.
    fn with_words(&self, word: impl Fn(&Bind) -> Option<String>) -> String {
        let mut named = String::with_capacity(self.sql.len());
        let mut rest = self.sql.as_str();
        while let Some(first) = rest.chars().next() {
            // What is quoted is nobody's placeholder.
            let length = match first {
                '\'' | '"' => rest[1..].find(first).map_or(rest.len(), |end| end + 2),
                _ => first.len_utf8(),
            };
            let number: String =
                if matches!(first, '?' | '$') { rest[1..].chars().take_while(char::is_ascii_digit).collect() } else { String::new() };
            let bind = number.parse::<usize>().ok().and_then(|number| self.binds.get(number.checked_sub(1)?));
            match bind.and_then(&word) {
                Some(word) => {
                    named.push_str(&word);
                    rest = &rest[1 + number.len()..];
                }
                None => {
                    named.push_str(&rest[..length]);
                    rest = &rest[length..];
                }
            }
        }
        named
    }
}

/// Where something is bound already, by its words: a condition may list very many values.
#[derive(Default)]
struct Places(HashMap<String, usize>);

impl Places {
    /// So many are looked through one by one, which takes less than wording them.
    const FEW: usize = 32;

    fn find(&mut self, bind: &Bind, binds: &[Bind]) -> Option<usize> {
        match bind {
            // Keys are never compared with each other.
            Bind::Key(_) => None,
            _ if binds.len() <= Places::FEW => binds.iter().position(|known| known == bind),
            _ => {
                for (at, known) in binds.iter().enumerate().skip(self.0.len()) {
                    self.0.entry(format!("{known:?}")).or_insert(at);
                }
                self.0.get(&format!("{bind:?}")).copied()
            }
        }
    }
}

impl Printed {
    fn bind(&mut self, dialect: &Dialect, bind: Bind, places: &mut Places) {
        let place = places.find(&bind, &self.binds).unwrap_or_else(|| {
            self.binds.push(bind);
            self.binds.len() - 1
        });
        self.sql.push_str(&(dialect.placeholder)(place + 1));
    }
}

/// A bound value that says its type, where the engine wants that.
pub(crate) fn typed(dialect: &Dialect, value: Sql, kind: Option<LogicalType>) -> Sql {
    match (dialect.typed, kind) {
        (Some(template), Some(kind)) => Sql::template(template(kind), &[value]),
        _ => value,
    }
}

/// The list of a parameter, as what stands behind `in`.
pub(crate) fn in_list(dialect: &Dialect, value: Sql, parameter: usize) -> Sql {
    let mut sql = value;
    match dialect.key_list {
        KeyList::Placeholders => sql.push(" IN (").add(Sql::values(parameter)).push(")"),
        KeyList::Array => sql.push(" = ANY(").add(Sql::bind(Bind::Parameter(parameter))).push(")"),
    };
    sql
}

/// The lines of a text moved to the right, but for those that begin inside of quotes: a name may have several.
fn indented(text: &str, by: &str) -> String {
    let mut moved = String::with_capacity(text.len());
    let mut quote = None;
    for c in text.chars() {
        moved.push(c);
        match (c, quote) {
            ('\n', None) => moved.push_str(by),
            ('"' | '\'' | '`', None) => quote = Some(c),
            (c, Some(open)) if c == open => quote = None,
            _ => {}
        }
    }
    moved
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_inside_a_name_is_not_moved() {
        let text = "SELECT \"a\nb\", 'it''s\nhere'\nFROM \"x\"\"\n\"";
        assert_eq!(indented(text, "  "), "SELECT \"a\nb\", 'it''s\nhere'\n  FROM \"x\"\"\n\"");
    }
}
