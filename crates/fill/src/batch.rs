//! Rows in a reused buffer, column by column.

use kampf_schema::{ColumnId, TimeText, Units, ValueRef, push_uuid};

use crate::random::mix;

/// Rows made and loaded at a time.
pub const BATCH_ROWS: usize = 512;

#[derive(Clone, Copy, Debug)]
enum Cell {
    Null,
    Integer(i64),
    Decimal(Units, u8),
    Real(f64),
    Boolean(bool),
    Date(i32),
    Timestamp(i64),
    Uuid([u8; 16]),
    /// From here to there in the batch's text.
    Text(u32, u32),
    /// Likewise, in its bytes.
    Blob(u32, u32),
}

/// Some rows of a table; texts lie together in one buffer.
#[derive(Clone, Debug, Default)]
pub struct Batch {
    columns: Vec<Vec<Cell>>,
    /// The column that is being made.
    current: ColumnId,
    rows: usize,
    text: String,
    bytes: Vec<u8>,
}

impl Batch {
    /// An empty batch for rows of `width` columns.
    pub fn new(width: usize) -> Batch {
        let mut batch = Batch::default();
        batch.clear(width, 0);
        batch
    }

    /// Forgets the rows and keeps the memory.
    pub(crate) fn clear(&mut self, width: usize, rows: usize) {
        self.columns.iter_mut().for_each(Vec::clear);
        self.columns.resize_with(width, Vec::new);
        (self.current, self.rows) = (0, rows);
        self.text.clear();
        self.bytes.clear();
    }

    /// How many rows there are.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// A row's values.
    pub fn row(&self, row: usize) -> impl ExactSizeIterator<Item = ValueRef<'_>> {
        self.columns.iter().map(move |column| self.value_of(column[row]))
    }

    /// One value.
    pub fn value(&self, row: usize, column: ColumnId) -> ValueRef<'_> {
        self.columns[column].get(row).map_or(ValueRef::Null, |cell| self.value_of(*cell))
    }

    #[inline]
    fn value_of(&self, cell: Cell) -> ValueRef<'_> {
        match cell {
            Cell::Null => ValueRef::Null,
            Cell::Integer(number) => ValueRef::Integer(number),
            Cell::Decimal(units, scale) => ValueRef::Decimal(units, scale),
            Cell::Real(number) => ValueRef::Real(number),
            Cell::Boolean(truth) => ValueRef::Boolean(truth),
            Cell::Date(days) => ValueRef::Date(days),
            Cell::Timestamp(micros) => ValueRef::Timestamp(micros),
            Cell::Uuid(bytes) => ValueRef::Uuid(bytes),
            Cell::Text(start, end) => ValueRef::Text(&self.text[start as usize..end as usize]),
            Cell::Blob(start, end) => ValueRef::Blob(&self.bytes[start as usize..end as usize]),
        }
    }

    /// Goes on with another column, from its first row.
    pub(crate) fn begin(&mut self, column: ColumnId) {
        self.current = column;
    }

    /// Makes a column again, from its first row.
    pub(crate) fn begin_anew(&mut self, column: ColumnId) {
        self.columns[column].clear();
        self.begin(column);
    }

    /// The value added last.
    pub(crate) fn last(&self) -> ValueRef<'_> {
        self.columns[self.current].last().map_or(ValueRef::Null, |cell| self.value_of(*cell))
    }

    /// Takes back the value added last.
    pub(crate) fn retract(&mut self) {
        match self.columns[self.current].pop() {
            Some(Cell::Text(start, _)) => self.text.truncate(start as usize),
            Some(Cell::Blob(start, _)) => self.bytes.truncate(start as usize),
            _ => {}
        }
    }

    /// Adds a value to the column being made.
    #[inline]
    pub(crate) fn push(&mut self, value: ValueRef<'_>) {
        let cell = match value {
            // No column holds lists.
            ValueRef::Null | ValueRef::List(_) => Cell::Null,
            ValueRef::Integer(number) => Cell::Integer(number),
            ValueRef::Decimal(units, scale) => Cell::Decimal(units, scale),
            ValueRef::Real(number) => Cell::Real(number),
            ValueRef::Boolean(truth) => Cell::Boolean(truth),
            ValueRef::Date(days) => Cell::Date(days),
            ValueRef::Timestamp(micros) => Cell::Timestamp(micros),
            ValueRef::Uuid(bytes) => Cell::Uuid(bytes),
            ValueRef::Text(text) => {
                return self.push_text(|buffer| buffer.push_str(text));
            }
            ValueRef::Blob(bytes) => {
                let start = self.bytes.len() as u32;
                self.bytes.extend_from_slice(bytes);
                Cell::Blob(start, self.bytes.len() as u32)
            }
        };
        self.columns[self.current].push(cell);
    }

    /// Adds a text that `write` appends to the buffer.
    pub(crate) fn push_text(&mut self, write: impl FnOnce(&mut String)) {
        let start = self.text.len() as u32;
        write(&mut self.text);
        self.columns[self.current].push(Cell::Text(start, self.text.len() as u32));
    }

    /// Changes the text just added.
    pub(crate) fn amend_text(&mut self, amend: impl FnOnce(&mut String, usize)) {
        if let Some(Cell::Text(start, end)) = self.columns[self.current].last_mut() {
            amend(&mut self.text, *start as usize);
            *end = self.text.len() as u32;
        }
    }

    /// Makes dates, timestamps and uuids texts, for engines that keep them so.
    pub fn write_texts(&mut self) {
        for column in &mut self.columns {
            for cell in column {
                let start = self.text.len() as u32;
                match cell {
                    Cell::Date(days) => self.text.push_str(TimeText::date(*days).as_str()),
                    Cell::Timestamp(micros) => self.text.push_str(TimeText::timestamp(*micros).as_str()),
                    Cell::Uuid(bytes) => push_uuid(&mut self.text, *bytes),
                    _ => continue,
                }
                *cell = Cell::Text(start, self.text.len() as u32);
            }
        }
    }

    /// A digest of the rows, the first of which has the number `first`. Digests of several batches are added.
    pub fn digest(&self, first: u64) -> u64 {
        let mut hashes: Vec<u64> = (0..self.rows as u64).map(|row| mix(first + row + 1)).collect();
        for column in &self.columns {
            for (hash, cell) in hashes.iter_mut().zip(column) {
                *hash = mix(*hash ^ digest_of(self.value_of(*cell)));
            }
        }
        hashes.into_iter().fold(0, u64::wrapping_add)
    }
}

/// A number that equal values have in common.
pub(crate) fn digest_of(value: ValueRef<'_>) -> u64 {
    let bytes = |bytes: &[u8]| {
        let chunks = bytes.chunks(8).map(|chunk| {
            let mut word = [0; 8];
            word[..chunk.len()].copy_from_slice(chunk);
            u64::from_le_bytes(word)
        });
        chunks.fold(bytes.len() as u64 ^ 0x5bd1_e995, |hash, word| mix(hash ^ word).rotate_left(11))
    };
    match value {
        ValueRef::Null | ValueRef::List(_) => 1,
        ValueRef::Integer(number) => mix(number as u64),
        ValueRef::Decimal(units, scale) => mix(units.get() as u64 ^ mix((units.get() >> 64) as u64 ^ u64::from(scale))),
        ValueRef::Real(number) => mix(number.to_bits() ^ 3),
        ValueRef::Boolean(truth) => 4 + u64::from(truth),
        ValueRef::Date(days) => mix(days as u64 ^ 5),
        ValueRef::Timestamp(micros) => mix(micros as u64 ^ 7),
        ValueRef::Uuid(uuid) => bytes(&uuid),
        ValueRef::Text(text) => bytes(text.as_bytes()),
        ValueRef::Blob(blob) => bytes(blob),
    }
}
