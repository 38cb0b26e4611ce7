//! How SQLite's SQL is written.

use kampf_contest::{Dialect, Fidelity, Json, KeyList, RowList};
use kampf_schema::LogicalType;
use kampf_schema::expr::Part;

pub(super) static SQLITE: Dialect = Dialect {
    name: "sqlite",
    begin: "BEGIN",
    commit: "COMMIT",
    rollback: "ROLLBACK",
    begin_writing: "BEGIN",
    last_key: "SELECT last_insert_rowid()",
    bulk: None,
    has_trips: false,
    max_parameters: 32_766,
    placeholder: |number| format!("?{number}"),
    quote,
    folds_names: false,
    nulls_first: true,
    avg_is_real: true,
    decimals_are_reals: true,
    most_digits: 15,
    row_list: RowList::Values,
    key_list: KeyList::Placeholders,
    typed: None,
    column_type,
    has_booleans: false,
    has_dates: false,
    // LIKE takes no notice of case here; GLOB does.
    like: "{0} GLOB {1}",
    like_pattern: glob,
    contains: "instr({0}, {1}) > 0",
    starts: "substr({0}, 1, length({1})) = {1}",
    ends: "substr({0}, -length({1}), length({1})) = {1}",
    matches: None,
    schema_like: (None, Some("{0} LIKE {1}")),
    // Both know A to Z alone.
    lower: "lower({0})",
    upper: "upper({0})",
    length: "length({0})",
    trim: "trim({0})",
    substring: "CASE WHEN {2} >= 0 THEN substr({0}, max({1}, 1), max({2} + min({1}, 1) - 1, 0)) END",
    divide: "(CAST({0} AS REAL) / {1})",
    remainder: "({0} % {1})",
    extract,
    start_of,
    days_between: "CAST(julianday(substr({1}, 1, 10)) - julianday(substr({0}, 1, 10)) AS INTEGER)",
    to_real: "CAST({0} AS REAL)",
    to_timestamp: "({0} || ' 00:00:00.000000')",
    has_floor: false,
    has_lateral: false,
    hash_index: None,
    index_includes: false,
    index_places_nulls: false,
    uuid_key: LogicalType::Blob,
    json: Some(&JSON),
};

static JSON: Json = Json {
    rows: "json_group_array({0})",
    row: "json_array({0})",
    inner: "json({0})",
    text: "{0}",
    value: |kind| match kind {
        // As the text of a real, which has all of 15 digits and, for so few behind the point, no exponent.
        LogicalType::Decimal { scale: 0..=4, .. } => Some("({0} || '')".to_owned()),
        LogicalType::Decimal { scale, .. } => Some(format!("CASE WHEN {{0}} IS NOT NULL THEN printf('%.{scale}f', {{0}}) END")),
        LogicalType::Blob => Some("CASE WHEN {0} IS NOT NULL THEN hex({0}) END".to_owned()),
        _ => None,
    },
};

/// Dates and times are texts that begin with year, month and day.
fn extract(part: Part) -> Option<&'static str> {
    match part {
        Part::Year => Some("CAST(substr({0}, 1, 4) AS INTEGER)"),
        Part::Month => Some("CAST(substr({0}, 6, 2) AS INTEGER)"),
        Part::Day => Some("CAST(substr({0}, 9, 2) AS INTEGER)"),
        Part::Hour => Some("CAST(substr({0}, 12, 2) AS INTEGER)"),
        Part::Minute => Some("CAST(substr({0}, 15, 2) AS INTEGER)"),
        Part::Week => None,
    }
}

fn start_of(part: Part) -> Option<&'static str> {
    match part {
        Part::Year => Some("(substr({0}, 1, 4) || '-01-01')"),
        Part::Month => Some("(substr({0}, 1, 7) || '-01')"),
        // On to the next Sunday, unless it is one, and back to its Monday.
        Part::Week => Some("date(substr({0}, 1, 10), 'weekday 0', '-6 days')"),
        Part::Day => Some("substr({0}, 1, 10)"),
        Part::Hour | Part::Minute => None,
    }
}

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
