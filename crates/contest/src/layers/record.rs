//! Records: values by position, one after the other, each text its own.

use kampf_schema::{Value, ValueRef};

use super::store::{Slot, Store};
use crate::plan::Layout;

pub(super) struct Records {
    width: usize,
    slot_width: usize,
    rows: u32,
    cells: Vec<Value>,
    slots: Vec<Slot>,
}

impl Store for Records {
    fn new(layout: &Layout) -> Self {
        Records { width: layout.columns.len(), slot_width: layout.slots, rows: 0, cells: Vec::new(), slots: Vec::new() }
    }

    #[inline]
    fn push(&mut self, row: &[ValueRef<'_>]) -> u32 {
        self.cells.extend(row.iter().map(|value| value.to_value()));
        self.slots.resize(self.slots.len() + self.slot_width, Slot::Unknown);
        self.rows += 1;
        self.rows - 1
    }

    fn clear(&mut self) {
        self.cells.clear();
        self.slots.clear();
        self.rows = 0;
    }

    fn reserve(&mut self, rows: usize) {
        self.cells.reserve(rows * self.width);
        self.slots.reserve(rows * self.slot_width);
    }

    #[inline]
    fn each_value(&self, row: u32, mut each: impl FnMut(ValueRef<'_>)) {
        let begins = row as usize * self.width;
        self.cells[begins..begins + self.width].iter().for_each(|value| each(value.as_ref()));
    }

    fn push_values(&mut self, values: &mut Vec<Value>, from: usize) -> u32 {
        self.cells.extend(values.drain(from..));
        self.slots.resize(self.slots.len() + self.slot_width, Slot::Unknown);
        self.rows += 1;
        self.rows - 1
    }

    fn built(&self) -> u64 {
        u64::from(self.rows)
    }

    #[inline]
    fn value(&self, row: u32, column: usize) -> ValueRef<'_> {
        self.cells[row as usize * self.width + column].as_ref()
    }

    fn slot(&self, row: u32, slot: usize) -> &Slot {
        &self.slots[row as usize * self.slot_width + slot]
    }

    fn slot_mut(&mut self, row: u32, slot: usize) -> &mut Slot {
        &mut self.slots[row as usize * self.slot_width + slot]
    }
}
