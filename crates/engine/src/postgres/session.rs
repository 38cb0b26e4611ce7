//! A session on a connection.

use std::collections::HashMap;
use std::time::Instant;

use futures_util::TryStreamExt;
use kampf_contest::{EngineError, EngineErrorKind, Flow, Observed, Session, Sink, StatementId, Traffic};
use kampf_schema::{LogicalType, ValueRef};
use tokio_postgres::types::Type;
use tokio_postgres::{Row, RowStream, Statement};

use super::connect::Link;
use super::error::engine_error;
use super::values::{Bound, Reading, fits, own_type};
use super::wire::WireCounts;

struct Prepared {
    statement: Statement,
    sql: String,
    kinds: Vec<Option<LogicalType>>,
    readings: Vec<Reading>,
}

/// What is counted besides what goes over the wire.
struct Counting {
    start: WireCounts,
    rows: u64,
    bytes: u64,
}

pub(super) struct PostgresSession<'c> {
    link: &'c Link,
    prepared: Vec<Prepared>,
    by_text: HashMap<String, StatementId>,
    counting: Option<Counting>,
    observed: Option<Vec<Observed>>,
    /// Whether a transaction is open in which nothing can be written.
    reading: bool,
}

/// What came of handing rows to a sink.
#[derive(Default)]
struct Delivered {
    rows: u64,
    bytes: u64,
}

impl<'c> PostgresSession<'c> {
    pub(super) fn new(link: &'c Link) -> Self {
        PostgresSession { link, prepared: Vec::new(), by_text: HashMap::new(), counting: None, observed: None, reading: false }
    }

    fn compile(&self, sql: &str, kinds: &[Option<LogicalType>], types: &[Type]) -> Result<Prepared, EngineError> {
        let statement = self.link.runtime.block_on(self.link.client().prepare_typed(sql, types));
        let statement = statement.map_err(|error| engine_error(error, Some(sql)))?;
        let readings = statement.columns().iter().enumerate().map(|(at, column)| {
            Reading::of(column.name(), column.type_(), kinds.get(at).copied().flatten())
                .map_err(|error| EngineError { sql: Some(sql.to_owned()), ..error })
        });
        let readings = readings.collect::<Result<_, _>>()?;
        Ok(Prepared { statement, sql: sql.to_owned(), kinds: kinds.to_vec(), readings })
    }

    /// Prepares a statement anew with the types of values that the server's own guess cannot hold.
    fn fit(&mut self, id: StatementId, parameters: &[ValueRef<'_>]) -> Result<(), EngineError> {
        let prepared = &self.prepared[id.0];
        let wanted = prepared.statement.params();
        if wanted.len() != parameters.len() || wanted.iter().zip(parameters).all(|(of, value)| fits(*value, of)) {
            return Ok(());
        }
        let types: Vec<Type> =
            wanted.iter().zip(parameters).map(|(of, value)| if fits(*value, of) { of.clone() } else { own_type(*value) }).collect();
        self.prepared[id.0] = self.compile(&prepared.sql.clone(), &prepared.kinds.clone(), &types)?;
        Ok(())
    }

    fn note(&mut self, id: StatementId, parameters: &[ValueRef<'_>], start: Option<Instant>, delivered: &Delivered) {
        if let Some(counting) = &mut self.counting {
            counting.rows += delivered.rows;
            counting.bytes += delivered.bytes;
        }
        if let (Some(observed), Some(start)) = (&mut self.observed, start) {
            let nanos = u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX);
            let parameters = parameters.iter().map(|parameter| parameter.to_value()).collect();
            observed.push(Observed { sql: self.prepared[id.0].sql.clone(), parameters, nanos, rows: delivered.rows });
        }
    }

    fn simple(&mut self, sql: &str) -> Result<(), EngineError> {
        let start = Instant::now();
        self.link.execute(sql)?;
        if let Some(observed) = &mut self.observed {
            let nanos = u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX);
            observed.push(Observed { sql: sql.to_owned(), parameters: Vec::new(), nanos, rows: 0 });
        }
        Ok(())
    }
}

impl Session for PostgresSession<'_> {
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        if let Some(id) = self.by_text.get(sql) {
            return Ok(*id);
        }
        let prepared = self.compile(sql, kinds, &[])?;
        let id = StatementId(self.prepared.len());
        self.prepared.push(prepared);
        self.by_text.insert(sql.to_owned(), id);
        Ok(id)
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        self.prepared[statement.0].statement.columns().iter().map(|column| column.name().to_owned()).collect()
    }

    fn run(&mut self, id: StatementId, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<(), EngineError> {
        self.fit(id, parameters)?;
        let start = self.observed.is_some().then(Instant::now);
        let prepared = &self.prepared[id.0];
        let count = self.counting.is_some();
        let bound = parameters.iter().map(|value| Bound(*value));
        let delivered = self.link.runtime.block_on(async {
            let stream = self.link.client().query_raw(&prepared.statement, bound).await;
            deliver(stream.map_err(|error| engine_error(error, Some(&prepared.sql)))?, prepared, count, sink).await
        })?;
        self.note(id, parameters, start, &delivered);
        Ok(())
    }

    fn begin(&mut self) -> Result<(), EngineError> {
        if self.reading { Ok(()) } else { self.simple("BEGIN") }
    }

    fn commit(&mut self) -> Result<(), EngineError> {
        if self.reading { Ok(()) } else { self.simple("COMMIT") }
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        // Once it has begun to read, such a transaction cannot be made one that writes.
        self.link.execute("BEGIN READ ONLY; SELECT 1")?;
        self.reading = true;
        Ok(())
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        self.reading = false;
        // Asked before the end, which takes back what was set meanwhile, and would only do so here.
        let asked = self.link.still_reads_only();
        self.link.execute("ROLLBACK")?;
        asked
    }

    fn count(&mut self) {
        self.counting = Some(Counting { start: self.link.wire.counts(), rows: 0, bytes: 0 });
    }

    fn counted(&mut self) -> Traffic {
        let Some(counting) = self.counting.take() else { return Traffic::default() };
        let now = self.link.wire.counts();
        Traffic {
            statements: now.statements - counting.start.statements,
            round_trips: now.trips - counting.start.trips,
            rows: counting.rows,
            bytes: counting.bytes,
            wire_bytes: Some(now.bytes - counting.start.bytes),
        }
    }

    fn observe(&mut self) {
        self.observed = Some(Vec::new());
    }

    fn observed(&mut self) -> Vec<Observed> {
        self.observed.take().unwrap_or_default()
    }

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>]) -> Result<Vec<String>, EngineError> {
        let id = self.prepare(&format!("EXPLAIN {sql}"), &[])?;
        let mut lines = Vec::new();
        let mut take = |row: &[ValueRef<'_>]| {
            lines.extend(row.iter().map(ToString::to_string));
            Flow::More
        };
        self.run(id, parameters, &mut take)?;
        Ok(lines)
    }
}

/// Hands all rows to the sink.
async fn deliver(stream: RowStream, prepared: &Prepared, count: bool, sink: &mut dyn Sink) -> Result<Delivered, EngineError> {
    macro_rules! by_width {
        ($($width:literal)+) => {
            match prepared.readings.len() {
                $($width => deliver_width::<$width>(stream, prepared, count, sink).await,)+
                _ => deliver_wide(stream, prepared, count, sink).await,
            }
        };
    }
    by_width!(0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16)
}

/// For rows of `N` columns, whose values are put together on the stack.
async fn deliver_width<const N: usize>(
    stream: RowStream,
    prepared: &Prepared,
    count: bool,
    sink: &mut dyn Sink,
) -> Result<Delivered, EngineError> {
    let mut stream = std::pin::pin!(stream);
    let mut delivered = Delivered::default();
    while let Some(row) = stream.try_next().await.map_err(|error| engine_error(error, Some(&prepared.sql)))? {
        let mut values = [ValueRef::Null; N];
        for (column, value) in values.iter_mut().enumerate() {
            *value = read(&row, column, prepared)?;
        }
        if hand_over(&values, &mut delivered, count, sink) == Flow::Stop {
            break;
        }
    }
    Ok(delivered)
}

/// For rows of any number of columns.
async fn deliver_wide(stream: RowStream, prepared: &Prepared, count: bool, sink: &mut dyn Sink) -> Result<Delivered, EngineError> {
    let mut stream = std::pin::pin!(stream);
    let mut delivered = Delivered::default();
    while let Some(row) = stream.try_next().await.map_err(|error| engine_error(error, Some(&prepared.sql)))? {
        let values = (0..prepared.readings.len()).map(|column| read(&row, column, prepared)).collect::<Result<Vec<_>, _>>()?;
        if hand_over(&values, &mut delivered, count, sink) == Flow::Stop {
            break;
        }
    }
    Ok(delivered)
}

#[inline(always)]
fn read<'r>(row: &'r Row, column: usize, prepared: &Prepared) -> Result<ValueRef<'r>, EngineError> {
    match prepared.readings[column].value(row, column) {
        Ok(Some(value)) => Ok(value),
        Ok(None) => Err(wrong_kind(column, prepared)),
        Err(error) => Err(engine_error(error, Some(&prepared.sql))),
    }
}

#[inline(always)]
fn hand_over(values: &[ValueRef<'_>], delivered: &mut Delivered, count: bool, sink: &mut dyn Sink) -> Flow {
    delivered.rows += 1;
    if count {
        delivered.bytes += values.iter().map(|value| value.size()).sum::<u64>();
    }
    sink.row(values)
}

#[cold]
fn wrong_kind(column: usize, prepared: &Prepared) -> EngineError {
    let found = prepared.statement.columns()[column].type_();
    let wanted = prepared.kinds.get(column).copied().flatten().map_or_else(String::new, |kind| kind.to_string());
    EngineError {
        kind: EngineErrorKind::Value,
        message: format!("column {} holds a value of type {found}, which is not {wanted}", column + 1),
        sql: Some(prepared.sql.clone()),
        cause: None,
    }
}
