//! The schema as plain data.

use serde::{Deserialize, Serialize};

use crate::place::Span;
use crate::types::LogicalType;
use crate::value::Value;

/// A table's place in [`Schema::tables`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct TableId(pub usize);

/// A column's place in [`Table::columns`].
pub type ColumnId = usize;

/// All tables of a schema, in the order of their statements.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Schema {
    /// The tables.
    pub tables: Vec<Table>,
}

impl Schema {
    /// The table at an id. Ids come from this schema, so it exists.
    pub fn table(&self, id: TableId) -> &Table {
        &self.tables[id.0]
    }

    /// The table of a name, upper and lower case alike.
    pub fn find(&self, name: &str) -> Option<TableId> {
        let exact = self.tables.iter().position(|table| table.name == name);
        exact.or_else(|| self.tables.iter().position(|table| table.name.eq_ignore_ascii_case(name))).map(TableId)
    }

    /// Writes names of tables and columns in small letters that were not written in quotes, as some engines do.
    pub fn fold_names(&mut self) {
        for table in &mut self.tables {
            if !table.quoted {
                table.name.make_ascii_lowercase();
            }
            for column in table.columns.iter_mut().filter(|column| !column.quoted) {
                column.name.make_ascii_lowercase();
            }
        }
    }

    /// All table ids.
    pub fn ids(&self) -> impl Iterator<Item = TableId> + use<> {
        (0..self.tables.len()).map(TableId)
    }

    /// Tables with every parent before its children where references have no cycle; in a cycle the order of the file decides.
    pub fn parents_first(&self) -> Vec<TableId> {
        fn visit(schema: &Schema, id: TableId, seen: &mut [bool], order: &mut Vec<TableId>) {
            if std::mem::replace(&mut seen[id.0], true) {
                return;
            }
            for reference in &schema.table(id).references {
                visit(schema, reference.parent, seen, order);
            }
            order.push(id);
        }
        let mut seen = vec![false; self.tables.len()];
        let mut order = Vec::with_capacity(self.tables.len());
        for id in self.ids() {
            visit(self, id, &mut seen, &mut order);
        }
        order
    }
}

/// One table.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Table {
    /// Name as written, without quotes.
    pub name: String,
    /// Whether it was written in quotes.
    #[serde(skip)]
    pub quoted: bool,
    /// Columns in order.
    pub columns: Vec<Column>,
    /// Columns of the primary key; empty where the table has none.
    pub primary_key: Vec<ColumnId>,
    /// Unique rules besides the primary key.
    pub uniques: Vec<Unique>,
    /// References to parent tables.
    pub references: Vec<Reference>,
    /// Indexes that are not unique.
    pub indexes: Vec<Index>,
    /// Checks.
    pub checks: Vec<Check>,
    /// Place of its CREATE TABLE in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

impl Table {
    /// The column of a name, upper and lower case alike.
    pub fn find(&self, name: &str) -> Option<ColumnId> {
        let exact = self.columns.iter().position(|column| column.name == name);
        exact.or_else(|| self.columns.iter().position(|column| column.name.eq_ignore_ascii_case(name)))
    }

    /// Whether no two rows can agree on all these columns, all of them not null.
    pub fn is_unique_key(&self, columns: &[ColumnId]) -> bool {
        let holds = |key: &[ColumnId]| !key.is_empty() && key.iter().all(|column| columns.contains(column));
        holds(&self.primary_key)
            || self
                .uniques
                .iter()
                .any(|unique| holds(&unique.columns) && unique.columns.iter().all(|&column| !self.columns[column].nullable))
    }

    /// Whether rows can be found by these columns without reading the whole table: they lead the primary key, a unique rule or an index.
    pub fn is_indexed(&self, columns: &[ColumnId]) -> bool {
        let leads = |key: &[ColumnId]| key.len() >= columns.len() && key[..columns.len()].iter().all(|column| columns.contains(column));
        leads(&self.primary_key)
            || self.uniques.iter().any(|unique| leads(&unique.columns))
            || self.indexes.iter().any(|index| leads(&index.columns))
    }
}

/// One column.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Column {
    /// Name as written, without quotes.
    pub name: String,
    /// Whether it was written in quotes.
    #[serde(skip)]
    pub quoted: bool,
    /// What its values mean.
    pub kind: LogicalType,
    /// Whether null is allowed; never for a column of the primary key.
    pub nullable: bool,
    /// Its default.
    pub default: Option<Default>,
    /// Place of its definition in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

/// The default of a column.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Default {
    /// A fixed value.
    Value(Value),
    /// Something computed by the database, as its SQL text; not carried over.
    Computed(String),
}

/// A unique rule.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Unique {
    /// Its columns, in order.
    pub columns: Vec<ColumnId>,
}

/// An index that does not make anything unique.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Index {
    /// Name, where the schema gives one.
    pub name: Option<String>,
    /// Its columns, in order.
    pub columns: Vec<ColumnId>,
}

/// A reference from columns of one table to a key of another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reference {
    /// The columns that refer.
    pub columns: Vec<ColumnId>,
    /// The table referred to.
    pub parent: TableId,
    /// The key columns referred to, in the order of `columns`.
    pub parent_columns: Vec<ColumnId>,
    /// Place in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

/// A check, kept as its text, with what could be understood of it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Check {
    /// The condition as SQL.
    pub sql: String,
    /// What it says about single columns; empty where it was not understood.
    pub rules: Vec<(ColumnId, CheckRule)>,
    /// Whether `rules` says all that the check says.
    pub understood: bool,
    /// Place in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

/// What a check demands of one column.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum CheckRule {
    /// One of these values.
    OneOf(Vec<Value>),
    /// At least this; the flag says whether the bound itself is allowed.
    AtLeast(Value, bool),
    /// At most this; the flag says whether the bound itself is allowed.
    AtMost(Value, bool),
    /// A text of at least this many characters.
    LengthAtLeast(u32),
    /// A text of at most this many characters.
    LengthAtMost(u32),
}
