//! What related rows cost each way of reaching them, as a ratio to hand-written code for the same SQL and the same answer in the
//! same run: the newest child ranked and computed, lists by batches, and lists out of a JSON text.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;
#[path = "common/sqlite.rs"]
mod sqlite;

use std::collections::HashMap;
use std::hint::black_box;

use common::{compare, head};
use kampf_contest::{Consumer, Execution, Field, NeedText, Restriction, Session, Touch, derive, resolve};
use kampf_engine::{engine, sqlite_session};
use kampf_fill::{Blueprint, Order};
use kampf_schema::{Relations, Schema, TableId, ValueRef, ddl, expr};
use rusqlite::Connection;
use sqlite::{loaded, opened};

#[global_allocator]
static ALLOCATOR: kampf_runner::CountingAllocator = kampf_runner::CountingAllocator;

const SQL: &str = "CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, day INTEGER NOT NULL, temper INTEGER NOT NULL,
      remarks VARCHAR(60) NOT NULL);
    CREATE INDEX inspection_hive ON inspection (hive_id, day);";
const HIVES: usize = 2_000;

struct Inspection {
    temper: i64,
    remarks: String,
}

struct Hive {
    label: String,
    inspections: Vec<Inspection>,
}

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = [(0, "2_000"), (1, "20 per hive")];
    let rows = rows.map(|(table, rows)| (TableId(table), expr::read_row_count(rows).expect("the count is right"))).into();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 5, ..Order::default() }).expect("the order is right");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let file = loaded(folder.path(), &schema, &blueprint);
    let connection = opened(&file);
    head();
    for name in ["ranked.needed.record", "computed.needed.record"] {
        newest(&schema, &connection, name);
    }
    for (name, goal) in [("batched.needed.record", Some(1.3)), ("batched.needed.plain", None), ("batched.all.managed", None)] {
        batches(&schema, &connection, name, goal);
    }
    for (name, goal) in [("nested.needed.record", Some(1.3)), ("nested.needed.plain", None), ("nested.needed.raw", None)] {
        nested(&schema, &connection, name, goal);
    }
}

/// A contender and the texts it sends.
fn contender(schema: &Schema, give: &[&str], name: &str) -> (Execution, Vec<String>) {
    let text = NeedText { from: "hive".into(), give: give.iter().map(|&give| give.to_owned()).collect(), ..NeedText::default() };
    let need = resolve(schema, &Relations::of(schema), &text).expect("the need is right");
    let dialect = engine("sqlite").expect("SQLite is always there").dialect();
    let field = Field::of(schema, &need, dialect, &Restriction::default());
    let choices = field.valid.iter().find(|choices| choices.to_string() == name).expect("the contender is valid");
    let plan = derive(schema, &need, dialect, choices);
    let statements = plan.statements(dialect);
    (Execution::new(plan, dialect), statements)
}

fn call(execution: &mut Execution, session: &mut dyn Session) {
    let mut touch = Touch::default();
    execution.call(session, &[], &mut touch).expect("the call succeeds");
    assert_eq!(black_box(touch).rows(), HIVES as u64);
}

/// The newest child of each parent, by the very statement of the contender.
fn newest(schema: &Schema, connection: &Connection, name: &str) {
    let (mut execution, statements) = contender(schema, &["label", "last(inspection order day).temper as temper"], name);
    let mut statement = connection.prepare(&statements[0]).expect("the statement is right");
    let floor = || {
        let mut kept: Vec<(String, Option<i64>)> = Vec::new();
        let mut rows = statement.query([]).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            kept.push((row.get(0).expect("a text"), row.get(1).expect("a number")));
        }
        let mut touch = Touch::default();
        for (label, temper) in &kept {
            touch.row();
            touch.value(ValueRef::Text(label));
            touch.value(temper.map_or(ValueRef::Null, ValueRef::Integer));
        }
        assert_eq!(black_box(touch).rows(), HIVES as u64);
    };
    let mut session = sqlite_session(connection);
    compare(&format!("newest of each, {name}"), Some(1.05), 41, floor, || call(&mut execution, session.as_mut()));
}

fn touched(hives: &[Hive]) {
    let mut touch = Touch::default();
    for hive in hives {
        touch.row();
        touch.value(ValueRef::Text(&hive.label));
        touch.list();
        for inspection in &hive.inspections {
            touch.item();
            touch.value(ValueRef::Integer(inspection.temper));
            touch.value(ValueRef::Text(&inspection.remarks));
        }
        touch.end();
    }
    assert_eq!(black_box(touch).rows(), HIVES as u64);
}

/// All children of all parents by one list of keys, against the loop that builds the same by hand.
fn batches(schema: &Schema, connection: &Connection, name: &str, goal: Option<f64>) {
    let (mut execution, _) = contender(schema, &["label", "inspection { temper, remarks }"], name);
    let mut parents = connection.prepare("SELECT id, label FROM hive").expect("the statement is right");
    let list = vec!["?"; HIVES].join(", ");
    let children = format!("SELECT hive_id, temper, remarks FROM inspection WHERE hive_id IN ({list})");
    let mut children = connection.prepare(&children).expect("the statement is right");
    let floor = || {
        let (mut hives, mut places): (Vec<Hive>, HashMap<i64, usize>) = (Vec::new(), HashMap::new());
        let mut rows = parents.query([]).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            places.insert(row.get(0).expect("a number"), hives.len());
            hives.push(Hive { label: row.get(1).expect("a text"), inspections: Vec::new() });
        }
        let mut rows = children.query(rusqlite::params_from_iter(places.keys())).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            let place = places[&row.get::<_, i64>(0).expect("a number")];
            hives[place].inspections.push(Inspection { temper: row.get(1).expect("a number"), remarks: row.get(2).expect("a text") });
        }
        touched(&hives);
    };
    let mut session = sqlite_session(connection);
    compare(&format!("lists, {name}"), goal, 31, floor, || call(&mut execution, session.as_mut()));
}

/// All children of each parent in a JSON text, by the very statement of the contender.
fn nested(schema: &Schema, connection: &Connection, name: &str, goal: Option<f64>) {
    let (mut execution, statements) = contender(schema, &["label", "inspection { temper, remarks }"], name);
    let mut statement = connection.prepare(&statements[0]).expect("the statement is right");
    let floor = || {
        let mut hives: Vec<Hive> = Vec::new();
        let mut rows = statement.query([]).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            let text = row.get_ref(1).and_then(|value| Ok(value.as_str()?)).expect("a text");
            let inside: Vec<(i64, String)> = serde_json::from_str(text).expect("it is JSON");
            let inspections = inside.into_iter().map(|(temper, remarks)| Inspection { temper, remarks }).collect();
            hives.push(Hive { label: row.get(0).expect("a text"), inspections });
        }
        touched(&hives);
    };
    let mut session = sqlite_session(connection);
    compare(&format!("lists, {name}"), goal, 31, floor, || call(&mut execution, session.as_mut()));
}
