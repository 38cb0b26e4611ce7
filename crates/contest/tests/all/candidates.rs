//! Which indexes could serve a need.

use kampf_contest::{Dialect, NeedText, bare_references, candidates, resolve};
use kampf_schema::{Relations, Schema, ddl};

const DDL: &str = "
    CREATE TABLE apiary (id INTEGER PRIMARY KEY, name TEXT NOT NULL, region TEXT);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, label TEXT NOT NULL, queen_year INTEGER, note TEXT);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, inspected_at TIMESTAMP NOT NULL, temper INTEGER);
    CREATE INDEX hive_apiary ON hive (apiary_id);
";

static INCLUDES: Dialect = Dialect { index_includes: true, ..crate::common::OTHER };

/// What could serve a need, as kampf.toml says it, with what is held besides behind a plus.
fn found(schema: &Schema, dialect: &Dialect, text: &NeedText) -> Vec<String> {
    let need = resolve(schema, &Relations::of(schema), text).unwrap();
    let said = |one: kampf_contest::IndexCandidate| {
        let table = schema.table(one.table);
        let held: Vec<&str> = one.index.include.iter().map(|&column| table.columns[column].name.as_str()).collect();
        format!("{}{}", one.index.on(table), if held.is_empty() { String::new() } else { format!(" + {}", held.join(" ")) })
    };
    candidates(schema, &need, dialect).into_iter().map(said).collect()
}

fn of(from: &str, give: &[&str], filter: Option<&str>, order: &[&str], parameters: &[&str]) -> NeedText {
    let texts = |list: &[&str]| list.iter().map(|text| (*text).to_owned()).collect();
    NeedText {
        from: from.to_owned(),
        give: texts(give),
        filter: filter.map(str::to_owned),
        order: texts(order),
        limit: (!order.is_empty()).then_some(20),
        parameters: texts(parameters),
        ..NeedText::default()
    }
}

#[test]
fn equality_comes_first_then_order_or_a_range() {
    let schema = ddl::read(DDL).unwrap().schema;
    let found = |text: &NeedText| found(&schema, &INCLUDES, text);
    assert_eq!(
        found(&of("inspection", &["temper"], Some("hive_id = :h"), &["inspected_at desc"], &["h"])),
        ["inspection(hive_id)", "inspection(hive_id, inspected_at desc)", "inspection(hive_id, inspected_at desc) + temper id"]
    );
    assert_eq!(
        found(&of("inspection", &["id"], Some("hive_id = :h and inspected_at >= :since"), &[], &["h", "since"])),
        [
            "inspection(hive_id)",
            "inspection(hive_id) + id inspected_at",
            "inspection(hive_id, inspected_at)",
            "inspection(hive_id, inspected_at) + id"
        ]
    );
    // Nulls stand where they do in the answer; what is reckoned is sought as it is reckoned.
    assert_eq!(found(&of("hive", &["id"], None, &["queen_year", "id"], &[]))[0], "hive(queen_year nulls first, id)");
    assert_eq!(found(&of("hive", &["note"], Some("lower(label) = :l"), &[], &["l"]))[0], "hive(lower(label))");
    // The key is there already, and what only the application can tell is no reason for an index.
    assert_eq!(found(&of("hive", &["label"], Some("id = :h"), &[], &["h"])), [""; 0]);
    assert_eq!(found(&of("hive", &["label"], None, &["id"], &[])), [""; 0]);
    assert_eq!(found(&of("hive", &["label"], Some("label contains :l or queen_year = 3"), &[], &["l"])), [""; 0]);
}

#[test]
fn related_rows_are_found_along_their_references() {
    let schema = ddl::read(DDL).unwrap().schema;
    let found = |text: &NeedText| found(&schema, &crate::common::OTHER, text);
    assert_eq!(found(&of("hive", &["label", "count(inspection) as visits"], None, &[], &[])), ["inspection(hive_id)"]);
    // Where an index holds no further columns they come behind the others.
    assert_eq!(
        found(&of("hive", &["label", "last(inspection order inspected_at).temper as temper"], None, &[], &[])),
        ["inspection(hive_id)", "inspection(hive_id, inspected_at desc)", "inspection(hive_id, inspected_at desc, temper)"]
    );
    assert_eq!(
        found(&of("inspection", &["temper"], Some("hive.label = :l"), &[], &["l"])),
        ["inspection(hive_id)", "inspection(hive_id, temper)"]
    );
    // What the schema has is not proposed again.
    assert_eq!(found(&of("apiary", &["name", "count(hive) as hives"], None, &[], &[])), [""; 0]);
}

#[test]
fn references_without_an_index_are_told() {
    let schema = ddl::read(DDL).unwrap().schema;
    let bare: Vec<String> = bare_references(&schema)
        .into_iter()
        .map(|(table, columns)| format!("{}.{}", schema.table(table).name, schema.table(table).columns[columns[0]].name))
        .collect();
    assert_eq!(bare, ["inspection.hive_id"]);
}
