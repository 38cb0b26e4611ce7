use kampf_fill::Order;
use kampf_schema::{LogicalType, ddl};

use super::*;

#[test]
fn every_type_goes_in_and_comes_back_and_all_constraints_hold() {
    let ddl = "CREATE TABLE keeper (id UUID PRIMARY KEY, born DATE NOT NULL, fee DECIMAL(9, 2), active BOOLEAN NOT NULL, photo BLOB);
        CREATE TABLE visit (id INTEGER PRIMARY KEY, keeper_id UUID REFERENCES keeper, at TIMESTAMP NOT NULL, weight REAL, note TEXT UNIQUE,
          mites INTEGER CHECK (mites >= 0 AND mites < 40));
        CREATE TABLE day (id INTEGER PRIMARY KEY, note TEXT);
        CREATE INDEX visit_keeper ON visit (keeper_id);";
    let schema = ddl::read(ddl).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order { seed: 3, ..Order::default() }).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let mut events = Vec::new();
    let loaded = Sqlite
        .load(
            &Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None },
            &schema,
            &blueprint,
            &[],
            &mut |event| {
                events.push(format!("{event:?}"));
            },
        )
        .unwrap();
    assert_eq!(loaded[0].rows, blueprint.rows(kampf_schema::TableId(0)));
    let last: Vec<&String> = events.iter().rev().take_while(|event| *event != "Indexes").collect();
    let (loaded, rest) = last.split_first().unwrap();
    let (statistics, indexed) = rest.split_first().unwrap();
    assert!(
        loaded.starts_with("Loaded(") && *statistics == "Statistics" && indexed.iter().all(|event| event.starts_with("Indexed(")),
        "{last:?}"
    );
    assert!(indexed.iter().any(|event| event.starts_with("Indexed(\"visit_keeper\", ")), "{last:?}");
    let check = rusqlite::Connection::open(file_of(folder.path(), None)).unwrap();
    let broken: i64 = check.query_row("SELECT count(*) FROM pragma_foreign_key_check", [], |row| row.get(0)).unwrap();
    assert_eq!(broken, 0);
    // Statistics are as ANALYZE itself would leave them.
    let statistics = |check: &rusqlite::Connection| {
        let mut rows = check.prepare("SELECT tbl, idx, stat FROM sqlite_stat1 ORDER BY tbl, idx").unwrap();
        let rows = rows.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).unwrap();
        rows.map(Result::unwrap).collect::<Vec<(String, Option<String>, String)>>()
    };
    let ours = statistics(&check);
    check.execute_batch("BEGIN; ANALYZE").unwrap();
    assert_eq!(ours, statistics(&check));
    check.execute_batch("ROLLBACK").unwrap();
    let connection = Sqlite.connect(&file_of(folder.path(), None).to_string_lossy(), &[]).unwrap();
    assert!(connection.sizes().unwrap().iter().any(|size| size.table == "visit" && size.bytes > 4096));
    let mut session = connection.session();
    for id in schema.ids() {
        let table = schema.table(id);
        let kinds: Vec<Option<LogicalType>> = table.columns.iter().map(|column| Some(column.kind)).collect();
        let statement = session.prepare(&format!("SELECT * FROM {} ORDER BY rowid", table.name), &kinds).unwrap();
        let mut row = 0;
        let mut sink = |found: &[kampf_schema::ValueRef<'_>]| {
            for (column, value) in found.iter().enumerate() {
                assert_eq!(value.to_value(), blueprint.value(id, row, column), "{} row {row} column {column}", table.name);
            }
            row += 1;
            kampf_contest::Flow::More
        };
        session.run(statement, &[], &mut sink).unwrap();
        assert_eq!(row, blueprint.rows(id));
    }
}

#[test]
fn what_is_not_a_dataset_or_breaks_a_rule_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(Sqlite.connect(&file_of(folder.path(), None).to_string_lossy(), &[]).err().unwrap().kind, EngineErrorKind::Unreachable);
    rusqlite::Connection::open(file_of(folder.path(), None)).unwrap().execute_batch("CREATE TABLE a (b)").unwrap();
    assert!(
        Sqlite
            .connect(&file_of(folder.path(), None).to_string_lossy(), &[])
            .err()
            .unwrap()
            .message
            .contains("is not a database that Kampf made")
    );
    let schema = ddl::read("CREATE TABLE a (id INTEGER PRIMARY KEY, b INTEGER NOT NULL CHECK (likely(b < 5)))").unwrap().schema;
    let recipe = kampf_schema::expr::read_recipe("1..9").unwrap();
    let order = Order { values: [((kampf_schema::TableId(0), 1), recipe)].into(), ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let other = tempfile::tempdir().unwrap();
    let error = Sqlite
        .load(
            &Ground { folder: other.path(), server: None, name: "test", owner: "test", variant: None },
            &schema,
            &blueprint,
            &[],
            &mut |_| {},
        )
        .unwrap_err();
    assert_eq!(error.message, "the rows made for `a` break a rule of the schema; SQLite says: CHECK constraint failed: likely(b < 5)");
}

#[test]
fn a_value_that_is_not_of_its_type_is_an_error_and_a_sink_may_stop() {
    let connection = rusqlite::Connection::open_in_memory().unwrap();
    let mut session = session_on(&connection);
    let text = session.prepare("SELECT 'five'", &[Some(LogicalType::Integer)]).unwrap();
    let error = session.run(text, &[], &mut |_: &[kampf_schema::ValueRef<'_>]| kampf_contest::Flow::More).unwrap_err();
    assert_eq!(error.message, "column 1 holds the text `five`, which is not integer");
    let many = session.prepare("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9) SELECT i FROM n", &[]).unwrap();
    session.count();
    let mut seen = 0;
    let mut stop = |_: &[kampf_schema::ValueRef<'_>]| {
        seen += 1;
        if seen == 3 { kampf_contest::Flow::Stop } else { kampf_contest::Flow::More }
    };
    session.run(many, &[], &mut stop).unwrap();
    assert_eq!((session.counted().rows, seen), (3, 3));
}
