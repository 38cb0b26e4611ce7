//! What reading in portions, sending statements in other forms and keeping answers cost, each as a ratio to hand-written code that does
//! the same in the same run.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;
#[path = "common/sqlite.rs"]
mod sqlite;

use std::collections::HashMap;
use std::hint::black_box;

use common::{compare, head};
use kampf_contest::{
    Cache, ChoiceOption, Choices, Consumer, Execution, Fetch, Hydration, NeedText, Session, Statement, Touch, Work, derive, resolve,
};
use kampf_engine::{engine, sqlite_session};
use kampf_fill::{Blueprint, Order};
use kampf_schema::{Relations, Schema, TableId, Value, ValueRef, ddl, expr::RowCount};
use rusqlite::{Connection, Row, Statement as Prepared};
use sqlite::{loaded, opened};

#[global_allocator]
static ALLOCATOR: kampf_runner::CountingAllocator = kampf_runner::CountingAllocator;

const SQL: &str = "CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL, frames INTEGER NOT NULL, weight REAL NOT NULL,
      remarks VARCHAR(80) NOT NULL);";
const HIVES: u64 = 100_000;
const PORTION: usize = 1_000;
const KEYS: i64 = 1_000;
const SCAN: &str = "SELECT id, label, frames, weight, remarks FROM hive ORDER BY id";

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = [(TableId(0), RowCount::Fixed(HIVES))].into();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 5, ..Order::default() }).expect("the order is right");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let file = loaded(folder.path(), &schema, &blueprint);
    let connection = opened(&file);
    head();
    portions(&schema, &connection);
    sending(&schema, &connection);
    kept(&schema, &connection);
}

struct Hive {
    id: i64,
    label: String,
    frames: i64,
    weight: f64,
    remarks: String,
}

impl Hive {
    fn of(row: &Row<'_>) -> Hive {
        let get = "the column fits";
        Hive {
            id: row.get(0).expect(get),
            label: row.get(1).expect(get),
            frames: row.get(2).expect(get),
            weight: row.get(3).expect(get),
            remarks: row.get(4).expect(get),
        }
    }

    fn touch(&self, touch: &mut Touch) {
        touch.row();
        touch.value(ValueRef::Integer(self.id));
        touch.value(ValueRef::Text(&self.label));
        touch.value(ValueRef::Integer(self.frames));
        touch.value(ValueRef::Real(self.weight));
        touch.value(ValueRef::Text(&self.remarks));
    }
}

/// A contender for all hives, or for one by its key.
fn contender(schema: &Schema, by_key: bool, choices: &Choices) -> Execution {
    let give = ["id", "label", "frames", "weight", "remarks"].map(str::to_owned).into();
    let (filter, order) = if by_key { (Some("id = :id".to_owned()), Vec::new()) } else { (None, vec!["id".to_owned()]) };
    let parameters = if by_key { vec!["id".to_owned()] } else { Vec::new() };
    let text = NeedText { from: "hive".into(), give, filter, order, parameters, ..NeedText::default() };
    let need = resolve(schema, &Relations::of(schema), &text).expect("the need is right");
    let dialect = engine("sqlite").expect("SQLite is always there").dialect();
    Execution::new(derive(schema, &need, dialect, choices), dialect)
}

fn usual(hydration: Hydration) -> Choices {
    Choices::default().with(Work::Database).with(hydration)
}

fn read_all(execution: &mut Execution, session: &mut dyn Session) {
    let mut touch = Touch::default();
    execution.call(session, &[], &mut touch).expect("the call succeeds");
    assert_eq!(black_box(touch).rows(), HIVES);
}

/// Reads what a statement gives into a portion, and touches it.
fn portion(statement: &mut Prepared<'_>, parameters: impl rusqlite::Params, touch: &mut Touch) -> Option<i64> {
    let mut hives: Vec<Hive> = Vec::new();
    let mut rows = statement.query(parameters).expect("the query runs");
    while let Some(row) = rows.next().expect("a row comes") {
        hives.push(Hive::of(row));
    }
    hives.iter().for_each(|hive| hive.touch(touch));
    hives.last().filter(|_| hives.len() == PORTION).map(|hive| hive.id)
}

/// 100,000 rows by a thousand at a time, as records.
fn portions(schema: &Schema, connection: &Connection) {
    let mut whole = connection.prepare(SCAN).expect("the statement is right");
    let streamed = || {
        let mut touch = Touch::default();
        let mut hives: Vec<Hive> = Vec::new();
        let mut rows = whole.query([]).expect("the query runs");
        loop {
            let row = rows.next().expect("a row comes");
            if row.is_none() || hives.len() == PORTION {
                hives.iter().for_each(|hive| hive.touch(&mut touch));
                hives = Vec::new();
            }
            let Some(row) = row else { break };
            hives.push(Hive::of(row));
        }
        assert_eq!(black_box(touch).rows(), HIVES);
    };
    let option = |fetch: Fetch| usual(Hydration::Record).with_opt(fetch.opt().of_size(PORTION as u32));
    let mut session = sqlite_session(connection);
    let mut execution = contender(schema, false, &option(Fetch::Stream));
    compare("stream:1000, record", Some(1.05), 31, streamed, || read_all(&mut execution, session.as_mut()));

    let mut first = connection.prepare(&format!("{SCAN} LIMIT {PORTION}")).expect("the statement is right");
    let next = format!("{} LIMIT {PORTION}", SCAN.replace("ORDER", "WHERE id > ?1 ORDER"));
    let mut next = connection.prepare(&next).expect("the statement is right");
    let chunked = || {
        let mut touch = Touch::default();
        let mut last = portion(&mut first, [], &mut touch);
        while let Some(id) = last {
            last = portion(&mut next, [id], &mut touch);
        }
        assert_eq!(black_box(touch).rows(), HIVES);
    };
    let mut execution = contender(schema, false, &option(Fetch::Chunks));
    compare("chunks:1000, record", Some(1.05), 31, chunked, || read_all(&mut execution, session.as_mut()));

    let mut paged = connection.prepare(&format!("{SCAN} LIMIT {PORTION} OFFSET ?1")).expect("the statement is right");
    let pages = || {
        let (mut touch, mut before) = (Touch::default(), 0);
        while portion(&mut paged, [before as i64], &mut touch).is_some() {
            before += PORTION;
        }
        assert_eq!(black_box(touch).rows(), HIVES);
    };
    let mut execution = contender(schema, false, &option(Fetch::Pages));
    compare("pages:1000, record", None, 11, pages, || read_all(&mut execution, session.as_mut()));
}

fn look_up(execution: &mut Execution, session: &mut dyn Session) {
    let mut touch = Touch::default();
    for id in 1..=KEYS {
        execution.call(session, &[Value::Integer(id)], &mut touch).expect("the call succeeds");
    }
    assert_eq!(black_box(touch).rows(), KEYS as u64);
}

/// A thousand look-ups by key, sent in each form, against a prepared statement by hand.
fn sending(schema: &Schema, connection: &Connection) {
    let sql = SCAN.replace("ORDER BY id", "WHERE id = ?1");
    let mut prepared = connection.prepare(&sql).expect("the statement is right");
    let mut floor = || {
        let mut touch = Touch::default();
        for id in 1..=KEYS {
            prepared.query_row([id], |row| Ok(Hive::of(row))).expect("the row is there").touch(&mut touch);
        }
        assert_eq!(black_box(touch).rows(), KEYS as u64);
    };
    for statement in [Statement::Prepared, Statement::Parsed, Statement::Built] {
        let mut session = sqlite_session(connection);
        let mut execution = contender(schema, true, &usual(Hydration::Record).with(statement));
        let name = format!("{KEYS} look-ups, record, {}", statement.word());
        compare(&name, None, 31, &mut floor, || look_up(&mut execution, session.as_mut()));
    }
}

/// A thousand answers that are kept, against a map from key to row by hand.
fn kept(schema: &Schema, connection: &Connection) {
    let mut prepared = connection.prepare(SCAN).expect("the statement is right");
    let mut map: HashMap<i64, Hive> = HashMap::new();
    let mut rows = prepared.query([]).expect("the query runs");
    while map.len() < KEYS as usize {
        let hive = Hive::of(rows.next().expect("a row comes").expect("there are enough"));
        map.insert(hive.id, hive);
    }
    let parameters: Vec<[Value; 1]> = (1..=KEYS).map(|id| [Value::Integer(id)]).collect();
    for (hydration, goal) in [(Hydration::Record, Some(1.2)), (Hydration::Plain, None), (Hydration::Map, None), (Hydration::Managed, None)]
    {
        let mut session = sqlite_session(connection);
        let mut execution = contender(schema, true, &usual(hydration).with(Cache::Warm));
        look_up(&mut execution, session.as_mut());
        let floor = || {
            let mut touch = Touch::default();
            for id in &parameters {
                let [Value::Integer(id)] = id else { continue };
                map.get(id).expect("it is kept").touch(&mut touch);
            }
            assert_eq!(black_box(touch).rows(), KEYS as u64);
        };
        compare(&format!("{KEYS} hits, {}", hydration.word()), goal, 301, floor, || {
            let mut touch = Touch::default();
            for id in &parameters {
                execution.call(session.as_mut(), id, &mut touch).expect("the call succeeds");
            }
            assert_eq!(black_box(touch).rows(), KEYS as u64);
        });
    }
}
