//! Reading a schema out of its DDL.
//!
//! The text is cut into statements first ([`split`]); CREATE TABLE and CREATE INDEX go to the SQL parser one by one, so that
//! a statement it does not know costs only itself; everything else is passed over and listed.

mod column;
mod read;
mod split;
mod table;

pub use read::{Ddl, DdlError, PassedOver, read};
pub use split::{Statement, split};

#[cfg(test)]
mod tests;
