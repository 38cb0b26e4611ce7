//! How PostgreSQL's SQL is written.

use kampf_contest::{Dialect, Fidelity, Json, KeyList, RowList};
use kampf_schema::LogicalType;
use kampf_schema::expr::Part;

pub(super) static POSTGRES: Dialect = Dialect {
    name: "postgres",
    begin: "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY",
    commit: "COMMIT",
    rollback: "ROLLBACK",
    begin_writing: "BEGIN",
    last_key: "SELECT lastval()",
    bulk: Some(|table, columns| format!("COPY {table} ({columns}) FROM STDIN (FORMAT binary)")),
    has_trips: true,
    max_parameters: 65_535,
    placeholder: |number| format!("${number}"),
    quote,
    folds_names: true,
    nulls_first: false,
    avg_is_real: false,
    decimals_are_reals: false,
    // The driver's exact decimals hold this many.
    most_digits: 28,
    row_list: RowList::Tuples,
    // One statement for any number of keys, so that it is prepared once.
    key_list: KeyList::Array,
    typed: Some(typed),
    column_type,
    has_booleans: true,
    has_dates: true,
    like: "{0} LIKE {1}",
    like_pattern: |pattern| pattern.replace('\\', "\\\\"),
    contains: "position({1} in {0}) > 0",
    starts: "starts_with({0}, {1})",
    ends: "right({0}, length({1})) = {1}",
    matches: Some(("{0} ~ {1}", "{0} ~* {1}")),
    schema_like: (Some("{0} LIKE {1}"), Some("{0} ILIKE {1}")),
    // By that collation A to Z alone have another case.
    lower: "lower({0} COLLATE \"C\")",
    upper: "upper({0} COLLATE \"C\")",
    length: "char_length({0})::bigint",
    trim: "btrim({0})",
    substring: "CASE WHEN {2} >= 0 AND {1} IS NOT NULL THEN substr({0}, least(greatest({1}, 1), 2147483647)::integer, \
                least(greatest({2}::numeric + least({1}, 1) - 1, 0), 2147483647)::integer) END",
    divide: "({0}::double precision / nullif({1}::double precision, 0))",
    remainder: "({0} % nullif({1}, 0))",
    extract,
    start_of,
    days_between: "({1}::date - {0}::date)::bigint",
    to_real: "{0}::double precision",
    to_timestamp: "{0}::timestamp",
    has_floor: true,
    has_lateral: true,
    hash_index: Some("USING hash"),
    index_includes: true,
    index_places_nulls: true,
    uuid_key: LogicalType::Uuid,
    json: Some(&JSON),
};

static JSON: Json = Json {
    rows: "coalesce(json_agg({0}), '[]'::json)",
    row: "json_build_array({0})",
    inner: "{0}",
    text: "{0}::text",
    value: |kind| match kind {
        LogicalType::Decimal { .. } | LogicalType::Date | LogicalType::Timestamp | LogicalType::Uuid => Some("({0})::text".to_owned()),
        LogicalType::Blob => Some("encode({0}, 'hex')".to_owned()),
        _ => None,
    },
};

fn extract(part: Part) -> Option<&'static str> {
    match part {
        Part::Year => Some("extract(year FROM {0})::bigint"),
        Part::Month => Some("extract(month FROM {0})::bigint"),
        Part::Day => Some("extract(day FROM {0})::bigint"),
        Part::Hour => Some("extract(hour FROM {0})::bigint"),
        Part::Minute => Some("extract(minute FROM {0})::bigint"),
        Part::Week => None,
    }
}

fn start_of(part: Part) -> Option<&'static str> {
    match part {
        Part::Year => Some("date_trunc('year', {0})::date"),
        Part::Month => Some("date_trunc('month', {0})::date"),
        Part::Week => Some("date_trunc('week', {0})::date"),
        Part::Day => Some("{0}::date"),
        Part::Hour | Part::Minute => None,
    }
}

/// A bound value alone has no type; texts get that by which they are compared too.
fn typed(kind: LogicalType) -> &'static str {
    match kind {
        LogicalType::Integer => "{0}::bigint",
        LogicalType::Decimal { .. } => "{0}::numeric",
        LogicalType::Real => "{0}::double precision",
        LogicalType::Text { .. } => "({0}::text COLLATE \"C\")",
        LogicalType::Boolean => "{0}::boolean",
        LogicalType::Date => "{0}::date",
        LogicalType::Timestamp => "{0}::timestamp",
        LogicalType::Uuid => "{0}::uuid",
        LogicalType::Blob => "{0}::bytea",
    }
}

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
