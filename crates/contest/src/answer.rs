//! Answers in canonical form.

use std::fmt;

use kampf_schema::expr::parse_uuid;
use kampf_schema::{Decimal, LogicalType, Value, ValueRef, parse_date, parse_timestamp};
use serde_json::Value as Json;

use crate::form::{Form, ListForm, Sequence};

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

/// A row of an answer from JSON, lists as arrays of rows, which are arrays too; without forms, values as they are.
///
/// # Errors
/// The first value that has not its form, and a row that is not as long as the forms.
pub fn answer_row_from_json(row: &[Json], forms: &[Form]) -> Result<Vec<Value>, AnswerError> {
    if !forms.is_empty() && row.len() != forms.len() {
        return Err(AnswerError { found: format!("a row of {} values", row.len()), wanted: format!("a row of {}", forms.len()) });
    }
    row.iter().enumerate().map(|(at, json)| from_json(json, forms.get(at))).collect()
}

fn from_json(json: &Json, form: Option<&Form>) -> Result<Value, AnswerError> {
    let wrong = |wanted: String| AnswerError { found: json.to_string().chars().take(100).collect(), wanted };
    match (json, form) {
        (Json::Array(rows), Some(Form::List(list))) => {
            let one = |row: &Json| match row {
                Json::Array(values) if values.len() == list.items.len() => {
                    let values = values.iter().zip(&list.items).map(|(json, item)| from_json(json, Some(&item.form)));
                    Ok(Value::List(values.collect::<Result<_, _>>()?))
                }
                other => Err(AnswerError {
                    found: other.to_string().chars().take(100).collect(),
                    wanted: format!("a row of a list, an array of {} values", list.items.len()),
                }),
            };
            Ok(Value::List(rows.iter().map(one).collect::<Result<_, _>>()?))
        }
        (_, Some(Form::List(_))) => Err(wrong("a list, an array of rows".to_owned())),
        (Json::Array(_), Some(Form::Value(kind))) => Err(wrong(kind.to_string())),
        (json, form) => value_from_json(json, form.and_then(Form::kind)),
    }
}

pub(crate) fn hexadecimal(text: &str) -> Option<Vec<u8>> {
    let digits: Option<Vec<u8>> = text.chars().map(|c| c.to_digit(16).and_then(|digit| u8::try_from(digit).ok())).collect();
    let digits = digits.filter(|digits| digits.len() % 2 == 0)?;
    Some(digits.chunks(2).map(|pair| pair[0] << 4 | pair[1]).collect())
}

/// A short fingerprint of an answer: the 64-bit FNV-1a hash of its values as text, reals at 9 significant digits. Rows count
/// in their order, unless `ordered` says that there is none, and those of lists by their forms. Informative only: answers are
/// compared value by value.
pub fn digest(rows: &[Vec<Value>], ordered: bool, forms: &[Form]) -> String {
    let mut lines: Vec<String> = rows.iter().map(|row| line(row, &|at| forms.get(at).and_then(Form::list))).collect();
    if !ordered {
        lines.sort_unstable();
    }
    let bytes = lines.iter().flat_map(|line| line.bytes().chain([b'\n']));
    let hash = bytes.fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
    format!("{hash:016x}")
}

/// A row as a line of the digest.
fn line<'f>(row: &[Value], list: &dyn Fn(usize) -> Option<&'f ListForm>) -> String {
    let values = row.iter().enumerate().map(|(at, value)| match (value, list(at)) {
        (Value::Real(number), _) => format!("{number:.8e}"),
        (Value::List(rows), Some(form)) => {
            let row = |row: &Value| match row {
                Value::List(values) => line(values, &|at| form.items.get(at).and_then(|item| item.form.list())),
                other => other.to_string(),
            };
            let mut lines: Vec<String> = rows.iter().map(row).collect();
            if form.sequence != Sequence::Ordered {
                lines.sort_unstable();
            }
            format!("[{}]", lines.join(";"))
        }
        (other, _) => value_to_json(other.as_ref()).to_string(),
    });
    values.collect::<Vec<_>>().join(",")
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
        let digest = |rows: &[Vec<Value>], ordered| digest(rows, ordered, &[]);
        assert_eq!(digest(std::slice::from_ref(&one), true), digest(&[vec![Value::Real(0.3)]], true));
        assert_eq!(digest(&[one.clone(), two.clone()], false), digest(&[two.clone(), one.clone()], false));
        assert_ne!(digest(&[one.clone(), two.clone()], true), digest(&[two, one], true));
    }
}
