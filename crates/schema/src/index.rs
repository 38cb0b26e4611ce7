//! Indexes that make reading faster, or hold a rule that rows keep anyway.

use serde::{Deserialize, Serialize};

use crate::expr::{Name, Node, Rule};
use crate::model::{ColumnId, Table};
use crate::place::Span;

/// An index that says nothing about the rows of a table: what must be unique there stands among its rules, whatever index holds it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Index {
    /// Name, where it is given one.
    pub name: Option<String>,
    /// What it is sorted by, in order.
    pub terms: Vec<IndexTerm>,
    /// Whether the database is told that no two rows agree in it.
    pub unique: bool,
    /// Whether rows are found by a hash of the term, and so by equality alone; else in its order.
    pub hashed: bool,
    /// Columns that it holds besides, so that they need not be looked up in the table.
    pub include: Vec<ColumnId>,
    /// The rows that it holds; all where there is no condition.
    pub among: Option<Rule>,
}

/// One of the terms that an index is sorted by.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct IndexTerm {
    /// The column or expression.
    pub what: Rule,
    /// Whether the largest comes first.
    pub descending: bool,
    /// Whether nulls come first; where nobody says, where the engine puts them.
    pub nulls_first: Option<bool>,
}

impl IndexTerm {
    /// A column from the smallest on.
    pub fn of(column: ColumnId) -> IndexTerm {
        IndexTerm { what: Node::Leaf(column).into(), descending: false, nulls_first: None }
    }

    /// The column that it is, where it is no expression.
    pub fn column(&self) -> Option<ColumnId> {
        self.what.as_leaf().copied()
    }
}

impl Index {
    /// A plain one over columns.
    pub fn of(columns: impl IntoIterator<Item = ColumnId>) -> Index {
        let terms = columns.into_iter().map(IndexTerm::of).collect();
        Index { name: None, terms, unique: false, hashed: false, include: Vec::new(), among: None }
    }

    /// The columns that it begins with, up to the first expression.
    pub fn leading_columns(&self) -> Vec<ColumnId> {
        self.terms.iter().map_while(IndexTerm::column).collect()
    }

    /// What it is on, as in kampf.toml: `inspection(hive_id, inspected_at desc)`, without kind, condition and further columns.
    pub fn on(&self, table: &Table) -> String {
        let term = |term: &IndexTerm| {
            let what = term.what.map(&mut |column| Node::Leaf(name(&table.columns[*column].name)).into());
            let nulls = match term.nulls_first {
                Some(true) => " nulls first",
                Some(false) => " nulls last",
                None => "",
            };
            format!("{what}{}{nulls}", if term.descending { " desc" } else { "" })
        };
        format!("{}({})", name(&table.name), self.terms.iter().map(term).collect::<Vec<_>>().join(", "))
    }
}

fn name(text: &str) -> Name {
    Name { text: text.to_owned(), span: Span::default() }
}
