//! What functions give.

use std::cmp::Ordering;

use super::evaluate::{Scope, compare};
use super::tree::{Function, Part};
use crate::calendar::{civil_from_days, days_from_civil};
use crate::place::Span;
use crate::types::LogicalType;
use crate::value::{Decimal, Value};

const MICROS_PER_DAY: i64 = 86_400_000_000;

fn text(value: &Value) -> String {
    value.to_string()
}

/// The value of a function.
pub(super) fn call<L, S: Scope<L>>(function: Function, mut values: Vec<Value>, place: Span, scope: &mut S) -> Result<Value, S::Error> {
    use Function as F;
    match function {
        F::Coalesce => return Ok(Value::Null),
        F::Known => return Ok(count(values.iter().filter(|value| **value != Value::Null).count())),
        F::Unknown => return Ok(count(values.iter().filter(|value| **value == Value::Null).count())),
        F::NullIf => {
            let same = values.get(1).is_some_and(|second| compare(&values[0], second, scope) == Some(Ordering::Equal));
            return Ok(if same { Value::Null } else { values.swap_remove(0) });
        }
        F::Greatest | F::Least => {
            let known = values.iter().filter(|value| **value != Value::Null);
            let order = |left: &&Value, right: &&Value| left.as_ref().order(right.as_ref());
            let found = if function == F::Greatest { known.max_by(order) } else { known.min_by(order) };
            return Ok(found.cloned().unwrap_or(Value::Null));
        }
        _ => {}
    }
    if values.is_empty() || values.contains(&Value::Null) {
        return Ok(Value::Null);
    }
    let first = &values[0];
    let number = |at: usize| values.get(at).and_then(|value| value.as_ref().as_real());
    let whole = |at: usize| match values.get(at) {
        Some(Value::Integer(number)) => Some(*number),
        other => other.and_then(|value| value.as_ref().as_real()).map(|number| number as i64),
    };
    Ok(match function {
        F::Length => match first {
            Value::Blob(bytes) => count(bytes.len()),
            other => count(text(other).chars().count()),
        },
        F::Octets => match first {
            Value::Blob(bytes) => count(bytes.len()),
            other => count(text(other).len()),
        },
        F::Lower => Value::from(text(first).to_ascii_lowercase().as_str()),
        F::Upper => Value::from(text(first).to_ascii_uppercase().as_str()),
        F::LowerAll => Value::from(text(first).to_lowercase().as_str()),
        F::UpperAll => Value::from(text(first).to_uppercase().as_str()),
        F::Trim => Value::from(text(first).trim_matches(' ')),
        F::Substring => substring(&text(first), whole(1).unwrap_or(1), whole(2)),
        F::Negate => match first {
            Value::Integer(number) => match number.checked_neg() {
                Some(number) => Value::Integer(number),
                None => return scope.overflow(place, None),
            },
            Value::Decimal(units, scale) => Value::Decimal((-units.get()).into(), *scale),
            other => other.as_ref().as_real().map_or(Value::Null, |number| Value::Real(-number)),
        },
        F::Absolute => match first {
            Value::Integer(number) => match number.checked_abs() {
                Some(number) => Value::Integer(number),
                None => return scope.overflow(place, None),
            },
            Value::Decimal(units, scale) => Value::Decimal(units.get().saturating_abs().into(), *scale),
            other => other.as_ref().as_real().map_or(Value::Null, |number| Value::Real(number.abs())),
        },
        F::Round => {
            let digits = number(1).unwrap_or(0.0).clamp(0.0, 18.0) as u8;
            match first {
                Value::Integer(_) => first.clone(),
                Value::Decimal(units, scale) => Value::from(rounded(Decimal { units: units.get(), scale: *scale }, digits)),
                other => other.as_ref().as_real().and_then(|number| Decimal::from_real(number, digits)).map_or(Value::Null, Value::from),
            }
        }
        F::Floor => number(0).map_or(Value::Null, |number| Value::Integer(number.floor() as i64)),
        F::Ceiling => number(0).map_or(Value::Null, |number| Value::Integer(number.ceil() as i64)),
        F::Extract(part) => micros(first).map_or(Value::Null, |micros| Value::Integer(extracted(part, micros))),
        F::StartOf(part) => micros(first).map_or(Value::Null, |micros| Value::Date(start_of(part, micros))),
        F::DaysBetween => {
            let days = |at: usize| values.get(at).and_then(micros).map(|micros| micros.div_euclid(MICROS_PER_DAY));
            days(0).zip(days(1)).map_or(Value::Null, |(from, to)| Value::Integer(to - from))
        }
        F::IsJson => Value::Boolean(true),
        F::Position => {
            let (whole, part) = (text(first), values.get(1).map(text).unwrap_or_default());
            count(whole.find(&part).map_or(0, |at| whole[..at].chars().count() + 1))
        }
        F::Replace => match values.as_slice() {
            [whole, from, to] => Value::from(text(whole).replace(&text(from), &text(to)).as_str()),
            _ => Value::Null,
        },
        F::To(kind) => as_type(first, kind),
        F::Coalesce | F::Known | F::Unknown | F::NullIf | F::Greatest | F::Least => Value::Null,
    })
}

fn count(number: usize) -> Value {
    Value::Integer(i64::try_from(number).unwrap_or(i64::MAX))
}

/// As in SQL: a start below 1 counts places before the text. A negative length gives null.
fn substring(text: &str, start: i64, length: Option<i64>) -> Value {
    if length.is_some_and(|length| length < 0) {
        return Value::Null;
    }
    let end = length.map_or(i64::MAX, |length| start.saturating_add(length));
    let part: String = text.chars().zip(1_i64..).filter(|(_, at)| (start..end).contains(at)).map(|(c, _)| c).collect();
    Value::from(part.as_str())
}

/// Halves away from zero; no digits are added.
fn rounded(decimal: Decimal, digits: u8) -> Decimal {
    if digits >= decimal.scale {
        return decimal;
    }
    let step = 10_i128.pow(u32::from(decimal.scale - digits));
    let half = if decimal.units < 0 { -(step / 2) } else { step / 2 };
    Decimal { units: (decimal.units + half) / step, scale: digits }
}

fn micros(value: &Value) -> Option<i64> {
    match value {
        Value::Date(days) => Some(i64::from(*days) * MICROS_PER_DAY),
        Value::Timestamp(micros) => Some(*micros),
        _ => None,
    }
}

fn extracted(part: Part, micros: i64) -> i64 {
    let days = micros.div_euclid(MICROS_PER_DAY) as i32;
    let minutes = micros.rem_euclid(MICROS_PER_DAY) / 60_000_000;
    let (year, month, day) = civil_from_days(days);
    match part {
        Part::Year => year.into(),
        Part::Month => month.into(),
        Part::Day => day.into(),
        Part::Hour => minutes / 60,
        Part::Minute => minutes % 60,
        Part::Week => i64::from(days_since_monday(days)),
    }
}

fn days_since_monday(days: i32) -> i32 {
    // 1970-01-01 was a Thursday.
    (days + 3).rem_euclid(7)
}

fn start_of(part: Part, micros: i64) -> i32 {
    let days = micros.div_euclid(MICROS_PER_DAY) as i32;
    let (year, month, _) = civil_from_days(days);
    match part {
        Part::Year => days_from_civil(year, 1, 1),
        Part::Month => days_from_civil(year, month, 1),
        Part::Week => days - days_since_monday(days),
        Part::Day | Part::Hour | Part::Minute => days,
    }
}

/// A value as a type that holds it; as it is where that does not.
fn as_type(value: &Value, kind: LogicalType) -> Value {
    match (value, kind) {
        (_, LogicalType::Real) => value.as_ref().as_real().map_or_else(|| value.clone(), Value::Real),
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Decimal { scale, .. }) => {
            value.as_ref().as_decimal().and_then(|decimal| decimal.rescaled(scale)).map_or_else(|| value.clone(), Value::from)
        }
        (Value::Date(days), LogicalType::Timestamp) => Value::Timestamp(i64::from(*days) * MICROS_PER_DAY),
        _ => value.clone(),
    }
}

#[cfg(test)]
mod tests;
