//! A session whose waits are longer, for engines in the process: what a round trip would cost if there were one.

use std::collections::HashSet;
use std::time::{Duration, Instant};

use kampf_contest::{EngineError, Observed, Session, Sink, StatementId, Traffic};
use kampf_schema::{LogicalType, ValueRef};

use crate::relay::{sleep_until, wait_precisely};

/// Waits before all that would be a trip to a server.
pub(crate) struct Delayed<'a> {
    inner: Box<dyn Session + 'a>,
    trip: Duration,
    known: HashSet<String>,
}

impl<'a> Delayed<'a> {
    pub(crate) fn new(inner: Box<dyn Session + 'a>, trip: Duration) -> Delayed<'a> {
        wait_precisely();
        Delayed { inner, trip, known: HashSet::new() }
    }

    fn wait(&self) {
        sleep_until(Instant::now() + self.trip);
    }
}

impl Session for Delayed<'_> {
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        if self.known.insert(sql.to_owned()) {
            self.wait();
        }
        self.inner.prepare(sql, kinds)
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        self.inner.columns(statement)
    }

    fn run(&mut self, statement: StatementId, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<(), EngineError> {
        self.wait();
        self.inner.run(statement, parameters, sink)
    }

    fn run_list(&mut self, statement: StatementId, list: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<(), EngineError> {
        self.wait();
        self.inner.run_list(statement, list, sink)
    }

    fn begin(&mut self) -> Result<(), EngineError> {
        self.wait();
        self.inner.begin()
    }

    fn commit(&mut self) -> Result<(), EngineError> {
        self.wait();
        self.inner.commit()
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

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>]) -> Result<Vec<String>, EngineError> {
        self.inner.explain(sql, parameters)
    }
}
