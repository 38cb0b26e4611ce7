//! Conditions that a schema puts on single rows: checks, the parts of a table that partial rules cover, generated columns.
//!
//! They are read out of SQL; their leaves are columns of the row. A check that is neither true nor false holds.

use std::convert::Infallible;

use super::evaluate::Scope;
use super::tree::Expr;
use crate::model::ColumnId;
use crate::value::Value;

/// A condition or a value over the columns of one row.
pub type Rule = Expr<ColumnId>;

/// A row that values can be had from.
pub trait Row {
    /// The value of a column.
    fn value(&self, column: ColumnId) -> Value;
}

impl<F: Fn(ColumnId) -> Value> Row for F {
    fn value(&self, column: ColumnId) -> Value {
        self(column)
    }
}

struct OnRow<'a>(&'a dyn Row);

impl Scope<ColumnId> for OnRow<'_> {
    type Error = Infallible;

    fn leaf(&mut self, column: &ColumnId) -> Result<Value, Infallible> {
        Ok(self.0.value(*column))
    }
}

impl Rule {
    /// Whether the condition holds on a row; `None` where it is unknown.
    pub fn holds(&self, row: &dyn Row) -> Option<bool> {
        let Ok(truth) = self.truth(&mut OnRow(row));
        truth
    }

    /// Whether a check allows the row: it holds, or cannot be told.
    pub fn allows(&self, row: &dyn Row) -> bool {
        self.holds(row) != Some(false)
    }

    /// The value on a row.
    pub fn value_on(&self, row: &dyn Row) -> Value {
        let Ok(value) = self.value(&mut OnRow(row));
        value
    }

    /// The columns, each once, in order.
    pub fn column_set(&self) -> Vec<ColumnId> {
        let mut columns: Vec<ColumnId> = self.leaves().into_iter().copied().collect();
        columns.sort_unstable();
        columns.dedup();
        columns
    }
}

#[cfg(test)]
mod tests;
