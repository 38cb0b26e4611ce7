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
    /// A value of the first or the last of some rows, `last(inspection order inspected_at).mites`.
    Pick(Box<WrittenPick>),
    /// Related rows with what is wanted of each, `inspection limit 3 { mites }`; stands alone in what is given.
    List(Box<WrittenList>),
}

/// A value of the first or the last of some rows as it is written.
#[derive(Clone, Debug, PartialEq)]
pub struct WrittenPick {
    /// Of the last row; else of the first.
    pub last: bool,
    /// Of which rows, in which order.
    pub source: WrittenSource,
    /// The column, behind relations to one.
    pub path: Vec<Name>,
    /// Where it stands.
    pub span: Span,
}

/// Related rows with what is wanted of each as they are written.
#[derive(Clone, Debug, PartialEq)]
pub struct WrittenList {
    /// Which rows.
    pub source: WrittenSource,
    /// What is wanted of each.
    pub give: Vec<Give>,
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
    /// In which order; empty where it is not said.
    pub order: Vec<OrderTerm>,
    /// At most how many of them.
    pub limit: Option<u64>,
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
