//! Loading a dataset: tables, rows by COPY in the binary format, then keys and indexes, then statistics.

use std::time::Instant;

use bytes::{BufMut, Bytes, BytesMut};
use futures_util::SinkExt;
use kampf_contest::{BulkInto, EngineError, EngineErrorKind};
use kampf_fill::{Batch, Blueprint};
use kampf_schema::{LogicalType, Schema, Table, TableId, ValueRef};
use tokio_postgres::CopyInSink;
use tokio_postgres::types::Type;

use super::connect::Link;
use super::dialect::POSTGRES;
use super::error::engine_error;
use super::values::encode;
use crate::event::{LoadEvent, Loaded};
use crate::fault::step;
use crate::load::pump;
use crate::tables::{column_list, create_table, foreign_key, indexes, primary_key, taken_names};

/// The comment on tables of Kampf's own making.
pub(super) const TABLE_MARK: &str = "made by Kampf";

/// About what the rows of a batch come to.
const PIECE: usize = 64 * 1024;

/// The head of a binary COPY: signature, flags, length of what else there is (the server's documentation of COPY).
const HEAD: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";
const TAIL: &[u8] = &(-1_i16).to_be_bytes();

pub(super) fn load(
    link: &Link,
    schema: &Schema,
    blueprint: &Blueprint,
    progress: &mut dyn FnMut(LoadEvent<'_>),
) -> Result<Vec<Loaded>, EngineError> {
    let begun = Instant::now();
    link.execute("BEGIN")?;
    for table in &schema.tables {
        link.execute(&create_table(&POSTGRES, schema, table, false)?)?;
        // So that what else is among them is known to be somebody else's.
        link.execute(&format!("COMMENT ON TABLE {} IS '{TABLE_MARK}'", (POSTGRES.quote)(&table.name)))?;
    }
    step("tables-made")?;
    let mut copy: Option<Copy<'_>> = None;
    // Rows are encoded on the other thread: while this one encodes, it sends nothing.
    let types: Vec<Vec<Type>> =
        schema.tables.iter().map(|table| table.columns.iter().map(|column| wire_type(column.kind)).collect()).collect();
    let encoded = |id: TableId, rows: Batch| encode_rows(&schema.table(id).name, &types[id.0], &rows).map(|piece| (piece, Some(rows)));
    let loaded = pump(schema, blueprint, progress, encoded, |id, piece| {
        step("rows-go-in")?;
        if copy.as_ref().is_none_or(|copy| copy.table != id) {
            if let Some(done) = copy.take() {
                done.finish()?;
            }
            copy = Some(Copy::begin(link, schema, id)?);
        }
        copy.as_mut().map_or(Ok(()), |copy| copy.send(piece)).map(|()| None)
    })?;
    if let Some(done) = copy {
        done.finish()?;
    }
    progress(LoadEvent::Indexes);
    step("indexes-begin")?;
    let mut names = taken_names(schema);
    for table in &schema.tables {
        let rule = |sql: &str| link.execute(sql).map_err(|error| broken_rule(error, table));
        if !table.primary_key.is_empty() {
            rule(&primary_key(&POSTGRES, table))?;
        }
        for index in indexes(&POSTGRES, table, &mut names) {
            // What is refused ends the whole transaction, but for what came before this.
            link.execute("SAVEPOINT before_index")?;
            index.make(progress, |sql| rule(sql).or_else(|error| link.execute("ROLLBACK TO before_index").and(Err(error))))?;
        }
    }
    for table in &schema.tables {
        for reference in &table.references {
            link.execute(&foreign_key(&POSTGRES, schema, table, reference)).map_err(|error| broken_rule(error, table))?;
        }
    }
    step("commit-begins")?;
    link.execute("COMMIT")?;
    step("committed")?;
    progress(LoadEvent::Statistics);
    for table in &schema.tables {
        link.execute(&format!("VACUUM (FREEZE, ANALYZE) {}", (POSTGRES.quote)(&table.name)))?;
    }
    progress(LoadEvent::Loaded(begun.elapsed()));
    Ok(loaded)
}

/// A rule of the schema that generated rows break: only recipes of the user's can do that.
fn broken_rule(mut error: EngineError, table: &Table) -> EngineError {
    if error.kind == EngineErrorKind::Constraint {
        error.message = format!("the rows made for `{}` break a rule of the schema; {}", table.name, error.message);
    }
    error
}

/// Rows in the form of a binary COPY.
fn encode_rows(table: &str, types: &[Type], batch: &Batch) -> Result<Bytes, EngineError> {
    let mut buffer = BytesMut::with_capacity(PIECE);
    for row in 0..batch.rows() {
        encode_row(table, types, batch.row(row), &mut buffer)?;
    }
    Ok(buffer.freeze())
}

fn encode_row<'v>(
    table: &str,
    types: &[Type],
    values: impl Iterator<Item = ValueRef<'v>>,
    buffer: &mut BytesMut,
) -> Result<(), EngineError> {
    buffer.put_i16(types.len() as i16);
    for (value, of) in values.zip(types) {
        let at = buffer.len();
        buffer.put_i32(-1);
        if value.is_null() {
            continue;
        }
        if !encode(value, of, buffer) {
            return Err(EngineError {
                kind: EngineErrorKind::Value,
                message: format!("a value made for `{table}`, {value}, cannot be kept as {of}"),
                sql: None,
                cause: None,
            });
        }
        let length = (buffer.len() - at - 4) as i32;
        buffer[at..at + 4].copy_from_slice(&length.to_be_bytes());
    }
    Ok(())
}

/// Rows as a whole binary COPY, in pieces.
pub(super) fn encode_all(into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<Vec<Bytes>, EngineError> {
    let types: Vec<Type> = into.columns.iter().map(|(_, kind)| wire_type(*kind)).collect();
    let mut pieces = Vec::new();
    let mut buffer = BytesMut::with_capacity(PIECE);
    buffer.put_slice(HEAD);
    for row in rows {
        encode_row(into.table, &types, row.iter().copied(), &mut buffer)?;
        if buffer.len() >= PIECE {
            pieces.push(buffer.split().freeze());
        }
    }
    buffer.put_slice(TAIL);
    pieces.push(buffer.freeze());
    Ok(pieces)
}

/// A table being copied.
struct Copy<'l> {
    link: &'l Link,
    table: TableId,
    name: String,
    sink: std::pin::Pin<Box<CopyInSink<Bytes>>>,
}

impl<'l> Copy<'l> {
    fn begin(link: &'l Link, schema: &Schema, id: TableId) -> Result<Copy<'l>, EngineError> {
        let table = schema.table(id);
        let columns: Vec<_> = (0..table.columns.len()).collect();
        let sql = format!(
            "COPY {} ({}) FROM STDIN (FORMAT binary, FREEZE)",
            (POSTGRES.quote)(&table.name),
            column_list(&POSTGRES, table, &columns)
        );
        let sink = link.patiently(link.client().copy_in(&sql))?.map_err(|error| engine_error(error, Some(&sql)))?;
        let mut copy = Copy { link, table: id, name: table.name.clone(), sink: Box::pin(sink) };
        copy.send(Bytes::from_static(HEAD))?;
        Ok(copy)
    }

    fn send(&mut self, piece: Bytes) -> Result<(), EngineError> {
        let sent = self.link.patiently(async {
            self.sink.send(piece).await?;
            // The connection writes it to the server in its own turn, which else comes only with the next piece.
            tokio::task::yield_now().await;
            Ok(())
        })?;
        sent.map_err(|error: tokio_postgres::Error| engine_error(error, None))
    }

    fn finish(mut self) -> Result<(), EngineError> {
        self.send(Bytes::from_static(TAIL))?;
        self.link.patiently(self.sink.as_mut().finish())?.map(|_| ()).map_err(|error| {
            let error = engine_error(error, None);
            let rule = error.kind == EngineErrorKind::Constraint;
            let message = if rule {
                format!("the rows made for `{}` break a rule of the schema; {}", self.name, error.message)
            } else {
                error.message
            };
            EngineError { message, ..error }
        })
    }
}

/// The type a column's values are sent as.
fn wire_type(kind: LogicalType) -> Type {
    match kind {
        LogicalType::Integer => Type::INT8,
        LogicalType::Decimal { .. } => Type::NUMERIC,
        LogicalType::Real => Type::FLOAT8,
        LogicalType::Text { .. } => Type::TEXT,
        LogicalType::Boolean => Type::BOOL,
        LogicalType::Date => Type::DATE,
        LogicalType::Timestamp => Type::TIMESTAMP,
        LogicalType::Uuid => Type::UUID,
        LogicalType::Blob => Type::BYTEA,
    }
}
