//! The schema of a database and the language spoken about it.
//!
//! Here live the schema model and the DDL reader that builds it, the logical values and types every other part uses, the
//! one expression grammar (needs and value recipes) with its positions, and the names a schema gives to its relations.
//! Nothing here may open a file, talk to a database, print, or look at the clock.

mod calendar;
pub mod ddl;
pub mod expr;
mod index;
mod keys;
mod model;
mod names;
mod place;
mod relations;
mod types;
mod undeclared;
mod value;

pub use calendar::{TimeText, civil_from_days, days_from_civil, format_date, format_timestamp, parse_date, parse_timestamp};
pub use expr::{Row, Rule};
pub use index::{Index, IndexTerm};
pub use keys::{KeyColumns, KeyType};
pub use model::{Check, Column, ColumnForm, ColumnId, Default, Reference, Schema, Table, TableId, Unique, UniqueIndex};
pub use names::{did_you_mean, name_words, nearest};
pub use place::{LineColumn, Span};
pub use relations::{Hop, HopKind, NamedRelation, RelationError, Relations};
pub use types::LogicalType;
pub use undeclared::{ReferError, Undeclared, undeclared};
pub use value::{Decimal, Units, Value, ValueRef, push_uuid};
