//! `[index.NAME]`.

use super::form::{OneOrMore, table};
use super::reader::{FileValue, Item, Reader};
use crate::problem::Problem;
use crate::project::written::Written;

table! {
    /// The same rows under other indexes.
    IndexTable {
        /// Table and terms: "inspection(hive_id, inspected_at desc)".
        "on" on: OneOrMore<Written>,
        /// Whether no two rows agree in it.
        "unique" unique: bool,
        /// "tree", which is sorted, or "hash".
        "kind" kind: IndexKind,
        /// The rows that it holds, where it holds not all.
        "where" among: Written,
        /// Columns that it holds besides.
        "include" include: Vec<Written>,
        /// Indexes of the schema that are left out.
        "without" without: Vec<Written>,
    }
}

/// The kind of an index.
#[derive(Clone, Copy, Debug, PartialEq, Eq, schemars::JsonSchema)]
#[schemars(rename_all = "lowercase")]
pub(crate) enum IndexKind {
    Tree,
    Hash,
}

impl FileValue for IndexKind {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<IndexKind, Problem> {
        let written = table.text(item)?;
        match written.value.as_str() {
            "tree" => Ok(IndexKind::Tree),
            "hash" => Ok(IndexKind::Hash),
            other => Err(Problem::wrong(format!("`{other}` is not a kind of index"))
                .at(table.place_of(written.span))
                .hint("write \"hash\", or leave the line out: an index is sorted then (B-tree)")),
        }
    }
}
