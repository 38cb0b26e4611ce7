//! SQL text with the values bound in it, in the order in which they stand.

use kampf_schema::Value;

use crate::dialect::Dialect;
use crate::plan::Bind;

#[derive(Clone, Debug, PartialEq)]
enum Piece {
    Text(String),
    Bind(Bind),
}

/// A piece of SQL. Pieces are put together in any order; placeholders are numbered when it is whole.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Sql(Vec<Piece>);

impl Sql {
    pub(crate) fn text(text: impl Into<String>) -> Sql {
        Sql(vec![Piece::Text(text.into())])
    }

    pub(crate) fn value(value: Value) -> Sql {
        Sql(vec![Piece::Bind(Bind::Value(value))])
    }

    pub(crate) fn parameter(at: usize) -> Sql {
        Sql(vec![Piece::Bind(Bind::Parameter(at))])
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
                bind => self.0.push(bind),
            }
        }
        self
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
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

    /// Fills `{text}` and `{value}` of a dialect's template.
    pub(crate) fn template(template: &str, text: &Sql, value: &Sql) -> Sql {
        let mut filled = Sql::default();
        let mut rest = template;
        while let Some(at) = rest.find('{') {
            filled.push(&rest[..at]);
            let (part, behind) = if rest[at..].starts_with("{text}") { (text, at + 6) } else { (value, at + 7) };
            filled.add(part.clone());
            rest = &rest[behind..];
        }
        filled.push(rest);
        filled
    }

    /// The text with the engine's placeholders, and what is bound to them.
    pub(crate) fn finish(self, dialect: &Dialect) -> (String, Vec<Bind>) {
        let mut sql = String::new();
        let mut binds = Vec::new();
        for piece in self.0 {
            match piece {
                Piece::Text(text) => sql.push_str(&text),
                Piece::Bind(bind) => {
                    binds.push(bind);
                    sql.push_str(&(dialect.placeholder)(binds.len()));
                }
            }
        }
        (sql, binds)
    }
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
