//! Values as the product means them, owned and borrowed.

use std::cmp::Ordering;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::calendar::{format_date, format_timestamp};

/// An `i128` that asks only for the alignment of an `i64`, so that a [`Value`] stays at 24 bytes.
#[derive(Clone, Copy, Serialize, Deserialize)]
#[repr(C, packed(8))]
#[serde(from = "i128", into = "i128")]
pub struct Units(i128);

impl Units {
    /// The number of units.
    pub fn get(self) -> i128 {
        self.0
    }
}

impl PartialEq for Units {
    fn eq(&self, other: &Self) -> bool {
        self.get() == other.get()
    }
}

impl From<Units> for i128 {
    fn from(units: Units) -> Self {
        units.get()
    }
}

impl From<i128> for Units {
    fn from(units: i128) -> Self {
        Units(units)
    }
}

impl fmt::Debug for Units {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&self.get(), f)
    }
}

/// An exact decimal number: `units / 10^scale`.
#[derive(Clone, Copy, Debug)]
pub struct Decimal {
    /// The number without its point.
    pub units: i128,
    /// Digits behind the point.
    pub scale: u8,
}

impl Decimal {
    /// The decimal nearest to a real at a scale, halves away from zero; `None` for what is not finite or too large.
    pub fn from_real(real: f64, scale: u8) -> Option<Decimal> {
        let scaled = (real * 10_f64.powi(i32::from(scale))).round();
        (scaled.is_finite() && scaled.abs() < 1e37).then_some(Decimal { units: scaled as i128, scale })
    }

    /// The nearest real.
    pub fn to_real(self) -> f64 {
        // Up to 2^53 units and 10^22 both numbers are exact, and so the quotient is the nearest real.
        self.units as f64 / 10_f64.powi(i32::from(self.scale))
    }

    /// Reads `-12.50`; the scale is the number of digits behind the point. `None` for anything else.
    pub fn parse(text: &str) -> Option<Decimal> {
        let (sign, digits) = text.strip_prefix('-').map_or((1, text), |rest| (-1, rest));
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        if whole.is_empty() || digits.ends_with('.') || digits.len() > 36 {
            return None;
        }
        let mut units: i128 = 0;
        for byte in whole.bytes().chain(fraction.bytes()) {
            if !byte.is_ascii_digit() {
                return None;
            }
            units = units * 10 + i128::from(byte - b'0');
        }
        Some(Decimal { units: sign * units, scale: u8::try_from(fraction.len()).ok()? })
    }

    /// The same number with exactly `scale` digits behind the point; `None` where digits would be lost or it overflows.
    pub fn rescaled(self, scale: u8) -> Option<Decimal> {
        let units = if scale >= self.scale {
            self.units.checked_mul(10_i128.checked_pow(u32::from(scale - self.scale))?)?
        } else {
            let divisor = 10_i128.checked_pow(u32::from(self.scale - scale))?;
            (self.units % divisor == 0).then(|| self.units / divisor)?
        };
        Some(Decimal { units, scale })
    }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Decimal {}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Decimal {
    fn cmp(&self, other: &Self) -> Ordering {
        let scale = self.scale.max(other.scale);
        match (self.rescaled(scale), other.rescaled(scale)) {
            (Some(left), Some(right)) => left.units.cmp(&right.units),
            // Only numbers beyond 10^37 come here, where a real tells them apart well enough.
            _ => self.to_real().total_cmp(&other.to_real()),
        }
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = if self.units < 0 { "-" } else { "" };
        let units = self.units.unsigned_abs();
        if self.scale == 0 {
            return write!(f, "{sign}{units}");
        }
        let divisor = 10_u128.checked_pow(u32::from(self.scale)).unwrap_or(u128::MAX);
        write!(f, "{sign}{}.{:0width$}", units / divisor, units % divisor, width = usize::from(self.scale))
    }
}

/// One value, owning its text or bytes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Value {
    /// No value.
    Null,
    /// A whole number.
    Integer(i64),
    /// An exact decimal: units and scale.
    Decimal(Units, u8),
    /// A real number.
    Real(f64),
    /// A text.
    Text(Box<str>),
    /// True or false.
    Boolean(bool),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since 1970-01-01 UTC.
    Timestamp(i64),
    /// A UUID, most significant byte first.
    Uuid([u8; 16]),
    /// Bytes.
    Blob(Box<[u8]>),
    /// Several values, of a parameter that is a list.
    List(Box<[Value]>),
}

/// One value, borrowing its text or bytes from where it lies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ValueRef<'a> {
    /// No value.
    Null,
    /// A whole number.
    Integer(i64),
    /// An exact decimal: units and scale.
    Decimal(Units, u8),
    /// A real number.
    Real(f64),
    /// A text.
    Text(&'a str),
    /// True or false.
    Boolean(bool),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since 1970-01-01 UTC.
    Timestamp(i64),
    /// A UUID.
    Uuid([u8; 16]),
    /// Bytes.
    Blob(&'a [u8]),
    /// Several values, of a parameter that is a list.
    List(&'a [Value]),
}

impl From<Decimal> for Value {
    fn from(decimal: Decimal) -> Self {
        Value::Decimal(decimal.units.into(), decimal.scale)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Value::Text(text.into())
    }
}

impl Value {
    /// The value, borrowed.
    #[inline]
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Value::Null => ValueRef::Null,
            Value::Integer(number) => ValueRef::Integer(*number),
            Value::Decimal(units, scale) => ValueRef::Decimal(*units, *scale),
            Value::Real(number) => ValueRef::Real(*number),
            Value::Text(text) => ValueRef::Text(text),
            Value::Boolean(truth) => ValueRef::Boolean(*truth),
            Value::Date(days) => ValueRef::Date(*days),
            Value::Timestamp(micros) => ValueRef::Timestamp(*micros),
            Value::Uuid(bytes) => ValueRef::Uuid(*bytes),
            Value::Blob(bytes) => ValueRef::Blob(bytes),
            Value::List(values) => ValueRef::List(values),
        }
    }
}

impl<'a> ValueRef<'a> {
    /// A copy that owns its text or bytes.
    #[inline]
    pub fn to_value(self) -> Value {
        match self {
            ValueRef::Null => Value::Null,
            ValueRef::Integer(number) => Value::Integer(number),
            ValueRef::Decimal(units, scale) => Value::Decimal(units, scale),
            ValueRef::Real(number) => Value::Real(number),
            ValueRef::Text(text) => Value::Text(text.into()),
            ValueRef::Boolean(truth) => Value::Boolean(truth),
            ValueRef::Date(days) => Value::Date(days),
            ValueRef::Timestamp(micros) => Value::Timestamp(micros),
            ValueRef::Uuid(bytes) => Value::Uuid(bytes),
            ValueRef::Blob(bytes) => Value::Blob(bytes.into()),
            ValueRef::List(values) => Value::List(values.into()),
        }
    }

    /// Whether there is no value.
    pub fn is_null(self) -> bool {
        matches!(self, ValueRef::Null)
    }

    /// The number as an exact decimal, where it is a whole number or a decimal.
    pub fn as_decimal(self) -> Option<Decimal> {
        match self {
            ValueRef::Integer(number) => Some(Decimal { units: i128::from(number), scale: 0 }),
            ValueRef::Decimal(units, scale) => Some(Decimal { units: units.get(), scale }),
            _ => None,
        }
    }

    /// The number as the nearest real, where it is one.
    pub fn as_real(self) -> Option<f64> {
        match self {
            ValueRef::Real(number) => Some(number),
            other => other.as_decimal().map(Decimal::to_real),
        }
    }

    /// Bytes of the value as delivered: numbers, dates and booleans 8, text, UUID and bytes their length, null 0.
    #[inline]
    pub fn size(self) -> u64 {
        match self {
            ValueRef::Null => 0,
            ValueRef::Text(text) => text.len() as u64,
            ValueRef::Blob(bytes) => bytes.len() as u64,
            ValueRef::Uuid(_) => 16,
            ValueRef::List(values) => values.iter().map(|value| value.as_ref().size()).sum(),
            _ => 8,
        }
    }

    /// Order of two values, nulls first: numbers by size whatever their kind, text by code point, dates by time.
    /// Values of kinds that cannot be compared are ordered by kind, so that sorting is total.
    pub fn order(self, other: ValueRef<'_>) -> Ordering {
        use ValueRef::{Blob, Boolean, Date, Integer, List, Null, Text, Timestamp, Uuid};
        match (self, other) {
            (Null, Null) => Ordering::Equal,
            (Null, _) => Ordering::Less,
            (_, Null) => Ordering::Greater,
            (Integer(left), Integer(right)) => left.cmp(&right),
            (Text(left), Text(right)) => left.cmp(right),
            (Boolean(left), Boolean(right)) => left.cmp(&right),
            (Date(left), Date(right)) => left.cmp(&right),
            (Timestamp(left), Timestamp(right)) => left.cmp(&right),
            (Date(left), Timestamp(right)) => (i64::from(left) * 86_400_000_000).cmp(&right),
            (Timestamp(left), Date(right)) => left.cmp(&(i64::from(right) * 86_400_000_000)),
            (Uuid(left), Uuid(right)) => left.cmp(&right),
            (Blob(left), Blob(right)) => left.cmp(right),
            (List(left), List(right)) => {
                let pairs = left.iter().zip(right).map(|(left, right)| left.as_ref().order(right.as_ref()));
                pairs.into_iter().find(|order| order.is_ne()).unwrap_or_else(|| left.len().cmp(&right.len()))
            }
            (left, right) => match (left.as_decimal(), right.as_decimal()) {
                (Some(left), Some(right)) => left.cmp(&right),
                _ => match (left.as_real(), right.as_real()) {
                    (Some(left), Some(right)) => left.partial_cmp(&right).unwrap_or_else(|| left.total_cmp(&right)),
                    _ => left.kind().cmp(&right.kind()),
                },
            },
        }
    }

    /// Whether two values of an answer agree: exactly, or for reals to 1e-9 of the larger one (at least 1).
    pub fn agrees_with(self, other: ValueRef<'_>) -> bool {
        match (self, other) {
            (ValueRef::Real(_), _) | (_, ValueRef::Real(_)) => match (self.as_real(), other.as_real()) {
                (Some(left), Some(right)) => {
                    left == right
                        || (left.is_nan() && right.is_nan())
                        || (left - right).abs() <= 1e-9 * left.abs().max(right.abs()).max(1.0)
                }
                _ => false,
            },
            _ => self.order(other) == Ordering::Equal,
        }
    }

    fn kind(self) -> u8 {
        match self {
            ValueRef::Null => 0,
            ValueRef::Boolean(_) => 1,
            ValueRef::Integer(_) | ValueRef::Decimal(..) | ValueRef::Real(_) => 2,
            ValueRef::Date(_) | ValueRef::Timestamp(_) => 3,
            ValueRef::Text(_) => 4,
            ValueRef::Uuid(_) => 5,
            ValueRef::Blob(_) => 6,
            ValueRef::List(_) => 7,
        }
    }
}

/// The text form of answers, traces and differences: plain, without quotes.
impl fmt::Display for ValueRef<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            ValueRef::Null => f.write_str("null"),
            ValueRef::Integer(number) => write!(f, "{number}"),
            ValueRef::Decimal(units, scale) => write!(f, "{}", Decimal { units: units.get(), scale }),
            ValueRef::Real(number) => write!(f, "{number:?}"),
            ValueRef::Text(text) => f.write_str(text),
            ValueRef::Boolean(truth) => write!(f, "{truth}"),
            ValueRef::Date(days) => f.write_str(&format_date(days)),
            ValueRef::Timestamp(micros) => f.write_str(&format_timestamp(micros)),
            ValueRef::Uuid(bytes) => uuid::Uuid::from_bytes(bytes).fmt(f),
            ValueRef::Blob(bytes) => bytes.iter().try_for_each(|byte| write!(f, "{byte:02x}")),
            ValueRef::List(values) => {
                f.write_str("(")?;
                for (at, value) in values.iter().enumerate() {
                    write!(f, "{}{value}", if at == 0 { "" } else { ", " })?;
                }
                f.write_str(")")
            }
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.as_ref(), f)
    }
}

/// Adds a UUID to a text, in small letters with hyphens (RFC 9562), as it is displayed.
pub fn push_uuid(text: &mut String, bytes: [u8; 16]) {
    let mut buffer = uuid::Uuid::encode_buffer();
    text.push_str(uuid::Uuid::from_bytes(bytes).hyphenated().encode_lower(&mut buffer));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_takes_no_more_room_than_a_string() {
        assert_eq!(size_of::<Value>(), 24);
        assert_eq!(size_of::<ValueRef<'_>>(), 24);
    }

    #[test]
    fn decimals_read_print_and_compare_exactly() {
        for text in ["0", "12.50", "-0.05", "-7", "123456789012345678901234567890.25"] {
            assert_eq!(Decimal::parse(text).unwrap().to_string(), text);
        }
        for wrong in ["", "-", "1.", ".5", "1e3", "1.2.3", "ü"] {
            assert!(Decimal::parse(wrong).is_none(), "{wrong}");
        }
        assert_eq!(Decimal::parse("1.5"), Decimal::parse("1.500"));
        assert!(Decimal::parse("-1.5") < Decimal::parse("-1.499"));
        assert_eq!(Decimal::from_real(0.1 + 0.2, 2).unwrap().to_string(), "0.30");
        assert_eq!(Decimal::from_real(f64::NAN, 2).map(|decimal| decimal.units), None);
    }

    #[test]
    fn numbers_of_all_kinds_compare_by_size_and_reals_agree_within_tolerance() {
        let half = Value::from(Decimal { units: 50, scale: 2 });
        assert_eq!(half.as_ref().order(ValueRef::Real(0.5)), Ordering::Equal);
        assert_eq!(half.as_ref().order(ValueRef::Integer(1)), Ordering::Less);
        assert!(ValueRef::Real(6.999_999_999_999).agrees_with(ValueRef::Integer(7)));
        assert!(!ValueRef::Real(6.999).agrees_with(ValueRef::Integer(7)));
        assert!(!ValueRef::Text("7").agrees_with(ValueRef::Integer(7)));
        assert_eq!(ValueRef::Null.order(ValueRef::Integer(i64::MIN)), Ordering::Less);
    }
}
