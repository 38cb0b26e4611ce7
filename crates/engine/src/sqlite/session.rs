//! A session on an open file.

use std::collections::HashMap;
use std::time::Instant;

use kampf_contest::{Counts, EngineError, EngineErrorKind, Flow, Observed, Session, Sink, StatementId};
use kampf_schema::{Decimal, LogicalType, ValueRef, format_date, format_timestamp, parse_date, parse_timestamp};
use rusqlite::types::{ToSqlOutput, ValueRef as Stored};

use super::error::engine_error;

struct Prepared<'c> {
    statement: rusqlite::Statement<'c>,
    sql: String,
    kinds: Vec<Option<LogicalType>>,
}

pub(super) struct SqliteSession<'c> {
    connection: &'c rusqlite::Connection,
    prepared: Vec<Prepared<'c>>,
    by_text: HashMap<String, StatementId>,
    counts: Option<Counts>,
    observed: Option<Vec<Observed>>,
    /// The current row's values, kept for its memory.
    row: Vec<ValueRef<'static>>,
}

impl<'c> SqliteSession<'c> {
    pub(super) fn new(connection: &'c rusqlite::Connection) -> Self {
        SqliteSession { connection, prepared: Vec::new(), by_text: HashMap::new(), counts: None, observed: None, row: Vec::new() }
    }

    fn simple(&mut self, sql: &str) -> Result<(), EngineError> {
        let id = self.prepare(sql, &[])?;
        self.run(id, &[], &mut |_: &[ValueRef<'_>]| Flow::More)
    }
}

/// An empty vector for values of another lifetime, with the same memory.
fn emptied<'a>(mut row: Vec<ValueRef<'_>>) -> Vec<ValueRef<'a>> {
    row.clear();
    // Collecting in place: the standard library reuses the allocation, since nothing about its layout changes.
    row.into_iter().map(|_| ValueRef::Null).collect()
}

impl Session for SqliteSession<'_> {
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError> {
        if let Some(id) = self.by_text.get(sql) {
            return Ok(*id);
        }
        let statement = self.connection.prepare(sql).map_err(|error| engine_error(&error, Some(sql)))?;
        let mut kinds = kinds.to_vec();
        kinds.resize(kinds.len().max(statement.column_count()), None);
        let id = StatementId(self.prepared.len());
        self.prepared.push(Prepared { statement, sql: sql.to_owned(), kinds });
        self.by_text.insert(sql.to_owned(), id);
        if let Some(counts) = &mut self.counts {
            counts.round_trips += 1;
        }
        Ok(id)
    }

    fn columns(&self, statement: StatementId) -> Vec<String> {
        self.prepared[statement.0].statement.column_names().into_iter().map(str::to_owned).collect()
    }

    fn run(&mut self, id: StatementId, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<(), EngineError> {
        let start = self.observed.is_some().then(Instant::now);
        let prepared = &mut self.prepared[id.0];
        let (statement, sql, kinds) = (&mut prepared.statement, &prepared.sql, &prepared.kinds);
        let failed = |error: rusqlite::Error| engine_error(&error, Some(sql));
        for (at, parameter) in parameters.iter().enumerate() {
            bind(statement, at + 1, *parameter).map_err(failed)?;
        }
        let width = statement.column_count();
        let mut delivered = 0_u64;
        let mut bytes = 0_u64;
        let mut cells = std::mem::take(&mut self.row);
        let mut rows = statement.raw_query();
        while let Some(row) = rows.next().map_err(failed)? {
            let mut current = emptied(cells);
            for (column, kind) in kinds.iter().enumerate().take(width) {
                let stored = row.get_ref(column).map_err(failed)?;
                current.push(convert(stored, *kind).ok_or_else(|| wrong_kind(stored, *kind, column, sql))?);
            }
            delivered += 1;
            if self.counts.is_some() {
                bytes += current.iter().map(|value| value.size()).sum::<u64>();
            }
            let flow = sink.row(&current);
            cells = emptied(current);
            if flow == Flow::Stop {
                break;
            }
        }
        drop(rows);
        self.row = cells;
        if let Some(counts) = &mut self.counts {
            counts.statements += 1;
            counts.round_trips += 1;
            counts.rows += delivered;
            counts.bytes += bytes;
        }
        if let (Some(observed), Some(start)) = (&mut self.observed, start) {
            let nanos = u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX);
            let parameters = parameters.iter().map(|parameter| parameter.to_value()).collect();
            observed.push(Observed { sql: sql.clone(), parameters, nanos, rows: delivered });
        }
        Ok(())
    }

    fn begin(&mut self) -> Result<(), EngineError> {
        self.simple("BEGIN")
    }

    fn commit(&mut self) -> Result<(), EngineError> {
        self.simple("COMMIT")
    }

    fn count(&mut self) {
        self.counts = Some(Counts::default());
    }

    fn counted(&mut self) -> Counts {
        self.counts.take().unwrap_or_default()
    }

    fn observe(&mut self) {
        self.observed = Some(Vec::new());
    }

    fn observed(&mut self) -> Vec<Observed> {
        self.observed.take().unwrap_or_default()
    }

    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>]) -> Result<Vec<String>, EngineError> {
        let sql = format!("EXPLAIN QUERY PLAN {sql}");
        let failed = |error: rusqlite::Error| engine_error(&error, Some(&sql));
        let mut statement = self.connection.prepare(&sql).map_err(failed)?;
        for (at, parameter) in parameters.iter().enumerate() {
            bind(&mut statement, at + 1, *parameter).map_err(failed)?;
        }
        let mut depths: HashMap<i64, usize> = HashMap::new();
        let mut lines = Vec::new();
        let mut rows = statement.raw_query();
        while let Some(row) = rows.next().map_err(failed)? {
            let (id, parent): (i64, i64) = (row.get(0).map_err(failed)?, row.get(1).map_err(failed)?);
            let detail: String = row.get(3).map_err(failed)?;
            let depth = depths.get(&parent).map_or(0, |depth| depth + 1);
            depths.insert(id, depth);
            lines.push(format!("{}{detail}", "  ".repeat(depth)));
        }
        Ok(lines)
    }
}

/// Binds a value in the form its type is stored in.
pub(super) fn bind(statement: &mut rusqlite::Statement<'_>, at: usize, value: ValueRef<'_>) -> Result<(), rusqlite::Error> {
    let text = |text: &str| ToSqlOutput::Owned(rusqlite::types::Value::Text(text.to_owned()));
    let stored = match value {
        ValueRef::Null => ToSqlOutput::Borrowed(Stored::Null),
        ValueRef::Integer(number) => ToSqlOutput::Borrowed(Stored::Integer(number)),
        ValueRef::Decimal(units, scale) => ToSqlOutput::Borrowed(Stored::Real(Decimal { units: units.get(), scale }.to_real())),
        ValueRef::Real(number) => ToSqlOutput::Borrowed(Stored::Real(number)),
        ValueRef::Text(text) => ToSqlOutput::Borrowed(Stored::Text(text.as_bytes())),
        ValueRef::Boolean(truth) => ToSqlOutput::Borrowed(Stored::Integer(i64::from(truth))),
        ValueRef::Date(days) => text(&format_date(days)),
        ValueRef::Timestamp(micros) => text(&format_timestamp(micros)),
        ValueRef::Uuid(_) => text(&value.to_string()),
        ValueRef::Blob(bytes) => ToSqlOutput::Borrowed(Stored::Blob(bytes)),
    };
    statement.raw_bind_parameter(at, stored)
}

/// A stored value as its column's type means it; none where it is no such value.
#[inline]
fn convert(stored: Stored<'_>, kind: Option<LogicalType>) -> Option<ValueRef<'_>> {
    Some(match (stored, kind) {
        (Stored::Null, _) => ValueRef::Null,
        (Stored::Integer(number), None | Some(LogicalType::Integer)) => ValueRef::Integer(number),
        (Stored::Real(number), None | Some(LogicalType::Real)) => ValueRef::Real(number),
        (Stored::Text(bytes), None | Some(LogicalType::Text { .. })) => ValueRef::Text(std::str::from_utf8(bytes).ok()?),
        (Stored::Blob(bytes), None | Some(LogicalType::Blob)) => ValueRef::Blob(bytes),
        (Stored::Integer(number), Some(LogicalType::Real)) => ValueRef::Real(number as f64),
        (Stored::Integer(number), Some(LogicalType::Boolean)) => ValueRef::Boolean(number != 0),
        (Stored::Integer(number), Some(LogicalType::Decimal { scale, .. })) => {
            let decimal = Decimal { units: number.into(), scale: 0 }.rescaled(scale)?;
            ValueRef::Decimal(decimal.units.into(), scale)
        }
        (Stored::Real(number), Some(LogicalType::Decimal { scale, .. })) => {
            ValueRef::Decimal(Decimal::from_real(number, scale)?.units.into(), scale)
        }
        (Stored::Real(number), Some(LogicalType::Integer)) if number.fract() == 0.0 && number.abs() < 9e15 => {
            ValueRef::Integer(number as i64)
        }
        (Stored::Text(bytes), Some(LogicalType::Date)) => ValueRef::Date(parse_date(std::str::from_utf8(bytes).ok()?)?),
        (Stored::Text(bytes), Some(LogicalType::Timestamp)) => ValueRef::Timestamp(parse_timestamp(std::str::from_utf8(bytes).ok()?)?),
        (Stored::Text(bytes), Some(LogicalType::Uuid)) => ValueRef::Uuid(uuid(bytes)?),
        _ => return None,
    })
}

fn uuid(text: &[u8]) -> Option<[u8; 16]> {
    let mut bytes = [0; 16];
    let mut digits = text.iter().filter(|&&byte| byte != b'-').map(|&byte| char::from(byte).to_digit(16));
    for byte in &mut bytes {
        *byte = (digits.next()?? << 4 | digits.next()??) as u8;
    }
    digits.next().is_none().then_some(bytes)
}

#[cold]
fn wrong_kind(stored: Stored<'_>, kind: Option<LogicalType>, column: usize, sql: &str) -> EngineError {
    let found = match stored {
        Stored::Integer(number) => number.to_string(),
        Stored::Real(number) => number.to_string(),
        Stored::Text(bytes) => format!("the text `{}`", String::from_utf8_lossy(&bytes[..bytes.len().min(40)])),
        Stored::Blob(bytes) => format!("{} bytes", bytes.len()),
        Stored::Null => "null".to_owned(),
    };
    let wanted = kind.map_or_else(|| "text in UTF-8".to_owned(), |kind| kind.to_string());
    EngineError {
        kind: EngineErrorKind::Value,
        message: format!("column {} holds {found}, which is not {wanted}", column + 1),
        sql: Some(sql.to_owned()),
    }
}
