//! What is read in portions holds no more with a hundred times the rows, on every engine and through the relay; what is read whole does.

use std::io::Write;
use std::time::Duration;

use kampf_contest::{ChoiceOption, Choices, Execution, Fetch, Hydration, Loading, NeedText, Touch, Work, derive, resolve};
use kampf_engine::{Engine, Ground, engine};
use kampf_fill::{Blueprint, Order};
use kampf_runner::{Relay, count_heap};
use kampf_schema::{Relations, Schema, TableId, ddl, expr::RowCount};

const SQL: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label VARCHAR(20) NOT NULL,
      remarks VARCHAR(80) NOT NULL);";
const HIVES: u64 = 12_000;
const FEW: u64 = HIVES / 100;
const PORTION: u32 = 100;
/// What a driver that reads from a socket may hold ahead of who takes its rows: a few buffers, as chance has it, however many rows there are.
const AHEAD: f64 = 32.0 * 1024.0;

/// Most bytes held in one call that reads so many rows, all statements prepared before.
fn peak(engine: &dyn Engine, url: &str, schema: &Schema, choices: &Choices, rows: u64) -> u64 {
    let give = ["id", "label", "remarks", "strain.name"].map(str::to_owned).into();
    let text = NeedText { from: "hive".into(), give, order: vec!["id".into()], limit: Some(rows), ..NeedText::default() };
    let need = resolve(schema, &Relations::of(schema), &text).expect("the need is right");
    let connection = engine.connect(url, &[]).expect("the data can be reached");
    let mut session = connection.session();
    let mut execution = Execution::new(derive(schema, &need, engine.dialect(), choices), engine.dialect());
    let mut call = || {
        let mut touch = Touch::default();
        execution.call(session.as_mut(), &[], &mut touch).expect("the call succeeds");
        assert_eq!(touch.rows(), rows, "{choices}");
    };
    call();
    count_heap(&mut call).1.peak_bytes
}

fn portions_hold_no_more(engine: &dyn Engine, url: &str, schema: &Schema) {
    let ahead = if engine.endpoint(url).is_some() { AHEAD } else { 0.0 };
    for (loading, hydration) in [(Loading::Batched, Hydration::Record), (Loading::Joined, Hydration::Managed)] {
        let usual = Choices::default().with(loading).with(Work::Database).with(hydration);
        for fetch in [Fetch::Pages, Fetch::Chunks, Fetch::Stream] {
            let choices = usual.with_opt(fetch.opt().of_size(PORTION));
            // What is read ahead only ever adds, and of many portions one is unlucky now and then.
            let held = |rows: u64| (0..3).map(move |_| peak(engine, url, schema, &choices, rows) as f64);
            let few = held(FEW).fold(f64::INFINITY, f64::min);
            let many = held(HIVES).find(|many| *many <= few * 1.1 + ahead);
            assert!(many.is_some(), "{} {choices} holds {few} bytes with {FEW} rows and more with {HIVES}", engine.name());
        }
        let whole = usual.with(Fetch::Whole);
        let [few, many] = [FEW, HIVES].map(|rows| peak(engine, url, schema, &whole, rows) as f64);
        assert!(many >= few * 50.0, "{} {whole} holds {few} bytes with {FEW} rows and only {many} with {HIVES}", engine.name());
    }
}

// One test: the counters are the process's own, and another test's thread would be counted too.
#[test]
fn what_is_read_in_portions_holds_no_more_with_more_rows() {
    let _alone = crate::alone();
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = (0..).map(TableId).zip([30, HIVES].map(RowCount::Fixed)).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 7, ..Order::default() }).expect("the order is right");
    for name in ["sqlite", "postgres"] {
        let engine = engine(name).expect("it is known");
        if let Err(missing) = engine.version(None) {
            assert!(std::env::var("KAMPF_REQUIRE_SERVERS").as_deref() != Ok("1"), "{missing}");
            // Not by a macro, whose words the tests' runner would keep to itself.
            let _ = writeln!(std::io::stderr(), "skipped: {missing}");
            continue;
        }
        let folder = tempfile::tempdir().expect("a temporary folder");
        let place = Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None };
        engine.load(&place, &schema, &blueprint, &engine.settings(), &mut |_| {}).expect("the rows load");
        let served = engine.serve(&place, &engine.settings()).expect("the data is there");
        portions_hold_no_more(engine, served.url(), &schema);
        if let Some(target) = engine.endpoint(served.url()) {
            let relay = Relay::start(&target, Duration::from_micros(20)).expect("a relay starts");
            portions_hold_no_more(engine, &engine.redirected(served.url(), relay.endpoint()), &schema);
        }
        drop(served);
        let _ = engine.remove(&place);
    }
}
