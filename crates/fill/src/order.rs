//! What is asked of a fill, and why it cannot be.

use std::collections::{HashMap, HashSet};
use std::fmt;

use kampf_schema::expr::{Children, Recipe, RowCount};
use kampf_schema::{ColumnId, Span, TableId, Value};

/// What the user asks for.
#[derive(Clone, Debug)]
pub struct Order {
    /// Row counts; tables without one get a guess.
    pub rows: HashMap<TableId, RowCount>,
    /// Recipes; columns without one get a guess.
    pub values: HashMap<(TableId, ColumnId), Recipe>,
    /// The seed.
    pub seed: u64,
    /// How many times as many rows as guessed there are to be, of all tables together; see [`RowGuesses::scaled`](crate::RowGuesses::scaled).
    pub scale: f64,
    /// What is left of all that, where a few rows of the same kind are to be made.
    pub shrink: Option<Shrink>,
}

impl Default for Order {
    fn default() -> Order {
        Order { rows: HashMap::new(), values: HashMap::new(), seed: 0, scale: 1.0, shrink: None }
    }
}

impl Order {
    /// Whether somebody asked for just so many rows of a table.
    pub(crate) fn is_asked(&self, table: TableId) -> bool {
        self.shrink.is_none() && self.rows.contains_key(&table)
    }
}

/// What an error is about.
#[derive(Clone, Debug, PartialEq)]
pub enum FillSubject {
    /// The row count of a table.
    Rows(TableId),
    /// The values of a column.
    Values(TableId, ColumnId),
    /// A place in the DDL.
    Schema(Span),
}

/// Rows that cannot be made as asked.
#[derive(Clone, Debug, PartialEq)]
pub struct FillError {
    /// About what.
    pub subject: FillSubject,
    /// Where in the text of the row count or recipe; none for all of it.
    pub span: Option<Span>,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// Whether a recipe would help, wherever the place is.
    pub by_recipe: bool,
    /// So many rows could be made, where it is known.
    pub(crate) room: Option<u64>,
}

impl FillError {
    pub(crate) fn new(subject: FillSubject, message: impl Into<String>) -> FillError {
        FillError { subject, span: None, message: message.into(), hint: None, by_recipe: false, room: None }
    }

    pub(crate) fn room(self, rows: u64) -> FillError {
        FillError { room: Some(rows), ..self }
    }

    /// The same with a recipe that would help.
    pub(crate) fn recipe(self, hint: impl Into<String>) -> FillError {
        FillError { by_recipe: true, ..self.hint(hint) }
    }

    pub(crate) fn hint(mut self, hint: impl Into<String>) -> FillError {
        self.hint = Some(hint.into());
        self
    }
}

impl fmt::Display for FillError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for FillError {}

/// By how much row counts are less; see [`Blueprint::twin`](crate::Blueprint::twin).
#[derive(Clone, Debug)]
pub struct Shrink {
    /// What is left of rows that are counted by themselves.
    pub(crate) parents: f64,
    /// What is left of the rows for each parent.
    pub(crate) children: f64,
    /// Tables that stay as they are: few rows, by which no others are counted.
    pub(crate) kept: HashSet<TableId>,
}

impl Shrink {
    /// What is left of so many rows.
    pub(crate) fn rows(&self, table: TableId, rows: u64) -> u64 {
        if self.kept.contains(&table) || rows == 0 { rows } else { libm::round(rows as f64 * self.parents).max(1.0) as u64 }
    }

    /// What is left of a row count.
    pub(crate) fn count(&self, table: TableId, count: RowCount) -> RowCount {
        match count {
            RowCount::Fixed(rows) => RowCount::Fixed(self.rows(table, rows)),
            RowCount::Per { children, share, parent } if self.children < 1.0 => {
                let less = |value: &Value| Value::Real(value.as_ref().as_real().unwrap_or(0.0) * self.children);
                let children = match &children {
                    Children::About(mean) => Children::About(less(mean)),
                    Children::Between(low, high) => Children::Between(less(low), less(high)),
                    Children::Poisson(mean) => Children::Poisson(less(mean)),
                    Children::Heavy(mean) => Children::Heavy(less(mean)),
                };
                RowCount::Per { children, share, parent }
            }
            per => per,
        }
    }
}
