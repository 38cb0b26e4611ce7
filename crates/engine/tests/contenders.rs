//! Every derived contender of random needs on random small schemas answers like the plain evaluation, and sends as many
//! statements as SQLite itself sees.

use std::cell::Cell;

use kampf_contest::{Agreement, Collect, Execution, Field, Need, NeedText, Restriction, Touch, compare, derive, evaluate, resolve};
use kampf_engine::{GeneratedRows, engine};
use kampf_fill::{Blueprint, Order};
use kampf_schema::{HopKind, Relations, Schema, TableId, Value, ddl, expr};
use proptest::prelude::*;

/// A stream of choices drawn by proptest, so that cases shrink.
struct Dice(Vec<u32>, usize);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.1 += 1;
        self.0.get(self.1 - 1).map_or(0, |number| *number as usize % sides)
    }
}

fn random_ddl(dice: &mut Dice) -> String {
    let tables = 1 + dice.roll(4);
    let mut ddl = String::new();
    for table in 0..tables {
        let mut parts = Vec::new();
        let text_key = dice.roll(4) == 0;
        let keyed = dice.roll(8) != 0;
        match (keyed, text_key) {
            (true, true) => parts.push("id VARCHAR(90) PRIMARY KEY".to_owned()),
            (true, false) => parts.push("id INTEGER PRIMARY KEY".to_owned()),
            _ => parts.push("no INTEGER".to_owned()),
        }
        for parent in 0..table {
            if dice.roll(4) != 0 && ddl.contains(&format!("CREATE TABLE t{parent} (id")) {
                let kind = if ddl.contains(&format!("CREATE TABLE t{parent} (id V")) { "VARCHAR(90)" } else { "INTEGER" };
                let not_null = if dice.roll(2) == 0 { " NOT NULL" } else { "" };
                parts.push(format!("p{parent}_id {kind}{not_null} REFERENCES t{parent}"));
            }
        }
        if keyed && dice.roll(5) == 0 {
            let kind = if text_key { "VARCHAR(90)" } else { "INTEGER" };
            parts.push(format!("up_id {kind} REFERENCES t{table}"));
        }
        for (column, kind) in ["INTEGER", "DECIMAL(9, 2)", "REAL", "VARCHAR(80)", "BOOLEAN", "DATE", "TIMESTAMP"].iter().enumerate() {
            if dice.roll(2) == 0 {
                parts.push(format!("c{column} {kind}{}", if dice.roll(2) == 0 { " NOT NULL" } else { "" }));
            }
        }
        if parts.len() == 1 {
            parts.push("c0 INTEGER".to_owned());
        }
        ddl += &format!("CREATE TABLE t{table} ({});\n", parts.join(", "));
    }
    ddl
}

/// A walk along relations, with the names walked.
fn walk(dice: &mut Dice, schema: &Schema, relations: &Relations, root: TableId) -> (Vec<String>, TableId, bool) {
    let (mut names, mut at, mut many) = (Vec::new(), root, false);
    for _ in 0..dice.roll(4) {
        let next: Vec<_> = relations.from(at).collect();
        if next.is_empty() {
            break;
        }
        let relation = next[dice.roll(next.len())];
        names.push(relation.name.clone());
        many |= relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
        at = relation.hops.last().map_or(at, |hop| hop.to);
    }
    debug_assert!(at.0 < schema.tables.len());
    (names, at, many)
}

fn term(dice: &mut Dice, schema: &Schema, relations: &Relations, root: TableId) -> String {
    let (names, at, many) = walk(dice, schema, relations, root);
    let columns = &schema.table(at).columns;
    let column = &columns[dice.roll(columns.len())];
    let path = names.iter().chain([&column.name]).cloned().collect::<Vec<_>>().join(".");
    if !many {
        return path;
    }
    match dice.roll(4) {
        0 => format!("count({})", names.join(".")),
        1 if column.kind.is_number() => format!("sum({path})"),
        2 if column.kind.is_number() => format!("avg({path})"),
        3 if !matches!(column.kind, kampf_schema::LogicalType::Boolean) => format!("max({path})"),
        _ => format!("count({path})"),
    }
}

fn random_need(dice: &mut Dice, schema: &Schema, relations: &Relations) -> NeedText {
    let root = TableId(dice.roll(schema.tables.len()));
    let mut text = NeedText { from: schema.table(root).name.clone(), ..NeedText::default() };
    for number in 0..1 + dice.roll(4) {
        text.give.push(format!("{} as g{number}", term(dice, schema, relations, root)));
    }
    let mut conditions = Vec::new();
    for _ in 0..dice.roll(4) {
        let subject = term(dice, schema, relations, root);
        conditions.push(match dice.roll(7) {
            0 => format!("{subject} is null"),
            1 => format!("not {subject} is null"),
            2 => format!("{subject} = {subject}"),
            3 => format!(
                "count({}) > 1",
                relations
                    .from(root)
                    .find(|relation| relation.hops.iter().any(|hop| hop.kind == HopKind::Many))
                    .map_or("x", |relation| relation.name.as_str())
            ),
            4 => format!("{subject} between 10 and 500"),
            5 => format!("{subject} contains 'a'"),
            _ => format!("{subject} >= 50"),
        });
    }
    if !conditions.is_empty() {
        text.filter = Some(conditions.join(if dice.roll(2) == 0 { " and " } else { " or " }));
    }
    for _ in 0..dice.roll(3) {
        text.order.push(format!("{}{}", term(dice, schema, relations, root), if dice.roll(2) == 0 { " desc" } else { "" }));
    }
    if dice.roll(2) == 0 {
        text.limit = Some(dice.roll(12) as u64);
    }
    text
}

fn check_need(schema: &Schema, need: &Need, folder: &std::path::Path, blueprint: &Blueprint, shown: &str) -> usize {
    let sqlite = engine("sqlite").unwrap();
    let reference = evaluate(need, &GeneratedRows(blueprint), &[]);
    let field = Field::of(schema, need, sqlite.dialect(), &Restriction::default());
    for choices in &field.entered {
        assert!(field.valid.contains(choices));
    }
    for (at, choices) in field.entered.iter().enumerate().skip(1) {
        let near = field.entered.iter().any(|other| choices.distance(other) == 1);
        assert!(near, "{choices} ({at}) differs from no other in one choice only\n{shown}");
    }
    let connection = sqlite.connect(&sqlite.url(folder), &[]).unwrap();
    for choices in &field.valid {
        let plan = derive(schema, need, sqlite.dialect(), choices);
        let mut session = connection.session();
        let mut execution = Execution::new(plan.clone());
        let mut collect = Collect::default();
        let context = || format!("{choices}\n{shown}\n{}", plan.statements().join("\n"));
        execution.call(session.as_mut(), &[], &mut collect).unwrap_or_else(|error| panic!("{error}\n{}", context()));
        let agreement = compare(&reference, need.limit, &collect.rows);
        assert_eq!(agreement, Agreement::Same, "{}\nexpected {:?}\nfound {:?}", context(), reference.answer(need.limit), collect.rows);
        session.count();
        session.observe();
        execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        assert_eq!(session.counted().statements, session.observed().len() as u64);
    }
    field.valid.len()
}

thread_local! { static SEEN: Cell<u64> = const { Cell::new(0) }; }

#[expect(clippy::needless_pass_by_value, reason = "the driver asks for this form")]
fn seen_by_sqlite(event: rusqlite::trace::TraceEvent<'_>) {
    if let rusqlite::trace::TraceEvent::Profile(..) = event {
        SEEN.set(SEEN.get() + 1);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, max_shrink_iters: 300, ..ProptestConfig::default() })]
    #[test]
    fn all_contenders_answer_like_the_plain_evaluation(rolls in prop::collection::vec(any::<u32>(), 60..200)) {
        let mut dice = Dice(rolls, 0);
        let ddl = random_ddl(&mut dice);
        let schema = ddl::read(&ddl).unwrap().schema;
        let rows = schema.ids().map(|id| (id, expr::read_row_count(["7", "25", "40"][dice.roll(3)]).unwrap())).collect();
        let blueprint = Blueprint::new(&schema, &Order { rows, seed: dice.roll(1000) as u64, ..Order::default() }).unwrap();
        let folder = tempfile::tempdir().unwrap();
        engine("sqlite").unwrap().load(folder.path(), &schema, &blueprint, &[], &mut |_| {}).unwrap();
        let relations = Relations::of(&schema);
        for _ in 0..4 {
            let text = random_need(&mut dice, &schema, &relations);
            // Many random conditions compare what cannot be compared; those needs are refused, which is right.
            if let Ok(need) = resolve(&schema, &relations, &text) {
                check_need(&schema, &need, folder.path(), &blueprint, &format!("{ddl}\n{text:?}"));
            }
        }
    }
}

const APIARY: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, origin VARCHAR(80));
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label TEXT NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER NOT NULL, note TEXT);
    CREATE INDEX inspection_hive ON inspection (hive_id);";

#[test]
fn a_lazy_tracked_relation_is_fetched_once_and_a_plain_one_each_time() {
    let schema = ddl::read(APIARY).unwrap().schema;
    let order =
        Order { rows: [(TableId(0), expr::RowCount::Fixed(4)), (TableId(1), expr::RowCount::Fixed(60))].into(), ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let sqlite = engine("sqlite").unwrap();
    sqlite.load(folder.path(), &schema, &blueprint, &[], &mut |_| {}).unwrap();
    let text = NeedText {
        from: "hive".into(),
        give: vec!["label".into(), "strain.name".into(), "count(inspection)".into()],
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let field = Field::of(&schema, &need, sqlite.dialect(), &Restriction::default());
    let connection = sqlite.connect(&sqlite.url(folder.path()), &[]).unwrap();
    let statements = |name: &str| {
        let choices = field.valid.iter().find(|choices| choices.to_string() == name).unwrap_or_else(|| panic!("no {name}"));
        let mut session = connection.session();
        let mut execution = Execution::new(derive(&schema, &need, sqlite.dialect(), choices));
        session.count();
        execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        (session.counted().statements, execution.objects())
    };
    let inspections = blueprint.rows(TableId(2));
    assert_eq!(statements("lazy.all.tracked"), (1 + 4 + 60, 60 + 4 + inspections));
    assert_eq!(statements("lazy.all.plain"), (1 + 60 + 60, 60 + 60 + inspections));
    assert_eq!(statements("batched.all.tracked"), (3, 60 + 4 + inspections));
    assert_eq!(statements("joined.all.tracked"), (1, 60 + 4 + inspections));
    assert_eq!(statements("computed.needed.raw"), (1, 0));
}

#[test]
fn statements_counted_are_those_that_sqlite_sees() {
    let schema = ddl::read(APIARY).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order::default()).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let sqlite = engine("sqlite").unwrap();
    sqlite.load(folder.path(), &schema, &blueprint, &[], &mut |_| {}).unwrap();
    let text = NeedText {
        from: "hive".into(),
        give: vec!["strain.name".into(), "avg(inspection.temper)".into()],
        order: vec!["label".into()],
        limit: Some(30),
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let field = Field::of(&schema, &need, sqlite.dialect(), &Restriction::default());
    let mut raw = rusqlite::Connection::open(folder.path().join("dataset.sqlite")).unwrap();
    raw.trace_v2(rusqlite::trace::TraceEventCodes::SQLITE_TRACE_PROFILE, Some(seen_by_sqlite)).unwrap();
    assert!(field.valid.len() > 30);
    for transaction in [false, true] {
        for choices in &field.valid {
            let plan = kampf_contest::Plan { transaction, ..derive(&schema, &need, sqlite.dialect(), choices) };
            let mut session = kampf_engine::sqlite_session(&raw);
            session.count();
            SEEN.set(0);
            Execution::new(plan).call(session.as_mut(), &[], &mut Touch::default()).unwrap();
            assert_eq!(session.counted().statements, SEEN.get(), "{choices}");
        }
    }
}

#[test]
fn parameters_are_bound_wherever_the_work_is_done() {
    let schema = ddl::read(APIARY).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order::default()).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let sqlite = engine("sqlite").unwrap();
    sqlite.load(folder.path(), &schema, &blueprint, &[], &mut |_| {}).unwrap();
    let text = NeedText {
        from: "hive".into(),
        give: vec!["id".into(), "strain.name".into()],
        filter: Some("strain.id = :strain and count(inspection) >= :visits".into()),
        parameters: vec!["strain".into(), "visits".into()],
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let parameters = [Value::Integer(7), Value::Integer(9)];
    let reference = evaluate(&need, &GeneratedRows(&blueprint), &parameters);
    assert!(!reference.rows.is_empty());
    let connection = sqlite.connect(&sqlite.url(folder.path()), &[]).unwrap();
    for choices in Field::of(&schema, &need, sqlite.dialect(), &Restriction::default()).valid {
        let mut collect = Collect::default();
        let mut session = connection.session();
        Execution::new(derive(&schema, &need, sqlite.dialect(), &choices)).call(session.as_mut(), &parameters, &mut collect).unwrap();
        assert_eq!(compare(&reference, None, &collect.rows), Agreement::Same, "{choices}");
    }
}
