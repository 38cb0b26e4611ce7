//! Printing expressions so that they read back as the same tree.

use std::fmt;

use super::read::needs_quotes;
use super::tree::{Expr, Give, Name, Node, OrderTerm};
use crate::calendar::format_timestamp;
use crate::value::Value;

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if needs_quotes(&self.text) {
            return write!(f, "\"{}\"", self.text.replace('"', "\"\""));
        }
        f.write_str(&self.text)
    }
}

pub(super) struct Literal<'a>(pub(super) &'a Value);

impl fmt::Display for Literal<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            Value::Text(text) => write!(f, "'{}'", text.replace('\'', "''")),
            Value::Timestamp(micros) => f.write_str(&format_timestamp(*micros).replace(' ', "T")),
            other => write!(f, "{other}"),
        }
    }
}

/// Prints a part that must bind more tightly than `level`: 0 or, 1 and, 2 not, 3 test.
fn tight(f: &mut fmt::Formatter<'_>, expr: &Expr, level: u8) -> fmt::Result {
    let own = match expr.node {
        Node::Or(_) => 0,
        Node::And(_) => 1,
        Node::Not(_) => 2,
        _ => 3,
    };
    if own <= level { write!(f, "({expr})") } else { write!(f, "{expr}") }
}

fn list(f: &mut fmt::Formatter<'_>, items: &[Expr]) -> fmt::Result {
    for (at, item) in items.iter().enumerate() {
        write!(f, "{}{item}", if at == 0 { "" } else { ", " })?;
    }
    Ok(())
}

impl fmt::Display for Expr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.node {
            Node::Literal(value) => Literal(value).fmt(f),
            Node::Path(names) => {
                for (at, name) in names.iter().enumerate() {
                    write!(f, "{}{name}", if at == 0 { "" } else { "." })?;
                }
                Ok(())
            }
            Node::Parameter(name) => write!(f, ":{name}"),
            Node::Call { name, arguments } => {
                write!(f, "{name}(")?;
                list(f, arguments)?;
                f.write_str(")")
            }
            Node::Compare(comparison, left, right) => write!(f, "{left} {} {right}", comparison.symbol()),
            Node::In(left, options) => {
                write!(f, "{left} in (")?;
                list(f, options)?;
                f.write_str(")")
            }
            Node::Between(value, low, high) => write!(f, "{value} between {low} and {high}"),
            Node::IsNull(value) => write!(f, "{value} is null"),
            Node::Match(kind, text, pattern) => write!(f, "{text} {} {pattern}", kind.word()),
            Node::Not(inner) => {
                f.write_str("not ")?;
                tight(f, inner, 2)
            }
            Node::And(parts) => {
                for (at, part) in parts.iter().enumerate() {
                    f.write_str(if at == 0 { "" } else { " and " })?;
                    tight(f, part, 1)?;
                }
                Ok(())
            }
            Node::Or(parts) => {
                for (at, part) in parts.iter().enumerate() {
                    f.write_str(if at == 0 { "" } else { " or " })?;
                    tight(f, part, 0)?;
                }
                Ok(())
            }
        }
    }
}

impl fmt::Display for Give {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.value)?;
        self.alias.as_ref().map_or(Ok(()), |alias| write!(f, " as {alias}"))
    }
}

impl fmt::Display for OrderTerm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.key, if self.descending { " desc" } else { "" })
    }
}
