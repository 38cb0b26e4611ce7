//! Primary keys of another type: which columns change with a table's key, and what stands in the way.

use serde::{Deserialize, Serialize};

use crate::expr::{ByValue, KeyLeaves, KeyUse, Rule};
use crate::model::{Column, ColumnForm, ColumnId, Schema, TableId};
use crate::names::name_words;
use crate::types::LogicalType;

/// What the primary keys of a table are made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum KeyType {
    /// Whole numbers from 1 on, in the order of rows.
    Integer,
    /// UUIDs of version 4: all chance.
    Uuid4,
    /// UUIDs of version 7: a time in front, so that they ascend with the rows.
    Uuid7,
    /// UUIDs of version 4 as texts of 36 characters.
    Text,
}

impl KeyType {
    /// All of them.
    pub const ALL: [KeyType; 4] = [KeyType::Integer, KeyType::Uuid4, KeyType::Uuid7, KeyType::Text];

    /// The word in files and names.
    pub fn word(self) -> &'static str {
        match self {
            KeyType::Integer => "integer",
            KeyType::Uuid4 => "uuid4",
            KeyType::Uuid7 => "uuid7",
            KeyType::Text => "text",
        }
    }

    /// The type of a word.
    pub fn from_word(word: &str) -> Option<KeyType> {
        KeyType::ALL.into_iter().find(|one| one.word() == word)
    }

    /// What it is, in words.
    pub fn about(self) -> &'static str {
        match self {
            KeyType::Integer => "whole numbers in the order of rows",
            KeyType::Uuid4 => "uuids of version 4, in 16 bytes",
            KeyType::Uuid7 => "uuids of version 7, in 16 bytes, in the order of rows",
            KeyType::Text => "uuids of version 4 as texts of 36 characters",
        }
    }

    /// The type of columns that hold such keys, where 16 bytes of a UUID are kept as a type.
    pub fn kind(self, uuid: LogicalType) -> LogicalType {
        match self {
            KeyType::Integer => LogicalType::Integer,
            KeyType::Uuid4 | KeyType::Uuid7 => uuid,
            KeyType::Text => LogicalType::Text { length: Some(36) },
        }
    }
}

/// The columns that hold keys of one table: its own, and all that refer to it, through however many tables.
#[derive(Clone, Debug, PartialEq)]
pub struct KeyColumns {
    /// The table.
    pub table: TableId,
    /// The columns, that of the table's own primary key first.
    pub columns: Vec<(TableId, ColumnId)>,
}

impl KeyColumns {
    /// The column of the table's own primary key.
    pub fn own(&self) -> ColumnId {
        self.columns[0].1
    }

    /// Whether a column holds such keys.
    pub fn hold(&self, table: TableId, column: ColumnId) -> bool {
        self.columns.contains(&(table, column))
    }
}

impl Schema {
    /// The columns that change when the keys of a table become of another type.
    ///
    /// # Errors
    /// Why they have to stay as they are, in words: there is no key of one column, it is taken from another table, its value means something,
    /// or a rule of the schema asks for its value.
    pub fn key_columns(&self, table: TableId) -> Result<KeyColumns, String> {
        let model = self.table(table);
        let name = &model.name;
        let own = match model.primary_key[..] {
            [own] => own,
            [] => return Err(format!("`{name}` has no primary key")),
            _ => {
                return Err(format!(
                    "the primary key of `{name}` is of several columns, which stay as they are but where they refer to a table whose keys change"
                ));
            }
        };
        let column = &model.columns[own];
        if let Some(parent) = model.references.iter().find(|reference| reference.columns.contains(&own)) {
            let parent = &self.table(parent.parent).name;
            return Err(format!("the primary key of `{name}` is that of the row of `{parent}` to which it refers, and changes with it"));
        }
        if let Some(why) = means_something(column) {
            return Err(format!("the primary key of `{name}`, `{}`, is {why}, and stays as it is", column.name));
        }
        let mut keys = KeyColumns { table, columns: vec![(table, own)] };
        let mut at = 0;
        while let Some(&(parent, key)) = keys.columns.get(at) {
            for child in self.ids() {
                for reference in self.table(child).references.iter().filter(|reference| reference.parent == parent) {
                    let own = reference.columns.iter().zip(&reference.parent_columns).filter(|(_, there)| **there == key);
                    let new = own.map(|(own, _)| (child, *own)).filter(|one| !keys.columns.contains(one)).collect::<Vec<_>>();
                    keys.columns.extend(new);
                }
            }
            at += 1;
        }
        self.refers_elsewhere(&keys)?;
        self.asks_for_value(&keys)?;
        Ok(keys)
    }

    /// A column that refers to another table's key besides ties the two together.
    fn refers_elsewhere(&self, keys: &KeyColumns) -> Result<(), String> {
        for &(table, column) in &keys.columns {
            let model = self.table(table);
            for reference in &model.references {
                let there = reference.columns.iter().zip(&reference.parent_columns).find(|(own, _)| **own == column);
                if let Some((_, &there)) = there
                    && !keys.hold(reference.parent, there)
                {
                    let (own, other) = (&self.table(keys.table).name, &self.table(reference.parent).name);
                    let column = &model.columns[column].name;
                    return Err(format!(
                        "`{}.{column}` refers to `{own}` and to `{other}`, so that the keys of both are of one type and stay as they are",
                        model.name
                    ));
                }
            }
        }
        Ok(())
    }

    /// Rules of the schema in which the value of a key counts.
    fn asks_for_value(&self, keys: &KeyColumns) -> Result<(), String> {
        for table in self.ids() {
            let model = self.table(table);
            let holds = |column: &ColumnId| keys.hold(table, *column);
            if !(0..model.columns.len()).any(|column| holds(&column)) {
                continue;
            }
            let no = |what: String, why: ByValue| Err(format!("{what} {}, so that the keys stay as they are", why.0));
            let by_value = |rule: &Rule| rule.key_use(&mut Columns { keys, table }).err();
            for check in &model.checks {
                let why = match &check.rule {
                    Ok(rule) => by_value(rule),
                    // What is not understood may ask for anything that it names.
                    Err(_) => {
                        let named = (0..model.columns.len()).any(|column| holds(&column) && names(&check.sql, &model.columns[column].name));
                        named.then_some(ByValue("may ask for the value of a key"))
                    }
                };
                if let Some(why) = why {
                    return no(format!("the check `{}` of `{}`", check.in_short(), model.name), why);
                }
            }
            for index in &model.unique_indexes {
                let rules = index.terms.iter().chain(&index.among);
                if let Some(why) = rules.filter_map(by_value).next() {
                    return no(format!("a unique rule of `{}`", model.name), why);
                }
            }
            for index in &model.indexes {
                let rules = index.terms.iter().map(|term| &term.what).chain(&index.among);
                if let Some(why) = rules.filter_map(by_value).next() {
                    return no(format!("the index on {}", index.on(model)), why);
                }
            }
            for column in &model.columns {
                let what = || format!("the computed column `{}.{}`", model.name, column.name);
                match &column.computed {
                    Some(Ok(rule)) => match by_value(rule) {
                        Some(why) => return no(what(), why),
                        None if rule.key_use(&mut Columns { keys, table }) != Ok(KeyUse::Plain) => {
                            return no(what(), ByValue("is a key itself"));
                        }
                        None => {}
                    },
                    Some(Err(_)) => return no(what(), ByValue("may ask for the value of a key")),
                    None => {}
                }
            }
        }
        Ok(())
    }

    /// Makes all columns that hold keys of a table columns of another type.
    pub fn rekey(&mut self, keys: &KeyColumns, kind: LogicalType) {
        for &(table, column) in &keys.columns {
            let column = &mut self.tables[table.0].columns[column];
            column.kind = kind;
            (column.form, column.limits, column.default, column.numbered) = (ColumnForm::Plain, None, None, false);
            column.words.clear();
        }
    }
}

/// Why the values of a key column mean something beyond which row it is.
fn means_something(column: &Column) -> Option<&'static str> {
    let is_id = name_words(&column.name).last().is_some_and(|word| matches!(word.as_str(), "id" | "uuid" | "guid" | "uid" | "key" | "pk"));
    match column.kind {
        LogicalType::Integer | LogicalType::Uuid => None,
        LogicalType::Text { .. } if column.words.is_empty() && column.form == ColumnForm::Plain && is_id => None,
        LogicalType::Blob if is_id => None,
        LogicalType::Text { .. } | LogicalType::Blob => Some("a natural one, going by its name"),
        _ => Some("a natural one: a number with a fraction, a date, a time or a truth"),
    }
}

/// Whether a text of SQL holds a name as a word.
fn names(sql: &str, name: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    sql.split(|c| !is_part(c)).any(|word| word.eq_ignore_ascii_case(name))
        || sql.to_lowercase().contains(&format!("\"{}\"", name.to_lowercase()))
}

/// The columns of one table as leaves.
struct Columns<'k> {
    keys: &'k KeyColumns,
    table: TableId,
}

impl KeyLeaves<ColumnId> for Columns<'_> {
    fn leaf(&mut self, column: &ColumnId) -> Result<KeyUse, ByValue> {
        Ok(if self.keys.hold(self.table, *column) { KeyUse::Key(self.keys.table) } else { KeyUse::Plain })
    }

    fn meets(&mut self, _: usize, _: TableId) {}
}
