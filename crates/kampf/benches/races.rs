//! What the runner itself costs: per run, per round and over a whole race; and whether reported times agree with an outside clock.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

use common::{asked_for, compare, head};
use kampf_contest::{Hydration, own_sql};
use kampf_engine::{Engine, Ground, engine};
use kampf_fill::{Blueprint, Order};
use kampf_protocol::{Hello, Limits, Mode, Ran, Received, Reply, Request, Run, read_reply, request_line};
use kampf_race::{Forecaster, Goal, Race, RaceSettings};
use kampf_runner::{OwnContender, OwnTask, reference_loop};
use kampf_schema::{TableId, ddl, expr::RowCount};

const KAMPF: &str = env!("CARGO_BIN_EXE_kampf");
/// A call of some 20 us, and one of some 2 ms.
const SHORT: &str = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 100) SELECT max(i) FROM n";
const LONG: &str = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 10000) SELECT max(i) FROM n";

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let folder = tempfile::tempdir().expect("a temporary folder");
    let place = Ground { folder: folder.path(), server: None, name: "bench", owner: "test", variant: None };
    let schema = ddl::read("CREATE TABLE hive (id INTEGER PRIMARY KEY);").expect("the DDL is right").schema;
    let order = Order { rows: [(TableId(0), RowCount::Fixed(1))].into(), seed: 1, ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).expect("one row can be made");
    sqlite().load(&place, &schema, &blueprint, &[], &mut |_| {}).expect("the row loads");
    let served = sqlite().serve(&place, &[]).expect("the file is there");
    let url = served.url();
    head();
    start(url);
    runs(url);
    trips(url);
    judging();
    if asked_for("demo") {
        demo();
    }
}

fn sqlite() -> &'static dyn Engine {
    engine("sqlite").expect("SQLite is always there")
}

/// A contender's process, spoken to by hand.
struct Spoken {
    child: Child,
    stdin: ChildStdin,
    stdout: BufReader<ChildStdout>,
}

impl Spoken {
    fn start(url: &str, sql: &str) -> Spoken {
        Spoken::with_trips(url, sql, Duration::ZERO)
    }

    fn with_trips(url: &str, sql: &str, trip: Duration) -> Spoken {
        let mut child = Command::new(KAMPF).arg("contender").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("kampf starts");
        let stdin = child.stdin.take().expect("a pipe");
        let stdout = BufReader::new(child.stdout.take().expect("a pipe"));
        let mut spoken = Spoken { child, stdin, stdout };
        let plan = own_sql(None, sql, &[], Hydration::Record).expect("the SQL has no parameters");
        let own = OwnContender {
            task: OwnTask::Read { plan: Box::new(plan), is_own_sql: false, hit_rate: 0.9 },
            settings: Vec::new(),
            parameters: Vec::new(),
            simulated_trip_ns: trip.as_nanos() as u64,
        };
        spoken.say(&Request::Hello(Box::new(Hello {
            contest: "bench".to_owned(),
            contender: "bench".to_owned(),
            need: serde_json::Value::Null,
            engine: "sqlite".to_owned(),
            url: url.to_owned(),
            tcp_url: None,
            limits: Limits::default(),
            plan: Some(serde_json::to_value(&own).expect("a plan is plain data")),
        })));
        let reply = spoken.hear();
        assert!(matches!(reply, Reply::Ready(_)), "{reply:?}");
        spoken
    }

    fn say(&mut self, request: &Request) {
        self.stdin.write_all(request_line(request).as_bytes()).expect("it listens");
    }

    fn hear(&mut self) -> Reply {
        let mut line = String::new();
        self.stdout.read_line(&mut line).expect("it answers");
        match read_reply(&line) {
            Received::Reply(reply) => reply,
            other => panic!("{other:?}"),
        }
    }

    /// A run, and how long it took by this process's clock.
    fn run(&mut self, passes: u64) -> (Ran, Duration) {
        let begun = Instant::now();
        self.say(&Request::Run(Run {
            id: 1,
            mode: Mode::Time,
            parameters: vec![Vec::new()],
            passes,
            calls_per_span: 1,
            new_rows: Vec::new(),
        }));
        match self.hear() {
            Reply::Ran(ran) => (ran, begun.elapsed()),
            other => panic!("{other:?}"),
        }
    }
}

impl Drop for Spoken {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A contender up to its readiness, against a program that does nothing.
fn start(url: &str) {
    let nothing = || drop(Command::new("true").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().and_then(|mut child| child.wait()));
    compare("start a contender, connect, end", None, 60, nothing, || drop(Spoken::start(url, SHORT)));
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// What a run lasts beyond its spans, and the sum of spans against an outside clock.
fn runs(url: &str) {
    if asked_for("a run beside its spans") {
        let mut spoken = Spoken::start(url, SHORT);
        let beside = (0..500).map(|_| {
            let (ran, wall) = spoken.run(1);
            wall.as_nanos() as f64 - ran.spans_ns.iter().sum::<u64>() as f64
        });
        println!(
            "{:<40} {:>12} {:>12} {:>7}  published",
            "a run beside its spans",
            "",
            format!("{:.1} us", median(beside.collect()) / 1e3),
            ""
        );
    }
    for (name, sql, passes) in
        [("reported time to an outside clock, short", SHORT, 1000), ("reported time to an outside clock, long", LONG, 20)]
    {
        if !asked_for(name) {
            continue;
        }
        let mut spoken = Spoken::start(url, sql);
        let (mut walls, mut spans, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..40 {
            let (ran, wall) = spoken.run(passes);
            walls.push(wall.as_nanos() as f64);
            spans.push(ran.spans_ns.iter().sum::<u64>() as f64);
            ratios.push(spans[spans.len() - 1] / walls[walls.len() - 1]);
        }
        let ms = |nanos: f64| format!("{:.3} ms", nanos / 1e6);
        println!("{name:<40} {:>12} {:>12} {:>7.4}  >= 0.99", ms(median(walls)), ms(median(spans)), median(ratios));
    }
}

/// What a simulated trip takes beyond what it is told to take: over many, and the middle one.
fn trips(url: &str) {
    const TRIP: Duration = Duration::from_micros(500);
    if !asked_for("simulated trips") {
        return;
    }
    let (mut near, mut far) = (Spoken::start(url, SHORT), Spoken::with_trips(url, SHORT, TRIP));
    let spans = |spoken: &mut Spoken| spoken.run(400).0.spans_ns.iter().map(|&span| span as f64).collect::<Vec<f64>>();
    let (near, far) = (spans(&mut near), spans(&mut far));
    let told = TRIP.as_nanos() as f64;
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
    let (all, middle) = (mean(&far) - mean(&near), median(far) - median(near));
    let (all, middle) = (format!("{:+.1} us", (all - told) / 1e3), format!("{:+.1} us", (middle - told) / 1e3));
    println!("{:<40} {all:>12} {middle:>12} {:>7}  published (mean, median)", "simulated trips of 500 us, beyond that", "");
}

/// What a round costs in the core, at the four hundredth round of twelve equals: entering it, how they stand, the forecast, and
/// the reference loop before it.
fn judging() {
    if !asked_for("a round in the core") {
        return;
    }
    let settings = RaceSettings { goal: Goal::Exact, ..RaceSettings::default() };
    let mut race = Race::new(12, settings);
    let value = |round: usize, contender: usize| {
        let mixed = ((round * 12 + contender) as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40;
        Some(1e6 * (1.0 + 0.05 * mixed as f64 / (1u64 << 24) as f64))
    };
    for round in 0..399 {
        race.record(&(0..12).map(|contender| value(round, contender)).collect::<Vec<_>>());
    }
    let forecaster = Forecaster::new(&race);
    let last: Vec<_> = (0..12).map(|contender| value(399, contender)).collect();
    let timed = |work: &mut dyn FnMut()| {
        median(
            (0..50)
                .map(|_| {
                    let begun = Instant::now();
                    work();
                    begun.elapsed().as_nanos() as f64 / 1e3
                })
                .collect(),
        )
    };
    let copying = timed(&mut || drop(std::hint::black_box(race.clone())));
    let parts = [
        (
            "a round in the core: judged",
            timed(&mut || {
                let mut race = race.clone();
                race.record(&last);
            }) - copying,
        ),
        ("a round in the core: standings", timed(&mut || drop(race.standings()))),
        (
            "a round in the core: forecast",
            timed(&mut || {
                std::hint::black_box(forecaster.rounds(&race, 0.02));
            }),
        ),
        ("a round in the core: tables of forecasts", timed(&mut || drop(Forecaster::new(&race)))),
        (
            "a round in the core: reference loop",
            timed(&mut || {
                reference_loop();
            }),
        ),
    ];
    for (name, micros) in parts {
        println!("{name:<40} {:>12} {:>12} {:>7}  published", "", format!("{micros:.0} us"), "");
    }
}

/// The whole demo: time of its races against the sum of measured spans.
fn demo() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let begun = Instant::now();
    let output =
        Command::new(KAMPF).args(["demo", "demo", "-q", "--format", "json"]).current_dir(folder.path()).output().expect("kampf runs");
    let whole = begun.elapsed().as_secs_f64();
    let document: serde_json::Value = serde_json::from_slice(&output.stdout).expect("a result");
    let (mut all, mut measured) = (0.0, 0.0);
    for contest in document["contests"].as_array().expect("contests") {
        let race = &contest["race"];
        let seconds = |name: &str| race[name].as_f64().unwrap_or(0.0);
        all += seconds("seconds");
        measured += seconds("measured_seconds");
        println!(
            "demo, {:<34} {:>10.2} s {:>10.2} s {:>7.3}  measured >= 0.5; {} rounds",
            contest["name"].as_str().unwrap_or_default(),
            seconds("seconds"),
            seconds("measured_seconds"),
            seconds("measured_seconds") / seconds("seconds"),
            race["rounds"]
        );
    }
    println!(
        "demo, {:<34} {all:>10.2} s {measured:>10.2} s {:>7.3}  measured >= 0.5; {whole:.1} s with fill and checks",
        "all races",
        measured / all
    );
}
