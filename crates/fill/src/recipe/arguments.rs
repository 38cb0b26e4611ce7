//! What stands in a recipe, as makers want it: values of the column's type, lengths, times, ranges.

use kampf_schema::expr::{Argument, Name};
use kampf_schema::{LogicalType, Value, parse_date, parse_timestamp};

use super::error::{RecipeError, suitable, wrong};
use crate::maker::Maker;
use crate::period::{Period, TimeManner};

/// Whole numbers can count the seconds since 1970.
pub(super) fn time_like(kind: LogicalType) -> LogicalType {
    if kind == LogicalType::Integer { LogicalType::Timestamp } else { kind }
}

pub(super) fn with_manner(maker: Maker, kind: LogicalType, manner: TimeManner) -> Result<Maker, RecipeError> {
    Ok(match (maker, kind) {
        (Maker::Dates(period), _) => Maker::Dates(Period { manner, ..period }),
        (Maker::Timestamps(period), LogicalType::Integer) => Maker::Seconds(Period { manner, ..period }),
        (Maker::Timestamps(period), _) => Maker::Timestamps(Period { manner, ..period }),
        _ => return wrong(format!("this makes points in time, but the column is {kind}"), format!("use {}", suitable(kind))),
    })
}

/// `08:00`, `17:30:15`.
pub(super) fn clock(text: &str) -> Option<u32> {
    let parts: Vec<u32> = text.split(':').map(|part| part.parse().ok()).collect::<Option<_>>()?;
    match parts.as_slice() {
        [hours @ 0..=23, minutes @ 0..=59] => Some(hours * 3600 + minutes * 60),
        [hours @ 0..=23, minutes @ 0..=59, seconds @ 0..=59] => Some(hours * 3600 + minutes * 60 + seconds),
        _ => None,
    }
}

/// Two lengths of time in microseconds, the shorter first.
pub(super) fn durations(low: &str, high: &str) -> Result<(i64, i64), RecipeError> {
    let read = |text: &str| {
        duration(text).map_or_else(|| wrong(format!("`{text}` is no length of time"), "like '90 seconds', '2 hours', '3 days'"), Ok)
    };
    let (low, high) = (read(low)?, read(high)?);
    if low > high { wrong("the range ends before it begins", "write the smaller value first") } else { Ok((low, high)) }
}

fn duration(text: &str) -> Option<i64> {
    let (number, unit) = text.trim().split_once(' ')?;
    let number: f64 = number.replace('_', "").parse().ok()?;
    let unit = match unit.trim().trim_end_matches('s') {
        "second" => 1.0,
        "minute" => 60.0,
        "hour" => 3600.0,
        "day" => 86_400.0,
        "week" => 7.0 * 86_400.0,
        "month" => 30.0 * 86_400.0,
        "year" => 365.0 * 86_400.0,
        _ => return None,
    };
    let seconds = number * unit;
    (seconds.abs() < 1e10).then_some((seconds * 1e6) as i64)
}

/// One number or a range of them, from 0 on.
pub(super) fn lengths_from_0(name: &Name, arguments: &[Argument], default: (u64, u64)) -> Result<(u64, u64), RecipeError> {
    let whole = |value: &Value| if let Value::Integer(number @ 0..=1000) = value { Some(number.unsigned_abs()) } else { None };
    let found = match arguments {
        [] => Some(default),
        [Argument::Value(length, None)] => whole(length).map(|length| (length, length)),
        [Argument::Range(low, high)] => whole(low).zip(whole(high)).filter(|(low, high)| low <= high),
        _ => None,
    };
    found.map_or_else(|| wrong(format!("`{}` takes a number of values, up to 1000", name.text), "like `list(words(1), 0..4)`"), Ok)
}

/// One number, or a range of them.
pub(super) fn lengths(name: &Name, arguments: &[Argument], default: (u64, u64), what: &str) -> Result<(u64, u64), RecipeError> {
    let positive = |value: &Value| match value {
        Value::Integer(number @ 1..=10_000_000) => Some(number.unsigned_abs()),
        _ => None,
    };
    let found = match arguments {
        [] => Some(default),
        [Argument::Value(length, None)] => positive(length).map(|length| (length, length)),
        [Argument::Range(low, high)] => positive(low).zip(positive(high)).filter(|(low, high)| low <= high),
        _ => None,
    };
    found.map_or_else(
        || wrong(format!("`{}` takes a number of {what}, from 1 on", name.text), format!("like `{0}(3)` or `{0}(2..5)`", name.text)),
        Ok,
    )
}

pub(super) fn pick(arguments: &[Argument], kind: LogicalType) -> Result<Maker, RecipeError> {
    let mut weighted = Vec::new();
    for argument in arguments {
        let Argument::Value(value, weight) = argument else {
            return wrong("`pick` takes single values", "like `pick('calm' 5, 'lively' 2)`");
        };
        let weight = weight.as_ref().map_or(Ok(1.0), real)?;
        if weight < 0.0 {
            return wrong("a weight cannot be negative", "like `pick('calm' 5, 'lively' 2)`");
        }
        weighted.push((fit(value, kind)?, weight));
    }
    let total: f64 = weighted.iter().map(|(_, weight)| weight).sum();
    if total <= 0.0 {
        return wrong("`pick` needs at least one value with a weight", "like `pick('calm' 5, 'lively' 2)`");
    }
    let mut sum = 0.0;
    let shares = weighted.into_iter().map(|(value, weight)| {
        sum += weight;
        (value, (sum / total * 4_294_967_296.0) as u64)
    });
    Ok(Maker::Pick(shares.collect()))
}

pub(super) fn range(low: &Value, high: &Value, kind: LogicalType) -> Result<Maker, RecipeError> {
    // Whole numbers between dates are seconds since 1970.
    if kind == LogicalType::Integer && matches!(low, Value::Date(_) | Value::Timestamp(_)) {
        return with_manner(range(low, high, LogicalType::Timestamp)?, kind, TimeManner::Even);
    }
    let (low_value, high_value) = (fit(low, kind)?, fit(high, kind)?);
    if low_value.as_ref().order(high_value.as_ref()).is_gt() {
        return wrong("the range ends before it begins", "write the smaller value first");
    }
    match (low_value, high_value) {
        (Value::Integer(low), Value::Integer(high)) => Ok(Maker::Integers(low, high)),
        (Value::Decimal(low, scale), Value::Decimal(high, _)) => Ok(Maker::Decimals(low.get(), high.get(), scale)),
        (Value::Real(low), Value::Real(high)) => Ok(Maker::Reals(low, high)),
        (Value::Date(low), Value::Date(high)) => {
            Ok(Maker::Dates(Period { low: low.into(), high: high.into(), manner: TimeManner::Even, hours: None }))
        }
        (Value::Timestamp(low), Value::Timestamp(high)) => {
            Ok(Maker::Timestamps(Period { low, high, manner: TimeManner::Even, hours: None }))
        }
        _ => wrong(format!("a range makes no sense for {kind}"), format!("use {}", suitable(kind))),
    }
}

/// A literal as a value of the column's type.
pub(super) fn fit(value: &Value, kind: LogicalType) -> Result<Value, RecipeError> {
    let fitted = match (value, kind) {
        (Value::Null, _) => Some(Value::Null),
        (Value::Integer(_), LogicalType::Integer)
        | (Value::Text(_), LogicalType::Text { .. })
        | (Value::Boolean(_), LogicalType::Boolean)
        | (Value::Date(_), LogicalType::Date)
        | (Value::Timestamp(_), LogicalType::Timestamp) => Some(value.clone()),
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Decimal { scale, .. }) => {
            value.as_ref().as_decimal().and_then(|decimal| decimal.rescaled(scale)).map(Value::from)
        }
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Real) => value.as_ref().as_real().map(Value::Real),
        (Value::Date(days), LogicalType::Timestamp) => Some(Value::Timestamp(i64::from(*days) * 86_400_000_000)),
        (Value::Text(text), LogicalType::Date) => parse_date(text).map(Value::Date),
        (Value::Text(text), LogicalType::Timestamp) => parse_timestamp(text).map(Value::Timestamp),
        (Value::Integer(number), LogicalType::Boolean) => Some(Value::Boolean(*number != 0)),
        _ => None,
    };
    fitted.map_or_else(|| wrong(format!("`{value}` is not {kind}"), format!("use {}", suitable(kind))), Ok)
}

pub(super) fn real(value: &Value) -> Result<f64, RecipeError> {
    value.as_ref().as_real().map_or_else(|| wrong(format!("`{value}` is not a number"), "write a number"), Ok)
}
