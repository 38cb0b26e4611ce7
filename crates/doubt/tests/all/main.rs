//! Each kind of doubt, planted into rows that nobody would doubt.
//!
//! Rows are written as the INSERT statements of a schema file; nothing is generated.

mod worlds;

use kampf_doubt::{Doubt, DoubtKind, Rows, doubts};
use kampf_schema::{Schema, TableId, Value, ddl, parse_timestamp};

struct Given<'a>(&'a Schema);

impl Rows for Given<'_> {
    fn columns(&self, table: TableId, most: usize) -> Vec<Vec<Value>> {
        let table = self.0.table(table);
        let of = |at: usize| table.seeds.iter().take(most).map(|row| row[at].clone().unwrap_or(Value::Null)).collect();
        (0..table.columns.len()).map(of).collect()
    }
}

fn doubts_of(sql: &str) -> (Schema, Vec<Doubt>) {
    let schema = ddl::read(sql).unwrap_or_else(|error| panic!("{}: {sql}", error.message)).schema;
    let found = doubts(&schema, &Given(&schema), parse_timestamp("2026-06-30 23:59:59").unwrap());
    (schema, found)
}

/// Sixty rows, each by its number.
fn sixty(table: &str, row: impl Fn(u32) -> String) -> String {
    let rows: Vec<String> = (1..=60).map(|at| format!("({})", row(at))).collect();
    format!("INSERT INTO {table} VALUES {};\n", rows.join(", "))
}

/// In rows nobody doubts there is nothing; with some of them changed there is that doubt and no other.
fn planted(tables: &str, good: &str, bad: &str, kind: DoubtKind, counts: (u64, u64), columns: &str) {
    let (_, none) = doubts_of(&format!("{tables}{good}"));
    assert_eq!(none, [], "{tables}{good}");
    let (schema, found) = doubts_of(&format!("{tables}{bad}"));
    let [doubt] = found.as_slice() else { panic!("{kind:?}: {found:#?}") };
    let table = schema.table(doubt.table);
    let names: Vec<&str> = doubt.columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
    assert_eq!((doubt.kind, (doubt.found, doubt.of), names.join(" ").as_str()), (kind, counts, columns), "{doubt:?}");
    assert!(!doubt.example.is_empty() && !doubt.what.is_empty());
}

/// A time of day `at` in the hours of people, days after the first.
fn day(at: u32, hour: u32) -> String {
    format!("'2025-{:02}-{:02} {hour:02}:30:00'", at % 12 + 1, at % 27 + 1)
}

#[test]
fn times_of_a_row_out_of_the_order_of_its_life() {
    let tables = "CREATE TABLE bake (id INTEGER PRIMARY KEY, ordered_on DATE NOT NULL, scheduled_at TIMESTAMP, started_at TIMESTAMP);";
    let good =
        sixty("bake", |at| format!("{at}, '2025-03-01', '2025-03-{:02} 09:00', '2025-03-{:02} 10:{:02}'", at % 9 + 1, at % 9 + 1, at % 60));
    // Three start before they were planned; the day on which they were ordered is no time of it.
    let bad = sixty("bake", |at| {
        let started = if at <= 3 { 8 } else { 10 };
        format!(
            "{at}, '2025-03-{:02}', '2025-03-{:02} 09:00', '2025-03-{:02} {started:02}:{:02}'",
            at % 9 + 1,
            at % 9 + 1,
            at % 9 + 1,
            at % 60
        )
    });
    let good = good.replace("'2025-03-01', '2025-03-05", "'2025-03-02', '2025-03-05");
    planted(tables, &good, &bad, DoubtKind::TimesOfRow, (3, 60), "scheduled_at started_at");
    // A date and a time: by their days.
    let tables = "CREATE TABLE bill (id INTEGER PRIMARY KEY, issued_on DATE NOT NULL, paid_at TIMESTAMP);";
    let row = |at: u32, paid: &str| format!("{at}, '2025-04-{:02}', '{paid} 08:{:02}'", at % 9 + 10, at % 60);
    let good = sixty("bill", |at| row(at, &format!("2025-04-{:02}", at % 9 + 10)));
    let bad = sixty("bill", |at| row(at, if at == 7 { "2025-04-01" } else { "2025-05-01" }));
    planted(tables, &good, &bad, DoubtKind::TimesOfRow, (1, 60), "issued_on paid_at");
}

const SHOP: &str = "CREATE TABLE dough (id INTEGER PRIMARY KEY, created_at TIMESTAMP NOT NULL, status VARCHAR(20));";

#[test]
fn rows_that_are_older_than_what_they_belong_to() {
    let tables = format!(
        "{SHOP} CREATE TABLE loaf (id INTEGER PRIMARY KEY, dough_id INTEGER NOT NULL REFERENCES dough, created_at TIMESTAMP NOT NULL);"
    );
    let doughs = sixty("dough", |at| format!("{at}, {}, 's{}'", day(at, 10), at % 3));
    let good = sixty("loaf", |at| format!("{at}, {at}, {}", day(at, 12)));
    let bad = sixty("loaf", |at| format!("{at}, {at}, {}", day(at, if at % 10 == 0 { 9 } else { 12 })));
    planted(&tables, &format!("{doughs}{good}"), &format!("{doughs}{bad}"), DoubtKind::BeforeParent, (6, 60), "dough_id created_at");
}

const STEPS: &str = "CREATE TABLE step (id INTEGER PRIMARY KEY, dough_id INTEGER NOT NULL REFERENCES dough, from_status VARCHAR(20), to_status VARCHAR(20) NOT NULL, changed_at TIMESTAMP NOT NULL);";

type StepsCase<'a> = (&'a dyn Fn(u32) -> TwoSteps, DoubtKind, (u64, u64), &'a str);

/// Where two steps begin and end, and at what hour.
type TwoSteps = [(&'static str, &'static str, u32); 2];

/// Two steps of each of thirty doughs: to rising, from there to baked.
fn steps(of: impl Fn(u32) -> TwoSteps) -> String {
    let rows = (1..=30).flat_map(|dough| {
        of(dough).into_iter().enumerate().map(move |(at, (from, to, hour))| {
            format!("({}, {dough}, {from}, '{to}', '2025-07-{:02} {hour:02}:00:00')", dough * 2 + at as u32, dough % 27 + 1)
        })
    });
    format!("INSERT INTO step VALUES {};\n", rows.collect::<Vec<_>>().join(", "))
}

#[test]
fn steps_that_do_not_continue_go_back_or_end_elsewhere() {
    let tables = format!("{SHOP} {STEPS}");
    let doughs = sixty("dough", |at| format!("{at}, '2025-06-{:02} 10:00', '{}'", at % 27 + 1, if at <= 30 { "baked" } else { "mixed" }));
    let good = |_| [("NULL", "rising", 9), ("'rising'", "baked", 11)];
    let rows = |of: &dyn Fn(u32) -> TwoSteps| format!("{doughs}{}", steps(of));
    let cases: [StepsCase<'_>; 2] = [
        (
            &|at| [("NULL", "rising", 9), (if at == 4 { "'mixed'" } else { "'rising'" }, "baked", 11)],
            DoubtKind::StepContinues,
            (1, 30),
            "from_status to_status",
        ),
        (
            &|at| [("NULL", "rising", 9), ("'rising'", if at <= 2 { "burnt" } else { "baked" }, 11)],
            DoubtKind::LastStep,
            (2, 30),
            "to_status",
        ),
    ];
    for (bad, kind, counts, columns) in cases {
        planted(&tables, &rows(&good), &rows(bad), kind, counts, columns);
    }
    // Who goes back in time does not continue either, by its times.
    let back = rows(&|at| {
        if at == 9 { [("NULL", "rising", 12), ("'rising'", "baked", 11)] } else { [("NULL", "rising", 9), ("'rising'", "baked", 11)] }
    });
    let kinds: Vec<_> = doubts_of(&format!("{tables}{back}")).1.into_iter().map(|doubt| (doubt.kind, doubt.found)).collect();
    assert_eq!(kinds, [(DoubtKind::StepContinues, 1), (DoubtKind::StepsInOrder, 1), (DoubtKind::LastStep, 1)]);
}

#[test]
fn answers_that_hang_on_something_else() {
    let tables = format!(
        "{SHOP} CREATE TABLE remark (id INTEGER PRIMARY KEY, dough_id INTEGER NOT NULL REFERENCES dough, reply_to INTEGER REFERENCES remark);"
    );
    let doughs = sixty("dough", |at| format!("{at}, {}, 's{}'", day(at, 10), at % 3));
    let rows = |wrong: u32| {
        sixty("remark", move |at| match at % 2 {
            1 => format!("{at}, {at}, NULL"),
            _ => format!("{at}, {}, {}", if at == wrong { at } else { at - 1 }, at - 1),
        })
    };
    planted(
        &tables,
        &format!("{doughs}{}", rows(0)),
        &format!("{doughs}{}", rows(8)),
        DoubtKind::AnswerElsewhere,
        (1, 30),
        "reply_to dough_id",
    );
}

#[test]
fn rows_of_one_tenant_that_refer_to_rows_of_another() {
    let tables = "CREATE TABLE bakery (id INTEGER PRIMARY KEY, name VARCHAR(40));
        CREATE TABLE oven (id INTEGER PRIMARY KEY, bakery_id INTEGER NOT NULL REFERENCES bakery);
        CREATE TABLE baker (id INTEGER PRIMARY KEY, bakery_id INTEGER NOT NULL REFERENCES bakery);
        CREATE TABLE flour (id INTEGER PRIMARY KEY, bakery_id INTEGER NOT NULL REFERENCES bakery);
        CREATE TABLE batch (id INTEGER PRIMARY KEY, oven_id INTEGER NOT NULL REFERENCES oven, baker_id INTEGER REFERENCES baker);
        CREATE TABLE usage (batch_id INTEGER NOT NULL REFERENCES batch, flour_id INTEGER NOT NULL REFERENCES flour, kilos INTEGER);";
    let base = ["oven", "baker", "flour"].map(|table| sixty(table, |at| format!("{at}, {}", at % 6 + 1))).concat();
    let bakeries: String = (1..=6).map(|at| format!("INSERT INTO bakery VALUES ({at}, 'bakery {at}');\n")).collect();
    let base = format!("{bakeries}{base}");
    let batches = |wrong: u32| sixty("batch", move |at| format!("{at}, {at}, {}", if at == wrong { at % 60 + 1 } else { at }));
    // Neither of them has the bakery itself: both have a way to it, and the shorter one, over flour, says whose it is.
    let usage = |wrong: u32| sixty("usage", move |at| format!("{at}, {}, {at}", if at <= wrong { at + 1 } else { at }));
    let good = format!("{base}{}{}", batches(0), usage(0));
    planted(tables, &good, &format!("{base}{}{}", batches(5), usage(0)), DoubtKind::AcrossTenants, (1, 60), "baker_id");
    planted(tables, &good, &format!("{base}{}{}", batches(0), usage(2)), DoubtKind::AcrossTenants, (2, 60), "batch_id");
}

#[test]
fn times_after_today_and_by_night_and_things_that_last_too_long() {
    let tables = "CREATE TABLE sale (id INTEGER PRIMARY KEY, sold_at TIMESTAMP NOT NULL, expires_at TIMESTAMP, due_on DATE);";
    let row = |at: u32, sold: &str| format!("{at}, {sold}, '2027-02-01 0{}:00', '2028-01-{:02}'", at % 6, at % 27 + 1);
    let good = sixty("sale", |at| row(at, &day(at, 10)));
    planted(
        tables,
        &good,
        &sixty("sale", |at| row(at, &if at <= 5 { "'2026-07-01 09:00'".to_owned() } else { day(at, 10) })),
        DoubtKind::Future,
        (5, 60),
        "sold_at",
    );
    // Fifteen of a hundred may be awake; of machines all.
    planted(
        tables,
        &sixty("sale", |at| row(at, &day(at, if at <= 9 { 3 } else { 10 }))),
        &sixty("sale", |at| row(at, &day(at, at % 24))),
        DoubtKind::Night,
        (17, 60),
        "sold_at",
    );
    let (_, machine) = doubts_of(&format!("{}{}", tables.replace("sale", "sync_run"), sixty("sync_run", |at| row(at, &day(at, at % 24)))));
    assert_eq!(machine, []);
    let tables = "CREATE TABLE bake (id INTEGER PRIMARY KEY, started_at TIMESTAMP, finished_at TIMESTAMP);";
    let row = |at: u32, days: u32| {
        format!("{at}, '2025-03-{:02} 09:00', '2025-{:02}-{:02} 11:{:02}'", at % 9 + 1, 3 + days / 28, at % 9 + 1 + days % 28, at % 60)
    };
    let (good, bad) = (sixty("bake", |at| row(at, 1)), sixty("bake", |at| row(at, 18)));
    planted(tables, &good, &bad, DoubtKind::Lasting, (60, 60), "started_at finished_at");
    assert_eq!(doubts_of(&format!("{}{}", tables.replace("bake", "project"), bad.replace("bake", "project"))).1, []);
}

#[test]
fn rows_that_never_leave_their_first_state_are_over_or_all_alike() {
    let tables = "CREATE TABLE cake (id INTEGER PRIMARY KEY, status VARCHAR(9) NOT NULL DEFAULT 'draft' CHECK (status IN ('draft', 'baked', 'sold')), discontinued BOOLEAN NOT NULL, closed_on DATE, tier INTEGER);";
    let row = |at: u32, draft: u32, over: u32, closed: u32, tier: u32| {
        let status = if at <= draft { "draft" } else { "sold" };
        let closed = if at <= closed { "'2025-05-05'" } else { "NULL" };
        format!("{at}, '{status}', {}, {closed}, {tier}", if at <= over { "TRUE" } else { "FALSE" })
    };
    let good = sixty("cake", |at| row(at, 24, 30, 30, at));
    planted(tables, &good, &sixty("cake", |at| row(at, 25, 30, 30, at)), DoubtKind::FirstState, (25, 60), "status");
    planted(tables, &good, &sixty("cake", |at| row(at, 24, 31, 30, at)), DoubtKind::Over, (31, 60), "discontinued");
    planted(tables, &good, &sixty("cake", |at| row(at, 24, 30, 31, at)), DoubtKind::Over, (31, 60), "closed_on");
    planted(tables, &good, &sixty("cake", |at| row(at, 24, 30, 30, 7)), DoubtKind::Constant, (60, 60), "tier");
}

type ValuesCase<'a> = (&'a dyn Fn(u32, &mut [String; 9]), DoubtKind, u64, &'a str);

#[test]
fn values_that_are_nothing_like_what_is_said_of_them() {
    let tables = "CREATE TABLE thing (id INTEGER PRIMARY KEY, vat_rate NUMERIC(5,2) DEFAULT 19.00, zone VARCHAR(40) DEFAULT 'Europe/Berlin', country CHAR(2),
        load_kilos INTEGER CHECK (load_kilos <= 20000), height_mm INTEGER, seen_ts BIGINT, recipe TEXT, email VARCHAR(80));";
    let good = |at: u32| {
        [
            format!("{at}"),
            format!("{}.5", at % 9 + 10),
            format!("'Asia/Zone{}'", ["A", "B"][at as usize % 2]),
            format!("'{}'", ["DE", "FR"][at as usize % 2]),
            format!("{}", 900 + at * 10),
            format!("{}", 300 + at),
            format!("{}", 1_700_000_000 + at),
            format!("'take a pound of flour and {at} eggs'"),
            format!("'ba{}.o@example.org'", "a".repeat(at as usize % 7 + 1)),
        ]
    };
    let rows = |change: &dyn Fn(u32, &mut [String; 9])| {
        let row = |at| {
            let mut row = good(at);
            change(at, &mut row);
            row.join(", ")
        };
        sixty("thing", row).replace("Zone", "")
    };
    let cases: [ValuesCase<'_>; 9] = [
        (&|at, row| row[1] = format!("0.{}", at % 9 + 1), DoubtKind::UnlikeDefault, 60, "vat_rate"),
        (&|at, row| row[2] = format!("'+0{}:00'", at % 9), DoubtKind::UnlikeDefault, 60, "zone"),
        (
            &|at, row| {
                if at == 3 {
                    row[3] = "'L6'".into();
                }
            },
            DoubtKind::Code,
            1,
            "country",
        ),
        (&|at, row| row[4] = format!("{}", 20 + at), DoubtKind::UnusedRange, 60, "load_kilos"),
        (&|at, row| row[5] = format!("{}", 10 + at), DoubtKind::Unit, 60, "height_mm"),
        (&|at, row| row[6] = format!("{}", at * 10), DoubtKind::Epoch, 60, "seen_ts"),
        (
            &|at, row| {
                if at <= 31 {
                    row[7] = "'flour eggs'".into();
                }
            },
            DoubtKind::FewWords,
            31,
            "recipe",
        ),
        (&|at, row| row[8] = format!("'bo{at}@example.org'"), DoubtKind::NumberedNames, 60, "email"),
        (&|_, row| row[3] = "'DE'".into(), DoubtKind::Constant, 60, "country"),
    ];
    for (change, kind, found, column) in cases {
        planted(tables, &rows(&|_, _| {}), &rows(change), kind, (found, 60), column);
    }
    // A name that is unique in its shop alone needs no number.
    let tables = format!(
        "{SHOP} CREATE TABLE loaf (id INTEGER PRIMARY KEY, dough_id INTEGER NOT NULL REFERENCES dough, name VARCHAR(20), UNIQUE (dough_id, name));"
    );
    let doughs = sixty("dough", |at| format!("{at}, {}, 's{}'", day(at, 10), at % 3));
    let loaves = |number: bool| {
        sixty("loaf", move |at| format!("{at}, {at}, 'rye {}'", if number { at.to_string() } else { "o".repeat(at as usize % 5) }))
    };
    planted(
        &tables,
        &format!("{doughs}{}", loaves(false)),
        &format!("{doughs}{}", loaves(true)),
        DoubtKind::NumberedNames,
        (60, 60),
        "name",
    );
}

#[test]
fn no_rows_and_references_to_rows_that_are_not_there_are_no_doubt() {
    let tables = format!("{SHOP} {STEPS}");
    assert_eq!(doubts_of(&tables).1, []);
    assert_eq!(doubts_of(&format!("{tables} INSERT INTO step VALUES (1, 77, NULL, 'baked', '2025-01-01 10:00');")).1, []);
}
