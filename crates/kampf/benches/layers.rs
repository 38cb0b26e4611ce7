//! What the layers, the fill and the start cost, each as a ratio to a hand-written floor measured in the same run.
//!
//! `cargo bench` prints the ratios with their goals; it does not fail, since a shared machine may be noisy. Floor and layer run
//! in turn, many times, and the ratio is the median of the ratios of neighbours.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;
#[path = "common/sqlite.rs"]
mod sqlite;

use std::hint::black_box;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

use common::{compare, head};
use kampf_contest::{
    ChoiceOption, Consumer, Execution, Field, Hydration, Need, NeedText, Plan, Restriction, Touch, derive, own_sql, resolve,
};
use kampf_engine::{Ground, engine, sqlite_session};
use kampf_fill::{Batch, Blueprint, Order};
use kampf_schema::{Relations, Schema, TableId, ValueRef, ddl, expr::RowCount};
use rusqlite::Connection;
use sqlite::{loaded, opened};

#[global_allocator]
static ALLOCATOR: kampf_runner::CountingAllocator = kampf_runner::CountingAllocator;

const SQL: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, origin VARCHAR(80) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label VARCHAR(20) NOT NULL,
      frames INTEGER NOT NULL, weight REAL NOT NULL, remarks VARCHAR(80) NOT NULL);";
const HIVES: u64 = 100_000;
const SCAN: &str = "SELECT id, strain_id, label, frames, weight, remarks FROM hive";
const LOOK_UP: &str = "SELECT \"id\", \"name\", \"origin\"\nFROM \"strain\"\nWHERE \"id\" = ?1";
const TOUCHED: u64 = 1000;

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = [(TableId(0), RowCount::Fixed(50_000)), (TableId(1), RowCount::Fixed(HIVES))].into();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 5, ..Order::default() }).expect("the order is right");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let file = loaded(folder.path(), &schema, &blueprint);
    let connection = opened(&file);
    head();
    scans(&connection);
    lazy(&schema, &connection);
    groups(&schema, &connection);
    transport(&file);
    fill(&schema, &blueprint);
    start();
}

struct Hive {
    id: i64,
    strain_id: i64,
    label: String,
    frames: i64,
    weight: f64,
    remarks: String,
}

/// A scan of 100,000 rows of six columns through each layer, against hand-written code for the same SQL and answer.
fn scans(connection: &Connection) {
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let text = NeedText {
        from: "hive".into(),
        give: ["id", "strain_id", "label", "frames", "weight", "remarks"].map(str::to_owned).into(),
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).expect("the need is right");
    let sqlite = engine("sqlite").expect("SQLite is always there");
    let mut in_place = connection.prepare(SCAN).expect("the statement is right");
    let mut floor_raw = || {
        let mut touch = Touch::default();
        let mut rows = in_place.query([]).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            touch.row();
            touch.value(ValueRef::Integer(row.get_ref(0).and_then(|value| Ok(value.as_i64()?)).expect("a number")));
            touch.value(ValueRef::Integer(row.get_ref(1).and_then(|value| Ok(value.as_i64()?)).expect("a number")));
            touch.value(ValueRef::Text(row.get_ref(2).and_then(|value| Ok(value.as_str()?)).expect("a text")));
            touch.value(ValueRef::Integer(row.get_ref(3).and_then(|value| Ok(value.as_i64()?)).expect("a number")));
            touch.value(ValueRef::Real(row.get_ref(4).and_then(|value| Ok(value.as_f64()?)).expect("a number")));
            touch.value(ValueRef::Text(row.get_ref(5).and_then(|value| Ok(value.as_str()?)).expect("a text")));
        }
        assert_eq!(black_box(touch).rows(), HIVES);
    };
    let mut structs = connection.prepare(SCAN).expect("the statement is right");
    let mut floor_record = || {
        let mut hives: Vec<Hive> = Vec::new();
        let mut rows = structs.query([]).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            let get = "the column fits";
            hives.push(Hive {
                id: row.get(0).expect(get),
                strain_id: row.get(1).expect(get),
                label: row.get(2).expect(get),
                frames: row.get(3).expect(get),
                weight: row.get(4).expect(get),
                remarks: row.get(5).expect(get),
            });
        }
        let mut touch = Touch::default();
        for hive in &hives {
            touch.row();
            touch.value(ValueRef::Integer(hive.id));
            touch.value(ValueRef::Integer(hive.strain_id));
            touch.value(ValueRef::Text(&hive.label));
            touch.value(ValueRef::Integer(hive.frames));
            touch.value(ValueRef::Real(hive.weight));
            touch.value(ValueRef::Text(&hive.remarks));
        }
        assert_eq!(black_box(touch).rows(), HIVES);
    };
    for (hydration, goal) in [
        (Hydration::Raw, Some(1.05)),
        (Hydration::Record, Some(1.05)),
        (Hydration::Map, None),
        (Hydration::Plain, None),
        (Hydration::Managed, None),
    ] {
        let plan = plan_of(&schema, &need, hydration);
        let mut session = sqlite_session(connection);
        let mut execution = Execution::new(plan, sqlite.dialect());
        let kampf = || {
            let mut touch = Touch::default();
            execution.call(session.as_mut(), &[], &mut touch).expect("the call succeeds");
            assert_eq!(black_box(touch).rows(), HIVES);
        };
        let name = format!("scan {HIVES} rows, {}", hydration.word());
        match hydration {
            Hydration::Raw => compare(&name, goal, 31, &mut floor_raw, kampf),
            _ => compare(&name, goal, 21, &mut floor_record, kampf),
        }
    }
    let own = own_sql(Some(&need), SCAN, &[], Hydration::Raw).expect("there are no parameters");
    let mut session = sqlite_session(connection);
    let mut execution = Execution::new(own, sqlite.dialect());
    compare("scan, own SQL, raw", Some(1.05), 31, &mut floor_raw, || {
        execution.call(session.as_mut(), &[], &mut Touch::default()).expect("the call succeeds");
    });
}

/// The derived plan for a need without relations.
fn plan_of(schema: &Schema, need: &Need, hydration: Hydration) -> Plan {
    let dialect = engine("sqlite").expect("SQLite is always there").dialect();
    let field = Field::of(schema, need, dialect, &Restriction::default());
    let choices = field.valid.iter().rfind(|choices| choices.get() == Some(hydration)).expect("every hydration is valid here");
    derive(schema, need, dialect, choices)
}

/// A thousand rows and for each its parent by a prepared look-up, against the loop written by hand.
fn lazy(schema: &Schema, connection: &Connection) {
    let text = NeedText {
        from: "hive".into(),
        give: ["label", "strain.name"].map(str::to_owned).into(),
        filter: Some(format!("id <= {TOUCHED}")),
        ..NeedText::default()
    };
    let need = resolve(schema, &Relations::of(schema), &text).expect("the need is right");
    let dialect = engine("sqlite").expect("SQLite is always there").dialect();
    let field = Field::of(schema, &need, dialect, &Restriction::default());
    let named = |name: &str| {
        let choices = field.valid.iter().find(|choices| choices.to_string() == name).expect("the contender is valid");
        Execution::new(derive(schema, &need, dialect, choices), dialect)
    };
    let mut hives = connection
        .prepare("SELECT id, strain_id, label, frames, weight, remarks FROM hive WHERE id <= ?1")
        .expect("the statement is right");
    let mut strain = connection.prepare(LOOK_UP).expect("the statement is right");
    let mut floor = || {
        let mut kept: Vec<Hive> = Vec::new();
        let mut rows = hives.query([TOUCHED as i64]).expect("the query runs");
        while let Some(row) = rows.next().expect("a row comes") {
            let get = "the column fits";
            kept.push(Hive {
                id: row.get(0).expect(get),
                strain_id: row.get(1).expect(get),
                label: row.get(2).expect(get),
                frames: row.get(3).expect(get),
                weight: row.get(4).expect(get),
                remarks: row.get(5).expect(get),
            });
        }
        let mut touch = Touch::default();
        for hive in &kept {
            let parent: (i64, String, String) =
                strain.query_row([hive.strain_id], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).expect("the parent is there");
            touch.row();
            touch.value(ValueRef::Text(&hive.label));
            touch.value(ValueRef::Text(&parent.1));
        }
        assert_eq!(black_box(touch).rows(), TOUCHED);
    };
    for (name, goal) in [("lazy.database.all.record", Some(1.05)), ("lazy.database.all.plain", None), ("lazy.database.all.managed", None)] {
        let mut execution = named(name);
        let mut session = sqlite_session(connection);
        compare(&format!("{TOUCHED} look-ups, {name}"), goal, 101, &mut floor, || {
            let mut touch = Touch::default();
            execution.call(session.as_mut(), &[], &mut touch).expect("the call succeeds");
            assert_eq!(black_box(touch).rows(), TOUCHED);
        });
    }
}

/// A grouped report and an aggregate over some of the related rows, each against code by hand for the same SQL and answer.
fn groups(schema: &Schema, connection: &Connection) {
    let texts = |texts: &[&str]| texts.iter().map(|&text| text.to_owned()).collect::<Vec<_>>();
    let report = NeedText {
        from: "hive".into(),
        group: Some(texts(&["strain_id"])),
        give: texts(&["strain_id", "count() as hives", "sum(frames) as frames"]),
        ..NeedText::default()
    };
    let sql = "SELECT strain_id, count(*) AS hives, sum(frames) AS frames FROM hive GROUP BY strain_id";
    same_sql(schema, connection, "a grouped report", &report, "", sql);
    let filtered =
        NeedText { from: "strain".into(), give: texts(&["id", "count(hive where frames > 12) as large"]), ..NeedText::default() };
    let sql = "SELECT strain.id, count(hive.strain_id) AS large FROM strain LEFT JOIN hive ON hive.strain_id = strain.id AND hive.frames > 12 \
               GROUP BY strain.id";
    same_sql(schema, connection, "an aggregate of some rows", &filtered, "grouped.", sql);
}

/// Whole numbers by the layers that keep nothing and records, against the same by hand.
fn same_sql(schema: &Schema, connection: &Connection, title: &str, text: &NeedText, loading: &str, sql: &str) {
    let need = resolve(schema, &Relations::of(schema), text).expect("the need is right");
    let dialect = engine("sqlite").expect("SQLite is always there").dialect();
    let field = Field::of(schema, &need, dialect, &Restriction::default());
    for hydration in [Hydration::Raw, Hydration::Record] {
        let fits = |choices: &&kampf_contest::Choices| choices.get() == Some(hydration) && choices.to_string().starts_with(loading);
        let choices = field.valid.iter().rfind(fits).expect("the contender is valid");
        let mut execution = Execution::new(derive(schema, &need, dialect, choices), dialect);
        let mut session = sqlite_session(connection);
        let mut statement = connection.prepare(sql).expect("the statement is right");
        let width = need.give.len();
        let floor = || {
            let mut touch = Touch::default();
            let mut rows = statement.query([]).expect("the query runs");
            let mut kept: Vec<[i64; 3]> = Vec::new();
            while let Some(row) = rows.next().expect("a row comes") {
                let number = |column: usize| row.get_ref(column).and_then(|value| Ok(value.as_i64()?)).expect("a number");
                if hydration == Hydration::Raw {
                    touch.row();
                    (0..width).for_each(|column| touch.value(ValueRef::Integer(number(column))));
                } else {
                    kept.push([number(0), number(1), if width > 2 { number(2) } else { 0 }]);
                }
            }
            for row in &kept {
                touch.row();
                row[..width].iter().for_each(|&number| touch.value(ValueRef::Integer(number)));
            }
            black_box(touch);
        };
        compare(&format!("{title}, {choices}"), Some(1.05), 31, floor, || {
            let mut touch = Touch::default();
            execution.call(session.as_mut(), &[], &mut touch).expect("the call succeeds");
            assert!(black_box(touch).rows() > 40_000);
        });
    }
}

/// Opening a connection the engine's way against opening the file by hand.
fn transport(file: &str) {
    let sqlite = engine("sqlite").expect("SQLite is always there");
    let flags = rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY | rusqlite::OpenFlags::SQLITE_OPEN_NO_MUTEX;
    compare(
        "connect and one look-up",
        None,
        101,
        || {
            let connection = Connection::open_with_flags(file, flags).expect("the file opens");
            let name: String = connection.query_row("SELECT name FROM strain WHERE id = 7", [], |row| row.get(0)).expect("a row comes");
            black_box(name);
        },
        || {
            let connection = sqlite.connect(file, &[]).expect("the file opens");
            let mut session = connection.session();
            let id = session.prepare("SELECT name FROM strain WHERE id = 7", &[]).expect("the statement is right");
            session
                .run(id, &[], &mut |row: &[ValueRef<'_>]| {
                    black_box(row[0]);
                    kampf_contest::Flow::More
                })
                .expect("the query runs");
        },
    );
}

/// Filling 150,000 rows, generation and index included, against one prepared insert a row with values that are already made.
fn fill(schema: &Schema, blueprint: &Blueprint) {
    let sqlite = engine("sqlite").expect("SQLite is always there");
    let floor = || {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let connection = Connection::open(folder.path().join("floor.sqlite")).expect("the file opens");
        connection.execute_batch("PRAGMA cache_size = -64000; BEGIN").expect("a transaction begins");
        connection
            .execute_batch(
                "CREATE TABLE strain (id INTEGER PRIMARY KEY, name TEXT NOT NULL, origin TEXT NOT NULL);
                 CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL, label TEXT NOT NULL, frames INTEGER NOT NULL,
                   weight REAL NOT NULL, remarks TEXT NOT NULL)",
            )
            .expect("the tables are made");
        let mut strain = connection.prepare("INSERT INTO strain VALUES (?1, ?2, ?3)").expect("the statement is right");
        for id in 0..50_000_i64 {
            strain.execute((id, "Talva Morriner", "Haselmoor feld")).expect("the row goes in");
        }
        let mut hive = connection.prepare("INSERT INTO hive VALUES (?1, ?2, ?3, ?4, ?5, ?6)").expect("the statement is right");
        for id in 0..HIVES as i64 {
            hive.execute((id, id % 50_000, "AB-12345", 12, 41.5, "calm and well fed")).expect("the row goes in");
        }
        connection.execute_batch("COMMIT; ANALYZE").expect("the transaction ends");
    };
    compare("fill 150,000 rows", None, 7, floor, || {
        let folder = tempfile::tempdir().expect("a temporary folder");
        sqlite
            .load(
                &Ground { folder: folder.path(), server: None, name: "bench", owner: "test", variant: None },
                schema,
                blueprint,
                &[],
                &mut |_| {},
            )
            .expect("the rows load");
    });
    let (mut batch, mut first) = (Batch::default(), 0);
    let start = Instant::now();
    while blueprint.batch(TableId(1), first, &mut batch) > 0 {
        first += batch.rows() as u64;
        black_box(batch.digest(first));
    }
    println!(
        "{:<40} {:>12} {:>9.2} M rows/s, digest included",
        "making rows alone",
        "",
        HIVES as f64 / start.elapsed().as_secs_f64() / 1e6
    );
}

/// `kampf --version` against a program that does nothing.
fn start() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let source = folder.path().join("empty.rs");
    let empty = folder.path().join("empty");
    std::fs::write(&source, "fn main() {}").expect("the file can be written");
    let rustc = option_env!("RUSTC").unwrap_or("rustc");
    let built = Command::new(rustc).arg("-O").arg("-o").arg(&empty).arg(&source).status().is_ok_and(|status| status.success());
    if !built {
        println!("kampf --version: no rustc here to build the empty program with");
        return;
    }
    let run = |program: &Path, arguments: &[&str]| {
        let status = Command::new(program).args(arguments).stdout(std::process::Stdio::null()).status().expect("the program runs");
        assert!(status.success());
    };
    compare("kampf --version", Some(1.5), 201, || run(&empty, &[]), || run(Path::new(env!("CARGO_BIN_EXE_kampf")), &["--version"]));
}
