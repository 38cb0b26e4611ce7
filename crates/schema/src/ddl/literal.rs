//! Fixed values of SQL.

use sqlparser::ast::{self, UnaryOperator};

use crate::calendar::{parse_date, parse_timestamp};
use crate::expr::parse_uuid;
use crate::types::LogicalType;
use crate::value::{Decimal, Value};

pub(super) fn is_fixed(expr: &ast::Expr) -> bool {
    match expr {
        ast::Expr::Value(_) | ast::Expr::TypedString(_) | ast::Expr::Prefixed { .. } => true,
        ast::Expr::UnaryOp { op: UnaryOperator::Minus, expr } | ast::Expr::Nested(expr) | ast::Expr::Cast { expr, .. } => is_fixed(expr),
        _ => false,
    }
}

pub(super) fn text_of(value: &ast::Value) -> Option<&str> {
    use ast::Value as V;
    match value {
        V::SingleQuotedString(text) | V::EscapedStringLiteral(text) | V::DoubleQuotedString(text) | V::NationalStringLiteral(text) => {
            Some(text)
        }
        V::DollarQuotedString(text) => Some(&text.value),
        _ => None,
    }
}

/// A fixed value as a type, or as what it is by itself; `None` where it is not fixed or does not fit.
pub(super) fn fixed(expr: &ast::Expr, want: Option<LogicalType>) -> Option<Value> {
    match expr {
        ast::Expr::Nested(inner) | ast::Expr::Prefixed { value: inner, .. } | ast::Expr::Collate { expr: inner, .. } => fixed(inner, want),
        ast::Expr::Cast { expr: inner, .. } => fixed(inner, want),
        ast::Expr::TypedString(typed) => fixed(
            &ast::Expr::Value(typed.value.clone()),
            want.or_else(|| super::types::of_word(&typed.data_type.to_string()).map(|meaning| meaning.kind)),
        ),
        ast::Expr::Identifier(name) if name.quote_style == Some('"') => typed(&name.value, want),
        ast::Expr::UnaryOp { op: UnaryOperator::Minus, expr } => match fixed(expr, want)? {
            Value::Integer(number) => Some(Value::Integer(-number)),
            Value::Real(number) => Some(Value::Real(-number)),
            Value::Decimal(units, scale) => Some(Value::Decimal((-units.get()).into(), scale)),
            _ => None,
        },
        ast::Expr::Value(value) => match (&value.value, want) {
            (ast::Value::Null, _) => Some(Value::Null),
            (ast::Value::Number(text, _), _) => number(text, want),
            (ast::Value::Boolean(truth), Some(LogicalType::Integer)) => Some(Value::Integer(i64::from(*truth))),
            (ast::Value::Boolean(truth), _) => Some(Value::Boolean(*truth)),
            (ast::Value::SingleQuotedByteStringLiteral(bits), _) => number(&i64::from_str_radix(bits, 2).ok()?.to_string(), want),
            (other, _) => typed(text_of(other)?, want),
        },
        _ => None,
    }
}

/// A number as a type.
pub(super) fn number(text: &str, want: Option<LogicalType>) -> Option<Value> {
    match want {
        Some(LogicalType::Integer) => text.parse().ok().map(Value::Integer).or_else(|| number(text, None)),
        Some(LogicalType::Real) => text.parse().ok().map(Value::Real),
        Some(LogicalType::Decimal { scale, .. }) => {
            let decimal = Decimal::parse(text)?;
            Some(decimal.rescaled(scale).unwrap_or(decimal).into())
        }
        Some(LogicalType::Boolean) => Some(Value::Boolean(text.parse::<f64>().ok()? != 0.0)),
        Some(LogicalType::Text { .. }) => Some(Value::from(text)),
        Some(LogicalType::Timestamp | LogicalType::Date) => None,
        _ => text
            .parse()
            .ok()
            .map(Value::Integer)
            .or_else(|| Decimal::parse(text).map(Value::from))
            .or_else(|| text.parse().ok().map(Value::Real)),
    }
}

/// A text as a type.
pub(super) fn typed(text: &str, want: Option<LogicalType>) -> Option<Value> {
    match want {
        None | Some(LogicalType::Text { .. }) => Some(Value::from(text)),
        Some(LogicalType::Boolean) => match text.to_ascii_lowercase().as_str() {
            "t" | "true" | "1" | "y" | "yes" | "on" => Some(Value::Boolean(true)),
            "f" | "false" | "0" | "n" | "no" | "off" => Some(Value::Boolean(false)),
            _ => None,
        },
        Some(LogicalType::Date) => {
            parse_date(text).or_else(|| parse_timestamp(text).map(|micros| micros.div_euclid(86_400_000_000) as i32)).map(Value::Date)
        }
        Some(LogicalType::Timestamp) => {
            // A zone behind it is taken off: the dumps of databases write UTC.
            let plain = text.trim_end_matches("+00").trim_end_matches("+00:00");
            parse_timestamp(plain).map(Value::Timestamp)
        }
        Some(LogicalType::Uuid) => parse_uuid(text).map(Value::Uuid),
        Some(LogicalType::Blob) => Some(match text.strip_prefix("\\x").map(hex) {
            Some(bytes) => Value::Blob(bytes?.into()),
            None => Value::Blob(text.as_bytes().into()),
        }),
        Some(LogicalType::Integer | LogicalType::Real | LogicalType::Decimal { .. }) => number(text, want),
    }
}

pub(super) fn hex(text: &str) -> Option<Vec<u8>> {
    let digits: Option<Vec<u8>> = text.chars().map(|c| c.to_digit(16).map(|digit| digit as u8)).collect();
    Some(digits?.chunks(2).map(|pair| pair[0] << 4 | pair.get(1).copied().unwrap_or(0)).collect())
}
