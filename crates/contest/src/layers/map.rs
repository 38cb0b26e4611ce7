//! Maps: each row its own table from name to value. The names are shared, as languages do it, and looked up by what they are.

use std::collections::HashMap;
use std::rc::Rc;

use kampf_schema::{Value, ValueRef};

use super::store::{Slot, Store, number};
use crate::plan::Layout;

pub(super) struct Maps {
    names: Vec<Rc<str>>,
    slot_width: usize,
    rows: Vec<HashMap<Rc<str>, Value>>,
    slots: Vec<Slot>,
}

impl Store for Maps {
    fn new(layout: &Layout) -> Self {
        let names = layout.columns.iter().map(|column| column.name.as_str().into()).collect();
        Maps { names, slot_width: layout.slots, rows: Vec::new(), slots: Vec::new() }
    }

    fn push(&mut self, row: &[ValueRef<'_>]) -> u32 {
        self.rows.push(self.names.iter().cloned().zip(row.iter().map(|value| value.to_value())).collect());
        self.slots.resize(self.slots.len() + self.slot_width, Slot::Unknown);
        number(self.rows.len() - 1)
    }

    fn clear(&mut self) {
        self.rows.clear();
        self.slots.clear();
    }

    fn reserve(&mut self, rows: usize) {
        self.rows.reserve(rows);
        self.slots.reserve(rows * self.slot_width);
    }

    fn each_value(&self, row: u32, mut each: impl FnMut(ValueRef<'_>)) {
        (0..self.names.len()).for_each(|column| each(self.value(row, column)));
    }

    fn push_values(&mut self, values: &mut Vec<Value>, from: usize) -> u32 {
        self.rows.push(self.names.iter().cloned().zip(values.drain(from..)).collect());
        self.slots.resize(self.slots.len() + self.slot_width, Slot::Unknown);
        number(self.rows.len() - 1)
    }

    fn built(&self) -> u64 {
        self.rows.len() as u64
    }

    fn value(&self, row: u32, column: usize) -> ValueRef<'_> {
        self.rows[row as usize].get(&self.names[column]).map_or(ValueRef::Null, Value::as_ref)
    }

    fn slot(&self, row: u32, slot: usize) -> &Slot {
        &self.slots[row as usize * self.slot_width + slot]
    }

    fn slot_mut(&mut self, row: u32, slot: usize) -> &mut Slot {
        &mut self.slots[row as usize * self.slot_width + slot]
    }
}
