//! How SQLite's SQL is written.

use kampf_contest::{Dialect, Fidelity, KeyList, RowList};
use kampf_schema::{LogicalType, Spelling};

pub(super) static SQLITE: Dialect = Dialect {
    name: "sqlite",
    max_parameters: 32_766,
    placeholder: |number| format!("?{number}"),
    quote,
    folds_names: false,
    nulls_first: true,
    avg_is_real: true,
    row_list: RowList::Values,
    key_list: KeyList::Placeholders,
    // LIKE takes no notice of case here; GLOB does.
    like: "{text} GLOB {value}",
    like_pattern: glob,
    contains: "instr({text}, {value}) > 0",
    starts: "substr({text}, 1, length({value})) = {value}",
    ends: "(length({value}) = 0 OR substr({text}, -length({value})) = {value})",
    spelling: Spelling { quote, has_booleans: false, has_dates: false, matches: None, like: (None, Some("LIKE")), has_floor: false },
    column_type,
};

fn quote(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

fn glob(pattern: &str) -> String {
    let mut glob = String::with_capacity(pattern.len());
    for c in pattern.chars() {
        match c {
            '%' => glob.push('*'),
            '_' => glob.push('?'),
            '*' | '?' | '[' => glob.extend(['[', c, ']']),
            other => glob.push(other),
        }
    }
    glob
}

fn column_type(kind: LogicalType) -> (String, Fidelity) {
    let (name, fidelity) = match kind {
        LogicalType::Integer => ("INTEGER", Fidelity::Exact),
        // Kept as the nearest real, which gives back up to 15 digits when rounded to the scale; no more are generated.
        LogicalType::Decimal { .. } => ("NUMERIC", Fidelity::Wider),
        LogicalType::Real => ("REAL", Fidelity::Exact),
        LogicalType::Text { .. } => ("TEXT", Fidelity::Exact),
        LogicalType::Boolean => ("BOOLEAN", Fidelity::Wider),
        LogicalType::Date | LogicalType::Timestamp | LogicalType::Uuid => ("TEXT", Fidelity::Wider),
        LogicalType::Blob => ("BLOB", Fidelity::Exact),
    };
    (name.to_owned(), fidelity)
}
