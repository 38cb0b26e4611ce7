//! The need: what must come back, resolved against a schema.

use kampf_schema::expr::{Comparison, TextMatch};
use kampf_schema::{ColumnId, Hop, LogicalType, Schema, TableId, Value};
use serde::{Deserialize, Serialize};

/// What a contest asks for.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Need {
    /// The table whose rows are given back.
    pub root: TableId,
    /// The values of each row.
    pub give: Vec<Given>,
    /// Which rows.
    pub filter: Option<Condition<Term>>,
    /// In which order; empty for any.
    pub order: Vec<OrderBy<Term>>,
    /// At most how many rows.
    pub limit: Option<u64>,
    /// Its named parameters.
    pub parameters: Vec<Parameter>,
}

/// One value of each row.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Given {
    /// Its name in the answer.
    pub name: String,
    /// What it is.
    pub term: Term,
    /// Its type.
    pub kind: LogicalType,
}

/// A value that a root row has: a column of it or of a related row, or an aggregate over related rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Term {
    /// A column, reached by hops that each lead to one row at most; no hops for the root's own.
    Column {
        /// The way there.
        path: Vec<Hop>,
        /// The column.
        column: ColumnId,
    },
    /// An aggregate over the rows that a path leads to; at least one hop leads to many.
    Aggregate {
        /// What is computed.
        function: Aggregate,
        /// The way there.
        path: Vec<Hop>,
        /// Of which column; none where rows are counted.
        column: Option<ColumnId>,
    },
}

/// What an aggregate computes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Aggregate {
    /// How many rows, or values that are not null.
    Count,
    /// The sum; null without values.
    Sum,
    /// The mean as a real; null without values.
    Avg,
    /// The smallest.
    Min,
    /// The largest.
    Max,
}

impl Aggregate {
    /// All of them.
    pub const ALL: [Aggregate; 5] = [Aggregate::Count, Aggregate::Sum, Aggregate::Avg, Aggregate::Min, Aggregate::Max];

    /// The word of the grammar and of SQL.
    pub fn word(self) -> &'static str {
        match self {
            Aggregate::Count => "count",
            Aggregate::Sum => "sum",
            Aggregate::Avg => "avg",
            Aggregate::Min => "min",
            Aggregate::Max => "max",
        }
    }
}

/// A condition over terms of some form.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Condition<T> {
    /// Two operands compared.
    Compare(Comparison, Operand<T>, Operand<T>),
    /// Whether an operand is one of several.
    In(Operand<T>, Vec<Operand<T>>),
    /// Whether an operand lies between two others, both included.
    Between(Operand<T>, Operand<T>, Operand<T>),
    /// Whether an operand is null.
    IsNull(Operand<T>),
    /// Whether a text fits another.
    Match(TextMatch, Operand<T>, Operand<T>),
    /// Whether a boolean operand is true.
    Truth(Operand<T>),
    /// The opposite.
    Not(Box<Condition<T>>),
    /// All of them.
    And(Vec<Condition<T>>),
    /// Any of them.
    Or(Vec<Condition<T>>),
}

/// One side of a comparison.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Operand<T> {
    /// A value of the row.
    Term(T),
    /// A fixed value.
    Literal(Value),
    /// The parameter at a place in the need's list.
    Parameter(usize),
}

/// One term to sort by.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OrderBy<T> {
    /// What to sort by.
    pub term: T,
    /// Largest first.
    pub descending: bool,
    /// Not written by the user, but added so that the order is total.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub appended: bool,
}

/// A named parameter.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Parameter {
    /// Its name, without the colon.
    pub name: String,
    /// Its type, taken from what it is first compared with.
    pub kind: LogicalType,
}

impl Term {
    /// The hops to where the value comes from.
    pub fn path(&self) -> &[Hop] {
        match self {
            Term::Column { path, .. } | Term::Aggregate { path, .. } => path,
        }
    }

    /// The column, where there is one.
    pub fn column(&self) -> Option<ColumnId> {
        match self {
            Term::Column { column, .. } => Some(*column),
            Term::Aggregate { column, .. } => *column,
        }
    }

    /// Whether it is an aggregate.
    pub fn is_aggregate(&self) -> bool {
        matches!(self, Term::Aggregate { .. })
    }

    /// The table its value comes from, for a need that starts at `root`.
    pub fn table(&self, root: TableId) -> TableId {
        self.path().last().map_or(root, |hop| hop.to)
    }

    /// The type of its value.
    pub fn kind(&self, schema: &Schema, root: TableId) -> LogicalType {
        let table = schema.table(self.table(root));
        let column = self.column().map(|column| table.columns[column].kind);
        match self {
            Term::Column { .. } => column.unwrap_or(LogicalType::TEXT),
            Term::Aggregate { function: Aggregate::Count, .. } => LogicalType::Integer,
            Term::Aggregate { function: Aggregate::Avg, .. } => LogicalType::Real,
            Term::Aggregate { .. } => column.unwrap_or(LogicalType::Integer),
        }
    }
}

impl<T> Condition<T> {
    /// All operands, from left to right.
    pub fn operands(&self) -> Vec<&Operand<T>> {
        match self {
            Condition::Compare(_, left, right) | Condition::Match(_, left, right) => vec![left, right],
            Condition::In(value, list) => std::iter::once(value).chain(list).collect(),
            Condition::Between(value, low, high) => vec![value, low, high],
            Condition::IsNull(value) | Condition::Truth(value) => vec![value],
            Condition::Not(inner) => inner.operands(),
            Condition::And(parts) | Condition::Or(parts) => parts.iter().flat_map(Condition::operands).collect(),
        }
    }

    /// All terms, from left to right.
    pub fn terms(&self) -> impl Iterator<Item = &T> {
        self.operands().into_iter().filter_map(|operand| match operand {
            Operand::Term(term) => Some(term),
            _ => None,
        })
    }

    /// The same condition over other terms.
    pub fn map<U>(&self, of: &mut impl FnMut(&T) -> U) -> Condition<U> {
        fn operand<T, U>(operand: &Operand<T>, of: &mut impl FnMut(&T) -> U) -> Operand<U> {
            match operand {
                Operand::Term(term) => Operand::Term(of(term)),
                Operand::Literal(value) => Operand::Literal(value.clone()),
                Operand::Parameter(at) => Operand::Parameter(*at),
            }
        }
        match self {
            Condition::Compare(comparison, left, right) => Condition::Compare(*comparison, operand(left, of), operand(right, of)),
            Condition::In(value, list) => Condition::In(operand(value, of), list.iter().map(|item| operand(item, of)).collect()),
            Condition::Between(value, low, high) => Condition::Between(operand(value, of), operand(low, of), operand(high, of)),
            Condition::IsNull(value) => Condition::IsNull(operand(value, of)),
            Condition::Match(kind, text, pattern) => Condition::Match(*kind, operand(text, of), operand(pattern, of)),
            Condition::Truth(value) => Condition::Truth(operand(value, of)),
            Condition::Not(inner) => Condition::Not(Box::new(inner.map(of))),
            Condition::And(parts) => Condition::And(parts.iter().map(|part| part.map(of)).collect()),
            Condition::Or(parts) => Condition::Or(parts.iter().map(|part| part.map(of)).collect()),
        }
    }
}

impl Need {
    /// Every term: given, filtered by, sorted by.
    pub fn terms(&self) -> impl Iterator<Item = &Term> {
        self.give.iter().map(|given| &given.term).chain(self.selection_terms())
    }

    /// The terms that decide which rows come back, and in which order.
    pub fn selection_terms(&self) -> impl Iterator<Item = &Term> {
        self.filter.iter().flat_map(Condition::terms).chain(self.order.iter().map(|order| &order.term))
    }

    /// Whether any value comes from a related row.
    pub fn has_relations(&self) -> bool {
        self.terms().any(|term| !term.path().is_empty())
    }

    /// Whether any aggregate is asked for.
    pub fn has_aggregates(&self) -> bool {
        self.terms().any(Term::is_aggregate)
    }

    /// Whether anything filters, sorts or limits the rows.
    pub fn has_selection(&self) -> bool {
        self.filter.is_some() || !self.order.is_empty() || self.limit.is_some()
    }

    /// The tables that are read.
    pub fn tables(&self) -> Vec<TableId> {
        let mut tables: Vec<TableId> =
            std::iter::once(self.root).chain(self.terms().flat_map(|term| term.path().iter().map(|hop| hop.to))).collect();
        tables.sort_unstable();
        tables.dedup();
        tables
    }
}
