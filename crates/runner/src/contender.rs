//! The contender's side: carrying out a plan in a process of its own.

use std::hint::black_box;
use std::io::{BufRead, Write};
use std::time::{Duration, Instant};

use kampf_contest::{Cache, Consumer, EngineError, Execution, Measure, Plan, Session, Touch, WriteExecution, WritePlan, value_to_json};
use kampf_engine::{Engine, Setting, engine};
use kampf_protocol::{Counts, Failed, Hello, KeptTimes, Mode, Ran, Ready, Reply, Request, Rows, Run, read_request, reply_line};
use kampf_schema::{LogicalType, Value, ValueRef};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::allocator::count_heap;
use crate::delayed::Delayed;
use crate::serving::{Serving, nanos, processor_time, sets_of};
use crate::watched::{Watch, Watched};
use crate::writer::Writer;

/// What the runner tells a contender of Kampf's own besides what every contender hears.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OwnContender {
    /// What it carries out.
    pub task: OwnTask,
    /// Settings of the engine.
    pub settings: Vec<Setting>,
    /// Types of the parameters.
    pub parameters: Vec<LogicalType>,
    /// Nanoseconds that each wait lasts longer, where the engine has no trips of its own.
    #[serde(default)]
    pub simulated_trip_ns: u64,
}

/// What a contender of Kampf's own carries out.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OwnTask {
    /// Rows are read and given.
    Read {
        /// The plan.
        plan: Box<Plan>,
        /// Whether its SQL is the user's own, which is not known to only read.
        is_own_sql: bool,
        /// The share of calls that are answered from what is kept, from 0 to 1; only where answers are kept.
        hit_rate: f64,
    },
    /// Rows are written, on a scratch.
    Write {
        /// The plan.
        plan: Box<WritePlan>,
        /// Of each table with new rows the types of its columns.
        new: Vec<Vec<LogicalType>>,
        /// The names of the tables that it may change.
        touched: Vec<String>,
        /// Whether a commit waits until it is on the disk.
        durable: bool,
    },
}

/// Rows of an answer on one line, and bytes of their values after which one is full.
const ROWS_PER_LINE: usize = 200;
const BYTES_PER_LINE: u64 = 1 << 20;

/// Serves one contender until the runner says stop or goes away.
///
/// # Errors
/// Only when the output cannot be written; whatever is wrong with the contender is told to the runner.
pub fn serve(mut input: impl BufRead, mut output: impl Write) -> std::io::Result<()> {
    let refuse = |output: &mut dyn Write, reason: String| {
        output.write_all(reply_line(&Reply::Failed(Failed::of(reason))).as_bytes())?;
        output.flush()
    };
    // The parent's end is this process's end, even in the middle of a call.
    let _ = rustix::process::set_parent_process_death_signal(Some(rustix::process::Signal::KILL));
    let mut line = String::new();
    if input.read_line(&mut line)? == 0 {
        return Ok(());
    }
    let hello = match read_request(&line) {
        Ok(Request::Hello(hello)) => hello,
        Ok(_) => return refuse(&mut output, "`hello` was expected first".to_owned()),
        Err(reason) => return refuse(&mut output, reason),
    };
    let opened = own_contender(&hello).and_then(|own| {
        let engine = engine(&hello.engine).ok_or_else(|| format!("there is no engine `{}`", hello.engine))?;
        let connection = match &own.task {
            OwnTask::Read { .. } => engine.connect(&hello.url, &own.settings),
            OwnTask::Write { touched, durable, .. } => engine.connect_scratch(&hello.url, &own.settings, *durable, Some(touched)),
        };
        Ok((own, engine, connection.map_err(|error| error.to_string())?))
    });
    let (own, engine, connection) = match opened {
        Ok(opened) => opened,
        Err(reason) => return refuse(&mut output, reason),
    };
    let session = match own.simulated_trip_ns {
        0 => connection.session(),
        trip => Box::new(Delayed::new(connection.session(), Duration::from_nanos(trip))),
    };
    let kinds = own.parameters;
    let mut contender: Box<dyn Serving> = match own.task {
        OwnTask::Read { plan, is_own_sql, hit_rate } => {
            let execution = Execution::new(*plan, engine.dialect());
            Box::new(Contender { engine, session, execution, is_own_sql, hit_rate, kinds, output: &mut output })
        }
        OwnTask::Write { plan, new, .. } => {
            let execution = WriteExecution::new(*plan, engine.dialect());
            Box::new(Writer { engine, session, execution, kinds, new, output: &mut output })
        }
    };
    contender.say(&Reply::Ready(Ready { can: vec![Mode::Answer, Mode::Count, Mode::Time] }))?;
    loop {
        line.clear();
        if input.read_line(&mut line)? == 0 {
            return Ok(());
        }
        match read_request(&line) {
            Ok(Request::Run(run)) => contender.run(&run)?,
            Ok(Request::Stop {}) => return Ok(()),
            Ok(Request::Hello(_)) => contender.say(&Reply::Failed(Failed::of("a second `hello`")))?,
            Err(reason) => contender.say(&Reply::Failed(Failed::of(reason)))?,
        }
    }
}

fn own_contender(hello: &Hello) -> Result<OwnContender, String> {
    let plan = hello.plan.clone().ok_or("there is no plan to carry out")?;
    serde_json::from_value(plan).map_err(|error| format!("the plan cannot be read: {error}"))
}

struct Contender<'a> {
    engine: &'static dyn Engine,
    session: Box<dyn Session + 'a>,
    execution: Execution,
    is_own_sql: bool,
    hit_rate: f64,
    kinds: Vec<LogicalType>,
    output: &'a mut dyn Write,
}

impl Serving for Contender<'_> {
    fn output(&mut self) -> &mut dyn Write {
        self.output
    }

    fn run(&mut self, run: &Run) -> std::io::Result<()> {
        let sets = match sets_of(run, &self.kinds) {
            Ok(sets) => sets,
            Err(failed) => return self.say(&Reply::Failed(failed)),
        };
        let done = match run.mode {
            Mode::Answer => return self.answer(run.id, &sets),
            Mode::Count => self.count(run.id, &sets),
            Mode::Time => self.time(run, &sets),
        };
        match done {
            Ok(ran) => self.say(&Reply::Ran(ran)),
            Err(error) => self.refuse(&error),
        }
    }
}

impl Contender<'_> {
    fn answer(&mut self, id: u64, sets: &[Vec<Value>]) -> std::io::Result<()> {
        let mut count = 0;
        self.execution.forget();
        for (set, parameters) in sets.iter().enumerate() {
            // What may write is first tried where nothing can be written, and must leave the session as it was.
            if self.is_own_sql
                && let Err(error) = self.session.begin_reading()
            {
                return self.refuse(&error);
            }
            let mut lines = Lines {
                id,
                set,
                rows: Vec::new(),
                bytes: 0,
                count: 0,
                came: None,
                open: Vec::new(),
                output: &mut *self.output,
                written: Ok(()),
            };
            let called = self.execution.call(self.session.as_mut(), parameters, &mut lines);
            lines.flush();
            let Lines { count: rows, written, .. } = lines;
            written?;
            let called = match self.is_own_sql {
                true => called.and_then(|()| self.session.end_reading()),
                false => called,
            };
            if let Err(error) = called {
                return self.refuse(&error);
            }
            count += rows;
        }
        self.say(&Reply::Ran(Ran { id, rows: count, ..Ran::default() }))
    }

    /// One call with the first set, all counters on. The call is not timed, but others after it are, for the share that is waiting.
    fn count(&mut self, id: u64, sets: &[Vec<Value>]) -> Result<Ran, EngineError> {
        let parameters = sets.first().map(Vec::as_slice).unwrap_or_default();
        let mut touch = Touch::default();
        self.execution.forget();
        self.session.count();
        self.engine.library_peak(true);
        let mut watch = Watch::held();
        let mut watched = Watched { session: self.session.as_mut(), watch: &mut watch };
        let (called, heap) = count_heap(|| self.execution.call(&mut watched, parameters, &mut touch));
        let traffic = self.session.counted();
        called?;
        let engine_bytes = self.engine.library_peak(false);
        let (waiting, span) = self.waiting(parameters)?;
        let keeps = self.execution.plan().manner.cache == Cache::Warm;
        let number = |measure| match measure {
            Measure::Statements => Some(traffic.statements),
            Measure::RoundTrips => Some(traffic.round_trips),
            Measure::Rows => Some(traffic.rows),
            Measure::Bytes => Some(traffic.bytes),
            Measure::WireBytes => traffic.wire_bytes,
            Measure::Objects => Some(self.execution.objects()),
            Measure::HeapPeak => Some(heap.peak_bytes),
            Measure::Allocations => Some(heap.allocations),
            Measure::EngineBytes => engine_bytes,
            Measure::Waiting => Some(waiting),
            Measure::KeptBytes => keeps.then_some(heap.kept_bytes),
            Measure::RowsWritten | Measure::LogBytes => None,
        };
        let counts: Counts = Measure::ALL.into_iter().map(|measure| (measure.entry().name, number(measure))).collect();
        let rows = black_box(touch).rows();
        Ok(Ran { id, rows, spans_ns: vec![span], counts: Some(counts), held: watch.into_held(), ..Ran::default() })
    }

    /// Thousandths of a call's time that are spent in the engine and on the way, and nanoseconds of a call: the medians of a few calls, of a long
    /// one itself.
    fn waiting(&mut self, parameters: &[Value]) -> Result<(u64, u64), EngineError> {
        const CALLS: usize = 5;
        const ENOUGH: Duration = Duration::from_millis(20);
        let all = Instant::now();
        let (mut shares, mut spans) = (Vec::with_capacity(CALLS), Vec::with_capacity(CALLS));
        while shares.len() < CALLS {
            self.execution.forget();
            let mut watch = Watch::clocked();
            let mut touch = Touch::default();
            let begun = Instant::now();
            let mut watched = Watched { session: self.session.as_mut(), watch: &mut watch };
            self.execution.call(&mut watched, parameters, &mut touch)?;
            let took = begun.elapsed();
            black_box(touch);
            shares.push(watch.share_of(took));
            spans.push(nanos(took));
            if all.elapsed() > ENOUGH {
                break;
            }
        }
        shares.sort_unstable();
        spans.sort_unstable();
        Ok((shares[shares.len() / 2], spans[spans.len() / 2]))
    }

    fn time(&mut self, run: &Run, sets: &[Vec<Value>]) -> Result<Ran, EngineError> {
        if self.execution.plan().manner.cache == Cache::Warm {
            return self.time_kept(run, sets);
        }
        let mut spans_ns = Vec::with_capacity(usize::try_from(run.passes).unwrap_or(0).saturating_mul(sets.len()).min(1 << 20));
        let mut rows = 0;
        let cpu = processor_time();
        for _ in 0..run.passes {
            for parameters in sets {
                let mut touch = Touch::default();
                let start = Instant::now();
                for _ in 0..run.calls_per_span {
                    self.execution.call(self.session.as_mut(), parameters, &mut touch)?;
                }
                spans_ns.push(nanos(start.elapsed()));
                rows += black_box(touch).rows();
            }
        }
        let cpu_ns = processor_time().saturating_sub(cpu);
        Ok(Ran { id: run.id, spans_ns, cpu_ns, rows, ..Ran::default() })
    }

    /// With answers that are kept each set is called twice in a pass: with nothing kept, and again. The first is timed as it is; the
    /// second is short and timed over several calls. A span is what a call takes where so many of them find their answer kept.
    fn time_kept(&mut self, run: &Run, sets: &[Vec<Value>]) -> Result<Ran, EngineError> {
        let all = usize::try_from(run.passes).unwrap_or(0).saturating_mul(sets.len()).min(1 << 20);
        let (mut spans_ns, mut hits, mut misses) = (Vec::with_capacity(all), Vec::with_capacity(all), Vec::with_capacity(all));
        let mut rows = 0;
        let cpu = processor_time();
        for _ in 0..run.passes {
            for parameters in sets {
                self.execution.forget();
                let mut touch = Touch::default();
                let start = Instant::now();
                self.execution.call(self.session.as_mut(), parameters, &mut touch)?;
                let miss = nanos(start.elapsed());
                rows += black_box(touch).rows() * run.calls_per_span;
                let mut touch = Touch::default();
                let (mut calls, mut took) = (0, Duration::ZERO);
                let start = Instant::now();
                while took < SHORTEST_HITS {
                    for _ in 0..HITS {
                        self.execution.call(self.session.as_mut(), parameters, &mut touch)?;
                    }
                    calls += HITS;
                    took = start.elapsed();
                }
                black_box(touch);
                let hit = nanos(took) as f64 / f64::from(calls);
                let span = (self.hit_rate * hit + (1.0 - self.hit_rate) * miss as f64) * run.calls_per_span as f64;
                spans_ns.push(span.round() as u64);
                hits.push(hit.round() as u64);
                misses.push(miss);
            }
        }
        let cpu_ns = processor_time().saturating_sub(cpu);
        let kept = Some(KeptTimes { hits_ns: hits, misses_ns: misses, hit_rate: self.hit_rate });
        Ok(Ran { id: run.id, spans_ns, cpu_ns, rows, kept, ..Ran::default() })
    }
}

/// Calls that find their answer kept and are timed together, and how long such a block lasts at least.
const HITS: u32 = 16;
const SHORTEST_HITS: Duration = Duration::from_micros(10);

/// Sends the rows of an answer as they come, so that none is too long for this process.
struct Lines<'a> {
    id: u64,
    set: usize,
    rows: Vec<Vec<Json>>,
    bytes: u64,
    count: u64,
    /// How many came, where that is not as expected.
    came: Option<u64>,
    /// The lists that are not over, the innermost last, each with its rows so far.
    open: Vec<Vec<Json>>,
    output: &'a mut dyn Write,
    /// The first failure to write; nothing is written after it.
    written: std::io::Result<()>,
}

impl Lines<'_> {
    fn flush(&mut self) {
        let rows = std::mem::take(&mut self.rows);
        self.bytes = 0;
        if self.written.is_ok() && (!rows.is_empty() || self.came.is_some()) {
            let line = reply_line(&Reply::Rows(Rows { id: self.id, set: self.set, rows, came: self.came }));
            self.written = self.output.write_all(line.as_bytes()).and_then(|()| self.output.flush());
        }
    }
}

impl Lines<'_> {
    /// The next value of the innermost row.
    fn put(&mut self, value: Json) {
        let row = match self.open.last_mut() {
            Some(list) => list.last_mut().and_then(Json::as_array_mut),
            None => self.rows.last_mut(),
        };
        if let Some(row) = row {
            row.push(value);
        }
    }
}

impl Consumer for Lines<'_> {
    fn row(&mut self) {
        if self.rows.len() >= ROWS_PER_LINE || self.bytes >= BYTES_PER_LINE {
            self.flush();
        }
        self.count += 1;
        self.rows.push(Vec::new());
    }

    fn value(&mut self, value: ValueRef<'_>) {
        self.bytes += value.size();
        self.put(value_to_json(value));
    }

    fn list(&mut self) {
        self.open.push(Vec::new());
    }

    fn item(&mut self) {
        self.bytes += 2;
        if let Some(list) = self.open.last_mut() {
            list.push(Json::Array(Vec::new()));
        }
    }

    fn end(&mut self) {
        let rows = self.open.pop().unwrap_or_default();
        self.put(Json::Array(rows));
    }

    fn came(&mut self, rows: u64) {
        // There are never more than fit one line, so none has been sent.
        self.rows.clear();
        self.count = 0;
        self.came = Some(rows);
    }
}
