//! Values in the form the wire has them: PostgreSQL's binary formats.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use bytes::{BufMut, BytesMut};
use kampf_contest::{EngineError, EngineErrorKind};
use kampf_schema::{Decimal, LogicalType, ValueRef, format_date, format_timestamp};
use tokio_postgres::Row;
use tokio_postgres::types::{Format, IsNull, Kind, ToSql, Type, to_sql_checked};

/// Days and microseconds from 1970-01-01 to 2000-01-01, from which PostgreSQL counts.
const EPOCH_DAYS: i32 = 10_957;
const EPOCH_MICROS: i64 = EPOCH_DAYS as i64 * 86_400_000_000;

/// How a result column's values are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct ValueReader {
    form: WireForm,
    /// What they mean; none where they are taken as they come.
    kind: Option<LogicalType>,
    /// Whether they mean just what they are.
    plain: bool,
}

/// The forms that values have on the wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum WireForm {
    Int8,
    Int4,
    Int2,
    Float8,
    Float4,
    Numeric,
    Text,
    Boolean,
    Date,
    Timestamp,
    Uuid,
    Bytes,
}

impl ValueReader {
    /// For a column of a type, with the meaning that is asked for.
    pub(super) fn of(column: &str, of: &Type, kind: Option<LogicalType>) -> Result<ValueReader, EngineError> {
        let form = match *of {
            Type::INT8 => WireForm::Int8,
            Type::INT4 => WireForm::Int4,
            Type::INT2 => WireForm::Int2,
            Type::FLOAT8 => WireForm::Float8,
            Type::FLOAT4 => WireForm::Float4,
            Type::NUMERIC => WireForm::Numeric,
            Type::TEXT | Type::VARCHAR | Type::BPCHAR | Type::NAME | Type::UNKNOWN => WireForm::Text,
            Type::BOOL => WireForm::Boolean,
            Type::DATE => WireForm::Date,
            Type::TIMESTAMP | Type::TIMESTAMPTZ => WireForm::Timestamp,
            Type::UUID => WireForm::Uuid,
            Type::BYTEA => WireForm::Bytes,
            _ => {
                return Err(EngineError {
                    kind: EngineErrorKind::Value,
                    message: format!("column `{column}` is of type {of}, which cannot be read here; cast it: \"{column}\"::text"),
                    sql: None,
                    cause: None,
                });
            }
        };
        let plain = match kind {
            None => true,
            Some(LogicalType::Integer) => matches!(form, WireForm::Int8 | WireForm::Int4 | WireForm::Int2),
            Some(LogicalType::Real) => matches!(form, WireForm::Float8 | WireForm::Float4),
            Some(LogicalType::Text { .. }) => form == WireForm::Text,
            Some(LogicalType::Boolean) => form == WireForm::Boolean,
            Some(LogicalType::Date) => form == WireForm::Date,
            Some(LogicalType::Timestamp) => form == WireForm::Timestamp,
            Some(LogicalType::Uuid) => form == WireForm::Uuid,
            Some(LogicalType::Blob) => form == WireForm::Bytes,
            Some(LogicalType::Decimal { .. }) => false,
        };
        Ok(ValueReader { form, kind, plain })
    }

    /// A row's value in a column; none where it is not what it should mean.
    #[inline(always)]
    pub(super) fn value<'r>(&self, row: &'r Row, column: usize) -> Result<Option<ValueRef<'r>>, tokio_postgres::Error> {
        let value = match self.form {
            WireForm::Int8 => row.try_get::<_, Option<i64>>(column)?.map(ValueRef::Integer),
            WireForm::Text => row.try_get::<_, Option<&str>>(column)?.map(ValueRef::Text),
            WireForm::Float8 => row.try_get::<_, Option<f64>>(column)?.map(ValueRef::Real),
            _ => self.rare(row, column)?,
        };
        let value = value.unwrap_or(ValueRef::Null);
        Ok(if self.plain || value.is_null() { Some(value) } else { self.meaning(value) })
    }

    fn rare<'r>(&self, row: &'r Row, column: usize) -> Result<Option<ValueRef<'r>>, tokio_postgres::Error> {
        Ok(match self.form {
            WireForm::Int8 | WireForm::Text | WireForm::Float8 => None,
            WireForm::Int4 => row.try_get::<_, Option<i32>>(column)?.map(|number| ValueRef::Integer(number.into())),
            WireForm::Int2 => row.try_get::<_, Option<i16>>(column)?.map(|number| ValueRef::Integer(number.into())),
            WireForm::Float4 => row.try_get::<_, Option<f32>>(column)?.map(|number| ValueRef::Real(number.into())),
            WireForm::Numeric => row
                .try_get::<_, Option<rust_decimal::Decimal>>(column)?
                .map(|number| ValueRef::Decimal(number.mantissa().into(), u8::try_from(number.scale()).unwrap_or(u8::MAX))),
            WireForm::Boolean => row.try_get::<_, Option<bool>>(column)?.map(ValueRef::Boolean),
            WireForm::Date => row.try_get::<_, Option<time::Date>>(column)?.map(|date| ValueRef::Date(date.to_julian_day() - JULIAN_1970)),
            WireForm::Timestamp => row.try_get::<_, Option<SystemTime>>(column)?.map(|time| ValueRef::Timestamp(micros(time))),
            WireForm::Uuid => row.try_get::<_, Option<uuid::Uuid>>(column)?.map(|uuid| ValueRef::Uuid(uuid.into_bytes())),
            WireForm::Bytes => row.try_get::<_, Option<&[u8]>>(column)?.map(ValueRef::Blob),
        })
    }

    /// A value as another type than its own means it.
    fn meaning<'r>(&self, value: ValueRef<'r>) -> Option<ValueRef<'r>> {
        let decimal = |decimal: Decimal, scale| Some(ValueRef::Decimal(decimal.rescaled(scale)?.units.into(), scale));
        match (value, self.kind?) {
            (ValueRef::Decimal(units, own), LogicalType::Decimal { scale, .. }) => {
                decimal(Decimal { units: units.get(), scale: own }, scale)
            }
            (ValueRef::Integer(number), LogicalType::Decimal { scale, .. }) => decimal(Decimal { units: number.into(), scale: 0 }, scale),
            (ValueRef::Real(number), LogicalType::Decimal { scale, .. }) => decimal(Decimal::from_real(number, scale)?, scale),
            (ValueRef::Decimal(units, own), LogicalType::Integer) => {
                let whole = Decimal { units: units.get(), scale: own }.rescaled(0)?;
                i64::try_from(whole.units).ok().map(ValueRef::Integer)
            }
            (ValueRef::Real(number), LogicalType::Integer) if number.fract() == 0.0 && number.abs() < 9e15 => {
                Some(ValueRef::Integer(number as i64))
            }
            (ValueRef::Integer(_) | ValueRef::Decimal(..), LogicalType::Real) => value.as_real().map(ValueRef::Real),
            (ValueRef::Date(days), LogicalType::Timestamp) => Some(ValueRef::Timestamp(i64::from(days) * 86_400_000_000)),
            _ => None,
        }
    }
}

/// The Julian day of 1970-01-01.
const JULIAN_1970: i32 = 2_440_588;

fn micros(time: SystemTime) -> i64 {
    let whole = |length: Duration| i64::try_from(length.as_micros()).unwrap_or(i64::MAX);
    match time.duration_since(UNIX_EPOCH) {
        Ok(after) => whole(after),
        Err(before) => -whole(before.duration()),
    }
}

/// A value to be bound.
#[derive(Clone, Copy, Debug)]
pub(super) struct Bound<'a>(pub(super) ValueRef<'a>);

impl ToSql for Bound<'_> {
    fn to_sql(&self, of: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        if self.0.is_null() {
            return Ok(IsNull::Yes);
        }
        if let (ValueRef::List(values), &Type::UNKNOWN) = (self.0, of) {
            // A list of no type, as its text.
            out.put_slice(format!("{{{}}}", vec!["NULL"; values.len()].join(",")).as_bytes());
            return Ok(IsNull::No);
        }
        if let ValueRef::List(values) = self.0 {
            let bound: Vec<Bound<'_>> = values.iter().map(|value| Bound(value.as_ref())).collect();
            return bound.to_sql(of, out);
        }
        if encode(self.0, of, out) { Ok(IsNull::No) } else { Err(format!("{} cannot be given as {of}", self.0).into()) }
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    fn encode_format(&self, of: &Type) -> Format {
        if matches!(self.0, ValueRef::List(_)) && *of == Type::UNKNOWN { Format::Text } else { Format::Binary }
    }

    to_sql_checked!();
}

/// The type a value is given as where the server wants one that cannot hold it, as when a whole number is compared with 2.5.
pub(super) fn own_type(value: ValueRef<'_>) -> Type {
    match value {
        ValueRef::Null | ValueRef::Text(_) => Type::TEXT,
        ValueRef::Integer(_) => Type::INT8,
        ValueRef::Decimal(..) => Type::NUMERIC,
        ValueRef::Real(_) => Type::FLOAT8,
        ValueRef::Boolean(_) => Type::BOOL,
        ValueRef::Date(_) => Type::DATE,
        ValueRef::Timestamp(_) => Type::TIMESTAMP,
        ValueRef::Uuid(_) => Type::UUID,
        ValueRef::Blob(_) => Type::BYTEA,
        ValueRef::List(_) => Type::TEXT_ARRAY,
    }
}

/// The type a value is sent as with a text that the server has not read yet; what nothing can be said of it is left to the server.
pub(super) fn type_to_send(value: ValueRef<'_>) -> Type {
    match value {
        ValueRef::Null | ValueRef::Text(_) => Type::UNKNOWN,
        ValueRef::List(values) => match values.iter().find(|value| !value.as_ref().is_null()).map(|value| own_type(value.as_ref())) {
            Some(Type::INT8) => Type::INT8_ARRAY,
            Some(Type::NUMERIC) => Type::NUMERIC_ARRAY,
            Some(Type::FLOAT8) => Type::FLOAT8_ARRAY,
            Some(Type::BOOL) => Type::BOOL_ARRAY,
            Some(Type::DATE) => Type::DATE_ARRAY,
            Some(Type::TIMESTAMP) => Type::TIMESTAMP_ARRAY,
            Some(Type::UUID) => Type::UUID_ARRAY,
            Some(Type::BYTEA) => Type::BYTEA_ARRAY,
            Some(_) => Type::TEXT_ARRAY,
            None => Type::UNKNOWN,
        },
        other => own_type(other),
    }
}

/// Whether a value can be given as a type.
pub(super) fn fits(value: ValueRef<'_>, of: &Type) -> bool {
    match (value, of) {
        (ValueRef::Null, _) | (ValueRef::Integer(_), &Type::INT8) | (ValueRef::Text(_), &Type::TEXT) => true,
        // Its values are looked at one by one when they are sent.
        (ValueRef::List(_), of) => matches!(of.kind(), Kind::Array(_)),
        _ => encode(value, of, &mut BytesMut::new()),
    }
}

/// Writes a value that is not null as a type; false where it cannot be given as that, with nothing written.
pub(super) fn encode(value: ValueRef<'_>, of: &Type, out: &mut impl BufMut) -> bool {
    match (value, of) {
        (ValueRef::Integer(number), &Type::INT8) => out.put_i64(number),
        (ValueRef::Text(text), &Type::TEXT | &Type::VARCHAR | &Type::BPCHAR | &Type::NAME | &Type::UNKNOWN) => {
            out.put_slice(text.as_bytes());
        }
        (ValueRef::Real(number), &Type::FLOAT8) => out.put_f64(number),
        (ValueRef::Decimal(units, scale), &Type::NUMERIC) => numeric(units.get(), scale, out),
        (ValueRef::Boolean(truth), &Type::BOOL) => out.put_u8(u8::from(truth)),
        (ValueRef::Date(days), &Type::DATE) => out.put_i32(days - EPOCH_DAYS),
        (ValueRef::Timestamp(micros), &Type::TIMESTAMP | &Type::TIMESTAMPTZ) => out.put_i64(micros - EPOCH_MICROS),
        (ValueRef::Uuid(bytes), &Type::UUID) => out.put_slice(&bytes),
        (ValueRef::Blob(bytes), &Type::BYTEA) => out.put_slice(bytes),
        (ValueRef::Integer(number), &Type::INT4) => match i32::try_from(number) {
            Ok(number) => out.put_i32(number),
            Err(_) => return false,
        },
        (ValueRef::Integer(number), &Type::INT2) => match i16::try_from(number) {
            Ok(number) => out.put_i16(number),
            Err(_) => return false,
        },
        (ValueRef::Integer(number), &Type::NUMERIC) => numeric(number.into(), 0, out),
        (ValueRef::Integer(_) | ValueRef::Decimal(..), &Type::FLOAT8) => match value.as_real() {
            Some(number) => out.put_f64(number),
            None => return false,
        },
        (ValueRef::Integer(_) | ValueRef::Decimal(..) | ValueRef::Real(_), &Type::FLOAT4) => match value.as_real() {
            Some(number) if f64::from(number as f32) == number => out.put_f32(number as f32),
            _ => return false,
        },
        (ValueRef::Decimal(units, scale), &Type::INT8 | &Type::INT4 | &Type::INT2) => {
            let whole = Decimal { units: units.get(), scale }.rescaled(0).and_then(|whole| i64::try_from(whole.units).ok());
            return whole.is_some_and(|whole| encode(ValueRef::Integer(whole), of, out));
        }
        (ValueRef::Date(days), &Type::TIMESTAMP | &Type::TIMESTAMPTZ) => out.put_i64(i64::from(days - EPOCH_DAYS) * 86_400_000_000),
        (ValueRef::Date(days), &Type::TEXT | &Type::VARCHAR) => out.put_slice(format_date(days).as_bytes()),
        (ValueRef::Timestamp(micros), &Type::TEXT | &Type::VARCHAR) => out.put_slice(format_timestamp(micros).as_bytes()),
        (ValueRef::Integer(_) | ValueRef::Decimal(..) | ValueRef::Uuid(_), &Type::TEXT | &Type::VARCHAR) => {
            out.put_slice(value.to_string().as_bytes());
        }
        _ => return false,
    }
    true
}

/// A decimal as PostgreSQL's `numeric_send` writes it: digits in base 10,000, weight of the first, sign, digits behind the point.
fn numeric(units: i128, scale: u8, out: &mut impl BufMut) {
    // Digits are counted from the point in groups of four, so the last group is filled up with zeros.
    let scale = u32::from(scale);
    let fill = (4 - scale % 4) % 4;
    let groups_behind = i32::try_from((scale + fill) / 4).unwrap_or(0);
    let mut rest = units.unsigned_abs();
    let mut groups: Vec<i16> = Vec::with_capacity(12);
    if fill > 0 {
        let factor = 10_u128.pow(4 - fill);
        groups.push((rest % factor) as i16 * 10_i16.pow(fill));
        rest /= factor;
    }
    while rest > 0 {
        groups.push((rest % 10_000) as i16);
        rest /= 10_000;
    }
    let weight = i32::try_from(groups.len()).unwrap_or(0) - groups_behind - 1;
    let leading = groups.iter().rev().take_while(|&&group| group == 0).count();
    groups.truncate(groups.len() - leading);
    let weight = weight - i32::try_from(leading).unwrap_or(0);
    let trailing = groups.iter().take_while(|&&group| group == 0).count();
    let digits = &groups[trailing..];
    out.put_i16(digits.len() as i16);
    out.put_i16(if digits.is_empty() { 0 } else { weight as i16 });
    out.put_u16(if units < 0 { 0x4000 } else { 0 });
    out.put_u16(scale as u16);
    digits.iter().rev().for_each(|&digit| out.put_i16(digit));
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sent(units: i128, scale: u8) -> Vec<i16> {
        let mut bytes = Vec::new();
        numeric(units, scale, &mut bytes);
        bytes.chunks(2).map(|pair| i16::from_be_bytes([pair[0], pair[1]])).collect()
    }

    #[test]
    fn decimals_are_written_in_groups_of_four_digits() {
        assert_eq!(sent(0, 2), [0, 0, 0, 2]);
        assert_eq!(sent(1250, 2), [2, 0, 0, 2, 12, 5000]);
        assert_eq!(sent(-123_456, 2), [2, 0, 0x4000, 2, 1234, 5600]);
        assert_eq!(sent(1_234_567, 2), [3, 1, 0, 2, 1, 2345, 6700]);
        assert_eq!(sent(10_000, 0), [1, 1, 0, 0, 1]);
        assert_eq!(sent(5, 6), [1, -2, 0, 6, 500]);
    }

    #[test]
    fn a_value_that_does_not_fit_writes_nothing() {
        let mut out = Vec::new();
        assert!(!encode(ValueRef::Decimal(250_i128.into(), 2), &Type::INT8, &mut out));
        assert!(!encode(ValueRef::Integer(1 << 40), &Type::INT4, &mut out));
        assert!(!encode(ValueRef::Text("calm"), &Type::INT8, &mut out));
        assert!(out.is_empty());
        assert!(encode(ValueRef::Decimal(200_i128.into(), 2), &Type::INT8, &mut out));
        assert_eq!(out, 2_i64.to_be_bytes());
    }
}
