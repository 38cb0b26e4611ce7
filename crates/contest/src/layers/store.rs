//! Where the rows of a table are kept during a call.

use kampf_schema::{Value, ValueRef};

use crate::key::Key;
use crate::plan::Layout;

/// What is known of one relation of a row. Row numbers are places in the target's store.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) enum Slot {
    /// Not yet asked for.
    #[default]
    Unknown,
    /// The one row, or none.
    One(Option<u32>),
    /// The rows.
    Many(Vec<u32>),
}

/// Rows of one table in one form.
pub(super) trait Store {
    /// An empty store.
    fn new(layout: &Layout) -> Self;

    /// Keeps a row, in the layout's order, and gives its number; where the form knows rows by identity, the number it had before.
    fn push(&mut self, row: &[ValueRef<'_>]) -> u32;

    /// Makes room for so many rows more.
    fn reserve(&mut self, rows: usize);

    /// Calls `each` with all values of a row, in order.
    fn each_value(&self, row: u32, each: impl FnMut(ValueRef<'_>));

    /// Keeps a row that is made of the last values of several, from a place on, and takes them away.
    fn push_values(&mut self, values: &mut Vec<Value>, from: usize) -> u32;

    /// How many objects were built.
    fn built(&self) -> u64;

    /// A value of a row.
    fn value(&self, row: u32, column: usize) -> ValueRef<'_>;

    /// What is known of a relation.
    fn slot(&self, row: u32, slot: usize) -> &Slot;

    /// Notes what is known of a relation.
    fn slot_mut(&mut self, row: u32, slot: usize) -> &mut Slot;

    /// The row of a key, where the form keeps an identity map.
    fn find(&self, _key: &Key) -> Option<u32> {
        None
    }

    /// Whether the form knows rows by identity.
    const IDENTITY: bool = false;

    /// Ends the unit of work: how many rows were changed in it.
    fn end(&mut self) -> u64 {
        0
    }

    /// Lets all rows go, and keeps the room for others.
    fn clear(&mut self);
}

pub(super) fn number(length: usize) -> u32 {
    u32::try_from(length).expect("a call keeps fewer than four thousand million rows")
}
