//! How an engine's SQL is written: data, so that nothing that makes SQL asks for an engine's name.

use kampf_schema::{LogicalType, Spelling};

/// How several columns are compared with a list of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowList {
    /// `(a, b) in (values (1, 2), (3, 4))`
    Values,
    /// `(a, b) in ((1, 2), (3, 4))`
    Tuples,
}

/// How one column is compared with a list of keys.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyList {
    /// `a in (1, 2, 3)`, a parameter for each key.
    Placeholders,
    /// `a = any(keys)`, one parameter for all keys; the session must know [`crate::Session::run_list`].
    Array,
}

/// How truly an engine keeps a type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fidelity {
    /// Every value comes back as it went in.
    Exact,
    /// Values come back as they went in, kept in a type that could hold others too.
    Wider,
    /// The engine cannot keep such values.
    None,
}

/// One engine's SQL.
#[derive(Clone, Copy, Debug)]
pub struct Dialect {
    /// The engine.
    pub name: &'static str,
    /// Most parameters of one statement.
    pub max_parameters: usize,
    /// The placeholder of the n-th parameter, from 1.
    pub placeholder: fn(usize) -> String,
    /// A name in quotes.
    pub quote: fn(&str) -> String,
    /// Whether names that are not in quotes mean those in small letters.
    pub folds_names: bool,
    /// Whether nulls sort first without being asked to, ascending.
    pub nulls_first: bool,
    /// Whether `avg` of whole numbers and decimals is a real by itself.
    pub avg_is_real: bool,
    /// How several columns are compared with a list of rows.
    pub row_list: RowList,
    /// How one column is compared with a list of keys.
    pub key_list: KeyList,
    /// `text like pattern`, upper and lower case told apart, with `{text}` and `{value}` for the two sides.
    pub like: &'static str,
    /// The pattern as the engine wants it, from one with `%` and `_`.
    pub like_pattern: fn(&str) -> String,
    /// `text contains value`, likewise.
    pub contains: &'static str,
    /// `text starts value`, likewise.
    pub starts: &'static str,
    /// `text ends value`, likewise.
    pub ends: &'static str,
    /// How conditions of the schema are written.
    pub spelling: Spelling,
    /// The column type for a logical type, and how truly it keeps the values.
    pub column_type: fn(LogicalType) -> (String, Fidelity),
}
