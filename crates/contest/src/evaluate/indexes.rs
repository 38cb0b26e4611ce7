//! Rows by the columns that relations lead to.

use std::collections::{HashMap, HashSet};

use kampf_schema::{ColumnId, Hop, TableId, Value};

use super::RowSource;
use crate::key::Key;
use crate::need::Need;

type Index = HashMap<Key, Vec<u64>>;

/// An index of each relation of a need, by the table and columns that it leads to.
#[derive(Default)]
pub(super) struct Indexes(HashMap<TableId, Vec<(Vec<ColumnId>, Index)>>);

impl Indexes {
    /// Of all rows.
    pub(super) fn of(need: &Need, rows: &dyn RowSource) -> Indexes {
        let mut indexes = Indexes::default();
        for hop in need.asked().filter_map(|(_, source)| source.hop.as_ref()) {
            if indexes.index(hop).is_none() {
                let index = indexed(rows, hop, &|_| true);
                indexes.add(hop, index);
            }
        }
        indexes
    }

    /// Of the rows that can be reached from some root rows.
    pub(super) fn of_roots(need: &Need, rows: &dyn RowSource, roots: &[u64]) -> Indexes {
        let mut indexes = Indexes::default();
        let mut reached: Vec<Vec<u64>> = vec![Vec::new(); need.sources.len()];
        reached[0] = roots.to_vec();
        // Several sources may be of one relation, each with rows of its own.
        let mut searched: HashMap<(TableId, Vec<ColumnId>), HashSet<Key>> = HashMap::new();
        for (at, source) in need.asked() {
            let Some(hop) = &source.hop else { continue };
            let from = reached[source.parent].iter();
            let keys: HashSet<Key> = from.filter_map(|&row| key_of(rows, hop.from, &hop.from_columns, row)).collect();
            let known = searched.entry((hop.to, hop.to_columns.clone())).or_default();
            let new: HashSet<&Key> = keys.iter().filter(|key| !known.contains(*key)).collect();
            if !new.is_empty() {
                let index = indexed(rows, hop, &|key| new.contains(key));
                indexes.add(hop, index);
            }
            known.extend(new.into_iter().cloned().collect::<Vec<_>>());
            let mut found: Vec<u64> = keys.iter().filter_map(|key| indexes.rows(hop, key)).flatten().copied().collect();
            found.sort_unstable();
            found.dedup();
            reached[at] = found;
        }
        indexes
    }

    fn index(&self, hop: &Hop) -> Option<&Index> {
        self.0.get(&hop.to)?.iter().find(|(columns, _)| *columns == hop.to_columns).map(|(_, index)| index)
    }

    fn add(&mut self, hop: &Hop, more: Index) {
        let of_table = self.0.entry(hop.to).or_default();
        match of_table.iter_mut().find(|(columns, _)| *columns == hop.to_columns) {
            Some((_, index)) => index.extend(more),
            None => of_table.push((hop.to_columns.clone(), more)),
        }
    }

    /// The rows that a relation leads to from a key.
    pub(super) fn rows(&self, hop: &Hop, key: &Key) -> Option<&Vec<u64>> {
        self.index(hop)?.get(key)
    }
}

/// The rows of the table that a relation leads to, by those of their keys that are wanted.
fn indexed(rows: &dyn RowSource, hop: &Hop, is_wanted: &dyn Fn(&Key) -> bool) -> Index {
    let mut index = Index::new();
    for row in 0..rows.count(hop.to) {
        if let Some(key) = key_of(rows, hop.to, &hop.to_columns, row).filter(is_wanted) {
            index.entry(key).or_default().push(row);
        }
    }
    index
}

pub(crate) fn key_of(rows: &dyn RowSource, table: TableId, columns: &[ColumnId], row: u64) -> Option<Key> {
    let values: Vec<Value> = columns.iter().map(|&column| rows.value(table, row, column)).collect();
    Key::of(values.iter().map(Value::as_ref))
}

/// Which rows of a table have some keys; none where no row has one.
pub fn rows_with_keys(rows: &dyn RowSource, table: TableId, columns: &[ColumnId], keys: &[Vec<Value>]) -> Vec<Option<u64>> {
    let keys: Vec<Option<Key>> = keys.iter().map(|key| Key::of(key.iter().map(Value::as_ref))).collect();
    let mut found: HashMap<&Key, Option<u64>> = keys.iter().flatten().map(|key| (key, None)).collect();
    for row in 0..rows.count(table) {
        if let Some(key) = key_of(rows, table, columns, row)
            && let Some(place) = found.get_mut(&key)
        {
            *place = Some(row);
        }
    }
    keys.iter().map(|key| found.get(key.as_ref()?).copied().flatten()).collect()
}
