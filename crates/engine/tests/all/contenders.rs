//! Every derived contender of random needs on random small schemas answers like the plain evaluation, and sends as many
//! statements as SQLite itself sees.

use std::cell::{Cell, RefCell};

use crate::common::files::{Loaded, sqlite};
use crate::common::needs::data::{random_data, random_data_of};
use crate::common::needs::{self, Tally, check_needs, schemas};
use crate::common::{Dice, check_need, mixed};
use kampf_contest::{Agreement, Collect, Execution, Field, NeedText, Restriction, Touch, compare, derive, evaluate, resolve};
use kampf_engine::GeneratedRows;
use kampf_fill::{Blueprint, Order};
use kampf_mangle::{often, property};
use kampf_schema::{Relations, TableId, Value, ddl, expr};
use proptest::prelude::*;
use proptest::test_runner::TestRunner;

thread_local! {
    static SEEN: Cell<u64> = const { Cell::new(0) };
    static ROWS: Cell<u64> = const { Cell::new(0) };
}

#[expect(clippy::needless_pass_by_value, reason = "the driver asks for this form")]
fn seen_by_sqlite(event: rusqlite::trace::TraceEvent<'_>) {
    match event {
        rusqlite::trace::TraceEvent::Profile(..) => SEEN.set(SEEN.get() + 1),
        rusqlite::trace::TraceEvent::Row(_) => ROWS.set(ROWS.get() + 1),
        _ => {}
    }
}

#[test]
fn all_contenders_answer_like_the_plain_evaluation() {
    let tally = RefCell::new(Tally::default());
    let config = ProptestConfig { max_shrink_iters: 20, failure_persistence: None, ..property(schemas(40)) };
    let mut runner = TestRunner::new(config);
    let done = runner.run(&prop::collection::vec(any::<u32>(), 600..1500), |rolls| {
        let mut dice = Dice(rolls, 0);
        let (ddl, schema, blueprint) = random_data(&mut dice);
        let loaded = Loaded::new(&schema, &blueprint);
        let connection = loaded.connect();
        check_needs(sqlite(), connection.as_ref(), &mut dice, (&ddl, &schema, &blueprint), 5, &mut tally.borrow_mut());
        Ok(())
    });
    done.unwrap_or_else(|error| panic!("{error}"));
    tally.into_inner().is_enough();
}

#[test]
#[ignore = "minutes: more rows than are worked out for every race"]
fn all_contenders_answer_like_the_plain_evaluation_over_more_than_half_a_million_rows() {
    let mut tally = Tally::default();
    let mut largest = 0;
    for number in 0..often(12) {
        let mut dice = Dice((0..1500).map(|roll| mixed(number * 5003 + roll)).collect(), 0);
        let (ddl, schema, blueprint) = random_data_of(&mut dice, ["50", "700", "520_000"]);
        largest = largest.max(schema.ids().map(|table| blueprint.rows(table)).sum());
        let loaded = Loaded::new(&schema, &blueprint);
        check_needs(sqlite(), loaded.connect().as_ref(), &mut dice, (&ddl, &schema, &blueprint), 1, &mut tally);
        needs::told(&format!("{largest} rows, {} contenders so far", tally.contenders));
    }
    assert!(tally.accepted > 4 && largest > 500_000, "{largest} rows: {tally:?}");
}

#[test]
fn a_lazy_tracked_relation_is_fetched_once_and_a_plain_one_each_time() {
    let schema = ddl::read(crate::common::servers::APIARY).unwrap().schema;
    let order =
        Order { rows: [(TableId(0), expr::RowCount::Fixed(4)), (TableId(1), expr::RowCount::Fixed(60))].into(), ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let loaded = Loaded::new(&schema, &blueprint);
    let text = NeedText {
        from: "hive".into(),
        give: vec!["label".into(), "strain.name".into(), "count(inspection)".into()],
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let field = Field::of(&schema, &need, sqlite().dialect(), &Restriction::default());
    let connection = loaded.connect();
    let statements = |name: &str| {
        let choices = field.valid.iter().find(|choices| choices.to_string() == name).unwrap_or_else(|| panic!("no {name}"));
        let mut session = connection.session();
        let mut execution = Execution::new(derive(&schema, &need, sqlite().dialect(), choices), sqlite().dialect());
        session.count();
        execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        (session.counted().statements, execution.objects())
    };
    let inspections = blueprint.rows(TableId(2));
    assert_eq!(statements("lazy.all.managed"), (1 + 4 + 60, 60 + 4 + inspections));
    assert_eq!(statements("lazy.all.plain"), (1 + 60 + 60, 60 + 60 + inspections));
    assert_eq!(statements("batched.all.managed"), (3, 60 + 4 + inspections));
    assert_eq!(statements("joined.all.managed"), (1, 60 + 4 + inspections));
    assert_eq!(statements("computed.needed.raw"), (1, 0));
}

#[test]
fn an_entity_is_one_in_whichever_list_it_stands() {
    let schema = ddl::read(crate::common::servers::APIARY).unwrap().schema;
    let rows = [("strain", "4"), ("hive", "60"), ("inspection", "9 per hive")];
    let rows = rows.iter().map(|(table, rows)| (schema.find(table).unwrap(), expr::read_row_count(rows).unwrap())).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, ..Order::default() }).unwrap();
    let loaded = Loaded::new(&schema, &blueprint);
    let text = NeedText {
        from: "strain".into(),
        give: [
            "name",
            "hive { label, inspection order temper limit 2 { temper, hive.strain.name as strain } as calm } as hives",
            "hive.inspection where temper > 3 { temper, hive.label as label } as fierce",
        ]
        .map(str::to_owned)
        .into(),
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let field = Field::of(&schema, &need, sqlite().dialect(), &Restriction::default());
    let connection = loaded.connect();
    let objects = |name: &str| {
        let choices = field.valid.iter().find(|choices| choices.to_string() == name).unwrap_or_else(|| panic!("no {name}"));
        let mut session = connection.session();
        let mut execution = Execution::new(derive(&schema, &need, sqlite().dialect(), choices), sqlite().dialect());
        execution.call(session.as_mut(), &[], &mut Touch::default()).unwrap();
        execution.objects()
    };
    let all: u64 = (0..3).map(|table| blueprint.rows(TableId(table))).sum();
    for loading in ["lazy", "batched", "joined"] {
        assert_eq!(objects(&format!("{loading}.all.managed")), all, "{loading}");
        assert!(objects(&format!("{loading}.all.plain")) > all, "{loading}");
    }
}

#[test]
fn statements_counted_are_those_that_sqlite_sees() {
    let schema = ddl::read(crate::common::servers::APIARY).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order::default()).unwrap();
    let loaded = Loaded::new(&schema, &blueprint);
    let mut raw = rusqlite::Connection::open(loaded.0.path().join("dataset.sqlite")).unwrap();
    let codes = rusqlite::trace::TraceEventCodes::SQLITE_TRACE_PROFILE | rusqlite::trace::TraceEventCodes::SQLITE_TRACE_ROW;
    // The schema is read now, and not with the first statement that is looked at.
    let _: i64 = raw.query_row("SELECT count(*) FROM hive", [], |row| row.get(0)).unwrap();
    raw.trace_v2(codes, Some(seen_by_sqlite)).unwrap();
    let mut tried = 0;
    for (text, parameters) in needs::every_form("hive", "strain", "label", "inspection", "temper") {
        let need = resolve(&schema, &Relations::of(&schema), &text).unwrap_or_else(|error| panic!("{error}: {text:?}"));
        let field = Field::of(&schema, &need, sqlite().dialect(), &Restriction::default());
        // All in the usual manner, and of all others some.
        for choices in field.valid.iter().copied().chain(field.all().step_by((field.count() / 40).max(1))) {
            tried += 1;
            let plan = derive(&schema, &need, sqlite().dialect(), &choices);
            let mut session = kampf_engine::sqlite_session(&raw);
            session.count();
            SEEN.set(0);
            ROWS.set(0);
            Execution::new(plan, sqlite().dialect()).call(session.as_mut(), &parameters, &mut Touch::default()).unwrap();
            let counted = session.counted();
            assert_eq!((counted.statements, counted.rows), (SEEN.get(), ROWS.get()), "{choices} of {text:?}");
        }
    }
    assert!(tried > 200, "{tried}");
}

#[test]
fn parameters_are_bound_wherever_the_work_is_done() {
    let schema = ddl::read(crate::common::servers::APIARY).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order::default()).unwrap();
    let loaded = Loaded::new(&schema, &blueprint);
    let text = NeedText {
        from: "hive".into(),
        give: vec!["id".into(), "strain.name".into()],
        filter: Some("strain.id = :strain and count(inspection) >= :visits".into()),
        parameters: vec!["strain".into(), "visits".into()],
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let parameters = [Value::Integer(7), Value::Integer(9)];
    let reference = evaluate(&schema, &need, &GeneratedRows(&blueprint), &parameters).unwrap();
    assert!(!reference.rows.is_empty());
    let connection = loaded.connect();
    for choices in Field::of(&schema, &need, sqlite().dialect(), &Restriction::default()).valid {
        let mut collect = Collect::default();
        let mut session = connection.session();
        Execution::new(derive(&schema, &need, sqlite().dialect(), &choices), sqlite().dialect())
            .call(session.as_mut(), &parameters, &mut collect)
            .unwrap();
        assert_eq!(compare(&reference, None, &collect.answer), Agreement::Same, "{choices}");
    }
}

#[test]
fn rows_that_only_the_application_sorts_by_keep_what_tells_them_apart() {
    let schema = ddl::read(crate::common::servers::APIARY).unwrap().schema;
    let rows = [("strain", "12"), ("hive", "5 per strain"), ("inspection", "3 per hive")];
    let rows = rows.iter().map(|(table, rows)| (schema.find(table).unwrap(), expr::read_row_count(rows).unwrap())).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, ..Order::default() }).unwrap();
    let loaded = Loaded::new(&schema, &blueprint);
    let text = NeedText {
        from: "strain".into(),
        // All columns of its own table, and of the others only some.
        give: vec!["id".into(), "name".into(), "origin".into()],
        order: vec!["sum(hive.inspection.temper) desc".into(), "id".into()],
        ..NeedText::default()
    };
    let need = resolve(&schema, &Relations::of(&schema), &text).unwrap();
    let checked = check_need(sqlite(), loaded.connect().as_ref(), &schema, &need, &blueprint, "");
    assert!(checked > 20, "{checked}");
}
