//! Statements and conditions as SQL of an engine.

mod fragment;
mod own;
mod print;
mod select;

pub(crate) use fragment::Sql;
pub use fragment::{Bind, Printed};
pub use own::{OwnSqlError, own_sql};
pub(crate) use print::{Leaves, Unsaid, print};
pub use print::{literal, rule_sql};
pub use select::{Shape, print_select};
