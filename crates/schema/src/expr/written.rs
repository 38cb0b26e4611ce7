//! What stands at the leaves of a need as it is written.

use super::tree::{Expr, Name};
use crate::place::Span;

/// A leaf of a need as it is written.
#[derive(Clone, Debug, PartialEq)]
pub enum Written {
    /// Names joined by points: relations, then a column or a relation.
    Path(Vec<Name>),
    /// A parameter, `:before`.
    Parameter(Name),
    /// An aggregate, `avg(temper from inspection where mites > 3)`.
    Aggregate(Box<WrittenAggregate>),
    /// Whether there is any row, `exists(weighing where kilograms > 60)`.
    Exists(Box<WrittenSource>),
    /// A condition that counts only where a parameter is given, `if(:name, name contains :name)`.
    If(Name, Box<Expr<Written>>),
}

/// An aggregate as it is written.
#[derive(Clone, Debug, PartialEq)]
pub struct WrittenAggregate {
    /// `count`, `sum`, `avg`, `min` or `max`.
    pub name: Name,
    /// Whether equal values count once.
    pub distinct: bool,
    /// Of what; none in `count()` and where a source alone stands there.
    pub of: Option<Expr<Written>>,
    /// Over which rows; none where it is the way of the one path in `of`, or the rows themselves.
    pub from: Option<WrittenSource>,
}

/// Related rows as they are written: a path, and which of them.
#[derive(Clone, Debug, PartialEq)]
pub struct WrittenSource {
    /// The relations that lead there.
    pub path: Vec<Name>,
    /// Which rows.
    pub filter: Option<Expr<Written>>,
    /// Where it stands.
    pub span: Span,
}

/// One value to give back, or to group by.
#[derive(Clone, Debug, PartialEq)]
pub struct Give {
    /// The value.
    pub value: Expr<Written>,
    /// The name asked for with `as`.
    pub alias: Option<Name>,
}

/// One term to sort by.
#[derive(Clone, Debug, PartialEq)]
pub struct OrderTerm {
    /// What to sort by.
    pub key: Expr<Written>,
    /// Largest first.
    pub descending: bool,
}
