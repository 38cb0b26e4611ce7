//! A contender of Kampf's own that writes: each run is one call, which the runner undoes.

use std::io::Write;
use std::time::Instant;

use kampf_contest::{EngineError, Measure, NewRow, Session, WriteExecution, value_from_json};
use kampf_engine::Engine;
use kampf_protocol::{Counts, Failed, Mode, Ran, Reply, Run};
use kampf_schema::{LogicalType, Value};

use crate::allocator::count_heap;
use crate::serving::{Serving, nanos, processor_time, sets_of};
use crate::watched::{Watch, Watched};

pub(crate) struct Writer<'a> {
    pub(crate) engine: &'static dyn Engine,
    pub(crate) session: Box<dyn Session + 'a>,
    pub(crate) execution: WriteExecution,
    /// The types of the parameters.
    pub(crate) kinds: Vec<LogicalType>,
    /// Of each table with new rows the types of its columns.
    pub(crate) new: Vec<Vec<LogicalType>>,
    pub(crate) output: &'a mut dyn Write,
}

impl Serving for Writer<'_> {
    fn output(&mut self) -> &mut dyn Write {
        self.output
    }

    fn run(&mut self, run: &Run) -> std::io::Result<()> {
        let asked = sets_of(run, &self.kinds).and_then(|sets| Ok((sets, self.new_rows(run)?)));
        let (sets, new) = match asked {
            Ok(asked) => asked,
            Err(failed) => return self.say(&Reply::Failed(failed)),
        };
        if run.passes != 1 || sets.len() != 1 || run.calls_per_span != 1 {
            return self.say(&Reply::Failed(Failed::of("a run that writes is one call with one parameter set")));
        }
        let done = match run.mode {
            Mode::Count => self.count(run.id, &sets[0], &new),
            Mode::Answer | Mode::Time => self.time(run.id, &sets[0], &new),
        };
        match done {
            Ok(ran) => self.say(&Reply::Ran(ran)),
            Err(error) => self.refuse(&error),
        }
    }
}

impl Writer<'_> {
    /// The rows that a run puts in, as values of their types.
    fn new_rows(&self, run: &Run) -> Result<Vec<Vec<NewRow>>, Failed> {
        if run.new_rows.len() != self.new.len() {
            return Err(Failed::of(format!("new rows of {} tables came where there are {}", run.new_rows.len(), self.new.len())));
        }
        let of_table = |(of, kinds): (&kampf_protocol::NewRows, &Vec<LogicalType>)| {
            let row = |(at, row): (usize, &Vec<serde_json::Value>)| {
                let values =
                    row.iter().zip(kinds).map(|(json, kind)| value_from_json(json, Some(*kind))).collect::<Result<Vec<Value>, _>>();
                let values = values.map_err(|error| Failed::of(format!("a value of a new row is wrong: {error}")))?;
                Ok(NewRow { values, under: of.under.get(at).copied() })
            };
            of.rows.iter().enumerate().map(row).collect::<Result<Vec<NewRow>, Failed>>()
        };
        run.new_rows.iter().zip(&self.new).map(of_table).collect()
    }

    fn time(&mut self, id: u64, parameters: &[Value], new: &[Vec<NewRow>]) -> Result<Ran, EngineError> {
        let cpu = processor_time();
        let start = Instant::now();
        let written = self.execution.call(self.session.as_mut(), parameters, new)?;
        let span = nanos(start.elapsed());
        let cpu_ns = processor_time().saturating_sub(cpu);
        Ok(Ran { id, spans_ns: vec![span], cpu_ns, rows: written.own_rows, ..Ran::default() })
    }

    /// One call with all counters on.
    fn count(&mut self, id: u64, parameters: &[Value], new: &[Vec<NewRow>]) -> Result<Ran, EngineError> {
        self.session.count();
        self.engine.library_peak(true);
        let mut watch = Watch::clocked();
        let start = Instant::now();
        let (called, heap) = {
            let mut watched = Watched { session: self.session.as_mut(), watch: &mut watch };
            count_heap(|| self.execution.call(&mut watched, parameters, new))
        };
        let took = start.elapsed();
        let traffic = self.session.counted();
        let written = called?;
        let engine_bytes = self.engine.library_peak(false);
        let number = |measure| match measure {
            Measure::Statements => Some(traffic.statements),
            Measure::RoundTrips => Some(traffic.round_trips),
            Measure::Rows => Some(traffic.rows),
            Measure::Bytes => Some(traffic.bytes),
            Measure::WireBytes => traffic.wire_bytes,
            Measure::HeapPeak => Some(heap.peak_bytes),
            Measure::Allocations => Some(heap.allocations),
            Measure::EngineBytes => engine_bytes,
            Measure::Waiting => Some(watch.share_of(took)),
            Measure::RowsWritten => Some(written.rows),
            Measure::Objects | Measure::KeptBytes | Measure::LogBytes => None,
        };
        let counts: Counts = Measure::ALL.into_iter().map(|measure| (measure.entry().name, number(measure))).collect();
        Ok(Ran { id, rows: written.own_rows, spans_ns: vec![nanos(took)], counts: Some(counts), ..Ran::default() })
    }
}
