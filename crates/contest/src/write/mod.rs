//! What is written: rows that are new, changed or gone, and the ways of getting there.
//!
//! A [`Write`] is resolved from its texts ([`crate::resolve_write`]); [`Effects`] work out by its meaning alone what must have become of
//! the rows; [`WritePlan`] is what a contender sends, which [`WriteExecution`] carries out.

mod changes;
mod effect;
mod execution;
mod plan;
mod planner;
mod rules;
mod said;
mod state;

use kampf_schema::ddl::SqlDialect;
use kampf_schema::{ColumnId, LogicalType, Schema, TableId};
use serde::{Deserialize, Serialize};

use crate::need::Need;

pub use effect::{Effect, Effects, NewRow, TableEffect, WriteError};
pub use execution::{WriteExecution, Written};
pub use plan::{BatchPlan, Change, InsertStep, NewColumn, RowsOf, WritePlan, WriteStep};
pub use planner::{OwnWrite, derive_write, own_write};
pub(crate) use planner::{follows, has_children};
pub use state::{TableReader, TableState};

/// What a contest changes.
#[derive(Clone, Debug, PartialEq)]
pub struct Write {
    /// What is done.
    pub act: Act,
    /// Which rows it is done to, with what is given of each: the columns of their primary key, and for an update what the columns of `set` become.
    /// For an insert, what columns of a new row are set to.
    pub rows: Need,
    /// Numbers of rows or statements that go together, where the user lists some.
    pub sizes: Vec<u32>,
}

/// What is done.
#[derive(Clone, Debug, PartialEq)]
pub enum Act {
    /// Rows are new.
    Insert {
        /// How many.
        count: u64,
        /// Columns that are set.
        set: Vec<ColumnId>,
        /// Rows that hang on them and are new with them.
        also: Vec<AlsoNew>,
    },
    /// Rows change.
    Update {
        /// The columns that are set.
        set: Vec<ColumnId>,
    },
    /// Rows go.
    Delete {
        /// The tables whose rows go with them, where these hang on what goes.
        also: Vec<TableId>,
    },
}

/// Rows that hang on other new rows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AlsoNew {
    /// Their table.
    pub table: TableId,
    /// On which new rows they hang: 0 for those of the contest's own table, else the place of another of these, from 1.
    pub under: usize,
    /// By which of their table's references.
    pub reference: usize,
    /// How many for each of those rows.
    pub each: u64,
}

impl Write {
    /// The table whose rows are written.
    pub fn table(&self) -> TableId {
        self.rows.root()
    }

    /// The word for what is done.
    pub fn word(&self) -> &'static str {
        match self.act {
            Act::Insert { .. } => "insert",
            Act::Update { .. } => "update",
            Act::Delete { .. } => "delete",
        }
    }

    /// The tables that get new rows, with how many, parents first.
    pub fn new_tables(&self) -> Vec<(TableId, u64)> {
        let Act::Insert { count, also, .. } = &self.act else { return Vec::new() };
        let mut all = vec![(self.table(), *count)];
        for more in also {
            all.push((more.table, all[more.under].1.saturating_mul(more.each)));
        }
        all
    }

    /// The tables whose rows may be new, changed or gone, each once.
    pub fn touched(&self, schema: &Schema) -> Vec<TableId> {
        let mut touched = vec![self.table()];
        match &self.act {
            Act::Insert { also, .. } => touched.extend(also.iter().map(|more| more.table)),
            Act::Update { .. } => {}
            Act::Delete { also } => {
                touched.extend(also);
                let mut at = 0;
                while let Some(&parent) = touched.get(at) {
                    at += 1;
                    let acts = |child: TableId| {
                        let mut references = schema.table(child).references.iter();
                        references.any(|reference| reference.parent == parent && on_delete(&reference.manner) != OnDelete::Refuse)
                    };
                    let more: Vec<TableId> = schema.ids().filter(|&child| !touched.contains(&child) && acts(child)).collect();
                    touched.extend(more);
                }
            }
        }
        touched.sort_unstable();
        touched.dedup();
        touched
    }
}

/// The column of a table whose values the database makes: one that it numbers, or a primary key of one whole number, as nearly every database
/// that reads such a declaration does.
pub fn generated_key(schema: &Schema, table: TableId) -> Option<ColumnId> {
    let model = schema.table(table);
    let refers = |column: ColumnId| model.references.iter().any(|reference| reference.columns.contains(&column));
    if let Some(column) = (0..model.columns.len()).find(|&column| model.columns[column].numbered) {
        return Some(column);
    }
    let numbers_keys = matches!(schema.dialect, SqlDialect::Standard | SqlDialect::Sqlite);
    match model.primary_key[..] {
        [column] if numbers_keys && model.columns[column].kind == LogicalType::Integer && !refers(column) => Some(column),
        _ => None,
    }
}

/// What becomes of rows that refer to one that is deleted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OnDelete {
    /// It cannot be deleted while they are there.
    Refuse,
    /// They go too.
    Cascade,
    /// They refer to nothing.
    Null,
    /// They refer to what their columns' defaults say.
    Default,
}

/// What a reference says of that.
pub(crate) fn on_delete(manner: &str) -> OnDelete {
    let words = manner.to_ascii_uppercase();
    let words: Vec<&str> = words.split_whitespace().collect();
    let behind = words.windows(2).position(|pair| pair == ["ON", "DELETE"]).map_or(&[][..], |at| &words[at + 2..]);
    match behind {
        ["CASCADE", ..] => OnDelete::Cascade,
        ["SET", "NULL", ..] => OnDelete::Null,
        ["SET", "DEFAULT", ..] => OnDelete::Default,
        _ => OnDelete::Refuse,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_reference_says_of_its_parent_s_end_is_read_from_its_words() {
        assert_eq!(on_delete(" ON UPDATE CASCADE"), OnDelete::Refuse);
        assert_eq!(on_delete(" on update cascade ON  delete CASCADE DEFERRABLE"), OnDelete::Cascade);
        assert_eq!(on_delete(" ON DELETE SET NULL"), OnDelete::Null);
        assert_eq!(on_delete(" ON DELETE SET DEFAULT ON UPDATE SET NULL"), OnDelete::Default);
        assert_eq!(on_delete(" ON DELETE NO ACTION"), OnDelete::Refuse);
        assert_eq!(on_delete(""), OnDelete::Refuse);
    }
}
