//! What sessions and the relay cost on PostgreSQL, each as a ratio to a hand-written floor on the same driver in the same run.

#![allow(clippy::print_stdout, reason = "a bench reports to standard output")]

mod common;

use std::hint::black_box;
use std::io::{Read, Write};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use common::{asked_for, compare, head};
use futures_util::TryStreamExt;
use kampf_contest::{Choices, Consumer, Execution, Flow, Hydration, NeedText, Touch, derive, resolve};
use kampf_engine::{Endpoint, Engine, Ground, Served, engine};
use kampf_fill::{Blueprint, Order};
use kampf_runner::Relay;
use kampf_schema::{Relations, Schema, TableId, ValueRef, ddl, expr::RowCount};
use tokio::runtime::Runtime;
use tokio_postgres::{Client, NoTls};

#[global_allocator]
static ALLOCATOR: kampf_runner::CountingAllocator = kampf_runner::CountingAllocator;

const SQL: &str = "CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL, label VARCHAR(20) NOT NULL,
      frames INTEGER NOT NULL, weight REAL NOT NULL, remarks VARCHAR(80) NOT NULL);";
const HIVES: u64 = 100_000;
const SCAN: &str = "SELECT id, strain_id, label, frames, weight, remarks FROM hive";
const LOOK_UPS: i64 = 200;

fn postgres() -> &'static dyn Engine {
    engine("postgres").expect("the engine is there")
}

fn main() {
    // `cargo test` builds and runs benches too; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    if let Err(error) = postgres().version(None) {
        println!("left out: {error}");
        return;
    }
    let (schema, blueprint) = hives(HIVES);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let place = Ground { folder: folder.path(), server: None, name: "bench", owner: "test", variant: None };
    let settings = postgres().settings();
    postgres().load(&place, &schema, &blueprint, &settings, &mut |_| {}).expect("the rows load");
    let served = postgres().serve(&place, &settings).expect("the server starts");
    head();
    scan(&schema, served.url());
    relay(served.url());
    flow();
    look_ups(served.as_ref());
    drop(served);
    postgres().remove(&place).expect("what was made can be removed");
}

fn hives(rows: u64) -> (Schema, Blueprint) {
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let rows = [(TableId(0), RowCount::Fixed(rows))].into();
    let blueprint = Blueprint::new(&schema, &Order { rows, seed: 5, ..Order::default() }).expect("the order is right");
    (schema, blueprint)
}

/// A connection as anybody would make it with the driver.
fn by_hand(url: &str) -> (Runtime, Client) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let client = runtime.block_on(async {
        let (client, connection) = tokio_postgres::connect(url, NoTls).await.expect("the server answers");
        tokio::spawn(connection);
        client
    });
    (runtime, client)
}

fn scan(schema: &Schema, url: &str) {
    let (runtime, client) = by_hand(url);
    let statement = runtime.block_on(client.prepare(SCAN)).expect("the statement is right");
    let floor = || {
        let touch = runtime.block_on(async {
            let mut touch = Touch::default();
            let rows = client.query_raw(&statement, std::iter::empty::<i64>()).await.expect("the query runs");
            let mut rows = std::pin::pin!(rows);
            while let Some(row) = rows.try_next().await.expect("a row comes") {
                touch.row();
                touch.value(ValueRef::Integer(row.get(0)));
                touch.value(ValueRef::Integer(row.get(1)));
                touch.value(ValueRef::Text(row.get(2)));
                touch.value(ValueRef::Integer(row.get(3)));
                touch.value(ValueRef::Real(row.get(4)));
                touch.value(ValueRef::Text(row.get(5)));
            }
            touch
        });
        assert_eq!(black_box(touch).rows(), HIVES);
    };
    let text = NeedText {
        from: "hive".into(),
        give: ["id", "strain_id", "label", "frames", "weight", "remarks"].map(str::to_owned).into(),
        ..NeedText::default()
    };
    let need = resolve(schema, &Relations::of(schema), &text).expect("the need is right");
    let choices = Choices::default().with(Hydration::Raw);
    let connection = postgres().connect(url, &[]).expect("the server answers");
    let mut session = connection.session();
    let mut execution = Execution::new(derive(schema, &need, postgres().dialect(), &choices), postgres().dialect());
    compare(&format!("scan {HIVES} rows, raw"), Some(1.05), 21, floor, || {
        let mut touch = Touch::default();
        execution.call(session.as_mut(), &[], &mut touch).expect("the call succeeds");
        assert_eq!(black_box(touch).rows(), HIVES);
    });
}

/// Both sides and the server on one core, where a trip takes the same time each time.
fn look_ups(served: &dyn Served) {
    let cores = rustix::thread::sched_getaffinity(None).expect("the cores are known");
    let core = (0..rustix::thread::CpuSet::MAX_CPU).rev().find(|&core| cores.is_set(core)).expect("there is a core");
    let mut only = rustix::thread::CpuSet::new();
    only.set(core);
    let pinned = served.pin(core) && rustix::thread::sched_setaffinity(None, &only).is_ok();
    let sql = "SELECT label FROM hive WHERE id = $1";
    let (runtime, client) = by_hand(served.url());
    let statement = runtime.block_on(client.prepare(sql)).expect("the statement is right");
    let floor = || {
        for id in 1..=LOOK_UPS {
            let row = runtime.block_on(client.query_one(&statement, &[&id])).expect("a row comes");
            black_box(row.get::<_, &str>(0).len());
        }
    };
    let connection = postgres().connect(served.url(), &[]).expect("the server answers");
    let mut session = connection.session();
    let prepared = session.prepare(sql, &[]).expect("the statement is right");
    let name = format!("{LOOK_UPS} look-ups, {}", if pinned { "pinned" } else { "not pinned" });
    compare(&name, Some(1.05), 61, floor, || {
        for id in 1..=LOOK_UPS {
            let mut take = |row: &[ValueRef<'_>]| {
                black_box(row[0]);
                Flow::More
            };
            session.run(prepared, &[ValueRef::Integer(id)], &mut take).expect("a row comes");
        }
    });
    let _ = rustix::thread::sched_setaffinity(None, &cores);
}

/// What a relay adds to a trip beyond what it is told to add, against one written by hand that adds nothing.
fn relay(url: &str) {
    const TRIP: Duration = Duration::from_millis(1);
    if !asked_for("relay") {
        return;
    }
    let Some(target) = postgres().endpoint(url) else { return };
    let Endpoint::Unix(socket) = &target else { return };
    let ours = Relay::start(&target, TRIP).expect("the relay starts");
    let folder = tempfile::tempdir().expect("a temporary folder");
    let plain = folder.path().join(socket.file_name().expect("a socket has a name"));
    plain_relay(&plain, socket.clone());
    let urls = [url.to_owned(), postgres().redirected(url, &Endpoint::Unix(plain)), postgres().redirected(url, ours.endpoint())];
    let connections: Vec<_> = urls.iter().map(|url| postgres().connect(url, &[]).expect("the server answers")).collect();
    let mut sessions: Vec<_> = connections
        .iter()
        .map(|connection| {
            let mut session = connection.session();
            let statement = session.prepare("SELECT 1", &[]).expect("the statement is right");
            (session, statement)
        })
        .collect();
    let mut times: Vec<Vec<f64>> = vec![Vec::new(); sessions.len()];
    for _ in 0..400 {
        for ((session, statement), times) in sessions.iter_mut().zip(&mut times) {
            let begun = Instant::now();
            session.run(*statement, &[], &mut |_: &[ValueRef<'_>]| Flow::More).expect("the query runs");
            times.push(begun.elapsed().as_nanos() as f64);
        }
    }
    let [direct, by_hand, ours] = [0, 1, 2].map(|at| {
        times[at].sort_by(f64::total_cmp);
        times[at][times[at].len() / 2]
    });
    let (floor, kampf) = (by_hand - direct, ours - direct - TRIP.as_nanos() as f64);
    println!("{:<40} {:>9.1} us {:>9.1} us {:>7.3}  <= 1.2", "what the relay adds to a trip", floor / 1e3, kampf / 1e3, kampf / floor);
}

/// Processor time of the relay while much flows through it, against one written by hand that delays nothing.
fn flow() {
    const PIECE: usize = 1 << 20;
    const PIECES: usize = 512;
    if !asked_for("relay") {
        return;
    }
    let folder = tempfile::tempdir().expect("a temporary folder");
    let far = folder.path().join("far");
    let listener = UnixListener::bind(&far).expect("a socket");
    std::thread::spawn(move || {
        for mut stream in listener.incoming().map_while(Result::ok) {
            std::thread::spawn(move || {
                let piece = vec![7; PIECE];
                let mut asked = [0];
                while stream.read_exact(&mut asked).is_ok() {
                    for _ in 0..PIECES {
                        let _ = stream.write_all(&piece);
                    }
                }
            });
        }
    });
    let plain = folder.path().join("plain");
    plain_relay(&plain, far.clone());
    let ours = Relay::start(&Endpoint::Unix(far), Duration::from_millis(1)).expect("the relay starts");
    let Endpoint::Unix(own) = ours.endpoint() else { return };
    let busy = |socket: &std::path::Path| {
        let mut stream = UnixStream::connect(socket).expect("it listens");
        let mut piece = vec![0; PIECE];
        let (begun, before) = (Instant::now(), processor_time());
        stream.write_all(b"!").expect("it takes a word");
        for _ in 0..PIECES {
            stream.read_exact(&mut piece).expect("it all comes");
        }
        ((processor_time() - before) as f64, begun.elapsed().as_nanos() as f64)
    };
    let ((floor, plain_wall), (kampf, wall)) = (busy(&plain), busy(own));
    let ms = |nanos: f64| format!("{:.0} ms", nanos / 1e6);
    println!("{:<40} {:>12} {:>12} {:>7.3}  <= 2", "processor time of a relay, 512 MiB", ms(floor), ms(kampf), kampf / floor);
    println!("{:<40} {:>12} {:>12} {:>7.3}  <= 2", "time for them", ms(plain_wall), ms(wall), wall / plain_wall);
}

/// Processor time of this process, in nanoseconds.
fn processor_time() -> u64 {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    u64::try_from(time.tv_sec).unwrap_or(0) * 1_000_000_000 + u64::try_from(time.tv_nsec).unwrap_or(0)
}

fn plain_relay(own: &std::path::Path, target: PathBuf) {
    let listener = UnixListener::bind(own).expect("a socket");
    let pump = |mut from: UnixStream, mut to: UnixStream| {
        std::thread::spawn(move || {
            let mut piece = vec![0; 64 * 1024];
            while let Ok(length @ 1..) = from.read(&mut piece) {
                if to.write_all(&piece[..length]).is_err() {
                    break;
                }
            }
            let _ = to.shutdown(std::net::Shutdown::Write);
        });
    };
    std::thread::spawn(move || {
        for near in listener.incoming().map_while(Result::ok) {
            let far = UnixStream::connect(&target).expect("the server answers");
            pump(near.try_clone().expect("a stream"), far.try_clone().expect("a stream"));
            pump(far, near);
        }
    });
}
