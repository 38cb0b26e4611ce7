//! The schema as plain data.

use serde::{Deserialize, Serialize};

use crate::ddl::SqlDialect;
use crate::expr::Rule;
use crate::index::Index;
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
    /// What it is written in.
    #[serde(skip)]
    pub dialect: SqlDialect,
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
        let mut seen = vec![false; self.tables.len()];
        let mut order = Vec::with_capacity(self.tables.len());
        for id in self.ids() {
            // The way from a table to its parents, with the references that were followed of each; as long as the schema is deep.
            let mut way = Vec::new();
            if !std::mem::replace(&mut seen[id.0], true) {
                way.push((id, 0));
            }
            while let Some((table, followed)) = way.last_mut() {
                match self.table(*table).references.get(*followed) {
                    Some(reference) => {
                        *followed += 1;
                        let parent = reference.parent;
                        if !std::mem::replace(&mut seen[parent.0], true) {
                            way.push((parent, 0));
                        }
                    }
                    None => {
                        order.push(*table);
                        way.pop();
                    }
                }
            }
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
    /// Unique rules over plain columns and all rows, besides the primary key.
    pub uniques: Vec<Unique>,
    /// Unique rules over expressions or over a part of the rows.
    pub unique_indexes: Vec<UniqueIndex>,
    /// References to parent tables.
    pub references: Vec<Reference>,
    /// Indexes that are not unique.
    pub indexes: Vec<Index>,
    /// Checks.
    pub checks: Vec<Check>,
    /// Rows that the DDL file itself puts in, a value per column; none where it leaves a column out.
    #[serde(skip)]
    pub seeds: Vec<Vec<Option<Value>>>,
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

    /// The unique rules over plain columns, the primary key last.
    pub fn keys(&self) -> impl Iterator<Item = &[ColumnId]> {
        let keys = self.uniques.iter().map(|unique| unique.columns.as_slice()).chain([self.primary_key.as_slice()]);
        keys.filter(|key| !key.is_empty())
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
            || self.indexes.iter().any(|index| index.among.is_none() && leads(&index.leading_columns()))
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
    /// What texts of it look like, where its type says more than that they are texts.
    pub form: ColumnForm,
    /// Smallest and largest whole number that its type holds, where that is less than 64 bits.
    pub limits: Option<(i64, i64)>,
    /// The words of an enumerated type.
    pub words: Vec<String>,
    /// Whether null is allowed; never for a column of the primary key.
    pub nullable: bool,
    /// Its default.
    pub default: Option<Default>,
    /// Whether the database numbers its values: serial, identity, auto-increment.
    pub numbered: bool,
    /// What it is computed from; or what is not known there, in words, where that cannot be evaluated here.
    pub computed: Option<Result<Rule, String>>,
    /// Place of its definition in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

/// What the texts of a column look like, beyond being texts. Types that only some databases have are kept as text everywhere.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum ColumnForm {
    /// Any text.
    #[default]
    Plain,
    /// A JSON document.
    Json,
    /// An address of a host, `inet`.
    Address,
    /// A network, `cidr`.
    Network,
    /// An address of a network card.
    MacAddress,
    /// A time of day.
    Time,
    /// A length of time.
    Interval,
    /// So many bits; 0 for any number.
    Bits(u32),
    /// XML.
    Xml,
    /// A point, and other geometry.
    Point,
    /// A range of numbers or times.
    Range,
    /// Several words of a few, joined by commas: `SET`.
    Several,
    /// An array of values.
    Array(LogicalType),
    /// A version of a text made for searching.
    Search,
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

/// A unique rule over expressions, or over the rows that fulfil a condition.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct UniqueIndex {
    /// What is unique.
    pub terms: Vec<Rule>,
    /// Among which rows; all where there is none.
    pub among: Option<Rule>,
    /// Place in the DDL file.
    #[serde(skip)]
    pub span: Span,
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
    /// What happens to it when its parent changes or goes, and when it is looked at: the words of SQL, as behind REFERENCES.
    pub manner: String,
    /// Place in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

/// A check, kept as its text, with what it says.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Check {
    /// The condition as the schema has it.
    pub sql: String,
    /// The condition; or what in it is not known, in words.
    pub rule: Result<Rule, String>,
    /// Place in the DDL file.
    #[serde(skip)]
    pub span: Span,
}

/// How it begins what is said of a check with a function that is not known.
pub(crate) const UNKNOWN_FUNCTION: &str = "the function ";

impl Check {
    /// Whether a function in it is not known, which may be one of the application.
    pub fn has_unknown_function(&self) -> bool {
        self.rule.as_ref().is_err_and(|unknown| unknown.starts_with(UNKNOWN_FUNCTION))
    }

    /// Its text on one line, as much of it as a person wants to see in an error.
    pub fn in_short(&self) -> String {
        let line = self.sql.split_whitespace().take(SHOWN).collect::<Vec<_>>().join(" ");
        match line.char_indices().nth(SHOWN) {
            Some((end, _)) => format!("{}…", &line[..end]),
            None => line,
        }
    }
}

/// Characters of a check that are shown.
const SHOWN: usize = 160;
