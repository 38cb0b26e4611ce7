//! Who takes an answer.

use kampf_schema::{Value, ValueRef};

use crate::answer::Answer;

/// Takes an answer, value by value.
pub trait Consumer {
    /// A call begins.
    fn begin(&mut self) {}
    /// A row begins.
    fn row(&mut self);
    /// The next value of the row.
    fn value(&mut self, value: ValueRef<'_>);
    /// The next value of the row is a list: its rows follow, each with its values, up to [`Consumer::end`].
    fn list(&mut self);
    /// A row of a list begins.
    fn item(&mut self);
    /// The list is over.
    fn end(&mut self);
    /// So many rows came, which is not how many are expected: that is the answer, and what was taken in this call is void.
    fn came(&mut self, rows: u64);
}

/// Touches every value once, so that none can be left out, and keeps nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct Touch {
    mixed: u64,
    rows: u64,
    /// Rows taken before the current call.
    before: u64,
}

impl Touch {
    /// Rows taken.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// What all values come to; without meaning, but it depends on each.
    pub fn mixed(&self) -> u64 {
        self.mixed
    }
}

impl Consumer for Touch {
    fn begin(&mut self) {
        self.before = self.rows;
    }

    #[inline]
    fn row(&mut self) {
        self.rows += 1;
    }

    #[inline(always)]
    fn value(&mut self, value: ValueRef<'_>) {
        let bits = match value {
            ValueRef::Null => 1,
            ValueRef::Integer(number) | ValueRef::Timestamp(number) => number as u64,
            ValueRef::Decimal(units, _) => units.get() as u64,
            ValueRef::Real(number) => number.to_bits(),
            ValueRef::Text(text) => ends(text.as_bytes()),
            ValueRef::Boolean(truth) => u64::from(truth),
            ValueRef::Date(days) => days as u64,
            ValueRef::Uuid(bytes) => ends(&bytes),
            ValueRef::Blob(bytes) => ends(bytes),
            ValueRef::List(values) => values.len() as u64,
        };
        self.mixed = self.mixed.rotate_left(5) ^ bits;
    }

    fn list(&mut self) {
        self.mixed = self.mixed.rotate_left(7);
    }

    #[inline]
    fn item(&mut self) {
        self.mixed = self.mixed.wrapping_add(1);
    }

    fn end(&mut self) {
        self.mixed = self.mixed.rotate_left(3);
    }

    fn came(&mut self, rows: u64) {
        self.mixed ^= rows;
        self.rows = self.before;
    }
}

#[inline(always)]
fn ends(bytes: &[u8]) -> u64 {
    let edge = |byte: Option<&u8>| u64::from(byte.copied().unwrap_or(0));
    bytes.len() as u64 ^ (edge(bytes.first()) << 32) ^ (edge(bytes.last()) << 40)
}

/// Keeps the whole answer.
#[derive(Clone, Debug, Default)]
pub struct Collect {
    /// The answer so far.
    pub answer: Answer,
    /// The lists that are not over, the innermost last, each with its rows so far.
    open: Vec<Vec<Vec<Value>>>,
}

impl Collect {
    fn put(&mut self, value: Value) {
        let rows = self.open.last_mut().unwrap_or(&mut self.answer.rows);
        if let Some(row) = rows.last_mut() {
            row.push(value);
        }
    }
}

impl Consumer for Collect {
    fn row(&mut self) {
        let width = self.answer.rows.last().map_or(0, Vec::len);
        self.answer.rows.push(Vec::with_capacity(width));
    }

    fn value(&mut self, value: ValueRef<'_>) {
        self.put(value.to_value());
    }

    fn list(&mut self) {
        self.open.push(Vec::new());
    }

    fn item(&mut self) {
        if let Some(list) = self.open.last_mut() {
            list.push(Vec::new());
        }
    }

    fn end(&mut self) {
        let rows = self.open.pop().unwrap_or_default();
        self.put(Value::List(rows.into_iter().map(|row| Value::List(row.into())).collect()));
    }

    fn came(&mut self, rows: u64) {
        self.answer = Answer::unexpected(rows);
    }
}
