//! Conditions that a schema puts on single rows: checks, the parts of a table that partial rules cover, generated columns.
//!
//! They are read out of SQL into a tree that can be evaluated on any row and printed for any engine. NULL means what it means
//! in SQL: a comparison with it is neither true nor false, and a check that is neither holds.

mod evaluate;
mod pattern;
mod print;

use serde::{Deserialize, Serialize};

use crate::expr::Comparison;
use crate::model::ColumnId;
use crate::value::Value;

pub use evaluate::Row;
pub use pattern::Pattern;
pub(crate) use pattern::glob;
pub use print::Spelling;

/// A condition.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Rule {
    /// Two terms compared.
    Compare(Comparison, Scalar, Scalar),
    /// One of several.
    In(Scalar, Vec<Scalar>),
    /// Null.
    IsNull(Scalar),
    /// The same value, or both null.
    Same(Scalar, Scalar),
    /// A text fits a pattern.
    Matches(Scalar, Pattern),
    /// The opposite.
    Not(Box<Rule>),
    /// All of them.
    And(Vec<Rule>),
    /// Any of them.
    Or(Vec<Rule>),
    /// A term that is true or false by itself.
    Truth(Scalar),
}

/// Something that has a value on a row.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Scalar {
    /// A column.
    Column(ColumnId),
    /// A fixed value.
    Literal(Value),
    /// A function of other terms.
    Call(Function, Vec<Scalar>),
    /// Two numbers, or two texts for [`Operator::Join`].
    Arithmetic(Operator, Box<Scalar>, Box<Scalar>),
    /// The value of the first condition that holds; null where none does.
    Choose(Vec<(Rule, Scalar)>),
    /// Whether a condition holds.
    Whether(Box<Rule>),
}

/// What two terms are joined by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Operator {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`: of whole numbers the whole part.
    Divide,
    /// `%`
    Remainder,
    /// `||`: texts one after the other.
    Join,
}

/// The functions that are known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Function {
    /// Characters of a text, bytes of a blob.
    Length,
    /// Bytes of a text.
    Octets,
    /// Small letters.
    Lower,
    /// Capital letters.
    Upper,
    /// Without spaces around it.
    Trim,
    /// A part: text, first character from 1, how many.
    Part,
    /// The number without its sign.
    Absolute,
    /// Rounded, to so many digits where a second term says so.
    Round,
    /// The whole number below.
    Floor,
    /// The whole number above.
    Ceiling,
    /// The first that is not null.
    FirstKnown,
    /// Null where both are alike.
    NullIf,
    /// The largest.
    Greatest,
    /// The smallest.
    Least,
    /// How many are not null.
    Known,
    /// How many are null.
    Unknown,
    /// The year of a date.
    Year,
    /// The text is JSON, which generated JSON always is.
    IsJson,
    /// Where the second text begins in the first, from 1; 0 where it does not.
    Position,
    /// A text with one part exchanged for another.
    Replace,
}

impl Rule {
    /// All of some conditions.
    pub fn all(mut rules: Vec<Rule>) -> Rule {
        if rules.len() == 1 { rules.remove(0) } else { Rule::And(rules) }
    }

    /// The conditions that all must hold, one by one.
    pub fn conjuncts(&self) -> Vec<&Rule> {
        match self {
            Rule::And(rules) => rules.iter().flat_map(Rule::conjuncts).collect(),
            other => vec![other],
        }
    }

    /// Calls `each` with every column, as often as it stands there.
    pub fn columns(&self, each: &mut dyn FnMut(ColumnId)) {
        match self {
            Rule::Compare(_, left, right) | Rule::Same(left, right) => {
                left.columns(each);
                right.columns(each);
            }
            Rule::In(term, list) => {
                term.columns(each);
                list.iter().for_each(|term| term.columns(each));
            }
            Rule::IsNull(term) | Rule::Matches(term, _) | Rule::Truth(term) => term.columns(each),
            Rule::Not(rule) => rule.columns(each),
            Rule::And(rules) | Rule::Or(rules) => rules.iter().for_each(|rule| rule.columns(each)),
        }
    }

    /// The columns, each once, in order.
    pub fn column_set(&self) -> Vec<ColumnId> {
        each_once(|each| self.columns(each))
    }
}

impl Scalar {
    /// Calls `each` with every column, as often as it stands there.
    pub fn columns(&self, each: &mut dyn FnMut(ColumnId)) {
        match self {
            Scalar::Column(column) => each(*column),
            Scalar::Literal(_) => {}
            Scalar::Call(_, terms) => terms.iter().for_each(|term| term.columns(each)),
            Scalar::Arithmetic(_, left, right) => {
                left.columns(each);
                right.columns(each);
            }
            Scalar::Choose(cases) => {
                for (rule, term) in cases {
                    rule.columns(each);
                    term.columns(each);
                }
            }
            Scalar::Whether(rule) => rule.columns(each),
        }
    }

    /// The columns, each once, in order.
    pub fn column_set(&self) -> Vec<ColumnId> {
        each_once(|each| self.columns(each))
    }
}

fn each_once(walk: impl FnOnce(&mut dyn FnMut(ColumnId))) -> Vec<ColumnId> {
    let mut all = Vec::new();
    walk(&mut |column| all.push(column));
    all.sort_unstable();
    all.dedup();
    all
}

#[cfg(test)]
mod tests;
