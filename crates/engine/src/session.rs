//! Sessions, the same for every engine over what is its own: a [`Driver`].
//!
//! What is kept between calls (prepared statements), counting, noting and handing rows on are here, once. A driver knows how its
//! engine carries out a statement that is prepared, one that is sent as a text, and one whose result stays open.

use std::collections::HashMap;
use std::time::Instant;

use kampf_contest::{
    BulkInto, EngineError, EngineErrorKind, Flow, GroupUnit, Grouped, Observed, Portions, QueryPlan, Sent, Session, Sink, StatementId,
    Traffic,
};
use kampf_schema::{LogicalType, ValueRef};

/// What went over a wire since its connection was opened.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct WireCounts {
    pub(crate) statements: u64,
    pub(crate) trips: u64,
    pub(crate) bytes: u64,
}

/// An engine's own part of a session.
pub(crate) trait Driver: Sized {
    /// A prepared statement with what is known of its columns.
    type Statement;

    /// Prepares a statement.
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<Self::Statement, EngineError>;

    /// The names of its result columns.
    fn columns(statement: &Self::Statement) -> Vec<String>;

    /// Carries out a prepared statement; gives how many rows it has changed, where it changes any.
    fn run(
        &mut self,
        statement: &mut Self::Statement,
        parameters: &[ValueRef<'_>],
        to: &mut Handing<'_>,
    ) -> Result<Option<u64>, EngineError>;

    /// Carries out a text of which neither side keeps anything.
    fn run_text(
        &mut self,
        sql: &str,
        kinds: &[Option<LogicalType>],
        parameters: &[ValueRef<'_>],
        to: &mut Handing<'_>,
    ) -> Result<Option<u64>, EngineError>;

    /// Carries out a statement whose result stays open, hands on `size` rows at a time and lets others use the connection between.
    fn stream(
        &mut self,
        statement: &mut Self::Statement,
        parameters: &[ValueRef<'_>],
        size: u32,
        to: &mut Portioned<'_, Self::Statement>,
    ) -> Result<(), EngineError>;

    /// Carries out several of the kept statements in one trip, see [`Session::group`].
    fn group(&mut self, kept: &mut [KeptStatement<Self::Statement>], group: &mut [InGroup<'_>], unit: GroupUnit)
    -> Result<(), EngineError>;

    /// The statement that takes many rows in the engine's own way; none where there is none.
    fn bulk_sql(&self, into: &BulkInto<'_>) -> Option<String> {
        let _ = into;
        None
    }

    /// Carries it out with rows.
    fn bulk(&mut self, statement: &mut Self::Statement, into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError> {
        let _ = (statement, rows);
        Err(no_bulk(into))
    }

    /// What went over the wire; none where there is none, and the session counts what would have.
    fn wire(&self) -> Option<WireCounts>;

    /// See [`Session::begin_reading`].
    fn begin_reading(&mut self) -> Result<(), EngineError>;

    /// See [`Session::end_reading`].
    fn end_reading(&mut self) -> Result<(), EngineError>;

    /// The engine's plan for a statement, a line a step.
    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], carried_out: bool) -> Result<QueryPlan, EngineError>;
}

/// A statement of a group, as a driver has it.
pub(crate) struct InGroup<'a> {
    /// Its place among the kept ones.
    pub(crate) statement: usize,
    pub(crate) parameters: &'a [ValueRef<'a>],
    pub(crate) to: Handing<'a>,
}

/// The rows of a result, as a driver has them.
pub(crate) trait Rows {
    /// How many columns they have.
    fn width(&self) -> usize;

    /// Hands on at most so many rows of `N` columns; whether there may be more. The number of columns is known to the compiler, so
    /// that a row's values are put together on the stack.
    fn each<const N: usize>(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError>;

    /// The same for any number of columns.
    fn each_wide(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError>;

    /// Hands on at most so many rows; whether there may be more.
    fn hand_on(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError> {
        macro_rules! by_width {
            ($($width:literal)+) => {
                match self.width() {
                    $($width => self.each::<$width>(most, to),)+
                    _ => self.each_wide(most, to),
                }
            };
        }
        by_width!(0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16)
    }
}

/// Hands rows to a sink, and counts them.
pub(crate) struct Handing<'s> {
    sink: &'s mut dyn Sink,
    /// Whether bytes are counted too.
    count: bool,
    rows: u64,
    bytes: u64,
}

impl<'s> Handing<'s> {
    fn new(sink: &'s mut dyn Sink, count: bool) -> Handing<'s> {
        Handing { sink, count, rows: 0, bytes: 0 }
    }

    /// The same by value, for the loop over rows: what is counted then stays where the processor reckons, and not behind a reference.
    #[inline(always)]
    pub(crate) fn within(&mut self) -> Handing<'_> {
        Handing { sink: &mut *self.sink, count: self.count, rows: 0, bytes: 0 }
    }

    /// Takes one row.
    #[inline(always)]
    pub(crate) fn row(&mut self, values: &[ValueRef<'_>]) -> Flow {
        self.rows += 1;
        if self.count {
            self.bytes += values.iter().map(|value| value.size()).sum::<u64>();
        }
        self.sink.row(values)
    }

    /// How many rows and bytes were taken.
    #[inline(always)]
    pub(crate) fn taken(&self) -> (u64, u64) {
        (self.rows, self.bytes)
    }

    /// Adds what was taken by value.
    #[inline(always)]
    pub(crate) fn add(&mut self, (rows, bytes): (u64, u64)) {
        self.rows += rows;
        self.bytes += bytes;
    }
}

/// What a session keeps.
struct Books<S> {
    prepared: Vec<KeptStatement<S>>,
    by_text: HashMap<String, StatementId>,
    counting: Option<Counting>,
    observed: Option<Vec<Observed>>,
}

/// A statement that is kept.
pub(crate) struct KeptStatement<S> {
    sql: String,
    /// None while its result is open.
    statement: Option<S>,
}

impl<S> KeptStatement<S> {
    pub(crate) fn statement(&mut self) -> Result<&mut S, EngineError> {
        self.statement.as_mut().ok_or_else(|| at_work(&self.sql))
    }

    pub(crate) fn shared(&self) -> Result<&S, EngineError> {
        self.statement.as_ref().ok_or_else(|| at_work(&self.sql))
    }
}

fn no_bulk(into: &BulkInto<'_>) -> EngineError {
    EngineError {
        kind: EngineErrorKind::Statement,
        message: format!("there is no way of its own for many rows of {}", into.table),
        sql: None,
        cause: None,
    }
}

fn at_work(sql: &str) -> EngineError {
    EngineError {
        kind: EngineErrorKind::Statement,
        message: "the statement is at work, and cannot be carried out again before its result is closed".to_owned(),
        sql: Some(sql.to_owned()),
        cause: None,
    }
}

/// What was counted so far; over a wire only rows and bytes of values are.
struct Counting {
    start: WireCounts,
    traffic: Traffic,
}

impl<S> Default for Books<S> {
    fn default() -> Self {
        Books { prepared: Vec::new(), by_text: HashMap::new(), counting: None, observed: None }
    }
}

impl<S> Books<S> {
    /// Notes a statement that was carried out, with the trips that it would have taken.
    fn note(&mut self, done: &DoneStatement, statement: Sent<'_>, parameters: &[ValueRef<'_>], trips: u64) {
        if let Some(Counting { traffic, .. }) = &mut self.counting {
            traffic.statements += 1;
            traffic.round_trips += trips;
            traffic.rows += done.rows;
            traffic.bytes += done.bytes;
        }
        if let (Some(observed), Some(nanos)) = (&mut self.observed, done.nanos) {
            let sql = match statement {
                Sent::Kept(id) => &self.prepared[id.0].sql,
                Sent::Text { sql, .. } => sql,
            };
            let parameters = parameters.iter().map(|parameter| parameter.to_value()).collect();
            observed.push(Observed { sql: sql.to_owned(), parameters, nanos, rows: done.rows });
        }
    }
}

/// Trips of a stream besides those for its rows, on a server: the transaction that its cursor lives in begins, the statement is bound to it, the
/// transaction ends. A statement that is not kept is parsed before.
pub const STREAM_TRIPS: u64 = 3;

/// What begins and ends the transaction of a group, on every engine.
pub(crate) const GROUP_BEGIN: &str = "BEGIN";
pub(crate) const GROUP_END: &str = "COMMIT";

/// What came of a statement.
struct DoneStatement {
    rows: u64,
    bytes: u64,
    /// How long it took, where anybody asked.
    nanos: Option<u64>,
}

impl DoneStatement {
    fn of(to: &Handing<'_>, start: Option<Instant>) -> DoneStatement {
        DoneStatement { rows: to.rows, bytes: to.bytes, nanos: start.map(nanos_since) }
    }
}

fn nanos_since(start: Instant) -> u64 {
    u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX)
}

/// Takes the rows of an open result, and lends the connection to who took them between portions.
pub(crate) struct Portioned<'a, S> {
    to: &'a mut dyn Portions,
    books: &'a mut Books<S>,
    count: bool,
    observed: bool,
    rows: u64,
    bytes: u64,
    portions: u64,
    nanos: u64,
}

impl<S> Portioned<'_, S> {
    /// Hands on at most `size` rows, which `fetch` does, and then lends the connection; whether more are wanted and may be there.
    pub(crate) fn portion<D: Driver<Statement = S>>(
        &mut self,
        driver: D,
        fetch: impl FnOnce(&mut Handing<'_>) -> Result<bool, EngineError>,
    ) -> Result<bool, EngineError> {
        let start = self.observed.then(Instant::now);
        let mut handing = Handing::new(&mut *self.to, self.count);
        let more = fetch(&mut handing)?;
        self.rows += handing.rows;
        self.bytes += handing.bytes;
        self.nanos += start.map_or(0, nanos_since);
        self.portions += 1;
        let mut lent = Connected { driver, books: std::mem::take(self.books) };
        let flow = self.to.portion(&mut lent);
        *self.books = lent.books;
        Ok(flow? == Flow::More && more)
    }
}

/// A session over a driver.
pub(crate) struct Connected<D: Driver> {
    driver: D,
    books: Books<D::Statement>,
}

impl<D: Driver> Connected<D> {
    pub(crate) fn new(driver: D) -> Connected<D> {
        Connected { driver, books: Books::default() }
    }
}

impl<D: Driver> Session for Connected<D> {
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        if let Some(id) = self.books.by_text.get(sql) {
            return Ok(*id);
        }
        let statement = Some(self.driver.prepare(sql, kinds)?);
        let id = StatementId(self.books.prepared.len());
        self.books.prepared.push(KeptStatement { sql: sql.to_owned(), statement });
        self.books.by_text.insert(sql.to_owned(), id);
        if let Some(counting) = &mut self.books.counting {
            counting.traffic.round_trips += 1;
        }
        Ok(id)
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        self.books.prepared[statement.0].statement.as_ref().map(D::columns).unwrap_or_default()
    }

    fn carry_out(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<Option<u64>, EngineError> {
        let start = self.books.observed.is_some().then(Instant::now);
        let mut to = Handing::new(sink, self.books.counting.is_some());
        let changed = match statement {
            Sent::Kept(id) => {
                let kept = self.books.prepared[id.0].statement()?;
                self.driver.run(kept, parameters, &mut to)?
            }
            Sent::Text { sql, kinds } => self.driver.run_text(sql, kinds, parameters, &mut to)?,
        };
        if self.books.counting.is_some() || start.is_some() {
            let done = DoneStatement::of(&to, start);
            self.books.note(&done, statement, parameters, 1);
        }
        Ok(changed)
    }

    fn stream(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], size: u32, to: &mut dyn Portions) -> Result<(), EngineError> {
        let mut taken = match statement {
            Sent::Kept(id) => {
                self.books.prepared[id.0].statement()?;
                self.books.prepared[id.0].statement.take().expect("it was there just now")
            }
            Sent::Text { sql, kinds } => self.driver.prepare(sql, kinds)?,
        };
        let (count, observed) = (self.books.counting.is_some(), self.books.observed.is_some());
        let mut portioned = Portioned { to, books: &mut self.books, count, observed, rows: 0, bytes: 0, portions: 0, nanos: 0 };
        let streamed = self.driver.stream(&mut taken, parameters, size.max(1), &mut portioned);
        let Portioned { rows, bytes, portions, nanos, .. } = portioned;
        if let Sent::Kept(id) = statement {
            self.books.prepared[id.0].statement = Some(taken);
        }
        streamed?;
        let trips = portions + STREAM_TRIPS + u64::from(matches!(statement, Sent::Text { .. }));
        self.books.note(&DoneStatement { rows, bytes, nanos: observed.then_some(nanos) }, statement, parameters, trips);
        Ok(())
    }

    fn group(&mut self, group: &mut [Grouped<'_>], unit: GroupUnit) -> Result<(), EngineError> {
        let start = self.books.observed.is_some().then(Instant::now);
        let count = self.books.counting.is_some();
        let mut members: Vec<InGroup<'_>> = group
            .iter_mut()
            .map(|one| InGroup { statement: one.statement.0, parameters: one.parameters, to: Handing::new(&mut *one.sink, count) })
            .collect();
        let carried_out = self.driver.group(&mut self.books.prepared, &mut members, unit);
        let done: Vec<DoneStatement> = members.iter().map(|member| DoneStatement::of(&member.to, start)).collect();
        drop(members);
        carried_out?;
        // All go in the first one's trip.
        let mut trips = 1;
        let ends = |books: &mut Books<D::Statement>, sql: &str, trips: u64| {
            let done = DoneStatement { rows: 0, bytes: 0, nanos: start.map(|_| 0) };
            books.note(&done, Sent::Text { sql, kinds: &[] }, &[], trips);
        };
        if unit == GroupUnit::Own {
            ends(&mut self.books, GROUP_BEGIN, std::mem::take(&mut trips));
        }
        for (one, done) in group.iter().zip(&done) {
            self.books.note(done, Sent::Kept(one.statement), one.parameters, std::mem::take(&mut trips));
        }
        if unit == GroupUnit::Own {
            ends(&mut self.books, GROUP_END, 0);
        }
        Ok(())
    }

    fn bulk(&mut self, into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError> {
        let sql = self.driver.bulk_sql(into).ok_or_else(|| no_bulk(into))?;
        let id = self.prepare(&sql, &[])?;
        let start = self.books.observed.is_some().then(Instant::now);
        let taken = self.driver.bulk(self.books.prepared[id.0].statement()?, into, rows)?;
        if self.books.counting.is_some() || start.is_some() {
            // One wait for the server's word that it is ready for rows, and one for that it has them.
            self.books.note(&DoneStatement { rows: 0, bytes: 0, nanos: start.map(nanos_since) }, Sent::Kept(id), &[], 2);
        }
        Ok(taken)
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        self.driver.begin_reading()
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        self.driver.end_reading()
    }

    fn count(&mut self) {
        self.books.counting = Some(Counting { start: self.driver.wire().unwrap_or_default(), traffic: Traffic::default() });
    }

    fn counted(&mut self) -> Traffic {
        let Some(Counting { start, traffic }) = self.books.counting.take() else { return Traffic::default() };
        let Some(now) = self.driver.wire() else { return traffic };
        Traffic {
            statements: now.statements - start.statements,
            round_trips: now.trips - start.trips,
            wire_bytes: Some(now.bytes - start.bytes),
            ..traffic
        }
    }

    fn observe(&mut self) {
        self.books.observed = Some(Vec::new());
    }

    fn observed(&mut self) -> Vec<Observed> {
        self.books.observed.take().unwrap_or_default()
    }

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], carried_out: bool) -> Result<QueryPlan, EngineError> {
        self.driver.explain(sql, parameters, carried_out)
    }
}
