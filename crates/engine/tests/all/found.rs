//! Needs whose answers were wrong on an engine once: all their contenders answer like the plain evaluation on each.

use crate::common::check_need;
use crate::common::files::{Loaded, sqlite};
use crate::common::servers::{Database, installed, postgres};
use kampf_contest::{NeedText, resolve};
use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::read_row_count;
use kampf_schema::{Relations, Schema, ddl};

const SQL: &str = "
    CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, \"true\" INTEGER NOT NULL, strain_id INTEGER NOT NULL REFERENCES strain, label VARCHAR(20) NOT NULL, frames INTEGER NOT NULL,
      price DECIMAL(9, 2) NOT NULL, weight REAL NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER NOT NULL CHECK (temper BETWEEN 1 AND 9),
      cost DECIMAL(9, 2) NOT NULL CHECK (cost > 0), note VARCHAR(20));
    CREATE INDEX inspection_hive ON inspection (hive_id);";

fn data() -> (Schema, Blueprint) {
    let schema = ddl::read(SQL).unwrap().schema;
    let rows = [("strain", "6"), ("hive", "40"), ("inspection", "4 per hive")];
    let rows = rows.map(|(table, rows)| (schema.find(table).unwrap(), read_row_count(rows).unwrap()));
    let blueprint = Blueprint::new(&schema, &Order { rows: rows.into(), seed: 5, ..Order::default() }).unwrap();
    (schema, blueprint)
}

/// From which table, what is given, and which rows.
const NEEDS: [(&str, &[&str], Option<&str>); 12] = [
    // Aggregates in a list are no picks of the same row.
    ("strain", &["name", "hive { label, min(inspection.temper) as worst, max(inspection.temper) as best } as hives"], None),
    ("strain", &["name", "hive { label, count(distinct inspection.temper) as kinds, count(inspection) as visits } as hives"], None),
    (
        "strain",
        &["name", "hive { sum(inspection.temper), last(inspection order id).temper, last(inspection order id).cost } as hives"],
        None,
    ),
    // What is divided by is divided by as a whole.
    ("hive", &["frames / sum(inspection.cost) as share", "price / sum(inspection.cost) as part"], None),
    ("hive", &["frames / (price * 2) as a", "frames / round(price, 1) as b", "price / (price - 0.5) as c"], None),
    // A null ends in nothing, not even in nothing.
    ("inspection", &["id"], Some("note ends ''")),
    ("inspection", &["id"], Some("not (note ends '') or note starts '' or note contains ''")),
    // Constants have no name in the table, and SQLite loses some names of columns in a select of its own.
    ("hive", &["\"true\"", "label", "inspection { temper, note } as all"], None),
    ("hive", &["label", "false", "inspection { temper, note } as all"], None),
    ("hive", &["label", "inspection order temper, id limit 2 { temper, false, 1, 'x' } as some"], None),
    ("strain", &["name", "hive order frames, id limit 2 { label, true, count(inspection) } as some"], None),
    ("strain", &["name", "hive order frames, id limit 2 { \"true\", label } as some"], None),
];

fn needs(schema: &Schema) -> impl Iterator<Item = (NeedText, kampf_contest::Need)> + '_ {
    let written = NEEDS.into_iter().map(|(from, give, filter)| {
        let give = give.iter().map(|give| (*give).to_owned()).collect();
        NeedText {
            from: from.into(),
            give,
            filter: filter.map(str::to_owned),
            limit: (from == "hive").then_some(30),
            ..NeedText::default()
        }
    });
    // What is sorted by twice is a column of a chunk once.
    let by_one_twice = NeedText {
        from: "hive".into(),
        give: ["label", "inspection { temper, note } as all"].map(str::to_owned).into(),
        order: ["frames", "frames"].map(str::to_owned).into(),
        chunk: vec![7],
        ..NeedText::default()
    };
    written.chain([by_one_twice]).map(|text| {
        let need = resolve(schema, &Relations::of(schema), &text).unwrap_or_else(|error| panic!("{error}: {text:?}"));
        (text, need)
    })
}

#[test]
fn needs_that_were_answered_wrongly_are_answered_on_sqlite() {
    let (schema, blueprint) = data();
    let loaded = Loaded::new(&schema, &blueprint);
    for (text, need) in needs(&schema) {
        assert!(check_need(sqlite(), loaded.connect().as_ref(), &schema, &need, &blueprint, &format!("{text:?}")) > 3, "{text:?}");
    }
}

#[test]
fn needs_that_were_answered_wrongly_are_answered_on_postgresql() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = data();
    Database::new().beside(&schema, &blueprint, SQL, |connection| {
        for (text, need) in needs(&schema) {
            assert!(check_need(postgres(), connection, &schema, &need, &blueprint, &format!("{text:?}")) > 3, "{text:?}");
        }
    });
}
