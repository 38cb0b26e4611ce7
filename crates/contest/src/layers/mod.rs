//! The layers: what a data-access library does between the statement and the developer's code, in small honest forms.
//!
//! Composition, proved by allocation counts: *raw* uses values in place and keeps nothing; *record* is one object a row with
//! its texts, by position; *map* is name to value per row; *plain* is one entity a row with its texts and relation slots;
//! *managed* is plain, its entry in the identity map, a snapshot of every column, the comparison of all of them when the unit
//! ends, and release.

mod aggregate;
mod cache;
mod consumer;
mod entity;
mod execution;
mod graph;
mod group;
mod map;
mod nested;
mod portions;
mod record;
mod repeats;
pub(crate) mod sending;
mod store;
mod whole;

#[cfg(test)]
pub(crate) use aggregate::Accumulator;
pub use consumer::{Collect, Consumer, Touch};
pub use execution::Execution;
