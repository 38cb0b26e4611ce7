//! A small world, and a dialect that differs from the usual wherever it can.

use kampf_contest::{Choices, Dialect, Fidelity, Field, Json, KeyList, Need, NeedText, Plan, Restriction, RowList, derive, resolve};
use kampf_schema::expr::Part;
use kampf_schema::{Relations, Schema, ddl};

pub(crate) const DDL: &str = "
CREATE TABLE region (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE apiary (id INTEGER PRIMARY KEY, region_id INTEGER NOT NULL REFERENCES region, name TEXT NOT NULL, altitude INTEGER);
CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, mother_id INTEGER REFERENCES hive (id),
  label TEXT NOT NULL, price DECIMAL(9, 2), alive BOOLEAN NOT NULL, opened_on DATE);
CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER NOT NULL, note TEXT);
CREATE TABLE visit (apiary_id INTEGER NOT NULL REFERENCES apiary, day DATE NOT NULL);
";

/// Differs from SQLite's in all it can: placeholders, quotes, nulls last, avg to be cast, tuples.
pub(crate) const OTHER: Dialect = Dialect {
    name: "other",
    begin: "BEGIN",
    commit: "COMMIT",
    rollback: "ROLLBACK",
    begin_writing: "BEGIN",
    last_key: "SELECT last_key()",
    bulk: None,
    has_trips: true,
    max_parameters: 100,
    placeholder: |number| format!("${number}"),
    quote: |name| format!("[{name}]"),
    folds_names: false,
    nulls_first: false,
    avg_is_real: false,
    decimals_are_reals: false,
    most_digits: 28,
    row_list: RowList::Tuples,
    key_list: KeyList::Placeholders,
    typed: None,
    has_booleans: true,
    has_dates: true,
    like: "{0} LIKE {1}",
    like_pattern: str::to_owned,
    contains: "position({1} in {0}) > 0",
    starts: "left({0}, length({1})) = {1}",
    ends: "right({0}, length({1})) = {1}",
    matches: None,
    schema_like: (Some("{0} LIKE {1}"), None),
    lower: "lower({0})",
    upper: "upper({0})",
    length: "length({0})",
    trim: "trim({0})",
    substring: "part({0}, {1}, {2})",
    divide: "real({0}) / nullif({1}, 0)",
    remainder: "mod({0}, {1})",
    extract: |_| None,
    start_of: |part| if part == Part::Month { Some("month_of({0})") } else { None },
    days_between: "({1} - {0})",
    to_real: "real({0})",
    to_timestamp: "midnight({0})",
    has_floor: true,
    has_lateral: true,
    hash_index: None,
    index_includes: false,
    index_places_nulls: true,
    uuid_key: kampf_schema::LogicalType::Uuid,
    json: Some(&JSON),
    column_type: |kind| (kind.to_string(), Fidelity::Exact),
};

static JSON: Json = Json { rows: "rows_json({0})", row: "row_json({0})", inner: "as_json({0})", text: "text({0})", value: |_| None };

pub(crate) fn schema() -> Schema {
    ddl::read(DDL).expect("the schema is right").schema
}

/// A need's text from its parts; empty ones are left out.
pub(crate) fn text(from: &str, give: &[&str], filter: &str, order: &[&str], limit: Option<u64>) -> NeedText {
    let owned = |texts: &[&str]| texts.iter().map(|&text| text.to_owned()).collect();
    NeedText {
        from: from.to_owned(),
        give: owned(give),
        filter: (!filter.is_empty()).then(|| filter.to_owned()),
        order: owned(order),
        limit,
        ..NeedText::default()
    }
}

pub(crate) fn need(schema: &Schema, text: &NeedText) -> Need {
    resolve(schema, &Relations::of(schema), text).unwrap_or_else(|error| panic!("the need is right, but: {error}"))
}

pub(crate) fn field(schema: &Schema, need: &Need) -> Field {
    Field::of(schema, need, &OTHER, &Restriction::default())
}

pub(crate) fn names(choices: &[Choices]) -> Vec<String> {
    choices.iter().map(ToString::to_string).collect()
}

/// The plan of the contender of a name.
pub(crate) fn plan(schema: &Schema, need: &Need, name: &str) -> Plan {
    let field = field(schema, need);
    let found = field.valid.iter().find(|choices| choices.to_string() == name);
    derive(schema, need, &OTHER, found.unwrap_or_else(|| panic!("{name} is not among {:?}", names(&field.valid))))
}
