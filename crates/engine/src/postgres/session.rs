//! Statements on a connection.

use std::cell::Ref;
use std::future::poll_fn;
use std::ops::Deref;
use std::pin::Pin;
use std::task::Poll;

use bytes::Bytes;
use futures_util::future::maybe_done;
use futures_util::{SinkExt, TryStreamExt};
use kampf_contest::{BulkInto, EngineError, EngineErrorKind, Flow, GroupUnit, QueryPlan};
use kampf_schema::{LogicalType, ValueRef};
use tokio::runtime::Runtime;
use tokio_postgres::types::Type;
use tokio_postgres::{Client, Row, RowStream, Statement};

use super::connect::Link;
use super::dialect::POSTGRES;
use super::error::engine_error;
use super::load::encode_all;
use super::plan::plan;
use super::values::{Bound, ValueReader, fits, own_type, type_to_send};
use crate::session::{Driver, GROUP_BEGIN, GROUP_END, Handing, InGroup, KeptStatement, Portioned, Rows, WireCounts};

/// A prepared statement.
pub(crate) struct Prepared {
    statement: Statement,
    known: Known,
}

/// What is known of a statement besides what the server keeps of it.
struct Known {
    sql: String,
    kinds: Vec<Option<LogicalType>>,
    readings: Vec<ValueReader>,
}

impl Known {
    fn of(sql: &str, kinds: &[Option<LogicalType>], columns: &[tokio_postgres::Column]) -> Result<Known, EngineError> {
        let readings = columns.iter().enumerate().map(|(at, column)| {
            ValueReader::of(column.name(), column.type_(), kinds.get(at).copied().flatten())
                .map_err(|error| EngineError { sql: Some(sql.to_owned()), ..error })
        });
        let readings = readings.collect::<Result<_, _>>()?;
        Ok(Known { sql: sql.to_owned(), kinds: kinds.to_vec(), readings })
    }
}

/// PostgreSQL's part of a session.
pub(crate) struct PostgresDriver<'c> {
    link: &'c Link,
    /// The same connection as an open transaction of the driver's lends it.
    within: Option<&'c Client>,
}

/// The connection, whoever holds it.
enum Held<'a> {
    Own(Ref<'a, Client>),
    Lent(&'a Client),
}

impl Deref for Held<'_> {
    type Target = Client;

    fn deref(&self) -> &Client {
        match self {
            Held::Own(client) => client,
            Held::Lent(client) => client,
        }
    }
}

impl<'c> PostgresDriver<'c> {
    pub(super) fn new(link: &'c Link) -> Self {
        PostgresDriver { link, within: None }
    }

    fn client(&self) -> Held<'_> {
        self.within.map_or_else(|| Held::Own(self.link.client()), Held::Lent)
    }

    fn compile(&self, sql: &str, kinds: &[Option<LogicalType>], types: &[Type]) -> Result<Prepared, EngineError> {
        let statement = self.link.runtime.block_on(self.client().prepare_typed(sql, types));
        let statement = statement.map_err(|error| engine_error(error, Some(sql)))?;
        let known = Known::of(sql, kinds, statement.columns())?;
        Ok(Prepared { statement, known })
    }

    /// Prepares a statement anew with the types of values that the server's own guess cannot hold.
    fn fit(&self, prepared: &mut Prepared, parameters: &[ValueRef<'_>]) -> Result<(), EngineError> {
        if let Some(types) = other_types(&prepared.statement, parameters) {
            *prepared = self.compile(&prepared.known.sql, &prepared.known.kinds, &types)?;
        }
        Ok(())
    }

    /// Hands on a result of any length; gives how many rows the statement has changed.
    fn hand_on_all(
        &self,
        known: &Known,
        stream: Pin<&mut RowStream>,
        first: Option<Row>,
        to: &mut Handing<'_>,
    ) -> Result<Option<u64>, EngineError> {
        let mut open = OpenStream { runtime: &self.link.runtime, stream, first, known };
        let more = open.hand_on(u64::MAX, to)?;
        Ok(open.stream.rows_affected().filter(|_| !more && known.readings.is_empty()))
    }
}

/// An open result.
struct OpenStream<'r> {
    runtime: &'r Runtime,
    stream: Pin<&'r mut RowStream>,
    /// A row that was taken to learn what the columns are.
    first: Option<Row>,
    known: &'r Known,
}

impl Rows for OpenStream<'_> {
    fn width(&self) -> usize {
        self.known.readings.len()
    }

    fn each<const N: usize>(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError> {
        let known = self.known;
        let take = |row: &Row, to: &mut Handing<'_>| -> Result<Flow, EngineError> {
            let mut values = [ValueRef::Null; N];
            for (column, value) in values.iter_mut().enumerate() {
                *value = read(row, column, known)?;
            }
            Ok(to.row(&values))
        };
        self.each_by(most, to, take)
    }

    fn each_wide(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError> {
        let known = self.known;
        let take = |row: &Row, to: &mut Handing<'_>| -> Result<Flow, EngineError> {
            let values = (0..known.readings.len()).map(|column| read(row, column, known)).collect::<Result<Vec<_>, _>>()?;
            Ok(to.row(&values))
        };
        self.each_by(most, to, take)
    }
}

impl OpenStream<'_> {
    #[inline(always)]
    fn each_by(
        &mut self,
        most: u64,
        to: &mut Handing<'_>,
        take: impl Fn(&Row, &mut Handing<'_>) -> Result<Flow, EngineError>,
    ) -> Result<bool, EngineError> {
        let OpenStream { runtime, stream, first, known } = self;
        let mut left = most;
        if let Some(row) = first.take() {
            if take(&row, to)? == Flow::Stop {
                return Ok(true);
            }
            left -= 1;
        }
        runtime.block_on(async {
            while left > 0 {
                let Some(row) = stream.try_next().await.map_err(|error| engine_error(error, Some(&known.sql)))? else { return Ok(false) };
                if take(&row, to)? == Flow::Stop {
                    break;
                }
                left -= 1;
            }
            Ok(true)
        })
    }
}

impl Driver for PostgresDriver<'_> {
    type Statement = Prepared;

    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<Prepared, EngineError> {
        self.compile(sql, kinds, &[])
    }

    fn columns(prepared: &Prepared) -> Vec<String> {
        prepared.statement.columns().iter().map(|column| column.name().to_owned()).collect()
    }

    fn run(&mut self, prepared: &mut Prepared, parameters: &[ValueRef<'_>], to: &mut Handing<'_>) -> Result<Option<u64>, EngineError> {
        self.fit(prepared, parameters)?;
        let bound = parameters.iter().map(|value| Bound(*value));
        let stream = self.link.runtime.block_on(self.client().query_raw(&prepared.statement, bound));
        let stream = std::pin::pin!(stream.map_err(|error| engine_error(error, Some(&prepared.known.sql)))?);
        self.hand_on_all(&prepared.known, stream, None, to)
    }

    fn run_text(
        &mut self,
        sql: &str,
        kinds: &[Option<LogicalType>],
        parameters: &[ValueRef<'_>],
        to: &mut Handing<'_>,
    ) -> Result<Option<u64>, EngineError> {
        let failed = |error: tokio_postgres::Error| engine_error(error, Some(sql));
        let bound = parameters.iter().map(|value| (Bound(*value), type_to_send(*value)));
        let stream = self.link.runtime.block_on(self.client().query_typed_raw(sql, bound)).map_err(failed)?;
        let mut stream = std::pin::pin!(stream);
        let first = self.link.runtime.block_on(stream.try_next()).map_err(failed)?;
        let known = Known::of(sql, kinds, first.as_ref().map(Row::columns).unwrap_or_default())?;
        if first.is_none() {
            return Ok(stream.rows_affected());
        }
        self.hand_on_all(&known, stream, first, to)
    }

    /// A portal of the extended protocol, which lives in a transaction.
    fn stream(
        &mut self,
        prepared: &mut Prepared,
        parameters: &[ValueRef<'_>],
        size: u32,
        to: &mut Portioned<'_, Prepared>,
    ) -> Result<(), EngineError> {
        self.fit(prepared, parameters)?;
        let runtime = &self.link.runtime;
        let known = &prepared.known;
        let failed = |error: tokio_postgres::Error| engine_error(error, Some(&known.sql));
        let mut client = self.link.client_for_transaction().filter(|_| self.within.is_none()).ok_or_else(|| EngineError {
            kind: EngineErrorKind::Statement,
            message: "a cursor is open already, and its transaction can hold no other".to_owned(),
            sql: Some(known.sql.clone()),
            cause: None,
        })?;
        let transaction = runtime.block_on(client.build_transaction().read_only(true).start()).map_err(failed)?;
        let bound = parameters.iter().map(|value| Bound(*value));
        let portal = runtime.block_on(transaction.bind_raw(&prepared.statement, bound)).map_err(failed)?;
        let size = i32::try_from(size).unwrap_or(i32::MAX);
        loop {
            let lent = PostgresDriver { link: self.link, within: Some(transaction.client()) };
            let more = to.portion(lent, |handing| {
                let stream = runtime.block_on(transaction.query_portal_raw(&portal, size)).map_err(failed)?;
                let mut open = OpenStream { runtime, stream: std::pin::pin!(stream), first: None, known };
                open.hand_on(u64::MAX, handing)?;
                // One that is not at its end tells of no rows.
                Ok(open.stream.rows_affected().is_none())
            })?;
            if !more {
                break;
            }
        }
        drop(portal);
        runtime.block_on(transaction.commit()).map_err(failed)
    }

    fn group(&mut self, kept: &mut [KeptStatement<Prepared>], group: &mut [InGroup<'_>], unit: GroupUnit) -> Result<(), EngineError> {
        for one in group.iter() {
            self.fit(kept[one.statement].statement()?, one.parameters)?;
        }
        let mut prepared = Vec::with_capacity(group.len());
        for one in group.iter() {
            prepared.push(kept[one.statement].shared()?);
        }
        let client = self.client();
        // The driver ends each statement's message with a sync, after which the server would go on behind one that failed: within a transaction it
        // refuses all that follow.
        let client = &*client;
        let ends = |sql: &'static str| {
            let sent = async move {
                if unit == GroupUnit::Own {
                    client.batch_execute(sql).await.map_err(|error| engine_error(error, Some(sql)))
                } else {
                    Ok(())
                }
            };
            Box::pin(maybe_done(sent))
        };
        let mut begin = ends(GROUP_BEGIN);
        let sent = prepared.iter().zip(group.iter()).map(|(prepared, one)| {
            let bound = one.parameters.iter().map(|value| Bound(*value));
            Box::pin(maybe_done(client.query_raw(&prepared.statement, bound)))
        });
        let mut sent: Vec<_> = sent.collect();
        let mut end = ends(GROUP_END);
        let runtime = &self.link.runtime;
        // A message is sent when it is first polled. What comes is then read in turn, as what comes for a later one waits behind it.
        runtime.block_on(poll_fn(|context| {
            let _ = begin.as_mut().poll(context);
            for one in &mut sent {
                let _ = one.as_mut().poll(context);
            }
            let _ = end.as_mut().poll(context);
            Poll::Ready(())
        }));
        runtime.block_on(begin.as_mut());
        begin.as_mut().take_output().unwrap_or(Ok(()))?;
        for ((mut stream, prepared), one) in sent.into_iter().zip(prepared).zip(group) {
            runtime.block_on(stream.as_mut());
            let Some(stream) = stream.as_mut().take_output() else { continue };
            let stream = stream.map_err(|error| engine_error(error, Some(&prepared.known.sql)))?;
            self.hand_on_all(&prepared.known, std::pin::pin!(stream), None, &mut one.to)?;
        }
        runtime.block_on(end.as_mut());
        end.as_mut().take_output().unwrap_or(Ok(()))
    }

    fn bulk_sql(&self, into: &BulkInto<'_>) -> Option<String> {
        let quote = POSTGRES.quote;
        let columns: Vec<String> = into.columns.iter().map(|(name, _)| quote(name)).collect();
        POSTGRES.bulk.map(|bulk| bulk(&quote(into.table), &columns.join(", ")))
    }

    fn bulk(&mut self, prepared: &mut Prepared, into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError> {
        let failed = |error: tokio_postgres::Error| engine_error(error, Some(&prepared.known.sql));
        let pieces = encode_all(into, rows)?;
        let client = self.client();
        self.link.runtime.block_on(async {
            let mut sink = Box::pin(client.copy_in::<_, Bytes>(&prepared.statement).await.map_err(failed)?);
            for piece in pieces {
                sink.send(piece).await.map_err(failed)?;
            }
            sink.as_mut().finish().await.map_err(failed)
        })
    }

    fn wire(&self) -> Option<WireCounts> {
        Some(self.link.wire.counts())
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        // Once it has begun to read, such a transaction cannot be made one that writes.
        self.link.execute("BEGIN READ ONLY; SELECT 1")
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        // Asked before the end, which takes back what was set meanwhile, and would only do so here.
        let asked = self.link.still_reads_only();
        self.link.execute("ROLLBACK")?;
        asked
    }

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], carried_out: bool) -> Result<QueryPlan, EngineError> {
        let analyze = if carried_out { ", ANALYZE" } else { "" };
        let json = self.rows_of(&format!("EXPLAIN (FORMAT JSON{analyze}) {sql}"), parameters)?;
        let document = json.first().and_then(|row| row.try_get::<_, serde_json::Value>(0).ok());
        let mut read = document.as_ref().and_then(plan).unwrap_or_default();
        let lines = self.rows_of(&format!("EXPLAIN {sql}"), parameters)?;
        read.own = lines.iter().filter_map(|row| row.try_get(0).ok()).collect();
        Ok(read)
    }
}

impl PostgresDriver<'_> {
    /// All rows of a statement, whatever they are.
    fn rows_of(&self, sql: &str, parameters: &[ValueRef<'_>]) -> Result<Vec<Row>, EngineError> {
        let prepare = |types: &[Type]| {
            let prepared = self.link.runtime.block_on(self.client().prepare_typed(sql, types));
            prepared.map_err(|error| engine_error(error, Some(sql)))
        };
        let mut statement = prepare(&[])?;
        if let Some(types) = other_types(&statement, parameters) {
            statement = prepare(&types)?;
        }
        let bound = parameters.iter().map(|value| Bound(*value));
        let rows = self.link.runtime.block_on(async {
            let stream = self.client().query_raw(&statement, bound).await?;
            stream.try_collect::<Vec<Row>>().await
        });
        rows.map_err(|error| engine_error(error, Some(sql)))
    }
}

/// The types of parameters where the server's own guess cannot hold their values.
fn other_types(statement: &Statement, parameters: &[ValueRef<'_>]) -> Option<Vec<Type>> {
    let wanted = statement.params();
    if wanted.len() != parameters.len() || wanted.iter().zip(parameters).all(|(of, value)| fits(*value, of)) {
        return None;
    }
    let own = |(of, value): (&Type, &ValueRef<'_>)| if fits(*value, of) { of.clone() } else { own_type(*value) };
    Some(wanted.iter().zip(parameters).map(own).collect())
}

#[inline(always)]
fn read<'r>(row: &'r Row, column: usize, known: &Known) -> Result<ValueRef<'r>, EngineError> {
    match known.readings[column].value(row, column) {
        Ok(Some(value)) => Ok(value),
        Ok(None) => Err(wrong_kind(row, column, known)),
        Err(error) => Err(engine_error(error, Some(&known.sql))),
    }
}

#[cold]
fn wrong_kind(row: &Row, column: usize, known: &Known) -> EngineError {
    let found = row.columns()[column].type_();
    let wanted = known.kinds.get(column).copied().flatten().map_or_else(String::new, |kind| kind.to_string());
    EngineError {
        kind: EngineErrorKind::Value,
        message: format!("column {} holds a value of type {found}, which is not {wanted}", column + 1),
        sql: Some(known.sql.clone()),
        cause: None,
    }
}
