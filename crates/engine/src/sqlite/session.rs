//! Statements on an open file.

use kampf_contest::{EngineError, EngineErrorKind, Flow, GroupUnit, QueryPlan};
use kampf_schema::{Decimal, LogicalType, TimeText, ValueRef, parse_date, parse_timestamp};
use rusqlite::types::{ToSqlOutput, ValueRef as Stored};

use super::error::engine_error;
use super::plan::{Line, plan, table_called};
use crate::session::{Driver, GROUP_BEGIN, GROUP_END, Handing, InGroup, KeptStatement, Portioned, Rows, WireCounts};

/// What a result column means.
#[derive(Clone, Copy)]
struct ColumnKind {
    /// Its type; none where a value is taken as it is stored.
    kind: Option<LogicalType>,
    /// How its values are stored when nothing is to be converted.
    plain: Plain,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Plain {
    Any,
    Integer,
    Real,
    Text,
    Never,
}

impl ColumnKind {
    fn of(kind: Option<LogicalType>) -> ColumnKind {
        let plain = match kind {
            None => Plain::Any,
            Some(LogicalType::Integer) => Plain::Integer,
            Some(LogicalType::Real) => Plain::Real,
            Some(LogicalType::Text { .. }) => Plain::Text,
            Some(_) => Plain::Never,
        };
        ColumnKind { kind, plain }
    }
}

/// A prepared statement.
pub(crate) struct Prepared<'c> {
    statement: rusqlite::Statement<'c>,
    sql: String,
    columns: Vec<ColumnKind>,
}

/// SQLite's part of a session. What a server would need is counted by the session.
#[derive(Clone, Copy)]
pub(crate) struct SqliteDriver<'c> {
    connection: &'c rusqlite::Connection,
}

impl<'c> SqliteDriver<'c> {
    pub(super) fn new(connection: &'c rusqlite::Connection) -> Self {
        SqliteDriver { connection }
    }
}

impl<'c> Prepared<'c> {
    /// The open result for some parameters.
    fn open<'s>(&'s mut self, parameters: &[ValueRef<'_>]) -> Result<OpenRows<'s>, EngineError> {
        for (at, parameter) in parameters.iter().enumerate() {
            bind(&mut self.statement, at + 1, *parameter).map_err(|error| engine_error(error, Some(&self.sql)))?;
        }
        Ok(OpenRows { rows: Some(self.statement.raw_query()), columns: &self.columns, sql: &self.sql })
    }

    /// Carries it out; gives how many rows it has changed.
    fn run(
        &mut self,
        connection: &rusqlite::Connection,
        parameters: &[ValueRef<'_>],
        to: &mut Handing<'_>,
    ) -> Result<Option<u64>, EngineError> {
        let mut open = self.open(parameters)?;
        let more = open.hand_on(u64::MAX, to)?;
        drop(open);
        Ok((!more && !self.statement.readonly()).then(|| connection.changes()))
    }
}

/// An open result.
struct OpenRows<'s> {
    /// None after an error.
    rows: Option<rusqlite::Rows<'s>>,
    columns: &'s [ColumnKind],
    sql: &'s str,
}

impl Rows for OpenRows<'_> {
    fn width(&self) -> usize {
        self.columns.len()
    }

    /// The first columns are written out one by one: a place in the code for each column lets the processor foresee the kind of its
    /// values, which is worth 6 % of a scan.
    fn each<const N: usize>(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError> {
        let OpenRows { rows: open, columns, sql } = self;
        let failed = |error: rusqlite::Error| engine_error(error, Some(sql));
        // By value, so that the loop keeps it where the processor reckons.
        let Some(mut rows) = open.take() else { return Ok(false) };
        let plain: [Plain; N] = std::array::from_fn(|column| columns[column].plain);
        let mut hand = to.within();
        let mut more = true;
        while hand.taken().0 < most {
            let Some(row) = rows.next().map_err(failed)? else {
                more = false;
                break;
            };
            let mut values = [ValueRef::Null; N];
            macro_rules! take {
                ($column:expr) => {
                    let stored = row.get_ref($column).map_err(failed)?;
                    if !put(&mut values[$column], stored, plain[$column], &columns[$column]) {
                        return Err(wrong_kind(stored, columns[$column].kind, $column, sql));
                    }
                };
            }
            macro_rules! unrolled {
                ($($column:literal)+) => { $(if $column < N { take!($column); })+ };
            }
            unrolled!(0 1 2 3 4 5 6 7);
            for column in 8..N {
                take!(column);
            }
            if hand.row(&values) == Flow::Stop {
                break;
            }
        }
        let taken = hand.taken();
        to.add(taken);
        *open = Some(rows);
        Ok(more)
    }

    fn each_wide(&mut self, most: u64, to: &mut Handing<'_>) -> Result<bool, EngineError> {
        let OpenRows { rows: Some(rows), columns, sql } = self else { return Ok(false) };
        let failed = |error: rusqlite::Error| engine_error(error, Some(sql));
        let mut left = most;
        while left > 0 {
            let Some(row) = rows.next().map_err(failed)? else { return Ok(false) };
            let mut values = Vec::with_capacity(columns.len());
            for (column, kind) in columns.iter().enumerate() {
                let stored = row.get_ref(column).map_err(failed)?;
                let mut value = ValueRef::Null;
                if !put(&mut value, stored, kind.plain, kind) {
                    return Err(wrong_kind(stored, kind.kind, column, sql));
                }
                values.push(value);
            }
            if to.row(&values) == Flow::Stop {
                break;
            }
            left -= 1;
        }
        Ok(true)
    }
}

impl<'c> Driver for SqliteDriver<'c> {
    type Statement = Prepared<'c>;

    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<Prepared<'c>, EngineError> {
        let statement = self.connection.prepare(sql).map_err(|error| engine_error(error, Some(sql)))?;
        let columns = (0..statement.column_count()).map(|column| ColumnKind::of(kinds.get(column).copied().flatten())).collect();
        Ok(Prepared { statement, sql: sql.to_owned(), columns })
    }

    fn columns(statement: &Prepared<'c>) -> Vec<String> {
        statement.statement.column_names().map(str::to_owned).collect()
    }

    fn run(&mut self, statement: &mut Prepared<'c>, parameters: &[ValueRef<'_>], to: &mut Handing<'_>) -> Result<Option<u64>, EngineError> {
        statement.run(self.connection, parameters, to)
    }

    fn run_text(
        &mut self,
        sql: &str,
        kinds: &[Option<LogicalType>],
        parameters: &[ValueRef<'_>],
        to: &mut Handing<'_>,
    ) -> Result<Option<u64>, EngineError> {
        self.prepare(sql, kinds)?.run(self.connection, parameters, to)
    }

    fn stream(
        &mut self,
        statement: &mut Prepared<'c>,
        parameters: &[ValueRef<'_>],
        size: u32,
        to: &mut Portioned<'_, Prepared<'c>>,
    ) -> Result<(), EngineError> {
        let mut open = statement.open(parameters)?;
        while to.portion(*self, |handing| open.hand_on(size.into(), handing))? {}
        Ok(())
    }

    fn group(&mut self, kept: &mut [KeptStatement<Prepared<'c>>], group: &mut [InGroup<'_>], unit: GroupUnit) -> Result<(), EngineError> {
        let connection = self.connection;
        let mut all = || {
            group.iter_mut().try_for_each(|InGroup { statement, parameters, to }| {
                kept[*statement].statement()?.run(connection, parameters, to).map(|_| ())
            })
        };
        if unit == GroupUnit::Open {
            return all();
        }
        let send = |sql: &str| connection.execute_batch(sql).map_err(|error| engine_error(error, Some(sql)));
        send(GROUP_BEGIN)?;
        all().and_then(|()| send(GROUP_END)).inspect_err(|_| {
            // What went wrong says more than that it cannot be taken back.
            let _ = send("ROLLBACK");
        })
    }

    fn wire(&self) -> Option<WireCounts> {
        None
    }

    fn begin_reading(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    fn end_reading(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    // What a step came to SQLite tells only where it is built to.
    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], _: bool) -> Result<QueryPlan, EngineError> {
        let tables = self.tables()?;
        let asked = sql;
        let sql = format!("EXPLAIN QUERY PLAN {sql}");
        let failed = |error: rusqlite::Error| engine_error(error, Some(&sql));
        let mut statement = self.connection.prepare(&sql).map_err(failed)?;
        for (at, parameter) in parameters.iter().enumerate() {
            bind(&mut statement, at + 1, *parameter).map_err(failed)?;
        }
        let mut lines = Vec::new();
        let mut rows = statement.raw_query();
        while let Some(row) = rows.next().map_err(failed)? {
            lines.push(Line { id: row.get(0).map_err(failed)?, parent: row.get(1).map_err(failed)?, detail: row.get(3).map_err(failed)? });
        }
        Ok(plan(&lines, &|alias| table_called(asked, alias, &tables)))
    }
}

impl SqliteDriver<'_> {
    /// The names of all tables.
    fn tables(&self) -> Result<Vec<String>, EngineError> {
        let sql = "SELECT name FROM sqlite_master WHERE type = 'table'";
        let failed = |error: rusqlite::Error| engine_error(error, Some(sql));
        let mut statement = self.connection.prepare(sql).map_err(failed)?;
        let names = statement.query_map([], |row| row.get(0)).map_err(failed)?;
        names.collect::<Result<_, _>>().map_err(failed)
    }
}

/// Binds a value in the form its type is stored in.
fn bind(statement: &mut rusqlite::Statement<'_>, at: usize, value: ValueRef<'_>) -> Result<(), rusqlite::Error> {
    if matches!(value, ValueRef::List(_)) {
        return Err(rusqlite::Error::ToSqlConversionFailure("SQLite takes no lists".into()));
    }
    with_stored(value, |stored| statement.raw_bind_parameter(at, stored))
}

/// Hands on a value in the form in which SQLite keeps it.
#[inline]
pub(super) fn with_stored<T>(value: ValueRef<'_>, take: impl FnOnce(ToSqlOutput<'_>) -> T) -> T {
    let time;
    let uuid;
    let stored = match value {
        // Lists are bound value by value.
        ValueRef::Null | ValueRef::List(_) => Stored::Null,
        ValueRef::Integer(number) => Stored::Integer(number),
        ValueRef::Decimal(units, scale) => Stored::Real(Decimal { units: units.get(), scale }.to_real()),
        ValueRef::Real(number) => Stored::Real(number),
        ValueRef::Text(text) => Stored::Text(text.as_bytes()),
        ValueRef::Boolean(truth) => Stored::Integer(i64::from(truth)),
        ValueRef::Date(days) => {
            time = TimeText::date(days);
            Stored::Text(time.as_str().as_bytes())
        }
        ValueRef::Timestamp(micros) => {
            time = TimeText::timestamp(micros);
            Stored::Text(time.as_str().as_bytes())
        }
        ValueRef::Uuid(_) => {
            uuid = value.to_string();
            Stored::Text(uuid.as_bytes())
        }
        ValueRef::Blob(bytes) => Stored::Blob(bytes),
    };
    take(ToSqlOutput::Borrowed(stored))
}

/// Puts a stored value where it is wanted, as its column's type means it; false where it is no such value. The place holds
/// null before. The common cases stand in line and write straight to the place, since that is what a scan mostly does besides
/// the engine's own work.
#[inline(always)]
fn put<'a>(place: &mut ValueRef<'a>, stored: Stored<'a>, plain: Plain, column: &ColumnKind) -> bool {
    match stored {
        Stored::Null => {}
        Stored::Integer(number) if plain == Plain::Integer => *place = ValueRef::Integer(number),
        Stored::Real(number) if plain == Plain::Real => *place = ValueRef::Real(number),
        Stored::Text(bytes) if plain == Plain::Text => match text(bytes) {
            Some(text) => *place = ValueRef::Text(text),
            None => return false,
        },
        _ => match convert(stored, column.kind) {
            Some(value) => *place = value,
            None => return false,
        },
    }
    true
}

/// Stored text, checked to be UTF-8. Most text is ASCII, which is told much faster: checking short texts is else a quarter of
/// a scan.
#[inline(always)]
#[expect(unsafe_code, reason = "the standard library has no stable way from bytes known to be ASCII to a text")]
fn text(bytes: &[u8]) -> Option<&str> {
    if bytes.is_ascii() {
        // SAFETY: ASCII is UTF-8.
        return Some(unsafe { std::str::from_utf8_unchecked(bytes) });
    }
    std::str::from_utf8(bytes).ok()
}

/// A stored value as its column's type means it, where SQLite keeps it in another type's form or there is no type.
#[inline(never)]
fn convert(stored: Stored<'_>, kind: Option<LogicalType>) -> Option<ValueRef<'_>> {
    Some(match (stored, kind) {
        (Stored::Integer(number), None) => ValueRef::Integer(number),
        (Stored::Real(number), None) => ValueRef::Real(number),
        (Stored::Text(bytes), None) => ValueRef::Text(text(bytes)?),
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
        cause: None,
    }
}
