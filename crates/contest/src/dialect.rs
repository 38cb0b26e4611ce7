//! How an engine's SQL is written: data, so that nothing that makes SQL asks for an engine's name.
//!
//! In templates `{0}`, `{1}` and `{2}` stand for what a form is made of.

use kampf_schema::LogicalType;
use kampf_schema::expr::Part;

/// How several columns are compared with a list of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowList {
    /// `(a, b) in (values (1, 2), (3, 4))`
    Values,
    /// `(a, b) in ((1, 2), (3, 4))`
    Tuples,
}

/// How one column is compared with a list of values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyList {
    /// `a in (1, 2, 3)`, a parameter for each value.
    Placeholders,
    /// `a = any(values)`, one parameter for all values; the session takes [`kampf_schema::ValueRef::List`].
    Array,
}

/// How rows become a JSON text.
#[derive(Clone, Copy, Debug)]
pub struct Json {
    /// The rows `{0}` of a select, with their order behind them, as an array; an empty one where there are none.
    pub rows: &'static str,
    /// The values `{0}` of a row as an array.
    pub row: &'static str,
    /// An array `{0}` as an item of another.
    pub inner: &'static str,
    /// The array of a select `{0}` as a text.
    pub text: &'static str,
    /// A value `{0}` of a type so that it is read back as it was, where that is not how it stands in JSON anyway: decimals, dates,
    /// times, UUIDs and bytes as the texts of the protocol.
    pub value: fn(LogicalType) -> Option<String>,
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
    /// Begins a transaction that reads, and that sees one state of the data throughout.
    pub begin: &'static str,
    /// Ends a transaction and keeps its changes.
    pub commit: &'static str,
    /// Ends a transaction and takes back its changes.
    pub rollback: &'static str,
    /// Begins a transaction that writes.
    pub begin_writing: &'static str,
    /// Asks for the key that the session's last insert has made.
    pub last_key: &'static str,
    /// The engine's own way for many rows of a table `{0}` by columns, as people know it; none where there is none that differs from a prepared
    /// statement for each row.
    pub bulk: Option<fn(&str, &str) -> String>,
    /// Whether several statements can go in one trip.
    pub has_trips: bool,
    /// Most parameters of one statement.
    pub max_parameters: usize,
    /// The placeholder of the n-th parameter, from 1. The same one may stand in several places.
    pub placeholder: fn(usize) -> String,
    /// A name in quotes.
    pub quote: fn(&str) -> String,
    /// Whether names that are not in quotes mean those in small letters.
    pub folds_names: bool,
    /// Whether nulls sort first without being asked to, ascending.
    pub nulls_first: bool,
    /// Whether `avg` of whole numbers and decimals is a real by itself.
    pub avg_is_real: bool,
    /// Whether decimals are kept as reals, so that reckoning with them goes over scaled whole numbers.
    pub decimals_are_reals: bool,
    /// Digits of a decimal that come back as they were.
    pub most_digits: u8,
    /// How several columns are compared with a list of rows.
    pub row_list: RowList,
    /// How one column is compared with a list of values.
    pub key_list: KeyList,
    /// A bound value that must say its type, which `{1}` stands for where there are types to say; as it is where none need to.
    pub typed: Option<fn(LogicalType) -> &'static str>,
    /// The column type for a logical type, and how truly it keeps the values.
    pub column_type: fn(LogicalType) -> (String, Fidelity),
    /// Whether there are true and false to write; else they are 1 and 0.
    pub has_booleans: bool,
    /// Whether dates and times are written with their type; else they are texts.
    pub has_dates: bool,
    /// `{0}` like `{1}`, upper and lower case told apart.
    pub like: &'static str,
    /// The pattern of `like` as the engine wants it, from one with `%` and `_`.
    pub like_pattern: fn(&str) -> String,
    /// `{0}` contains `{1}`.
    pub contains: &'static str,
    /// `{0}` starts with `{1}`.
    pub starts: &'static str,
    /// `{0}` ends with `{1}`.
    pub ends: &'static str,
    /// `{0}` fits the regular expression `{1}`: case told apart, and not.
    pub matches: Option<(&'static str, &'static str)>,
    /// `{0}` fits the pattern `{1}` with `%` and `_` as a schema writes it: case told apart, and not.
    pub schema_like: (Option<&'static str>, Option<&'static str>),
    /// A to Z of `{0}` as small letters.
    pub lower: &'static str,
    /// a to z of `{0}` as capital letters.
    pub upper: &'static str,
    /// Code points of `{0}`.
    pub length: &'static str,
    /// `{0}` without spaces around it.
    pub trim: &'static str,
    /// `{2}` code points of `{0}` from `{1}`, as the language means it.
    pub substring: &'static str,
    /// `{0}` divided by `{1}`, both reals; null where that is zero.
    pub divide: &'static str,
    /// What is left of `{0}` when divided by `{1}`; null where that is zero.
    pub remainder: &'static str,
    /// A part of the date or time `{0}`, as a whole number.
    pub extract: fn(Part) -> Option<&'static str>,
    /// The first day of the part that the date or time `{0}` lies in.
    pub start_of: fn(Part) -> Option<&'static str>,
    /// Days from the date of `{0}` to that of `{1}`.
    pub days_between: &'static str,
    /// The number `{0}` as a real.
    pub to_real: &'static str,
    /// The date `{0}` as a time.
    pub to_timestamp: &'static str,
    /// Whether there are `floor` and `ceil`.
    pub has_floor: bool,
    /// Whether a joined select can see the row that it is joined to.
    pub has_lateral: bool,
    /// What makes an index one by hash, where there are such.
    pub hash_index: Option<&'static str>,
    /// Whether an index can hold columns that it is not sorted by.
    pub index_includes: bool,
    /// Whether an index says where nulls come; else they come where they do in order.
    pub index_places_nulls: bool,
    /// The type in which the 16 bytes of a UUID that is a key are kept: [`LogicalType::Uuid`] where there is such a type, else bytes.
    pub uuid_key: LogicalType,
    /// How rows become a JSON text; none where they do not.
    pub json: Option<&'static Json>,
}
