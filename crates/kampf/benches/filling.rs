//! Making and loading rows, each as a ratio to loading rows that were made before, by hand, with the same driver in the same
//! run; the memory that it holds; and a schema of many tables.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;

use std::fmt::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use bytes::Bytes;
use common::{asked_for, compare, head, undisturbed};
use futures_util::{SinkExt, TryStreamExt};
use kampf_engine::{Engine, Ground, engine};
use kampf_fill::{Batch, Blueprint, Order};
use kampf_schema::expr::{RowCount, read_recipe};
use kampf_schema::{Schema, TableId, ValueRef, ddl};
use tokio_postgres::NoTls;

/// A plain table, one of texts and two references, and what they refer to.
const SQL: &str = "CREATE TABLE hive (id INTEGER PRIMARY KEY, strain INTEGER NOT NULL, frames INTEGER NOT NULL, weight REAL NOT NULL,
      since DATE NOT NULL, label VARCHAR(20) NOT NULL);
    CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, keeper_id INTEGER NOT NULL REFERENCES keeper,
      at TIMESTAMP NOT NULL, summary VARCHAR(80) NOT NULL, remarks VARCHAR(200) NOT NULL);";
const PLAIN: TableId = TableId(0);
const TEXTS: TableId = TableId(2);
/// So many that what a load does once is little of it.
const ROWS: u64 = 1_000_000;
/// Rows per second of at least 0.9 of the floor's.
const GOAL: f64 = 1.11;

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let arguments: Vec<String> = std::env::args().collect();
    if let [_, one, side, table] = arguments.as_slice()
        && one == "--one"
    {
        println!("{}", one_load(side, TableId(table.parse().expect("a number"))).as_nanos());
        return;
    }
    head();
    for (name, table) in [("plain table", PLAIN), ("texts and two references", TEXTS)] {
        making(name, table);
        sqlite(name, table);
    }
    postgres();
    many_tables();
    memory();
}

/// Rows for one of the tables, few for those that it refers to.
fn data(table: TableId) -> (Schema, Blueprint) {
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = schema.ids().map(|id| (id, RowCount::Fixed(if id == table { ROWS } else { 2_000 }))).collect();
    let recipe = |column, text| ((TEXTS, column), read_recipe(text).expect("the recipe is right"));
    let values = [recipe(4, "words(3..5)"), recipe(5, "text(60..120)")].into();
    let blueprint = Blueprint::new(&schema, &Order { rows, values, seed: 5, ..Order::default() }).expect("the order is right");
    (schema, blueprint)
}

fn batches(blueprint: &Blueprint, table: TableId) -> Vec<Batch> {
    let (mut batches, mut first) = (Vec::new(), 0);
    loop {
        let mut batch = Batch::default();
        let rows = blueprint.batch(table, first, &mut batch);
        if rows == 0 {
            return batches;
        }
        batches.push(batch);
        first += rows as u64;
    }
}

/// How fast rows are made, by themselves.
fn making(name: &str, table: TableId) {
    let (_, blueprint) = data(table);
    if !asked_for(&format!("making {name}")) {
        return;
    }
    let mut times: Vec<f64> = (0..7)
        .map(|_| {
            let begun = Instant::now();
            std::hint::black_box(blueprint.digest(table));
            begun.elapsed().as_secs_f64()
        })
        .collect();
    times.sort_by(f64::total_cmp);
    println!("{:<40} {:>9.2} million rows a second on one thread, digest included", format!("making {name}"), ROWS as f64 / times[3] / 1e6);
}

/// A value as it is bound.
enum Ready {
    Integer(i64),
    Real(f64),
    Text(String),
}

/// Each side in a process of its own, in turn: what the library is told at its start holds for all of a process.
fn sqlite(name: &str, table: TableId) {
    let name = format!("sqlite, {name}");
    if !asked_for(&name) {
        return;
    }
    let timed = |side: &str| {
        let this = std::env::current_exe().expect("the own program");
        let load = || {
            let output = Command::new(&this).args(["--one", side, &table.0.to_string()]).output().expect("it runs");
            Duration::from_nanos(String::from_utf8_lossy(&output.stdout).trim().parse().expect("a time"))
        };
        undisturbed(load).as_nanos() as f64
    };
    let mut times: Vec<(f64, f64)> = (0..9)
        .map(|turn| {
            if turn % 2 == 0 {
                let floor = timed("floor");
                (floor, timed("kampf"))
            } else {
                let kampf = timed("kampf");
                (timed("floor"), kampf)
            }
        })
        .collect();
    let mut median = |of: fn(&(f64, f64)) -> f64| {
        times.sort_by(|left, right| of(left).total_cmp(&of(right)));
        of(&times[times.len() / 2])
    };
    let (floor, kampf, ratio) = (median(|pair| pair.0), median(|pair| pair.1), median(|pair| pair.1 / pair.0));
    println!("{name:<40} {:>9.3} ms {:>9.3} ms {ratio:>7.3}  <= {GOAL}", floor / 1e6, kampf / 1e6);
}

/// One load of either side.
fn one_load(side: &str, table: TableId) -> Duration {
    let (schema, blueprint) = data(table);
    let folder = tempfile::tempdir().expect("a temporary folder");
    if side == "kampf" {
        let engine = engine("sqlite").expect("the engine is there");
        let begun = Instant::now();
        engine.load(&place(folder.path()), &schema, &blueprint, &engine.settings(), &mut |_| {}).expect("the rows load");
        return begun.elapsed();
    }
    let ready: Vec<Ready> = batches(&blueprint, table)
        .iter()
        .flat_map(|batch| (0..batch.rows()).flat_map(move |row| batch.row(row)))
        .map(|value| match value {
            ValueRef::Integer(number) => Ready::Integer(number),
            ValueRef::Real(number) => Ready::Real(number),
            other => Ready::Text(other.to_string()),
        })
        .collect();
    by_hand(&folder.path().join("floor.sqlite"), &schema.table(table).name, schema.table(table).columns.len(), &ready)
}

/// Ready-made rows by one prepared statement, raw binds, in one transaction.
fn by_hand(file: &Path, table: &str, width: usize, ready: &[Ready]) -> Duration {
    let begun = Instant::now();
    let connection = rusqlite::Connection::open(file).expect("the file opens");
    connection.execute_batch(&format!("PRAGMA foreign_keys = OFF; PRAGMA cache_size = -64000; BEGIN; {SQL}")).expect("the tables are made");
    let places = vec!["?"; width].join(", ");
    let mut insert = connection.prepare(&format!("INSERT INTO {table} VALUES ({places})")).expect("it is right");
    for row in ready.chunks(width) {
        for (at, value) in row.iter().enumerate() {
            match value {
                Ready::Integer(number) => insert.raw_bind_parameter(at + 1, number),
                Ready::Real(number) => insert.raw_bind_parameter(at + 1, number),
                Ready::Text(text) => insert.raw_bind_parameter(at + 1, text.as_str()),
            }
            .expect("the value is bound");
        }
        insert.raw_execute().expect("the row goes in");
    }
    drop(insert);
    connection.execute_batch("COMMIT").expect("the rows are kept");
    begun.elapsed()
}

fn place(folder: &Path) -> Ground<'_> {
    Ground { folder, server: None, name: "bench", owner: "test", variant: None }
}

/// Ready-made pieces of a binary COPY, the keys and statistics as after a fill.
fn postgres() {
    let engine = engine("postgres").expect("the engine is there");
    if let Err(error) = engine.version(None) {
        println!("left out: {error}");
        return;
    }
    let settings = engine.settings();
    let home = tempfile::tempdir().expect("a temporary folder");
    let (schema, blueprint) = data(TableId(1));
    engine.load(&place(home.path()), &schema, &blueprint, &settings, &mut |_| {}).expect("the rows load");
    let served = engine.serve(&place(home.path()), &settings).expect("the server starts");
    for (name, table) in [("plain table", PLAIN), ("texts and two references", TEXTS)] {
        copied(engine, &served.url().replacen("//kampf_reader@", "//kampf@", 1), name, table);
    }
    drop(served);
    engine.remove(&place(home.path())).expect("what was made can be removed");
}

fn copied(engine: &dyn Engine, url: &str, name: &str, table: TableId) {
    if !asked_for(&format!("postgres, {name}")) {
        return;
    }
    let (schema, blueprint) = data(table);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let on_server = Ground { folder: folder.path(), server: Some(url), name: "f1", owner: "test", variant: None };
    engine.load(&on_server, &schema, &blueprint, &[], &mut |_| {}).expect("the rows load");
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let client = runtime.block_on(async {
        let (client, connection) = tokio_postgres::connect(url, NoTls).await.expect("the server answers");
        tokio::spawn(connection);
        client
    });
    let tables: Vec<(String, Vec<Bytes>)> = schema
        .tables
        .iter()
        .map(|table| {
            let pieces = runtime.block_on(async {
                let sql = format!("COPY kampf_f1.{} TO STDOUT (FORMAT binary)", table.name);
                let rows = client.copy_out(&sql).await.expect("the rows can be copied");
                let all: Vec<Bytes> = rows.try_collect().await.expect("all rows come");
                let all: Vec<u8> = all.iter().flat_map(|piece| piece.iter().copied()).collect();
                all.chunks(64 * 1024).map(Bytes::copy_from_slice).collect()
            });
            (table.name.clone(), pieces)
        })
        .collect();
    let floor = || {
        runtime.block_on(async {
            let run = async |sql: &str| client.batch_execute(sql).await.expect("the statement runs");
            run("BEGIN; DROP SCHEMA IF EXISTS floor CASCADE; CREATE SCHEMA floor").await;
            for (name, pieces) in &tables {
                run(&format!("CREATE TABLE floor.{name} (LIKE kampf_f1.{name})")).await;
                let sink = client.copy_in(&format!("COPY floor.{name} FROM STDIN (FORMAT binary, FREEZE)")).await.expect("the copy begins");
                let mut sink = std::pin::pin!(sink);
                for piece in pieces {
                    sink.send(piece.clone()).await.expect("a piece goes in");
                }
                sink.finish().await.expect("the copy ends");
            }
            for (name, _) in &tables {
                run(&format!("ALTER TABLE floor.{name} ADD PRIMARY KEY (id)")).await;
            }
            run("ALTER TABLE floor.inspection ADD FOREIGN KEY (hive_id) REFERENCES floor.hive (id);
                 ALTER TABLE floor.inspection ADD FOREIGN KEY (keeper_id) REFERENCES floor.keeper (id); COMMIT")
            .await;
            for (name, _) in &tables {
                run(&format!("VACUUM (FREEZE, ANALYZE) floor.{name}")).await;
            }
        });
    };
    let own = Ground { name: "f2", ..on_server };
    compare(&format!("postgres, {name}"), Some(GOAL), 7, floor, || {
        engine.load(&own, &schema, &blueprint, &[], &mut |_| {}).expect("the rows load");
    });
}

/// A schema of 170 tables, each referring to one or two before it, with a million rows in all; and half as many tables with
/// half as many rows, which takes half the time unless a step grows faster than the schema.
fn many_tables() {
    if !asked_for("170 tables") {
        return;
    }
    let engine = engine("sqlite").expect("the engine is there");
    let whole = |tables: usize| {
        let mut sql = String::new();
        for table in 0..tables {
            let parent = |at: usize| format!("p{at} INTEGER NOT NULL REFERENCES t{at}, ");
            let first = if table > 0 { parent(table / 2) } else { String::new() };
            let second = if table > 4 { parent(table / 3) } else { String::new() };
            let _ = write!(
                sql,
                "CREATE TABLE t{table} (id INTEGER PRIMARY KEY, {first}{second}name VARCHAR(60) NOT NULL UNIQUE, at TIMESTAMP, n INTEGER NOT NULL CHECK (n >= 0), state VARCHAR(8) NOT NULL CHECK (state IN ('on', 'off')));"
            );
        }
        let begun = Instant::now();
        let schema = ddl::read(&sql).expect("the schema is right").schema;
        let rows = schema.ids().map(|id| (id, RowCount::Fixed(1_000_000 / 170))).collect();
        let blueprint = Blueprint::new(&schema, &Order { rows, ..Order::default() }).expect("the order is right");
        let planned = begun.elapsed();
        let folder = tempfile::tempdir().expect("a temporary folder");
        engine.load(&place(folder.path()), &schema, &blueprint, &engine.settings(), &mut |_| {}).expect("the rows load");
        (planned.as_secs_f64(), begun.elapsed().as_secs_f64())
    };
    let half = whole(85);
    let all = whole(170);
    println!(
        "{:<40} {:>9.2} s in all, {:.0} ms of it planning; 85 tables {:.2} s, {:.0} ms: {:.1} and {:.1} times as much for twice as many",
        "170 tables, a million rows",
        all.1,
        all.0 * 1e3,
        half.1,
        half.0 * 1e3,
        all.1 / half.1,
        all.0 / half.0
    );
}

/// The most memory that `kampf fill` holds, for few and for very many rows.
fn memory() {
    if !asked_for("memory") {
        return;
    }
    for (engine, sizes) in [("sqlite", &[100_000_u64, 1_000_000, 10_000_000][..]), ("postgres", &[100_000, 2_000_000])] {
        for &rows in sizes {
            let folder = tempfile::tempdir().expect("a temporary folder");
            std::fs::write(folder.path().join("hive.sql"), SQL).expect("the schema can be written");
            let project = format!("schema = \"hive.sql\"\n[rows]\nhive = 20_000\nkeeper = 500\ninspection = {rows}\n");
            std::fs::write(folder.path().join("kampf.toml"), project).expect("it can be written");
            let kampf = |arguments: &[&str]| {
                let mut command = Command::new(env!("CARGO_BIN_EXE_kampf"));
                command.args(arguments).current_dir(folder.path()).stdout(Stdio::null()).stderr(Stdio::null());
                command.spawn().expect("kampf runs")
            };
            let begun = Instant::now();
            let mut fill = kampf(&["fill", "--engine", engine]);
            let mut peak = 0_u64;
            while fill.try_wait().expect("it can be waited for").is_none() {
                let status = std::fs::read_to_string(format!("/proc/{}/status", fill.id())).unwrap_or_default();
                let held = status.lines().find_map(|line| line.strip_prefix("VmHWM:")?.split_whitespace().next()?.parse().ok());
                peak = peak.max(held.unwrap_or(0));
                std::thread::sleep(Duration::from_millis(5));
            }
            let seconds = begun.elapsed().as_secs_f64();
            println!(
                "{:<40} {:>9.1} MiB resident at most (goal: below 100), {seconds:.1} s",
                format!("memory, {engine}, {rows} rows"),
                peak as f64 / 1024.0
            );
            let _ = kampf(&["fill", "--remove"]).wait();
        }
    }
}
