//! Statements and conditions as SQL of an engine.

mod fragment;
mod own;
mod print;
mod select;

pub use fragment::{Bind, Printed};
pub(crate) use fragment::{Sql, typed};
pub(crate) use own::own_body;
pub use own::{OwnSqlError, own_sql};
pub(crate) use print::{Leaves, Unsaid, print};
pub use print::{literal, rule_sql};
pub use select::{Shape, print_select};
pub(crate) use select::{print_condition, print_keys, print_terms, select_sql};
