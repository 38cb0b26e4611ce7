//! Keys of other types: what filling with them takes against whole numbers, and look-ups by a UUID against code by hand with the driver's own type
//! of UUIDs, in the same run.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;
#[path = "common/sqlite.rs"]
mod sqlite;

use std::hint::black_box;

use common::{asked_for, compare, head};
use futures_util::TryStreamExt;
use kampf_contest::{Choices, Consumer, Execution, Hydration, NeedText, Plan, Touch, derive, resolve};
use kampf_engine::{Engine, Ground, LoadEvent, engine};
use kampf_fill::{Batch, Blueprint, Order};
use kampf_schema::expr::RowCount;
use kampf_schema::{KeyType, Relations, Schema, TableId, Value, ValueRef, ddl};
use uuid::Uuid;

/// Rows that have such keys themselves, and rows that refer to them.
const SQL: &str = "CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL, frames INTEGER NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER NOT NULL);
    CREATE INDEX inspection_hive ON inspection (hive_id);";
const HIVE: TableId = TableId(0);
const HIVES: u64 = 200_000;
const INSPECTIONS: u64 = 400_000;
const LOOK_UPS: u64 = 500;

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let engines = ["sqlite", "postgres"].map(|name| engine(name).expect("the engine is known"));
    let here: Vec<&dyn Engine> = engines.into_iter().filter(|engine| engine.version(None).is_ok()).collect();
    head();
    for engine in &here {
        filling(*engine);
    }
    sqlite_look_ups();
    if here.len() > 1 {
        postgres_look_ups();
    }
}

/// The rows with whole numbers, and with keys of a type.
fn data(engine: &dyn Engine, key_type: Option<KeyType>) -> (Schema, Blueprint) {
    let mut schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = [(HIVE, RowCount::Fixed(HIVES)), (TableId(1), RowCount::Fixed(INSPECTIONS))].into();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 5, ..Order::default() }).expect("the order is right");
    let Some(key_type) = key_type else { return (schema, blueprint) };
    let uuid = engine.dialect().uuid_key;
    let columns = schema.key_columns(HIVE).expect("the keys can be others");
    schema.rekey(&columns, key_type.kind(uuid));
    let blueprint = blueprint.with_keys(&[(columns, key_type)], uuid, 5);
    (schema, blueprint)
}

/// Making the rows, and loading them, with each type of keys against whole numbers.
fn filling(engine: &dyn Engine) {
    let own = data(engine, None);
    let make = |(_, blueprint): &(Schema, Blueprint)| {
        for table in [HIVE, TableId(1)] {
            let (mut batch, mut first) = (Batch::default(), 0);
            loop {
                let rows = blueprint.batch(table, first, &mut batch);
                if rows == 0 {
                    break;
                }
                first += rows as u64;
            }
            black_box(&batch);
        }
    };
    // Without what starting a server takes.
    let load = |(schema, blueprint): &(Schema, Blueprint)| {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let place = Ground { folder: folder.path(), server: None, name: "bench", owner: "test", variant: None };
        let mut seconds = 0.0;
        let mut heard = |event: LoadEvent<'_>| {
            if let LoadEvent::Loaded(took) = event {
                seconds = took.as_secs_f64();
            }
        };
        engine.load(&place, schema, blueprint, &engine.settings(), &mut heard).expect("the rows load");
        engine.remove(&place).expect("what was made can be removed");
        seconds
    };
    for key_type in [KeyType::Uuid7, KeyType::Uuid4, KeyType::Text] {
        let keyed = data(engine, Some(key_type));
        let name = |what: &str| format!("{}, {what} {}", engine.name(), key_type.word());
        compare(&name("making"), None, 11, || make(&own), || make(&keyed));
        if asked_for(&name("filling")) {
            let turns: Vec<(f64, f64)> = (0..5).map(|_| (load(&own), load(&keyed))).collect();
            let middle =
                |of: &dyn Fn(&(f64, f64)) -> f64| kampf_race::median(&turns.iter().map(of).collect::<Vec<_>>()).unwrap_or_default();
            let (floor, kampf) = (middle(&|turn| turn.0), middle(&|turn| turn.1));
            let ratio = middle(&|turn| turn.1 / turn.0);
            println!("{:<40} {:>9.0} ms {:>9.0} ms {ratio:>7.3}  published", name("filling"), floor * 1e3, kampf * 1e3);
        }
    }
}

/// The leanest plan that keeps records, and keys of rows all over the table.
fn look_up(engine: &'static dyn Engine, schema: &Schema, blueprint: &Blueprint) -> (Plan, Vec<Value>) {
    let text = NeedText {
        from: "hive".into(),
        give: ["id", "label", "frames"].map(str::to_owned).into(),
        filter: Some("id = :hive".into()),
        parameters: vec!["hive".into()],
        ..NeedText::default()
    };
    let need = resolve(schema, &Relations::of(schema), &text).expect("the need is right");
    let plan = derive(schema, &need, engine.dialect(), &Choices::default().with(kampf_contest::Work::Database).with(Hydration::Record));
    let keys = (0..LOOK_UPS).map(|at| blueprint.value(HIVE, at * (HIVES / LOOK_UPS), 0)).collect();
    (plan, keys)
}

/// What code by hand keeps of a row.
struct Hive {
    id: Uuid,
    label: String,
    frames: i64,
}

impl Hive {
    fn touch(&self, touch: &mut Touch) {
        touch.row();
        touch.value(ValueRef::Uuid(*self.id.as_bytes()));
        touch.value(ValueRef::Text(&self.label));
        touch.value(ValueRef::Integer(self.frames));
    }
}

const LOOK_UP: &str = "SELECT id, label, frames FROM hive WHERE id = ";

/// By a UUID, and for what it says of that by a whole number.
fn sqlite_look_ups() {
    let uuid = format!("sqlite, {LOOK_UPS} look-ups by uuid, record");
    let integer = format!("sqlite, {LOOK_UPS} look-ups by integer, record");
    if asked_for(&uuid) {
        sqlite_look_up(&uuid, Some(KeyType::Uuid7), Some(1.05), &|row| Hive {
            id: row.get(0).expect(GET),
            label: row.get(1).expect(GET),
            frames: row.get(2).expect(GET),
        });
    }
    if asked_for(&integer) {
        sqlite_look_up(&integer, None, None, &|row| Hive {
            id: Uuid::from_u64_pair(0, row.get::<_, i64>(0).expect(GET).unsigned_abs()),
            label: row.get(1).expect(GET),
            frames: row.get(2).expect(GET),
        });
    }
}

const GET: &str = "the column fits";

fn sqlite_look_up(name: &str, key_type: Option<KeyType>, goal: Option<f64>, read: &dyn Fn(&rusqlite::Row<'_>) -> Hive) {
    let engine = engine("sqlite").expect("SQLite is always there");
    let (schema, blueprint) = data(engine, key_type);
    let (plan, keys) = look_up(engine, &schema, &blueprint);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let connection = sqlite::opened(&sqlite::loaded(folder.path(), &schema, &blueprint));
    let mut statement = connection.prepare(&format!("{LOOK_UP}?1")).expect("the statement is right");
    // As the driver's own types.
    let own: Vec<Box<dyn rusqlite::ToSql>> = keys
        .iter()
        .map(|key| -> Box<dyn rusqlite::ToSql> {
            match key {
                Value::Blob(bytes) => Box::new(Uuid::from_slice(bytes).expect("sixteen bytes")),
                Value::Integer(number) => Box::new(*number),
                other => panic!("{other} is no key of these"),
            }
        })
        .collect();
    let floor = || {
        for key in &own {
            let mut kept: Vec<Hive> = Vec::new();
            let mut rows = statement.query([key]).expect("the query runs");
            while let Some(row) = rows.next().expect("a row comes") {
                kept.push(read(row));
            }
            let mut touch = Touch::default();
            kept.iter().for_each(|hive| hive.touch(&mut touch));
            assert_eq!(black_box(touch).rows(), 1);
        }
    };
    let sets: Vec<Vec<Value>> = keys.into_iter().map(|key| vec![key]).collect();
    let mut session = kampf_engine::sqlite_session(&connection);
    let mut execution = Execution::new(plan, engine.dialect());
    compare(name, goal, 301, floor, || {
        for set in &sets {
            let mut touch = Touch::default();
            execution.call(session.as_mut(), set, &mut touch).expect("the call succeeds");
            assert_eq!(black_box(touch).rows(), 1);
        }
    });
}

fn postgres_look_ups() {
    let name = format!("postgres, {LOOK_UPS} look-ups by uuid, record");
    if !asked_for(&name) {
        return;
    }
    let engine = engine("postgres").expect("the engine is known");
    let (schema, blueprint) = data(engine, Some(KeyType::Uuid7));
    let (plan, keys) = look_up(engine, &schema, &blueprint);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let place = Ground { folder: folder.path(), server: None, name: "bench", owner: "test", variant: None };
    let settings = engine.settings();
    engine.load(&place, &schema, &blueprint, &settings, &mut |_| {}).expect("the rows load");
    let served = engine.serve(&place, &settings).expect("the server starts");
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let client = runtime.block_on(async {
        let (client, connection) = tokio_postgres::connect(served.url(), tokio_postgres::NoTls).await.expect("the server answers");
        tokio::spawn(connection);
        client
    });
    let statement = runtime.block_on(client.prepare(&format!("{LOOK_UP}$1"))).expect("the statement is right");
    let own = |key: &Value| if let Value::Uuid(bytes) = key { Uuid::from_bytes(*bytes) } else { panic!("{key} is no UUID") };
    let uuids: Vec<Uuid> = keys.iter().map(own).collect();
    let floor = || {
        for uuid in &uuids {
            let kept: Vec<Hive> = runtime.block_on(async {
                let rows = client.query_raw(&statement, [uuid]).await.expect("the query runs");
                let rows = rows.map_ok(|row| Hive { id: row.get(0), label: row.get(1), frames: row.get(2) });
                rows.try_collect().await.expect("a row comes")
            });
            let mut touch = Touch::default();
            kept.iter().for_each(|hive| hive.touch(&mut touch));
            assert_eq!(black_box(touch).rows(), 1);
        }
    };
    let sets: Vec<Vec<Value>> = keys.into_iter().map(|key| vec![key]).collect();
    let connection = engine.connect(served.url(), &[]).expect("the server answers");
    let mut session = connection.session();
    let mut execution = Execution::new(plan, engine.dialect());
    compare(&name, Some(1.05), 101, floor, || {
        for set in &sets {
            let mut touch = Touch::default();
            execution.call(session.as_mut(), set, &mut touch).expect("the call succeeds");
            assert_eq!(black_box(touch).rows(), 1);
        }
    });
    drop((execution, session));
    drop((connection, served));
    engine.remove(&place).expect("what was made can be removed");
}
