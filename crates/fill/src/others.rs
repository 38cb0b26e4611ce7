//! What values are made from that are made from others.

use kampf_schema::{ColumnId, TableId, Value};

/// Where another value comes from.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Origin {
    /// A column of the same row.
    Own(ColumnId),
    /// A column of the parent that a link finds.
    Parent(usize, ColumnId),
}

/// What derived values are made from.
pub(crate) trait Others {
    /// The value at an origin.
    fn value(&self, origin: Origin) -> Value;
    /// The number of the row among its siblings, from 0.
    fn ordinal(&self, link: usize) -> u64;
    /// The row's parent, and how many children that has.
    fn siblings(&self, link: usize) -> (u64, u64);
    /// The value of a column in the row before among its siblings; none for the first.
    fn previous(&self, link: usize, column: ColumnId) -> Option<Value>;
    /// How many rows of another table belong to the row, by one of their references.
    fn children(&self, child: TableId, reference: usize) -> u64;
}

/// For makers that look at nothing else.
pub(crate) struct Alone;

impl Others for Alone {
    fn value(&self, _: Origin) -> Value {
        Value::Null
    }

    fn ordinal(&self, _: usize) -> u64 {
        0
    }

    fn siblings(&self, _: usize) -> (u64, u64) {
        (0, 0)
    }

    fn previous(&self, _: usize, _: ColumnId) -> Option<Value> {
        None
    }

    fn children(&self, _: TableId, _: usize) -> u64 {
        0
    }
}
