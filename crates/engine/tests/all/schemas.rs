//! Schemas of many kinds, filled whole: their rules are looked after by the databases themselves.

use kampf_engine::{Engine, Ground, engine, names};
use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{Schema, TableId, Value, ddl};
use proptest::prelude::*;

/// Every kind of rule there is, in PostgreSQL's words.
const RULES: &str = r#"
CREATE TYPE mood AS ENUM ('calm', 'lively', 'fierce');
CREATE DOMAIN postal AS varchar(5) NOT NULL CHECK (VALUE ~ '^[0-9]{5}$');
CREATE TABLE network (only_one boolean PRIMARY KEY DEFAULT true CHECK (only_one), motto text NOT NULL);
CREATE TABLE region (code char(3) PRIMARY KEY CHECK (code = upper(code)), name text NOT NULL UNIQUE);
CREATE TABLE apiary (
  id serial PRIMARY KEY, region_code char(3) NOT NULL REFERENCES region ON DELETE RESTRICT, nr integer NOT NULL, post postal,
  opened date NOT NULL, closed date CHECK (closed IS NULL OR closed > opened), first_hive integer,
  UNIQUE (region_code, nr), UNIQUE (id, region_code)
);
CREATE TABLE keeper (
  id uuid PRIMARY KEY, region_code char(3) NOT NULL REFERENCES region, email varchar(90) NOT NULL, phone text, fax text,
  born date NOT NULL, UNIQUE (id, region_code), CHECK ((phone IS NULL) = (fax IS NULL))
);
CREATE UNIQUE INDEX keeper_email ON keeper (lower(email));
CREATE TABLE hive (
  id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, apiary_id integer NOT NULL, region_code char(3) NOT NULL, keeper_id uuid,
  mother_id integer REFERENCES hive, mood mood NOT NULL DEFAULT 'calm', frames smallint NOT NULL CHECK (frames BETWEEN 8 AND 24),
  brood smallint NOT NULL CHECK (brood >= 0), label varchar(12) NOT NULL, full_label text GENERATED ALWAYS AS (label || '/' || frames) STORED,
  price numeric(8,2) CHECK (price > 0), tags text[], host inet, doc jsonb, seen timestamptz,
  FOREIGN KEY (apiary_id, region_code) REFERENCES apiary (id, region_code),
  FOREIGN KEY (keeper_id, region_code) REFERENCES keeper (id, region_code) DEFERRABLE INITIALLY DEFERRED,
  CONSTRAINT brood_fits CHECK (brood <= frames), UNIQUE (apiary_id, label)
);
ALTER TABLE apiary ADD CONSTRAINT first FOREIGN KEY (first_hive) REFERENCES hive (id) DEFERRABLE;
CREATE TABLE queen (hive_id integer NOT NULL REFERENCES hive, year integer NOT NULL, current boolean NOT NULL, marked varchar(1) NOT NULL);
CREATE UNIQUE INDEX one_queen ON queen (hive_id) WHERE current;
CREATE TABLE keeper_apiary (
  keeper_id uuid NOT NULL REFERENCES keeper, apiary_id integer NOT NULL REFERENCES apiary, PRIMARY KEY (keeper_id, apiary_id)
);
CREATE TABLE passport (hive_id integer PRIMARY KEY REFERENCES hive, issued date NOT NULL);
CREATE TABLE sensor (kind char(1) NOT NULL CHECK (kind IN ('t', 'h')), slot smallint NOT NULL CHECK (slot BETWEEN 1 AND 4), note text, PRIMARY KEY (kind, slot));
CREATE TABLE note (body text, hive_id integer REFERENCES hive, keeper_id uuid REFERENCES keeper, apiary_id integer REFERENCES apiary,
  CHECK (num_nonnulls(hive_id, keeper_id, apiary_id) = 1));
CREATE TABLE strain (id integer PRIMARY KEY, name text NOT NULL UNIQUE, parent_id integer REFERENCES strain);
INSERT INTO strain (id, name, parent_id) VALUES (1, 'Hill bee', NULL), (2, 'Moor bee', 1), (7, 'Moor bee of the north', 2);
INSERT INTO strain (name, parent_id) VALUES ('Lost', 99);
COPY region (code, name) FROM stdin;
ABC	Upper fen
X\\Y	not in capitals? it is, but with a backslash
\.
"#;

fn plan(ddl: &str, rows: &[(&str, &str)], values: &[(&str, &str)]) -> (Schema, Blueprint) {
    let schema = ddl::read(ddl).unwrap_or_else(|error| panic!("{error}: {}", &ddl[error.span.start..error.span.end])).schema;
    let rows = rows.iter().map(|(table, rows)| (schema.find(table).unwrap(), read_row_count(rows).unwrap()));
    let values = values.iter().map(|(column, recipe)| {
        let (table, column) = column.split_once('.').unwrap();
        let table = schema.find(table).unwrap();
        ((table, schema.table(table).find(column).unwrap()), read_recipe(recipe).unwrap())
    });
    let order = Order { rows: rows.collect(), values: values.collect(), seed: 5, ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).unwrap_or_else(|error| panic!("{error} {:?}", error.hint));
    (schema, blueprint)
}

/// The engines that can be had here; where servers are required, all of them.
fn engines() -> Vec<&'static dyn Engine> {
    names().map(|name| engine(name).unwrap()).filter(|engine| crate::common::is_here(*engine)).collect()
}

/// Loads on an engine; references are checked as the engine does that. On SQLite, that is by its own check afterwards.
fn load(engine: &dyn Engine, schema: &Schema, blueprint: &Blueprint) -> Result<Vec<u64>, String> {
    let folder = tempfile::tempdir().unwrap();
    let database = (engine.name() == "postgres").then(crate::common::servers::Database::new);
    let server = database.as_ref().map(|database| &*database.0);
    let place = Ground { folder: folder.path(), server, name: "test", owner: "test", variant: None };
    let mut schema = schema.clone();
    if engine.dialect().folds_names {
        schema.fold_names();
    }
    let loaded = engine.load(&place, &schema, blueprint, &engine.settings(), &mut |_| {});
    let result = loaded.map_err(|error| format!("{}: {error}\n{:?}", engine.name(), error.sql));
    if engine.name() == "sqlite" && result.is_ok() {
        let file = rusqlite::Connection::open(folder.path().join("dataset.sqlite")).unwrap();
        let broken: i64 = file.query_row("SELECT count(*) FROM pragma_foreign_key_check", [], |row| row.get(0)).unwrap();
        assert_eq!(broken, 0, "references that lead nowhere");
        let whole: String = file.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
        assert_eq!(whole, "ok");
    }
    let _ = engine.remove(&place);
    Ok(result?.into_iter().map(|table| table.digest).collect())
}

#[test]
fn rows_that_hang_together_load_on_every_engine_with_the_same_digests() {
    let schema = ddl::read(include_str!("../../../doubt/tests/worlds/pottery.sql")).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order { seed: 5, scale: 0.1, ..Order::default() }).unwrap();
    let guesses = blueprint.guesses();
    assert_eq!((guesses.tenants.len(), guesses.histories.len(), guesses.answers.len()), (1, 1, 1));
    let digests: Vec<Vec<u64>> =
        engines().into_iter().map(|engine| load(engine, &schema, &blueprint).unwrap_or_else(|error| panic!("{error}"))).collect();
    assert!(digests.windows(2).all(|pair| pair[0] == pair[1]));
}

#[test]
fn rules_of_every_kind_hold_on_every_engine_and_digests_are_the_same() {
    let rows = [("hive", "4_000"), ("keeper", "400"), ("apiary", "300"), ("queen", "heavy(3) per hive"), ("note", "900"), ("strain", "60")];
    let (schema, blueprint) = plan(RULES, &rows, &[]);
    let rows = |name: &str| blueprint.rows(schema.find(name).unwrap());
    assert_eq!((rows("network"), rows("sensor")), (1, 8), "as many as the rules allow");
    assert!(rows("passport") <= 4_000 && rows("keeper_apiary") > 300);
    let digests: Vec<Vec<u64>> =
        engines().into_iter().map(|engine| load(engine, &schema, &blueprint).unwrap_or_else(|error| panic!("{error}"))).collect();
    assert!(digests.windows(2).all(|pair| pair[0] == pair[1]));
    let value = |table: &str, row: u64, column: &str| {
        let id = schema.find(table).unwrap();
        blueprint.value(id, row, schema.table(id).find(column).unwrap())
    };
    // Given rows come first, as they are given; the one that refers to nothing is left out.
    assert_eq!(value("strain", 2, "name"), Value::from("Moor bee of the north"));
    assert_eq!((value("strain", 2, "id"), value("strain", 3, "id")), (Value::Integer(7), Value::Integer(8)));
    assert!(blueprint.notes().iter().any(|note| note.contains("3 of 4 rows")), "{:?}", blueprint.notes());
    assert_eq!(value("region", 0, "name"), Value::from("Upper fen"));
    let computed = format!("{}/{}", value("hive", 9, "label"), value("hive", 9, "frames"));
    assert_eq!(value("hive", 9, "full_label"), Value::from(computed.as_str()));
    let current = |hive: &Value| {
        (0..rows("queen"))
            .filter(|&row| value("queen", row, "hive_id") == *hive && value("queen", row, "current") == Value::Boolean(true))
            .count()
    };
    assert!((0..50).all(|row| current(&value("queen", row, "hive_id")) == 1));
    let daughters = (0..4_000).filter(|&row| value("hive", row, "mother_id") != Value::Null).count();
    assert!((2_500..3_500).contains(&daughters), "{daughters}");
}

#[test]
fn what_users_say_about_parents_and_times_comes_out() {
    let ddl = "CREATE TABLE apiary (id INTEGER PRIMARY KEY, opened DATE NOT NULL);
        CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, since DATE NOT NULL, gone DATE, weight REAL NOT NULL, honey REAL NOT NULL);
        CREATE TABLE visit (id INTEGER PRIMARY KEY, hive_id INTEGER REFERENCES hive, day DATE NOT NULL);";
    let rows = [("apiary", "200"), ("hive", "heavy(10) per 70% of apiary"), ("visit", "3_000")];
    let values = [
        ("hive.since", "after(apiary.opened, '1 day'..'90 days')"),
        ("hive.gone", "after(since, '10 days'..'2 years') or null 60%"),
        ("hive.honey", "linear(weight, 0.5, 3, 1)"),
        ("visit.hive_id", "zipf(1.2) or null 20%"),
        ("visit.day", "office(2024-01-01..2024-12-31)"),
    ];
    let (schema, blueprint) = plan(ddl, &rows, &values);
    let value = |table: usize, row: u64, column: usize| blueprint.value(TableId(table), row, column);
    let days = |value: Value| if let Value::Date(days) = value { i64::from(days) } else { panic!("{value} is no date") };
    let (mut children, mut share, mut pairs) = (vec![0; 200], 0, Vec::new());
    for row in 0..blueprint.rows(TableId(1)) {
        let Value::Integer(apiary) = value(1, row, 1) else { panic!("no apiary") };
        children[apiary as usize - 1] += 1;
        let later = days(value(1, row, 2)) - days(value(0, apiary as u64 - 1, 1));
        assert!((1..=90).contains(&later), "{later}");
        if value(1, row, 3) != Value::Null {
            assert!((10..=730).contains(&(days(value(1, row, 3)) - days(value(1, row, 2)))));
            share += 1;
        }
        pairs.push((value(1, row, 4).as_ref().as_real().unwrap(), value(1, row, 5).as_ref().as_real().unwrap()));
    }
    let all = blueprint.rows(TableId(1)) as f64;
    assert!((share as f64 / all - 0.4).abs() < 0.06);
    let empty = children.iter().filter(|count| **count == 0).count();
    assert!((40..90).contains(&empty), "{empty} apiaries without hives");
    assert!(children.iter().max().unwrap() > &30, "some have very many: {:?}", children.iter().max());
    assert!(pairs.iter().all(|(weight, honey)| (honey - (0.5 * weight + 3.0)).abs() < 6.0));
    let mut visits = std::collections::HashMap::new();
    for row in 0..3_000 {
        *visits.entry(value(2, row, 1).to_string()).or_insert(0) += 1;
        // 1970-01-01 was a Thursday.
        assert!((days(value(2, row, 2)) + 3).rem_euclid(7) < 5, "visits are on workdays");
    }
    let nulls = visits.remove("null").unwrap_or(0);
    assert!((500..700).contains(&nulls), "{nulls}");
    assert!(visits.values().max().unwrap() > &200, "one hive has most visits");
    let _ = schema;
}

/// Names that databases have trouble with.
fn hostile_name() -> impl Strategy<Value = String> {
    let odd = prop::sample::select(vec![
        "select",
        "table",
        "from",
        "order",
        "group",
        "user",
        "index",
        "primary",
        "values",
        "null",
        "default",
        "a b",
        "a-b",
        "a.b",
        "1st",
        "%",
        "quote\"d",
        "it's",
        "back`tick",
        "semi;colon",
        "sla\\sh",
        "ünï→",
        "名前",
        "x--y",
        "/*c*/",
        "$1",
        "?1",
        ":p",
        "{}",
        "[x]",
        "tab\there",
        "UPPER",
        "Camel",
        "rowid",
        "oid",
        "ctid",
        "xmin",
    ]);
    prop_oneof![odd.prop_map(str::to_owned), "[a-zA-Z_ \"'éß;-]{1,12}".prop_map(|name| format!("n{name}"))]
}

proptest! {
    #![proptest_config(kampf_mangle::property(60))]
    #[test]
    fn any_names_are_taken_as_they_are(tables in prop::collection::vec((hostile_name(), prop::collection::vec(hostile_name(), 1..5)), 1..4)) {
        let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
        let mut ddl = String::new();
        let mut seen: Vec<String> = Vec::new();
        for (at, (table, columns)) in tables.iter().enumerate() {
            let table = format!("{table}{at}");
            let mut parts: Vec<String> = Vec::new();
            for (number, column) in columns.iter().enumerate() {
                // Names of system columns cannot be had as they are.
                let name = quoted(&format!("{column}{number}"));
                parts.push(match number {
                    0 => format!("{name} INTEGER PRIMARY KEY"),
                    1 => format!("{name} TEXT CHECK ({name} <> '' AND {name} = lower({name}))"),
                    2 => format!("{name} VARCHAR(40) NOT NULL UNIQUE"),
                    _ => format!("{name} DATE"),
                });
            }
            if let Some(parent) = seen.last() {
                parts.push(format!("{} INTEGER REFERENCES {}", quoted(&format!("to {parent}")), quoted(parent)));
            }
            ddl += &format!("CREATE TABLE {} ({});\nCREATE INDEX {} ON {} ({});\n", quoted(&table), parts.join(", "), quoted(&table), quoted(&table), quoted(&format!("{}0", columns[0])));
            seen.push(table);
        }
        let schema = ddl::read_with(&ddl, Some(ddl::SqlDialect::Standard), &[]).map_err(|error| TestCaseError::fail(format!("{error}\n{ddl}")))?.schema;
        let names: Vec<&str> = schema.tables.iter().map(|table| table.name.as_str()).collect();
        prop_assert_eq!(&names, &seen.iter().map(String::as_str).collect::<Vec<_>>());
        let rows = schema.ids().map(|id| (id, read_row_count("20").unwrap())).collect();
        let blueprint = Blueprint::new(&schema, &Order { rows, ..Order::default() }).map_err(|error| TestCaseError::fail(error.message))?;
        load(engine("sqlite").unwrap(), &schema, &blueprint).map_err(TestCaseError::fail)?;
    }
}

#[test]
fn hostile_names_are_quoted_on_servers_too() {
    let names = ["select", "a b", "quote\"d", "it's", "semi;colon", "ünï→", "UPPER", "Camel", "x--y", "$1", "名前", "kampf_rows"];
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let mut ddl = String::new();
    for (at, name) in names.iter().enumerate() {
        let parent = if at == 0 { String::new() } else { format!(", up INTEGER REFERENCES {}", quoted(names[at - 1])) };
        ddl += &format!(
            "CREATE TABLE {0} ({0} INTEGER PRIMARY KEY, \"user\" TEXT NOT NULL UNIQUE, \"order\" TEXT DEFAULT 'it''s' CHECK (\"order\" <> 'x;y'){parent});
             CREATE INDEX {0} ON {0} (\"order\");\n",
            quoted(name)
        );
    }
    let schema = ddl::read_with(&ddl, Some(ddl::SqlDialect::Standard), &[]).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order::default()).unwrap();
    for engine in engines() {
        load(engine, &schema, &blueprint).unwrap_or_else(|error| panic!("{error}"));
    }
}

#[test]
fn tables_of_very_many_columns_load_beside_narrow_ones() {
    let columns: Vec<String> =
        (0..900).map(|at| format!("c{at} {}", ["INTEGER", "TEXT", "UUID", "DECIMAL(8,2)", "DATE", "BYTEA"][at % 6])).collect();
    let ddl = format!("CREATE TABLE narrow (id INTEGER PRIMARY KEY); CREATE TABLE wide (id INTEGER PRIMARY KEY, {});", columns.join(", "));
    let schema = ddl::read(&ddl).unwrap().schema;
    let rows = schema.ids().map(|id| (id, read_row_count("600").unwrap())).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, ..Order::default() }).unwrap();
    load(engine("sqlite").unwrap(), &schema, &blueprint).unwrap_or_else(|error| panic!("{error}"));
}
