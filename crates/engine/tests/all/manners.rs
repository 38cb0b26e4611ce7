//! How statements are sent, and that nothing is kept that an option does not say: told by the engine, not by those who send.

use crate::common::files::{Loaded, sqlite};
use crate::common::servers::{Loaded as OnServer, apiary, installed, postgres};
use kampf_contest::{
    Choice, ChoiceOption, Choices, EngineErrorKind, Execution, Fetch, Flow, GroupUnit, Grouped, Hydration, Loading, Need, NeedText, Sent,
    Session, Statement, Touch, Unit, derive, resolve,
};
use kampf_engine::Connection;
use kampf_schema::{Relations, Schema, Value, ValueRef};

/// Hives with a related row, in an order of their own.
fn hives(schema: &Schema) -> Need {
    let give = ["id", "label", "strain.name"].map(str::to_owned).into();
    let text = NeedText { from: "hive".into(), give, order: vec!["id".into()], limit: Some(9), ..NeedText::default() };
    resolve(schema, &Relations::of(schema), &text).unwrap()
}

fn choices(statement: Statement) -> Choices {
    Choices::default().with(Loading::Batched).with(Hydration::Record).with(statement)
}

/// Prepared statements that a SQLite connection has.
#[expect(unsafe_code, reason = "the driver has no wrapper for the library's list of statements")]
fn statements_of(connection: &rusqlite::Connection) -> usize {
    let mut many = 0;
    let mut statement = std::ptr::null_mut();
    loop {
        // SAFETY: the connection is open for as long as it is borrowed, and no statement ends meanwhile.
        statement = unsafe { rusqlite::ffi::sqlite3_next_stmt(connection.handle(), statement) };
        if statement.is_null() {
            return many;
        }
        many += 1;
    }
}

#[test]
fn what_is_parsed_or_built_leaves_no_statement_in_sqlite() {
    let (schema, blueprint) = apiary();
    let loaded = Loaded::new(&schema, &blueprint);
    let connection = rusqlite::Connection::open(loaded.0.path().join("dataset.sqlite")).unwrap();
    let need = hives(&schema);
    for (statement, fetch) in [(Statement::Prepared, Fetch::Whole), (Statement::Parsed, Fetch::Whole), (Statement::Built, Fetch::Whole)]
        .into_iter()
        .chain(Fetch::ALL.iter().map(|fetch| (Statement::Built, *fetch)))
    {
        let of = choices(statement).with_opt(fetch.opt().of_size(4));
        for unit in [Unit::None, Unit::One].into_iter().take(if fetch == Fetch::Stream { 1 } else { 2 }) {
            let mut session = kampf_engine::sqlite_session(&connection);
            let mut execution = Execution::new(derive(&schema, &need, sqlite().dialect(), &of.with(unit)), sqlite().dialect());
            let mut touch = Touch::default();
            for _ in 0..3 {
                execution.call(session.as_mut(), &[], &mut touch).unwrap();
            }
            assert_eq!(touch.rows(), 27);
            let kept = if statement == Statement::Prepared { 2 + if unit == Unit::One { 2 } else { 0 } } else { 0 };
            assert_eq!(statements_of(&connection), kept, "{of}");
        }
    }
}

#[test]
fn what_is_parsed_or_built_is_read_by_the_server_for_each_execution() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let loaded = OnServer::alone(&schema, &blueprint, &[]);
    loaded.execute(&["ALTER ROLE kampf_reader SET log_min_duration_statement = 0"]);
    let log = std::path::Path::new(&loaded.served().place()).parent().unwrap().join("server.log");
    let logged = |word: &str| std::fs::read_to_string(&log).unwrap().lines().filter(|line| line.contains(word)).count();
    let need = hives(&schema);
    for statement in Statement::ALL {
        let connection = loaded.connect();
        let mut session = connection.session();
        let mut execution = Execution::new(derive(&schema, &need, postgres().dialect(), &choices(*statement)), postgres().dialect());
        execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        let before = (logged("  parse "), logged("  execute "));
        for _ in 0..3 {
            execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        }
        let (parsed, executed) = (logged("  parse ") - before.0, logged("  execute ") - before.1);
        assert_eq!(executed, 6);
        assert_eq!(parsed, if *statement == Statement::Prepared { 0 } else { executed }, "{statement:?}");
        let mut kept = Vec::new();
        let sql = "SELECT count(*) FROM pg_prepared_statements";
        let mut take = |row: &[ValueRef<'_>]| {
            kept.push(row[0].to_value());
            Flow::More
        };
        session.carry_out(Sent::Text { sql, kinds: &[] }, &[], &mut take).unwrap();
        assert_eq!(kept, [Value::Integer(if *statement == Statement::Prepared { 2 } else { 0 })], "{statement:?}");
    }
}

/// What a cursor brings, a portion at a time, with what another statement says meanwhile.
struct Asking {
    rows: Vec<i64>,
    portions: Vec<usize>,
    most: usize,
}

impl kampf_contest::Sink for Asking {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        if let ValueRef::Integer(id) = row[0] {
            self.rows.push(id);
        }
        Flow::More
    }
}

impl kampf_contest::Portions for Asking {
    fn portion(&mut self, session: &mut dyn Session) -> Result<Flow, kampf_contest::EngineError> {
        self.portions.push(self.rows.len());
        let other = session.prepare("SELECT count(*) FROM strain", &[])?;
        let mut seen = 0;
        session.run(other, &[], &mut |_: &[ValueRef<'_>]| {
            seen += 1;
            Flow::More
        })?;
        assert_eq!(seen, 1);
        Ok(if self.portions.len() == self.most { Flow::Stop } else { Flow::More })
    }
}

/// The same of every engine's session.
fn a_session_does_what_it_promises(connection: &dyn Connection, hives: usize) {
    let mut session = connection.session();
    let sql = "SELECT id FROM hive ORDER BY id";
    let all = session.prepare(sql, &[]).unwrap();
    for sent in [Sent::Kept(all), Sent::Text { sql, kinds: &[] }] {
        let mut asking = Asking { rows: Vec::new(), portions: Vec::new(), most: usize::MAX };
        session.stream(sent, &[], 7, &mut asking).unwrap();
        assert!(asking.rows.is_sorted() && asking.rows.len() == hives, "{}", asking.rows.len());
        assert!(asking.portions.iter().enumerate().all(|(at, rows)| *rows == hives.min(7 * (at + 1))), "{:?}", asking.portions);
        let mut asking = Asking { rows: Vec::new(), portions: Vec::new(), most: 2 };
        session.stream(sent, &[], 7, &mut asking).unwrap();
        assert_eq!(asking.portions, [7, 14]);
    }
    // The statement itself is free again, and so is the connection.
    let mut first = 0;
    session
        .run(all, &[], &mut |_: &[ValueRef<'_>]| {
            first += 1;
            Flow::Stop
        })
        .unwrap();
    assert_eq!(first, 1);
    let one = session.prepare("SELECT count(*) FROM strain", &[]).unwrap();
    let (mut left, mut right, mut again) = (Vec::new(), 0, Vec::new());
    session.count();
    session
        .group(
            &mut [
                Grouped {
                    statement: one,
                    parameters: &[],
                    sink: &mut |row: &[ValueRef<'_>]| {
                        left.push(row[0].to_value());
                        Flow::More
                    },
                },
                Grouped {
                    statement: all,
                    parameters: &[],
                    sink: &mut |_: &[ValueRef<'_>]| {
                        right += 1;
                        Flow::More
                    },
                },
                Grouped {
                    statement: one,
                    parameters: &[],
                    sink: &mut |row: &[ValueRef<'_>]| {
                        again.push(row[0].to_value());
                        Flow::More
                    },
                },
            ],
            GroupUnit::Own,
        )
        .unwrap();
    let counted = session.counted();
    assert_eq!((right, left.len(), left == again), (hives, 1, true));
    assert_eq!((counted.statements, counted.round_trips, counted.rows), (5, 1, hives as u64 + 2));
}

#[test]
fn cursors_lend_the_connection_and_groups_are_one_trip() {
    let (schema, blueprint) = apiary();
    let hives = blueprint.rows(schema.find("hive").unwrap()) as usize;
    a_session_does_what_it_promises(Loaded::new(&schema, &blueprint).connect().as_ref(), hives);
    if installed() {
        a_session_does_what_it_promises(OnServer::shared(&schema, &blueprint).connect().as_ref(), hives);
    }
}

#[test]
fn a_statement_says_how_many_rows_it_changed_and_a_transaction_can_be_taken_back() {
    let connection = rusqlite::Connection::open_in_memory().unwrap();
    let mut session = kampf_engine::sqlite_session(&connection);
    let dialect = sqlite().dialect();
    let mut send = |sql: &str| session.carry_out(Sent::Text { sql, kinds: &[] }, &[], &mut |_: &[ValueRef<'_>]| Flow::More).unwrap();
    send("CREATE TABLE hive (id INTEGER PRIMARY KEY, frames INTEGER)");
    assert_eq!(send("INSERT INTO hive VALUES (1, 5), (2, 6), (3, 7)"), Some(3));
    assert_eq!(send("SELECT id FROM hive"), None);
    send(dialect.begin);
    assert_eq!(send("UPDATE hive SET frames = 0 WHERE frames > 5"), Some(2));
    send(dialect.rollback);
    assert_eq!(send("UPDATE hive SET frames = 1 WHERE frames > 5"), Some(2));
    assert_eq!(send("DELETE FROM hive WHERE frames > 5"), Some(0));
}

/// The same of every engine's session that may write.
fn a_group_stops_at_what_fails(session: &mut dyn Session) {
    let send = |session: &mut dyn Session, sql: &str| {
        let mut first = None;
        let sent = session.carry_out(Sent::Text { sql, kinds: &[] }, &[], &mut |row: &[ValueRef<'_>]| {
            first = row.first().map(|value| value.to_value());
            Flow::More
        });
        sent.unwrap();
        first
    };
    let group = |session: &mut dyn Session, statements: &[&str], unit: GroupUnit| {
        let ids: Vec<_> = statements.iter().map(|sql| session.prepare(sql, &[]).unwrap()).collect();
        let mut rows = vec![0; ids.len()];
        let mut sinks: Vec<_> = rows
            .iter_mut()
            .map(|rows| {
                move |_: &[ValueRef<'_>]| {
                    *rows += 1;
                    Flow::More
                }
            })
            .collect();
        let sinks = ids.iter().zip(&mut sinks);
        let mut members: Vec<_> = sinks.map(|(statement, sink)| Grouped { statement: *statement, parameters: &[], sink }).collect();
        let done = session.group(&mut members, unit).map_err(|error| error.kind);
        drop(members);
        done.map(|()| rows)
    };
    send(session, "CREATE TABLE taken (id INTEGER PRIMARY KEY)");
    let taken = |session: &mut dyn Session| send(session, "SELECT count(*) * 100 + coalesce(sum(id), 0) FROM taken").map(|n| n.to_string());
    let [one, two, three] = ["INSERT INTO taken VALUES (1)", "INSERT INTO taken VALUES (2)", "INSERT INTO taken VALUES (3)"];
    assert_eq!(group(session, &[one, one, two], GroupUnit::Own), Err(EngineErrorKind::Constraint));
    assert_eq!(taken(session).as_deref(), Some("0"), "all or nothing stays");
    assert_eq!(group(session, &[one, two], GroupUnit::Own), Ok(vec![0, 0]));
    assert_eq!(taken(session).as_deref(), Some("203"));
    send(session, "BEGIN");
    assert_eq!(group(session, &[three], GroupUnit::Open), Ok(vec![0]));
    assert_eq!(
        group(session, &["INSERT INTO taken VALUES (4)", one, "INSERT INTO taken VALUES (5)"], GroupUnit::Open),
        Err(EngineErrorKind::Constraint)
    );
    send(session, "ROLLBACK");
    assert_eq!(taken(session).as_deref(), Some("203"), "what was open is the caller's");
    // What comes for the first is more than waits in between.
    let many = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 100000) SELECT i FROM n";
    let large = group(session, &[many, "SELECT id FROM taken", many], GroupUnit::Own);
    assert_eq!(large, Ok(vec![100_000, 2, 100_000]));
}

#[test]
fn a_group_stops_at_the_first_that_fails_and_leaves_all_or_nothing() {
    let connection = rusqlite::Connection::open_in_memory().unwrap();
    a_group_stops_at_what_fails(kampf_engine::sqlite_session(&connection).as_mut());
    if installed() {
        let (schema, blueprint) = apiary();
        let loaded = OnServer::shared(&schema, &blueprint);
        let connection = postgres().connect(&loaded.own_url(), &[]).unwrap();
        a_group_stops_at_what_fails(connection.session().as_mut());
    }
}

#[test]
fn options_of_every_manner_are_known_by_their_words() {
    for word in ["fetch", "statement", "unit", "cache"] {
        assert!(Choice::from_word(word).is_some_and(|choice| choice.entry().is_manner), "{word}");
    }
}
