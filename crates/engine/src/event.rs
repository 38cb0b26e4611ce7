//! What happens during a load, and what came of it.

use std::time::Duration;

/// What happens during a load.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum LoadEvent<'a> {
    /// Nothing is there that fits: a dataset is made now.
    Begins,
    /// Rows of a table went in: its name, rows so far, rows in all.
    Rows(&'a str, u64, u64),
    /// The dataset is there; a variant of it is made now, of this name.
    Variant(&'a str),
    /// All rows are in; indexes are being made.
    Indexes,
    /// An index was made, of this name, and took so long.
    Indexed(&'a str, Duration),
    /// The engine refuses an index of this name, for a reason in its words, and the load goes on without: it only makes reading faster.
    Refused(&'a str, &'a str),
    /// Statistics are being gathered.
    Statistics,
    /// All is done, and took so long from the first table on: what an engine is started in is not in it.
    Loaded(Duration),
    /// Another Kampf is using the dataset; this one waits for it.
    Waiting,
    /// The data is not what it was when it was loaded; it is loaded anew.
    Changed,
}

/// A table as it was loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Loaded {
    /// Its name.
    pub table: String,
    /// Its rows.
    pub rows: u64,
    /// Digest of its content before the engine stored it.
    pub digest: u64,
}
