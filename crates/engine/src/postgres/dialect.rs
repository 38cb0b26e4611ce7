//! How PostgreSQL's SQL is written.

use kampf_contest::{Dialect, Fidelity, KeyList, RowList};
use kampf_schema::{LogicalType, Spelling};

pub(super) static POSTGRES: Dialect = Dialect {
    name: "postgres",
    max_parameters: 65_535,
    placeholder: |number| format!("${number}"),
    quote,
    folds_names: true,
    nulls_first: false,
    avg_is_real: false,
    row_list: RowList::Tuples,
    // One statement for any number of keys, so that it is prepared once.
    key_list: KeyList::Array,
    like: "{text} LIKE {value}",
    like_pattern: |pattern| pattern.replace('\\', "\\\\"),
    contains: "position({value} in {text}) > 0",
    starts: "starts_with({text}, {value})",
    ends: "right({text}, length({value})) = {value}",
    spelling: Spelling {
        quote,
        has_booleans: true,
        has_dates: true,
        matches: Some(("~", "~*")),
        like: (Some("LIKE"), Some("ILIKE")),
        has_floor: true,
    },
    column_type,
};

fn quote(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Text is compared by code point whatever the database's own collation.
fn column_type(kind: LogicalType) -> (String, Fidelity) {
    let name = match kind {
        LogicalType::Integer => "bigint".to_owned(),
        // The driver's exact decimals hold this many digits.
        LogicalType::Decimal { precision: 29.., .. } => return ("numeric".to_owned(), Fidelity::None),
        LogicalType::Decimal { precision, scale } => format!("numeric({precision}, {scale})"),
        LogicalType::Real => "double precision".to_owned(),
        LogicalType::Text { length: Some(length) } => format!("varchar({length}) COLLATE \"C\""),
        LogicalType::Text { length: None } => "text COLLATE \"C\"".to_owned(),
        LogicalType::Boolean => "boolean".to_owned(),
        LogicalType::Date => "date".to_owned(),
        LogicalType::Timestamp => "timestamp".to_owned(),
        LogicalType::Uuid => "uuid".to_owned(),
        LogicalType::Blob => "bytea".to_owned(),
    };
    (name, Fidelity::Exact)
}
