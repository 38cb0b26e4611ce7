//! Answers in canonical form.

use std::fmt;

use kampf_schema::expr::parse_uuid;
use kampf_schema::{Decimal, LogicalType, Value, ValueRef, parse_date, parse_timestamp};
use serde_json::Value as Json;

/// An answer: its rows, or that not so many came as are expected.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Answer {
    /// The rows, each with its values in `give` order.
    pub rows: Vec<Vec<Value>>,
    /// How many came instead of those expected; there are no rows then.
    pub came: Option<u64>,
}

impl Answer {
    /// So many rows came, which is not how many are expected.
    pub fn unexpected(came: u64) -> Answer {
        Answer { rows: Vec::new(), came: Some(came) }
    }
}

impl From<Vec<Vec<Value>>> for Answer {
    fn from(rows: Vec<Vec<Value>>) -> Answer {
        Answer { rows, came: None }
    }
}

/// Something in an answer that is not what it should be.
#[derive(Clone, Debug, PartialEq)]
pub struct AnswerError {
    /// What stood there.
    pub found: String,
    /// What should.
    pub wanted: String,
}

impl fmt::Display for AnswerError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} is not {}", self.found, self.wanted)
    }
}

impl std::error::Error for AnswerError {}

/// A value as JSON: whole numbers and reals as numbers, decimals as text with all their digits, dates as `2026-03-01`,
/// timestamps as `2026-03-01 07:30:00.000000` (UTC), UUIDs in small letters with hyphens, bytes as hexadecimal digits.
pub fn value_to_json(value: ValueRef<'_>) -> Json {
    match value {
        ValueRef::Null => Json::Null,
        ValueRef::Integer(number) => Json::from(number),
        ValueRef::Real(number) => serde_json::Number::from_f64(number).map_or_else(|| Json::from(number.to_string()), Json::Number),
        ValueRef::Boolean(truth) => Json::Bool(truth),
        ValueRef::Text(text) => Json::from(text),
        ValueRef::List(values) => Json::Array(values.iter().map(|value| value_to_json(value.as_ref())).collect()),
        other => Json::from(other.to_string()),
    }
}

/// A value from JSON; an array is a list of such values. Besides the form of [`value_to_json`] a number may stand for a decimal, 0 and 1 for a boolean, and a
/// timestamp may have a `T`, fewer digits and a `Z`. Without a type, numbers, texts and booleans are taken as they are.
///
/// # Errors
/// What is no value of the type.
pub fn value_from_json(json: &Json, kind: Option<LogicalType>) -> Result<Value, AnswerError> {
    let Some(kind) = kind else {
        return Ok(match json {
            Json::Bool(truth) => Value::Boolean(*truth),
            Json::Number(number) => number.as_i64().map_or_else(|| Value::Real(number.as_f64().unwrap_or(f64::NAN)), Value::Integer),
            Json::String(text) => Value::from(text.as_str()),
            Json::Null => Value::Null,
            other => Value::from(other.to_string().as_str()),
        });
    };
    if let Json::Array(items) = json {
        return Ok(Value::List(items.iter().map(|item| value_from_json(item, Some(kind))).collect::<Result<_, _>>()?));
    }
    let wrong = || AnswerError { found: json.to_string(), wanted: kind.to_string() };
    let value = match (kind, json) {
        (_, Json::Null) => Some(Value::Null),
        (LogicalType::Integer, Json::Number(number)) => number
            .as_i64()
            .or_else(|| number.as_f64().filter(|real| real.fract() == 0.0 && real.abs() < 9e15).map(|real| real as i64))
            .map(Value::Integer),
        (LogicalType::Decimal { scale, .. }, Json::Number(number)) => match number.as_i64() {
            Some(whole) => Some(Value::Decimal(i128::from(whole).into(), 0)),
            None => number.as_f64().and_then(|real| Decimal::from_real(real, scale)).map(Value::from),
        },
        (LogicalType::Decimal { .. } | LogicalType::Integer, Json::String(text)) => Decimal::parse(text).map(Value::from),
        (LogicalType::Real, Json::Number(number)) => number.as_f64().map(Value::Real),
        (LogicalType::Real, Json::String(text)) => text.parse().ok().map(Value::Real),
        (LogicalType::Boolean, Json::Bool(truth)) => Some(Value::Boolean(*truth)),
        (LogicalType::Boolean, Json::Number(number)) => {
            number.as_i64().filter(|number| (0..=1).contains(number)).map(|number| Value::Boolean(number == 1))
        }
        (LogicalType::Text { .. }, Json::String(text)) => Some(Value::from(text.as_str())),
        (LogicalType::Date, Json::String(text)) => parse_date(text).map(Value::Date),
        (LogicalType::Timestamp, Json::String(text)) => parse_timestamp(text).map(Value::Timestamp),
        (LogicalType::Uuid, Json::String(text)) => parse_uuid(text).map(Value::Uuid),
        (LogicalType::Blob, Json::String(text)) => hexadecimal(text).map(|bytes| Value::Blob(bytes.into())),
        _ => None,
    };
    value.ok_or_else(wrong)
}

/// A row of an answer from JSON; with no types, or for values beyond them, as they are.
///
/// # Errors
/// The first value that is not of its type, and a row that is not as long as the types.
pub fn answer_row_from_json(row: &[Json], kinds: &[Option<LogicalType>]) -> Result<Vec<Value>, AnswerError> {
    if !kinds.is_empty() && row.len() != kinds.len() {
        return Err(AnswerError { found: format!("a row of {} values", row.len()), wanted: format!("a row of {}", kinds.len()) });
    }
    let one = |(at, json): (usize, &Json)| match (json, kinds.get(at).copied().flatten()) {
        // A value of an answer is no list.
        (Json::Array(_), Some(kind)) => Err(AnswerError { found: json.to_string(), wanted: kind.to_string() }),
        (json, kind) => value_from_json(json, kind),
    };
    row.iter().enumerate().map(one).collect()
}

fn hexadecimal(text: &str) -> Option<Vec<u8>> {
    let digits: Option<Vec<u8>> = text.chars().map(|c| c.to_digit(16).and_then(|digit| u8::try_from(digit).ok())).collect();
    let digits = digits.filter(|digits| digits.len() % 2 == 0)?;
    Some(digits.chunks(2).map(|pair| pair[0] << 4 | pair[1]).collect())
}

/// A short fingerprint of an answer: the 64-bit FNV-1a hash of its values as text, reals at 9 significant digits. Rows count
/// in their order, unless `ordered` says that there is none. Informative only: answers are compared value by value.
pub fn digest(rows: &[Vec<Value>], ordered: bool) -> String {
    let mut lines: Vec<String> = rows
        .iter()
        .map(|row| {
            let values = row.iter().map(|value| match value {
                Value::Real(number) => format!("{number:.8e}"),
                other => value_to_json(other.as_ref()).to_string(),
            });
            values.collect::<Vec<_>>().join(",")
        })
        .collect();
    if !ordered {
        lines.sort_unstable();
    }
    let bytes = lines.iter().flat_map(|line| line.bytes().chain([b'\n']));
    let hash = bytes.fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
    format!("{hash:016x}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_value_goes_through_json_and_back() {
        let decimal = LogicalType::Decimal { precision: 20, scale: 2 };
        let cases = [
            (Value::Null, LogicalType::Integer),
            (Value::Integer(i64::MIN), LogicalType::Integer),
            (Value::Decimal(1_234_567_890_123_456_789_i128.into(), 2), decimal),
            (Value::Real(0.1), LogicalType::Real),
            (Value::from("q\"uo\\te\n"), LogicalType::TEXT),
            (Value::Boolean(true), LogicalType::Boolean),
            (Value::Date(20_000), LogicalType::Date),
            (Value::Timestamp(-1), LogicalType::Timestamp),
            (Value::Uuid([7; 16]), LogicalType::Uuid),
            (Value::Blob([0, 255].into()), LogicalType::Blob),
        ];
        for (value, kind) in cases {
            let text = value_to_json(value.as_ref()).to_string();
            assert_eq!(value_from_json(&serde_json::from_str(&text).unwrap(), Some(kind)), Ok(value), "{text}");
        }
        assert_eq!(value_from_json(&Json::from(12.5), Some(decimal)), Ok(Value::Decimal(1250.into(), 2)));
        assert!(value_from_json(&Json::from("x"), Some(LogicalType::Integer)).is_err());
    }

    #[test]
    fn a_digest_forgives_the_last_digits_of_reals_and_order_where_there_is_none() {
        let (one, two) = (vec![Value::Real(0.1 + 0.2)], vec![Value::Integer(1)]);
        assert_eq!(digest(std::slice::from_ref(&one), true), digest(&[vec![Value::Real(0.3)]], true));
        assert_eq!(digest(&[one.clone(), two.clone()], false), digest(&[two.clone(), one.clone()], false));
        assert_ne!(digest(&[one.clone(), two.clone()], true), digest(&[two, one], true));
    }
}
