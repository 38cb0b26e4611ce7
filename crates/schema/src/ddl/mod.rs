//! Reading a schema out of its DDL, as it is in the wild.
//!
//! The text is cut into statements ([`split`]) and the statements are replayed in their order, so that what later ones add,
//! change, rename or drop is as it would be in a database. What makes or changes a table is read; everything else is passed
//! over and listed. Only when all statements are through are names looked up and conditions read.

mod alter;
mod copy;
mod create;
mod dialect;
mod draft;
mod expression;
mod finish;
mod index;
mod insert;
mod literal;
mod read;
mod split;
mod tokens;
mod types;

pub use dialect::SqlDialect;
pub use index::{read_index, read_index_condition};
pub use read::{Ddl, DdlError, PassedOver, is_type, read, read_with};
pub use split::{Statement, split};

#[cfg(test)]
mod tests;
