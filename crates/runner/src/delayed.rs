//! A session whose waits are longer, for engines in the process: what a round trip would cost if there were one.

use std::cell::RefCell;
use std::collections::HashSet;
use std::ops::DerefMut;
use std::rc::Rc;
use std::time::{Duration, Instant};

use kampf_contest::{
    BulkInto, EngineError, Flow, GroupUnit, Grouped, Observed, Portions, QueryPlan, Sent, Session, Sink, StatementId, Traffic,
};
use kampf_engine::STREAM_TRIPS;
use kampf_schema::{LogicalType, ValueRef};

use crate::relay::{wait_precisely, wait_until};

/// Waits before all that would be a trip to a server. `I` holds a session.
pub(crate) struct Delayed<I> {
    inner: I,
    waits: Rc<RefCell<Waits>>,
}

struct Waits {
    owed: Owed,
    known: HashSet<String>,
}

/// What trips are to take, and what they have taken: a wait that ended late shortens the next ones, so that many together take what they
/// are said to. No more than a trip is owed, or a machine that was busy once would take trips from calls that are measured later: a call
/// of n trips takes those of n - 1 at least.
#[derive(Clone, Copy, Debug)]
struct Owed {
    trip: Duration,
    late: Duration,
}

impl Owed {
    /// How long the next wait is.
    fn next(&self) -> Duration {
        self.trip.saturating_sub(self.late)
    }

    /// Takes note of how long it was really.
    fn waited(&mut self, took: Duration) {
        self.late = (self.late + took).saturating_sub(self.trip).min(self.trip);
    }
}

impl<I> Delayed<I> {
    pub(crate) fn new(inner: I, trip: Duration) -> Delayed<I> {
        wait_precisely();
        let waits = Waits { owed: Owed { trip, late: Duration::ZERO }, known: HashSet::new() };
        Delayed { inner, waits: Rc::new(RefCell::new(waits)) }
    }

    fn wait(&self) {
        self.waits.borrow_mut().wait();
    }
}

impl Waits {
    fn wait(&mut self) {
        let begun = Instant::now();
        wait_until(begun + self.owed.next());
        self.owed.waited(begun.elapsed());
    }
}

/// Takes portions whose fetches are trips too, and lends a session whose trips are.
struct Fetched<'p> {
    to: &'p mut dyn Portions,
    waits: Rc<RefCell<Waits>>,
}

impl Sink for Fetched<'_> {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        self.to.row(row)
    }
}

impl Portions for Fetched<'_> {
    fn portion(&mut self, session: &mut dyn Session) -> Result<Flow, EngineError> {
        let flow = self.to.portion(&mut Delayed { inner: session, waits: self.waits.clone() })?;
        if flow == Flow::More {
            self.waits.borrow_mut().wait();
        }
        Ok(flow)
    }
}

impl<I> Session for Delayed<I>
where
    I: DerefMut,
    I::Target: Session,
{
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        if self.waits.borrow_mut().known.insert(sql.to_owned()) {
            self.wait();
        }
        self.inner.prepare(sql, kinds)
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        self.inner.columns(statement)
    }

    fn carry_out(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<Option<u64>, EngineError> {
        self.wait();
        self.inner.carry_out(statement, parameters, sink)
    }

    fn stream(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], size: u32, to: &mut dyn Portions) -> Result<(), EngineError> {
        let parsed = u64::from(matches!(statement, Sent::Text { .. }));
        (0..1 + STREAM_TRIPS + parsed).for_each(|_| self.wait());
        let waits = self.waits.clone();
        self.inner.stream(statement, parameters, size, &mut Fetched { to, waits })
    }

    fn group(&mut self, group: &mut [Grouped<'_>], unit: GroupUnit) -> Result<(), EngineError> {
        self.wait();
        self.inner.group(group, unit)
    }

    fn bulk(&mut self, into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError> {
        (0..2).for_each(|_| self.wait());
        self.inner.bulk(into, rows)
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        self.inner.begin_reading()
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        self.inner.end_reading()
    }

    fn count(&mut self) {
        self.inner.count();
    }

    fn counted(&mut self) -> Traffic {
        self.inner.counted()
    }

    fn observe(&mut self) {
        self.inner.observe();
    }

    fn observed(&mut self) -> Vec<Observed> {
        self.inner.observed()
    }

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], carried_out: bool) -> Result<QueryPlan, EngineError> {
        self.inner.explain(sql, parameters, carried_out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_that_end_late_shorten_the_next_ones_until_all_take_what_they_are_said_to() {
        let micros = Duration::from_micros;
        let mut owed = Owed { trip: micros(500), late: Duration::ZERO };
        // Each wait ends 60 us late, and one is held up for two trips and a half, of which one is owed.
        let mut took = Duration::ZERO;
        for wait in 0..100 {
            let late = if wait == 50 { micros(1250) } else { micros(60) };
            let real = owed.next() + late;
            took += real;
            owed.waited(real);
        }
        assert_eq!(took, micros(500) * 100 + owed.late + micros(750));
        assert!(owed.late <= micros(60), "{:?}", owed.late);
        // A wait that ends early, as none does, owes nothing.
        owed.waited(Duration::ZERO);
        assert_eq!(owed.next(), micros(500));
    }
}
