//! What each layer is made of, told by its allocations: none leaner than what it stands for, none fatter.

use kampf_contest::{ChoiceOption, Execution, Field, Hydration, NeedText, Restriction, Touch, derive, resolve};
use kampf_engine::{Ground, engine};
use kampf_fill::{Blueprint, Order};
use kampf_runner::count_heap;
use kampf_schema::{Relations, Schema, TableId, ddl, expr::RowCount};

const SQL: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label VARCHAR(20) NOT NULL,
      frames INTEGER NOT NULL, weight REAL NOT NULL, remarks VARCHAR(80) NOT NULL);
    CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
    CREATE TABLE visit (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL REFERENCES keeper, temper INTEGER NOT NULL,
      note VARCHAR(40) NOT NULL);";
const TEXTS: u64 = 2;
const HIVES: u64 = 8192;
const KEEPERS: u64 = 16;

/// Allocations of one call of the contender with that ending, all statements prepared before.
fn allocations(schema: &Schema, url: &str, give: &[&str], hives: u64, contender: &str) -> u64 {
    let text = NeedText {
        from: "hive".into(),
        give: give.iter().map(|&value| value.into()).collect(),
        filter: Some(format!("id <= {hives}")),
        ..NeedText::default()
    };
    of_need(schema, url, &text, hives, contender)
}

/// Allocations of one call that gives lists of so many rows in all, of few parents.
fn of_lists(schema: &Schema, url: &str, visits: u64, contender: &str) -> u64 {
    let list = format!("visit where id <= {visits} {{ temper, note }}");
    let text = NeedText { from: "keeper".into(), give: vec!["name".into(), list], ..NeedText::default() };
    of_need(schema, url, &text, KEEPERS, contender)
}

fn of_need(schema: &Schema, url: &str, text: &NeedText, rows: u64, contender: &str) -> u64 {
    let sqlite = engine("sqlite").expect("SQLite is always there");
    let need = resolve(schema, &Relations::of(schema), text).expect("the need is right");
    let field = Field::of(schema, &need, sqlite.dialect(), &Restriction::default());
    let choices = field.valid.iter().find(|choices| choices.to_string() == contender);
    let choices =
        choices.unwrap_or_else(|| panic!("{contender} is not among {:?}", field.valid.iter().map(ToString::to_string).collect::<Vec<_>>()));
    let connection = sqlite.connect(url, &[]).expect("the file opens");
    let mut session = connection.session();
    let mut execution = Execution::new(derive(schema, &need, sqlite.dialect(), choices), sqlite.dialect());
    let mut call = || {
        let mut touch = Touch::default();
        execution.call(session.as_mut(), &[], &mut touch).expect("the call succeeds");
        assert_eq!(touch.rows(), rows);
    };
    call();
    count_heap(call).1.allocations
}

/// Allocations that one more row costs: the slope between two sizes, in which what happens once a call cancels out. Growing
/// a vector or a hash table to twice its size adds a few for thousands of rows.
fn per_row(schema: &Schema, url: &str, give: &[&str], contender: &str) -> f64 {
    let [few, many] = [HIVES / 2, HIVES].map(|hives| allocations(schema, url, give, hives, contender));
    (many - few) as f64 / (HIVES / 2) as f64
}

// One test: the counters are the process's own, and another test's thread would be counted too.
#[test]
fn each_layer_is_composed_as_stated() {
    let _alone = crate::alone();
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = [HIVES, HIVES, KEEPERS, HIVES];
    let rows = (0..).map(TableId).zip(rows.map(RowCount::Fixed)).collect();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 7, ..Order::default() }).expect("the order is right");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let sqlite = engine("sqlite").expect("SQLite is always there");
    let place = Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None };
    sqlite.load(&place, &schema, &blueprint, &[], &mut |_| {}).expect("the rows load");
    let served = sqlite.serve(&place, &[]).expect("the file is there");
    let url = served.url().to_owned();

    let own = ["id", "strain_id", "label", "frames", "weight", "remarks"];
    let entity = 1 + TEXTS;
    for (hydration, stated) in [
        (Hydration::Raw, 0),
        (Hydration::Record, TEXTS),
        (Hydration::Map, 1 + TEXTS),
        (Hydration::Plain, entity),
        (Hydration::Managed, entity + 1 + TEXTS),
    ] {
        let name = format!("database.{}", hydration.word());
        let made = per_row(&schema, &url, &own, &name);
        assert!((made - stated as f64).abs() < 0.01, "{name}: {made} allocations a row, stated are {stated}");
    }

    // With a relation an entity carries its slots, and its parent is an entity with one text.
    let related = ["label", "strain.name"];
    let parents = HIVES as f64 * (1.0 - (-1.0_f64).exp());
    for (name, hive, strain) in [
        ("lazy.database.all.record", TEXTS, 1),
        ("lazy.database.all.plain", entity + 1, 2),
        ("lazy.database.all.managed", entity + 1 + 1 + TEXTS, 4),
    ] {
        let made = allocations(&schema, &url, &related, HIVES, name) as f64;
        // Only the identity map knows that it has met a parent before.
        let met = if name.ends_with("managed") { parents } else { HIVES as f64 };
        let stated = HIVES as f64 * hive as f64 + met * strain as f64;
        assert!((made / stated - 1.0).abs() < 0.03, "{name}: {made} allocations, stated are {stated}");
    }

    // A row of a list is what a row is, however it came: an entity of a list has no relations of its own here, and what is read out of
    // a JSON text has passed through nothing else.
    for (name, stated) in [
        ("lazy.needed.record", 1),
        ("batched.needed.record", 1),
        ("joined.all.record", 1),
        ("nested.needed.record", 1),
        ("batched.needed.map", 1 + 1),
        ("nested.needed.map", 1 + 1),
        ("batched.needed.plain", 1 + 1),
        ("nested.needed.plain", 1 + 1),
        ("batched.all.managed", 1 + 1 + 1 + 1),
        ("lazy.all.managed", 1 + 1 + 1 + 1),
        ("nested.needed.raw", 0),
    ] {
        let [few, many] = [HIVES / 2, HIVES].map(|visits| of_lists(&schema, &url, visits, name));
        let made = (many as f64 - few as f64) / (HIVES / 2) as f64;
        assert!((made - f64::from(stated)).abs() < 0.03, "{name}: {made} allocations a row of a list, stated are {stated}");
    }

    // The counters themselves: known pieces, of which the largest are never held together, and one that grows.
    let (_, counted) = count_heap(|| {
        let kept = std::hint::black_box(vec![1u8; 1000]);
        drop(std::hint::black_box(vec![1u8; 50_000]));
        let zeroed = std::hint::black_box(vec![0u8; 40_000]);
        let mut growing = std::hint::black_box(Vec::<u8>::with_capacity(10));
        growing.reserve_exact(500);
        drop((kept, zeroed, growing));
    });
    assert_eq!((counted.peak_bytes, counted.allocations), (51_000, 5));
}
