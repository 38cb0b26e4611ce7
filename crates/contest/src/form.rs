//! What an answer looks like: values, and lists of rows of such.

use kampf_schema::LogicalType;
use serde::{Deserialize, Serialize};

/// The form of one thing that is given.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// A value of a type.
    Value(LogicalType),
    /// Rows.
    List(ListForm),
}

/// The form of a list.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ListForm {
    /// Whether their order counts.
    pub sequence: Sequence,
    /// What each row consists of.
    pub items: Vec<Item>,
}

/// One part of a row in a list.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// Its form.
    pub form: Form,
}

/// Whether the order of a list's rows counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Sequence {
    /// In order.
    Ordered,
    /// Any order is right.
    Any,
    /// They are sorted by reals whose last digits depend on who computes them: rows whose keys agree within tolerance change places,
    /// so that rows are only looked for.
    Nearly,
}

impl Form {
    /// The type of a value; none for a list.
    pub fn kind(&self) -> Option<LogicalType> {
        if let Form::Value(kind) = self { Some(*kind) } else { None }
    }

    /// The form of a list; none for a value.
    pub fn list(&self) -> Option<&ListForm> {
        if let Form::List(list) = self { Some(list) } else { None }
    }
}
