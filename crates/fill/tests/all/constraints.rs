//! Whatever the schema and the numbers: declared rules hold, and any value can be had on its own.

use std::collections::{HashMap, HashSet};

use kampf_fill::{BATCH_ROWS, Batch, Blueprint, Order};
use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{Schema, TableId, Value, ddl};
use proptest::prelude::*;

/// A table's columns beside its key, with the rules that a developer might give them.
const COLUMNS: [&str; 9] = [
    "a INTEGER NOT NULL CHECK (a BETWEEN 3 AND 9)",
    "b VARCHAR(12) NOT NULL UNIQUE",
    "c DECIMAL(7, 2)",
    "d DATE NOT NULL",
    "e TEXT NOT NULL CHECK (e IN ('calm', 'lively', 'fierce'))",
    "f BOOLEAN",
    "g TIMESTAMP NOT NULL",
    "h REAL NOT NULL",
    "i UUID NOT NULL UNIQUE",
];

#[derive(Clone, Debug)]
struct Made {
    ddl: String,
    rows: Vec<String>,
    seed: u64,
}

fn made() -> impl Strategy<Value = Made> {
    let table = (any::<u16>(), 0..4_usize, any::<bool>(), any::<bool>());
    (prop::collection::vec(table, 1..5), any::<u64>()).prop_map(|(tables, seed)| {
        let (mut ddl, mut rows) = (String::new(), Vec::new());
        for (at, (columns, kind, nullable, uuid)) in tables.into_iter().enumerate() {
            let mut parts = vec![format!("id {} PRIMARY KEY", if uuid { "UUID" } else { "INTEGER" })];
            for parent in 0..at {
                let of = if ddl.contains(&format!("CREATE TABLE t{parent} (id UUID")) { "UUID" } else { "INTEGER" };
                parts.push(format!("p{parent} {of}{} REFERENCES t{parent}", if nullable { "" } else { " NOT NULL" }));
            }
            parts.extend(COLUMNS.iter().enumerate().filter(|(bit, _)| columns >> bit & 1 == 1).map(|(_, column)| (*column).to_owned()));
            if at > 0 && !nullable && columns >> 9 & 1 == 1 {
                parts.insert(1, "number INTEGER NOT NULL".to_owned());
                parts.push(format!("UNIQUE (p{}, number)", at - 1));
            }
            ddl += &format!("CREATE TABLE t{at} ({});\n", parts.join(", "));
            let fixed = ["1", "17", "60", "130"][usize::from(columns >> 10 & 3)];
            rows.push(if at > 0 && kind > 0 { format!("{} per t{}", kind + 1, at - 1) } else { fixed.to_owned() });
        }
        Made { ddl, rows, seed }
    })
}

fn blueprint(made: &Made) -> (Schema, Blueprint) {
    let schema = ddl::read(&made.ddl).unwrap().schema;
    let rows = made.rows.iter().enumerate().map(|(at, rows)| (TableId(at), read_row_count(rows).unwrap())).collect();
    let order = Order { rows, seed: made.seed, ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).unwrap_or_else(|error| panic!("{}\n{made:?}", error.message));
    (schema, blueprint)
}

fn rows(schema: &Schema, blueprint: &Blueprint, table: TableId) -> Vec<Vec<Value>> {
    let columns = schema.table(table).columns.len();
    (0..blueprint.rows(table)).map(|row| (0..columns).map(|column| blueprint.value(table, row, column)).collect()).collect()
}

/// The first rule that does not hold, in words.
fn broken(schema: &Schema, blueprint: &Blueprint) -> Option<String> {
    for id in schema.ids() {
        let table = schema.table(id);
        let all = rows(schema, blueprint, id);
        for (at, column) in table.columns.iter().enumerate() {
            if !column.nullable && all.iter().any(|row| row[at] == Value::Null) {
                return Some(format!("{}.{} holds nulls", table.name, column.name));
            }
        }
        let keys = std::iter::once(&table.primary_key).chain(table.uniques.iter().map(|unique| &unique.columns));
        for key in keys {
            let text = |row: &Vec<Value>| key.iter().map(|&column| row[column].to_string()).collect::<Vec<_>>();
            if all.iter().map(text).collect::<HashSet<_>>().len() < all.len() {
                return Some(format!("{key:?} of {} repeats", table.name));
            }
        }
        for reference in &table.references {
            let parents = rows(schema, blueprint, reference.parent);
            let parents: HashSet<String> = parents.iter().map(|row| row[reference.parent_columns[0]].to_string()).collect();
            let leads = |value: &Value| *value == Value::Null || parents.contains(&value.to_string());
            if !all.iter().all(|row| leads(&row[reference.columns[0]])) {
                return Some(format!("a reference of {} leads nowhere", table.name));
            }
        }
        let holds = |column: &str, rule: &dyn Fn(&Value) -> bool| table.find(column).is_none_or(|at| all.iter().all(|row| rule(&row[at])));
        if !holds("a", &|value| matches!(value, Value::Integer(3..=9)))
            || !holds("b", &|value| value.to_string().chars().count() <= 12)
            || !holds("e", &|value| ["calm", "lively", "fierce"].contains(&value.to_string().as_str()))
        {
            return Some(format!("a check of {} does not hold", table.name));
        }
    }
    None
}

proptest! {
    #![proptest_config(kampf_mangle::property(150))]
    #[test]
    fn declared_rules_hold(made in made()) {
        let (schema, blueprint) = blueprint(&made);
        prop_assert_eq!(broken(&schema, &blueprint), None, "{:?}", made);
    }

    #[test]
    fn a_value_is_the_same_alone_and_in_its_batch(made in made()) {
        let (schema, blueprint) = blueprint(&made);
        let (_, again) = self::blueprint(&made);
        for id in schema.ids() {
            let (mut first, mut batch) = (0, Batch::default());
            loop {
                let count = blueprint.batch(id, first, &mut batch);
                if count == 0 {
                    break;
                }
                prop_assert!(count <= BATCH_ROWS);
                for row in 0..count {
                    for (column, value) in batch.row(row).enumerate() {
                        prop_assert_eq!(value.to_value(), again.value(id, first + row as u64, column));
                    }
                }
                first += count as u64;
            }
            prop_assert_eq!(first, blueprint.rows(id));
        }
    }
}

/// A table with two unique rules that have a reference in common, and how many rows its parents and itself are asked for.
fn overlapping(shared: &str, parents: [u64; 3], rows: &str) -> Made {
    let ddl = format!(
        "CREATE TABLE t0 (id INTEGER PRIMARY KEY); CREATE TABLE t1 (id INTEGER PRIMARY KEY); CREATE TABLE t2 (id INTEGER PRIMARY KEY);
         CREATE TABLE t3 (id INTEGER PRIMARY KEY, p0 INTEGER NOT NULL REFERENCES t0, p1 INTEGER NOT NULL REFERENCES t1,
           p2 INTEGER NOT NULL REFERENCES t2, UNIQUE (p1, {shared}), UNIQUE (p2, {shared}));"
    );
    let rows = parents.iter().map(u64::to_string).chain([rows.to_owned()]).collect();
    Made { ddl, rows, seed: 3 }
}

proptest! {
    #![proptest_config(kampf_mangle::property(256))]
    #[test]
    fn unique_rules_that_overlap_hold_for_as_many_rows_as_there_is_room(
        parents in prop::array::uniform3(1..40_u64), part in 1..=100_u64, turned in any::<bool>(),
    ) {
        let most = parents[0] * parents[1].min(parents[2]);
        let mut made = overlapping("p0", parents, &(most * part / 100).max(1).to_string());
        if turned {
            made.ddl = made.ddl.replace("(p1, p0)", "(p0, p1)");
        }
        let (schema, blueprint) = blueprint(&made);
        prop_assert_eq!(broken(&schema, &blueprint), None, "{:?}", made);
    }

    #[test]
    fn and_for_children_that_are_counted_per_parent(parents in prop::array::uniform3(1..40_u64), each in 1..4_u64, of in 0..3_usize) {
        let made = overlapping("p0", parents, &format!("{each} per t{of}"));
        let schema = ddl::read(&made.ddl).unwrap().schema;
        let rows = made.rows.iter().enumerate().map(|(at, rows)| (TableId(at), read_row_count(rows).unwrap())).collect();
        // Where there is no room it is said, and never broken.
        if let Ok(blueprint) = Blueprint::new(&schema, &Order { rows, seed: 3, ..Order::default() }) {
            prop_assert_eq!(broken(&schema, &blueprint), None, "{:?}", made);
        }
    }
}

#[test]
fn twenty_rows_fit_among_five_hundred_parents_whichever_counts_them() {
    for rows in ["20", "20..40 per t1", "1..2 per t2", "3..4 per t0"] {
        let (schema, blueprint) = blueprint(&overlapping("p0", [500; 3], rows));
        assert_eq!(broken(&schema, &blueprint), None, "{rows}");
    }
}

#[test]
fn another_seed_gives_other_content_and_as_many_rows() {
    let ddl = "CREATE TABLE apiary (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
        CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, frames INTEGER NOT NULL);";
    let digests = |seed| {
        let made = Made { ddl: ddl.to_owned(), rows: vec!["20".to_owned(), "500".to_owned()], seed };
        let (schema, blueprint) = blueprint(&made);
        let digest = |id| {
            let mut batch = Batch::default();
            blueprint.batch(id, 0, &mut batch);
            (batch.digest(0), blueprint.rows(id))
        };
        schema.ids().map(digest).collect::<Vec<_>>()
    };
    let (one, other) = (digests(1), digests(2));
    assert_eq!(digests(1), one);
    for (one, other) in one.iter().zip(&other) {
        assert!(one.0 != other.0 && one.1 == other.1);
    }
}

#[test]
fn children_lie_scattered_and_their_numbers_vary_within_what_was_asked() {
    let ddl = "CREATE TABLE hive (id INTEGER PRIMARY KEY);
        CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive);";
    let made = Made { ddl: ddl.to_owned(), rows: vec!["200".to_owned(), "10..30 per hive".to_owned()], seed: 11 };
    let (schema, blueprint) = blueprint(&made);
    let parents: Vec<String> = rows(&schema, &blueprint, TableId(1)).into_iter().map(|row| row[1].to_string()).collect();
    let mut counts: HashMap<&str, usize> = HashMap::new();
    parents.iter().for_each(|parent| *counts.entry(parent).or_default() += 1);
    assert_eq!(counts.len(), 200, "every hive has some");
    assert!(counts.values().all(|count| (10..=30).contains(count)), "{counts:?}");
    assert!(counts.values().collect::<HashSet<_>>().len() > 10, "the numbers hardly vary");
    let neighbours = parents.windows(2).filter(|pair| pair[0] == pair[1]).count();
    assert!(neighbours < parents.len() / 20, "{neighbours} of {} lie next to a sibling", parents.len());
}

#[test]
fn shares_and_weights_come_out_as_asked() {
    let schema = ddl::read("CREATE TABLE hive (id INTEGER PRIMARY KEY, state TEXT, mites INTEGER, calm REAL NOT NULL);").unwrap().schema;
    let recipe = |column, text| ((TableId(0), column), read_recipe(text).unwrap());
    let values = [recipe(1, "pick('weak' 1, 'strong' 3) or null 20%"), recipe(2, "normal(12, 3) in 0..40"), recipe(3, "0.0..1.0")];
    let rows_wanted = [(TableId(0), read_row_count("8_000").unwrap())].into();
    let blueprint = Blueprint::new(&schema, &Order { rows: rows_wanted, values: values.into(), seed: 3, ..Order::default() }).unwrap();
    let all = rows(&schema, &blueprint, TableId(0));
    let share = |wanted: &Value| all.iter().filter(|row| row[1] == *wanted).count() as f64 / all.len() as f64;
    for (value, expected) in [(Value::Null, 0.2), (Value::from("weak"), 0.2), (Value::from("strong"), 0.6)] {
        let found = share(&value);
        assert!((found - expected).abs() < 0.03, "{value}: {found} instead of {expected}");
    }
    let numbers = |column: usize| all.iter().filter_map(|row| row[column].as_ref().as_real()).collect::<Vec<f64>>();
    let mites = numbers(2);
    let mean = mites.iter().sum::<f64>() / mites.len() as f64;
    let spread = (mites.iter().map(|mites| (mites - mean).powi(2)).sum::<f64>() / mites.len() as f64).sqrt();
    assert!((mean - 12.0).abs() < 0.3 && (spread - 3.0).abs() < 0.3, "mean {mean}, spread {spread}");
    let calm = numbers(3);
    assert!(calm.iter().all(|calm| (0.0..=1.0).contains(calm)));
    assert!((calm.iter().sum::<f64>() / calm.len() as f64 - 0.5).abs() < 0.02);
}
