//! References that a schema has and does not declare: columns that by their names and types hold keys of another table.

use std::fmt;

use crate::model::{Column, ColumnId, Reference, Schema, Table, TableId};
use crate::names::name_words;
use crate::types::LogicalType;

/// A column that looks like a reference.
#[derive(Clone, Debug, PartialEq)]
pub struct Undeclared {
    /// The table that would refer.
    pub child: TableId,
    /// Its column.
    pub column: ColumnId,
    /// The table referred to.
    pub parent: TableId,
    /// A column of it that is unique.
    pub key: ColumnId,
    /// How much speaks for it, of 100; see [`undeclared`].
    pub sure: u8,
    /// What speaks for it, in words.
    pub why: String,
}

/// Why a reference cannot be declared.
#[derive(Clone, Debug, PartialEq)]
pub struct ReferError {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: String,
}

impl fmt::Display for ReferError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for ReferError {}

/// What is proposed has so many points at least.
const ENOUGH: u8 = 70;
/// Nothing but a declaration is sure.
const MOST: u8 = 97;

/// Columns that look like references and are none, at most one proposal for each, those of the first table first.
///
/// The points are a rule of thumb: 60 for a name that is the other table's and its key's (`room_code`), 50 with other words before it
/// (`last_room_code`) or where it is the table's name alone, 45 where only the end of a longer table name is meant, 42 for the same
/// telling name on both sides; 20 for the same type, 12 for one that can be compared; 14 for a primary key, 12 for another unique column;
/// 5 for an index on the column. Another table that fits as well takes 25 away.
pub fn undeclared(schema: &Schema) -> Vec<Undeclared> {
    let keys: Vec<Key<'_>> = schema.ids().flat_map(|id| Key::of(schema, id)).collect();
    let mut found = Vec::new();
    for child in schema.ids() {
        let table = schema.table(child);
        for column in 0..table.columns.len() {
            if may_refer(table, column) {
                found.extend(best(schema, &keys, child, column));
            }
        }
    }
    found
}

impl Schema {
    /// Declares a reference of one column, like one that the file has.
    ///
    /// # Errors
    /// A column that is not unique or of another type, and a reference that is there already.
    pub fn refer(&mut self, child: TableId, column: ColumnId, parent: TableId, key: ColumnId) -> Result<(), ReferError> {
        let (own, theirs) = (self.table(child), self.table(parent));
        let [from, to] = [(own, column), (theirs, key)].map(|(table, column)| format!("`{}.{}`", table.name, table.columns[column].name));
        let wrong = |message: String, hint: &str| Err(ReferError { message, hint: hint.to_owned() });
        if !is_unique(theirs, key) {
            return wrong(
                format!("{to} is not unique, so nothing can refer to it"),
                "refer to the primary key, or to a column that is UNIQUE",
            );
        }
        if own.references.iter().any(|reference| reference.columns.contains(&column)) {
            return wrong(format!("{from} refers to something already"), "remove this line");
        }
        let (kind, other) = (own.columns[column].kind, theirs.columns[key].kind);
        if !same_kind(kind, other) {
            return wrong(format!("{from} is {kind} and {to} is {other}"), "a reference and what it leads to are of the same type");
        }
        let reference =
            Reference { columns: vec![column], parent, parent_columns: vec![key], manner: String::new(), span: own.columns[column].span };
        self.tables[child.0].references.push(reference);
        Ok(())
    }
}

/// A column that rows of a table are known by.
struct Key<'s> {
    table: TableId,
    column: ColumnId,
    is_primary: bool,
    /// The words of the table's name, in the singular.
    owner: Vec<String>,
    words: Vec<String>,
    model: &'s Column,
}

impl<'s> Key<'s> {
    fn of(schema: &'s Schema, id: TableId) -> Vec<Key<'s>> {
        let table = schema.table(id);
        let key = |column: ColumnId| Key {
            table: id,
            column,
            is_primary: table.primary_key == [column],
            owner: singular(name_words(&table.name)),
            words: name_words(&table.columns[column].name),
            model: &table.columns[column],
        };
        (0..table.columns.len()).filter(|&column| is_unique(table, column) && is_key_kind(table.columns[column].kind)).map(key).collect()
    }
}

fn is_unique(table: &Table, column: ColumnId) -> bool {
    table.primary_key == [column] || table.uniques.iter().any(|unique| unique.columns == [column])
}

/// Types that keys are of.
fn is_key_kind(kind: LogicalType) -> bool {
    matches!(kind, LogicalType::Integer | LogicalType::Text { .. } | LogicalType::Uuid)
}

fn same_kind(one: LogicalType, other: LogicalType) -> bool {
    std::mem::discriminant(&one) == std::mem::discriminant(&other)
}

/// Whether a column may be a reference that nobody has declared.
fn may_refer(table: &Table, column: ColumnId) -> bool {
    let model = &table.columns[column];
    let refers = table.references.iter().any(|reference| reference.columns.contains(&column));
    // What has a kind beside it leads to one table or another.
    let words = name_words(&model.name);
    let beside = words.split_last().map(|(_, rest)| rest.concat()).unwrap_or_default();
    let kinds = ["type", "kind", "class"].map(|kind| format!("{beside}{kind}"));
    let has_kind = !beside.is_empty() && table.columns.iter().any(|other| kinds.contains(&name_words(&other.name).concat()));
    !refers && !has_kind && is_key_kind(model.kind) && model.computed.is_none() && !model.numbered && model.words.is_empty()
}

/// The proposal for a column that most speaks for.
fn best(schema: &Schema, keys: &[Key<'_>], child: TableId, column: ColumnId) -> Option<Undeclared> {
    let table = schema.table(child);
    let words = name_words(&table.columns[column].name);
    let mut fitting: Vec<(u8, &Key<'_>, String)> = Vec::new();
    for key in keys.iter().filter(|key| (key.table, key.column) != (child, column)) {
        // A key of its own table is meant where the name says whose it is.
        let Some((points, what)) = by_name(&words, key).filter(|_| same_kind(table.columns[column].kind, key.model.kind)) else { continue };
        let is_same_type = table.columns[column].kind == key.model.kind;
        let indexed = table.is_indexed(&[column]);
        let sure = points + if is_same_type { 20 } else { 12 } + if key.is_primary { 14 } else { 12 } + if indexed { 5 } else { 0 };
        let parent = &schema.table(key.table).name;
        let unique = if key.is_primary { "its primary key" } else { "unique" };
        let index = if indexed { ", and it is indexed" } else { "" };
        let why = format!("its name is {what}, {}.{} is {unique} and of the same kind{index}", parent, key.model.name);
        fitting.push((sure.min(MOST), key, why));
    }
    fitting.sort_by_key(|(sure, ..)| std::cmp::Reverse(*sure));
    let (sure, key, why) = fitting.first()?;
    let rivals = fitting[1..].iter().any(|(other, rival, _)| other == sure && rival.table != key.table);
    let sure = if rivals { sure.saturating_sub(25) } else { *sure };
    (sure >= ENOUGH).then(|| Undeclared { child, column, parent: key.table, key: key.column, sure, why: why.clone() })
}

/// The points for a column's name, and what it is.
fn by_name(words: &[String], key: &Key<'_>) -> Option<(u8, &'static str)> {
    /// Names that many tables have say nothing about which is meant.
    const COMMON: [&str; 14] =
        ["id", "uuid", "name", "code", "key", "title", "slug", "number", "type", "email", "label", "value", "token", "position"];
    let mut whole = key.owner.clone();
    whole.extend(key.words.iter().cloned());
    // `room.room_code` is meant by `room_code` too.
    let own = if key.words.starts_with(&key.owner) && key.words.len() > key.owner.len() { &key.words } else { &whole };
    let last = key.owner.last()?;
    if words.ends_with(own) {
        return Some(if words.len() == own.len() {
            (60, "that of the table and its key")
        } else {
            (50, "that of the table and its key, with more before")
        });
    }
    if key.is_primary && words == key.owner {
        return Some((50, "that of the table"));
    }
    let short: Vec<String> = std::iter::once(last).chain(&key.words).cloned().collect();
    if key.owner.len() > 1 && words.ends_with(&short) {
        return Some((45, "the end of that of the table and its key"));
    }
    let joined = words.concat();
    let is_telling = joined.len() >= 4 && !COMMON.contains(&joined.as_str());
    (is_telling && words == key.words).then_some((42, "that of the key"))
}

/// Words of which the last is in the singular.
fn singular(mut words: Vec<String>) -> Vec<String> {
    if let Some(last) = words.last_mut() {
        let one = match last.as_str() {
            word if word.ends_with("ies") && word.len() > 4 => format!("{}y", &word[..word.len() - 3]),
            word if ["ses", "xes", "ches", "shes", "zes"].iter().any(|end| word.ends_with(end)) => word[..word.len() - 2].to_owned(),
            word if word.ends_with('s') && !word.ends_with("ss") && !word.ends_with("us") && word.len() > 2 => {
                word[..word.len() - 1].to_owned()
            }
            word => word.to_owned(),
        };
        *last = one;
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ddl;

    fn proposed(sql: &str) -> Vec<String> {
        let schema = ddl::read(sql).expect("the statements are right").schema;
        let name = |table: TableId, column: ColumnId| format!("{}.{}", schema.table(table).name, schema.table(table).columns[column].name);
        let line = |one: &Undeclared| format!("{} -> {} {}", name(one.child, one.column), name(one.parent, one.key), one.sure);
        undeclared(&schema).iter().map(line).collect()
    }

    #[test]
    fn names_and_types_tell_what_is_referred_to() {
        let rooms = "CREATE TABLE rooms (id INTEGER PRIMARY KEY, code VARCHAR(8) UNIQUE, size INTEGER);
            CREATE TABLE people (person_id INTEGER PRIMARY KEY, email TEXT UNIQUE);";
        for (column, expected) in [
            ("room_code VARCHAR(8)", &["b.room_code -> rooms.code 92"][..]),
            ("roomId INTEGER", &["b.roomId -> rooms.id 94"]),
            ("last_room_id INTEGER", &["b.last_room_id -> rooms.id 84"]),
            ("room INTEGER", &["b.room -> rooms.id 84"]),
            ("person_id INTEGER", &["b.person_id -> people.person_id 76"]),
            // Of another kind, of a kind that says itself which table it is, or like many.
            ("room_code INTEGER", &[]),
            ("room_id INTEGER, room_type TEXT", &[]),
            ("size INTEGER", &[]),
            ("email TEXT", &[]),
            ("room_id INTEGER REFERENCES rooms (id)", &[]),
        ] {
            assert_eq!(proposed(&format!("{rooms} CREATE TABLE b (id INTEGER PRIMARY KEY, {column});")), expected, "{column}");
        }
        let two = "CREATE TABLE a_box (id INTEGER PRIMARY KEY); CREATE TABLE b_box (id INTEGER PRIMARY KEY);
            CREATE TABLE c (id INTEGER PRIMARY KEY, box_id INTEGER);";
        assert_eq!(proposed(two), [""; 0]);
    }

    #[test]
    fn a_declared_one_is_like_any_other_and_what_cannot_be_is_said() {
        let sql = "CREATE TABLE room (id INTEGER PRIMARY KEY, code VARCHAR(8) UNIQUE, size INTEGER);
            CREATE TABLE b (id INTEGER PRIMARY KEY, room_code VARCHAR(8), n INTEGER);";
        let mut schema = ddl::read(sql).expect("the statements are right").schema;
        let (room, b) = (TableId(0), TableId(1));
        assert_eq!(schema.refer(b, 2, room, 2).unwrap_err().message, "`room.size` is not unique, so nothing can refer to it");
        assert_eq!(schema.refer(b, 2, room, 1).unwrap_err().message, "`b.n` is integer and `room.code` is text(8)");
        assert_eq!(schema.refer(b, 1, room, 1), Ok(()));
        assert_eq!(schema.refer(b, 1, room, 1).unwrap_err().message, "`b.room_code` refers to something already");
        assert!(crate::Relations::of(&schema).find(&schema, room, "b").is_ok());
    }
}
