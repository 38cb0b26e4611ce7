//! The relations a schema gives, and their names.
//!
//! A reference column `strain_id` gives the relation `strain` (to one); the child table gives its own name to its parents
//! (to many); a junction table, whose key is two references, gives each side the name of the other.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::model::{ColumnId, Reference, Schema, TableId};
use crate::names::did_you_mean;

/// Whether a hop leads to one row at most, or to many.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HopKind {
    /// From a child to its parent.
    One,
    /// From a parent to its children.
    Many,
}

/// One step from a table to a related one: rows of `to` whose `to_columns` equal the `from_columns`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Hop {
    /// Where it starts.
    pub from: TableId,
    /// Where it leads.
    pub to: TableId,
    /// To how many rows.
    pub kind: HopKind,
    /// Columns at the start.
    pub from_columns: Vec<ColumnId>,
    /// Columns at the end, in the order of `from_columns`.
    pub to_columns: Vec<ColumnId>,
}

/// A relation under its name.
#[derive(Clone, Debug)]
pub struct NamedRelation {
    /// The table it starts from.
    pub table: TableId,
    /// Its name there.
    pub name: String,
    /// The steps it stands for: one, or two through a junction table.
    pub hops: Vec<Hop>,
}

/// All relations of a schema.
#[derive(Clone, Debug, Default)]
pub struct Relations {
    /// Those of each table.
    named: Vec<Vec<NamedRelation>>,
    /// Names that several child references would like to have: table, name, the names they got instead.
    ambiguous: Vec<(TableId, String, Vec<String>)>,
}

/// A relation that is not there.
#[derive(Clone, Debug, PartialEq)]
pub struct RelationError {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
}

impl fmt::Display for RelationError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for RelationError {}

impl Relations {
    /// The relations that follow from the schema alone.
    pub fn of(schema: &Schema) -> Relations {
        let mut relations = Relations { named: vec![Vec::new(); schema.tables.len()], ambiguous: Vec::new() };
        for child in schema.ids() {
            for reference in &schema.table(child).references {
                relations.add(child, one_name(schema, child, reference), vec![to_one(child, reference)]);
            }
        }
        for child in schema.ids() {
            let table = schema.table(child);
            for reference in &table.references {
                let rivals: Vec<&Reference> = table.references.iter().filter(|other| other.parent == reference.parent).collect();
                let taken = relations.get(reference.parent, &table.name).is_some();
                if rivals.len() == 1 && !taken {
                    relations.add(reference.parent, table.name.clone(), vec![to_many(child, reference)]);
                    continue;
                }
                let name = format!("{}_{}", table.name, one_name(schema, child, reference));
                let known = relations.ambiguous.iter_mut().find(|(at, wanted, _)| *at == reference.parent && *wanted == table.name);
                match known {
                    Some((_, _, names)) => names.push(name.clone()),
                    None if !taken => relations.ambiguous.push((reference.parent, table.name.clone(), vec![name.clone()])),
                    None => {}
                }
                relations.add(reference.parent, name, vec![to_many(child, reference)]);
            }
        }
        for junction in schema.ids() {
            let table = schema.table(junction);
            let [left, right] = table.references.as_slice() else { continue };
            let mut both: Vec<ColumnId> = left.columns.iter().chain(&right.columns).copied().collect();
            both.sort_unstable();
            let is_key = table.is_unique_key(&both) && !table.is_unique_key(&left.columns) && !table.is_unique_key(&right.columns);
            if !is_key || left.parent == right.parent {
                continue;
            }
            for (near, far) in [(left, right), (right, left)] {
                let name = schema.table(far.parent).name.clone();
                if relations.get(near.parent, &name).is_none() {
                    relations.add(near.parent, name, vec![to_many(junction, near), to_one(junction, far)]);
                }
            }
        }
        relations
    }

    /// Gives a reference a name of the user's: `column` of `child`, seen from the child, or from its parent where `from_parent`.
    pub fn name(&mut self, schema: &Schema, child: TableId, column: &str, from_parent: bool, name: &str) -> Result<(), RelationError> {
        let table = schema.table(child);
        let reference = table
            .find(column)
            .and_then(|column| table.references.iter().find(|reference| reference.columns.contains(&column)))
            .ok_or_else(|| RelationError {
                message: format!("`{}.{column}` is not a column that refers to another table", table.name),
                hint: did_you_mean(
                    column,
                    table.references.iter().flat_map(|reference| &reference.columns).map(|&column| table.columns[column].name.as_str()),
                ),
            })?;
        let (at, hop) = if from_parent { (reference.parent, to_many(child, reference)) } else { (child, to_one(child, reference)) };
        self.named[at.0].retain(|relation| relation.name != name);
        self.add(at, name.to_owned(), vec![hop]);
        Ok(())
    }

    /// The relations that start from a table.
    pub fn from(&self, table: TableId) -> impl Iterator<Item = &NamedRelation> {
        self.named.get(table.0).into_iter().flatten()
    }

    /// The relation of a name, upper and lower case alike.
    pub fn get(&self, table: TableId, name: &str) -> Option<&NamedRelation> {
        self.from(table).find(|relation| relation.name.eq_ignore_ascii_case(name))
    }

    /// The relation of a name, or what to say when there is none.
    pub fn find(&self, schema: &Schema, table: TableId, name: &str) -> Result<&NamedRelation, RelationError> {
        if let Some(relation) = self.get(table, name) {
            return Ok(relation);
        }
        let from = &schema.table(table).name;
        if let Some((_, _, names)) = self.ambiguous.iter().find(|(at, wanted, _)| *at == table && wanted.eq_ignore_ascii_case(name)) {
            return Err(RelationError {
                message: format!("`{name}` refers to `{from}` in several ways"),
                hint: Some(format!("write {}, or name it under [relations]", list(names))),
            });
        }
        Err(RelationError {
            message: format!("`{from}` has no relation `{name}`"),
            hint: did_you_mean(name, self.from(table).map(|relation| relation.name.as_str())),
        })
    }

    fn add(&mut self, table: TableId, name: String, hops: Vec<Hop>) {
        if self.get(table, &name).is_none() {
            self.named[table.0].push(NamedRelation { table, name, hops });
        }
    }
}

fn list(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(" or ")
}

fn to_one(child: TableId, reference: &Reference) -> Hop {
    Hop {
        from: child,
        to: reference.parent,
        kind: HopKind::One,
        from_columns: reference.columns.clone(),
        to_columns: reference.parent_columns.clone(),
    }
}

fn to_many(child: TableId, reference: &Reference) -> Hop {
    Hop {
        from: reference.parent,
        to: child,
        kind: HopKind::Many,
        from_columns: reference.parent_columns.clone(),
        to_columns: reference.columns.clone(),
    }
}

/// The name of the column without its `_id`; the parent's name where the reference has several columns or no such ending.
fn one_name(schema: &Schema, child: TableId, reference: &Reference) -> String {
    let parent = &schema.table(reference.parent).name;
    let [column] = reference.columns.as_slice() else { return parent.clone() };
    let column = &schema.table(child).columns[*column].name;
    let stem = ["_id", "_uuid", "_key", "_fk", "_code", "_no", "Id", "ID"].iter().find_map(|ending| column.strip_suffix(ending));
    match stem {
        Some(stem) if !stem.is_empty() => stem.to_owned(),
        _ => {
            let once = schema.table(child).references.iter().filter(|other| other.parent == reference.parent).count() == 1;
            if once { parent.clone() } else { column.clone() }
        }
    }
}
