//! A session that is looked at while a call goes over it: how much is held after how many rows, or how long the call waits.

use std::time::{Duration, Instant};

use kampf_contest::{
    BulkInto, EngineError, Flow, GroupUnit, Grouped, Observed, Portions, QueryPlan, Sent, Session, Sink, StatementId, Traffic,
};
use kampf_schema::{LogicalType, ValueRef};

use crate::allocator::live_bytes;

/// Points of the curve of what is held, at most.
const POINTS: usize = 128;

/// What is looked at.
pub(crate) enum Watch {
    /// How many bytes of the heap are held after how many rows.
    Held(Held),
    /// How long the call waits.
    Clocked(Clocked),
}

/// Bytes after rows; the first row, then every so many.
pub(crate) struct Held {
    rows: u64,
    step: u64,
    points: Vec<(u64, u64)>,
}

/// Time in the engine and on the way: all of a statement's but what is spent on its rows.
pub(crate) struct Clocked {
    waiting: Duration,
    on_rows: Duration,
    /// How often the clock was read for rows.
    rows: u64,
    /// What reading it twice costs, which falls half on each side.
    reading: Duration,
}

impl Watch {
    pub(crate) fn held() -> Watch {
        // All room that it takes, taken before anything is counted.
        Watch::Held(Held { rows: 0, step: 1, points: Vec::with_capacity(POINTS) })
    }

    pub(crate) fn clocked() -> Watch {
        const TRIES: u32 = 1_000;
        let begun = Instant::now();
        for _ in 0..TRIES {
            std::hint::black_box((Instant::now(), Instant::now()));
        }
        let reading = begun.elapsed() / TRIES;
        Watch::Clocked(Clocked { waiting: Duration::ZERO, on_rows: Duration::ZERO, rows: 0, reading })
    }

    /// The points of the curve.
    pub(crate) fn into_held(self) -> Vec<(u64, u64)> {
        match self {
            Watch::Held(held) => held.points,
            Watch::Clocked(_) => Vec::new(),
        }
    }

    /// Which share of a call's time was waiting, in thousandths; what the clock itself took is left out.
    pub(crate) fn share_of(&self, took: Duration) -> u64 {
        let Watch::Clocked(Clocked { waiting, rows, reading, .. }) = self else { return 0 };
        let clock = reading.as_secs_f64() * *rows as f64;
        let whole = (took.as_secs_f64() - clock).max(f64::MIN_POSITIVE);
        let waiting = (waiting.as_secs_f64() - clock / 2.0).clamp(0.0, whole);
        (waiting / whole * 1_000.0).round() as u64
    }

    fn begin(&mut self) -> Option<Instant> {
        let Watch::Clocked(clocked) = self else { return None };
        clocked.on_rows = Duration::ZERO;
        Some(Instant::now())
    }

    fn end(&mut self, begun: Option<Instant>) {
        if let (Watch::Clocked(clocked), Some(begun)) = (self, begun) {
            clocked.waiting += begun.elapsed().saturating_sub(clocked.on_rows);
        }
    }

    fn row(&mut self, work: impl FnOnce() -> Flow) -> Flow {
        match self {
            Watch::Held(held) => {
                let flow = work();
                held.take();
                flow
            }
            Watch::Clocked(clocked) => {
                let begun = Instant::now();
                let flow = work();
                clocked.on_rows += begun.elapsed();
                clocked.rows += 1;
                flow
            }
        }
    }
}

impl Held {
    fn take(&mut self) {
        self.rows += 1;
        if !(self.rows - 1).is_multiple_of(self.step) {
            return;
        }
        if self.points.len() == POINTS {
            let mut at = 0;
            self.points.retain(|_| {
                at += 1;
                at % 2 == 1
            });
            self.step *= 2;
            if !(self.rows - 1).is_multiple_of(self.step) {
                return;
            }
        }
        self.points.push((self.rows, live_bytes()));
    }
}

/// The session that is looked at.
pub(crate) struct Watched<'s> {
    pub(crate) session: &'s mut dyn Session,
    pub(crate) watch: &'s mut Watch,
}

/// A sink behind which rows are looked at.
struct Seen<'s> {
    to: &'s mut dyn Sink,
    watch: &'s mut Watch,
}

impl Sink for Seen<'_> {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        let Seen { to, watch } = self;
        watch.row(|| to.row(row))
    }
}

/// The same for portions; what is done between them is not waiting, but for the statements in it.
struct SeenPortions<'s> {
    to: &'s mut dyn Portions,
    watch: &'s mut Watch,
}

impl Sink for SeenPortions<'_> {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        let SeenPortions { to, watch } = self;
        watch.row(|| to.row(row))
    }
}

impl Portions for SeenPortions<'_> {
    fn portion(&mut self, session: &mut dyn Session) -> Result<Flow, EngineError> {
        let before = if let Watch::Clocked(clocked) = &mut *self.watch { Some((Instant::now(), clocked.on_rows)) } else { None };
        let flow = self.to.portion(&mut Watched { session, watch: &mut *self.watch });
        if let (Watch::Clocked(clocked), Some((begun, on_rows))) = (&mut *self.watch, before) {
            clocked.on_rows = on_rows + begun.elapsed();
        }
        flow
    }
}

impl Session for Watched<'_> {
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        let begun = self.watch.begin();
        let prepared = self.session.prepare(sql, kinds);
        self.watch.end(begun);
        prepared
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        self.session.columns(statement)
    }

    fn carry_out(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<Option<u64>, EngineError> {
        let begun = self.watch.begin();
        let changed = self.session.carry_out(statement, parameters, &mut Seen { to: sink, watch: &mut *self.watch });
        self.watch.end(begun);
        changed
    }

    fn stream(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], size: u32, to: &mut dyn Portions) -> Result<(), EngineError> {
        let begun = self.watch.begin();
        let streamed = self.session.stream(statement, parameters, size, &mut SeenPortions { to, watch: &mut *self.watch });
        self.watch.end(begun);
        streamed
    }

    fn group(&mut self, group: &mut [Grouped<'_>], unit: GroupUnit) -> Result<(), EngineError> {
        let begun = self.watch.begin();
        let done = self.session.group(group, unit);
        self.watch.end(begun);
        done
    }

    fn bulk(&mut self, into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError> {
        let begun = self.watch.begin();
        let done = self.session.bulk(into, rows);
        self.watch.end(begun);
        done
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        self.session.begin_reading()
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        self.session.end_reading()
    }

    fn count(&mut self) {
        self.session.count();
    }

    fn counted(&mut self) -> Traffic {
        self.session.counted()
    }

    fn observe(&mut self) {
        self.session.observe();
    }

    fn observed(&mut self) -> Vec<Observed> {
        self.session.observed()
    }

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], carried_out: bool) -> Result<QueryPlan, EngineError> {
        self.session.explain(sql, parameters, carried_out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_curve_keeps_its_beginning_and_so_many_points_over_all_rows() {
        let mut watch = Watch::held();
        for _ in 0..100_000 {
            watch.row(|| Flow::More);
        }
        let points = watch.into_held();
        assert!((POINTS / 2..=POINTS).contains(&points.len()), "{}", points.len());
        assert_eq!(points[0].0, 1);
        let step = points[1].0 - points[0].0;
        assert!(points.windows(2).all(|pair| pair[1].0 - pair[0].0 == step) && points[points.len() - 1].0 > 100_000 - step);
    }

    #[test]
    fn the_clock_itself_is_no_part_of_what_is_waiting() {
        let millis = Duration::from_millis;
        let watch = Watch::Clocked(Clocked { waiting: millis(60), on_rows: Duration::ZERO, rows: 20, reading: millis(1) });
        // Of 120 ms twenty are the clock's, ten of them on each side.
        assert_eq!(watch.share_of(millis(120)), 500);
        assert_eq!(watch.share_of(millis(1)), 1_000);
    }
}
