//! Entities: one object a row with its values and relation slots; managed ones with identity and a snapshot besides.

use std::collections::HashMap;

use kampf_schema::{Value, ValueRef};

use super::store::{Slot, Store, number};
use crate::key::Key;
use crate::plan::Layout;

struct Entity {
    cells: Box<[Value]>,
    slots: Box<[Slot]>,
}

impl Entity {
    fn new(row: &[ValueRef<'_>], slots: usize) -> Entity {
        Entity { cells: row.iter().map(|value| value.to_value()).collect(), slots: vec![Slot::Unknown; slots].into() }
    }
}

/// Entities that nobody watches.
pub(super) struct Plain {
    slot_width: usize,
    entities: Vec<Entity>,
}

impl Store for Plain {
    fn new(layout: &Layout) -> Self {
        Plain { slot_width: layout.slots, entities: Vec::new() }
    }

    fn push(&mut self, row: &[ValueRef<'_>]) -> u32 {
        self.entities.push(Entity::new(row, self.slot_width));
        number(self.entities.len() - 1)
    }

    fn clear(&mut self) {
        self.entities.clear();
    }

    fn reserve(&mut self, rows: usize) {
        self.entities.reserve(rows);
    }

    #[inline]
    fn each_value(&self, row: u32, mut each: impl FnMut(ValueRef<'_>)) {
        self.entities[row as usize].cells.iter().for_each(|value| each(value.as_ref()));
    }

    fn push_values(&mut self, values: &mut Vec<Value>, from: usize) -> u32 {
        self.entities.push(Entity { cells: values.drain(from..).collect(), slots: vec![Slot::Unknown; self.slot_width].into() });
        number(self.entities.len() - 1)
    }

    fn built(&self) -> u64 {
        self.entities.len() as u64
    }

    fn value(&self, row: u32, column: usize) -> ValueRef<'_> {
        self.entities[row as usize].cells[column].as_ref()
    }

    fn slot(&self, row: u32, slot: usize) -> &Slot {
        &self.entities[row as usize].slots[slot]
    }

    fn slot_mut(&mut self, row: u32, slot: usize) -> &mut Slot {
        &mut self.entities[row as usize].slots[slot]
    }
}

/// Entities of a unit of work: each key once, each with the values it was loaded with, to tell what was changed.
pub(super) struct Managed {
    plain: Plain,
    key: Vec<usize>,
    identity: HashMap<Key, u32>,
    snapshots: Vec<Box<[Value]>>,
}

impl Store for Managed {
    fn new(layout: &Layout) -> Self {
        Managed { plain: Plain::new(layout), key: layout.key.clone(), identity: HashMap::new(), snapshots: Vec::new() }
    }

    fn push(&mut self, row: &[ValueRef<'_>]) -> u32 {
        // What is no row of a table has no identity.
        let key = Key::of(self.key.iter().map(|&column| row[column])).filter(|_| !self.key.is_empty());
        if let Some(known) = key.as_ref().and_then(|key| self.find(key)) {
            return known;
        }
        let at = self.plain.push(row);
        self.snapshots.push(self.plain.entities[at as usize].cells.clone());
        if let Some(key) = key {
            self.identity.insert(key, at);
        }
        at
    }

    fn clear(&mut self) {
        self.plain.clear();
        self.identity.clear();
        self.snapshots.clear();
    }

    fn reserve(&mut self, rows: usize) {
        self.plain.reserve(rows);
    }

    fn each_value(&self, row: u32, each: impl FnMut(ValueRef<'_>)) {
        self.plain.each_value(row, each);
    }

    fn push_values(&mut self, values: &mut Vec<Value>, from: usize) -> u32 {
        let row: Vec<Value> = values.drain(from..).collect();
        let row: Vec<ValueRef<'_>> = row.iter().map(Value::as_ref).collect();
        self.push(&row)
    }

    fn built(&self) -> u64 {
        self.plain.built()
    }

    fn value(&self, row: u32, column: usize) -> ValueRef<'_> {
        self.plain.value(row, column)
    }

    fn slot(&self, row: u32, slot: usize) -> &Slot {
        self.plain.slot(row, slot)
    }

    fn slot_mut(&mut self, row: u32, slot: usize) -> &mut Slot {
        self.plain.slot_mut(row, slot)
    }

    fn find(&self, key: &Key) -> Option<u32> {
        self.identity.get(key).copied()
    }

    const IDENTITY: bool = true;

    /// Compares every column of every entity with its snapshot, as saving would have to.
    fn end(&mut self) -> u64 {
        let entities = self.plain.entities.iter().zip(&self.snapshots);
        entities.filter(|(entity, snapshot)| entity.cells != **snapshot).count() as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::LayoutColumn;

    #[test]
    fn a_tracked_entity_is_there_once_and_its_edit_is_noticed() {
        let columns = ["id", "label"].map(|name| LayoutColumn { name: name.to_owned() }).into();
        let mut store = Managed::new(&Layout { name: "hive".to_owned(), columns, key: vec![0], slots: 0 });
        let first = store.push(&[ValueRef::Integer(7), ValueRef::Text("calm")]);
        assert_eq!(store.push(&[ValueRef::Integer(7), ValueRef::Text("calm")]), first);
        assert_ne!(store.push(&[ValueRef::Integer(8), ValueRef::Text("calm")]), first);
        assert_eq!((store.built(), store.end()), (2, 0));
        store.plain.entities[first as usize].cells[1] = Value::from("fierce");
        assert_eq!(store.end(), 1);
    }
}
