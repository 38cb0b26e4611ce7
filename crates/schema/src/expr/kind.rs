//! What an expression's values are.

use super::tree::{Expr, Function, Node, Operator};
use crate::calendar::{parse_date, parse_timestamp};
use crate::types::LogicalType;
use crate::value::Value;

/// Digits that a whole number of 64 bits has at most.
const WHOLE_DIGITS: u8 = 19;
/// Digits that an exact decimal has at most, anywhere.
pub(super) const MOST_DIGITS: u8 = 36;

impl<L> Expr<L> {
    /// The type of its values, where it can be told: a parameter and null have none of their own.
    pub fn kind(&self, of: &dyn Fn(&L) -> Option<LogicalType>) -> Option<LogicalType> {
        use Function as F;
        Some(match &self.node {
            Node::Leaf(leaf) => return of(leaf),
            Node::Literal(value) => return kind_of(value),
            Node::Call(
                F::Length | F::Octets | F::Known | F::Unknown | F::Extract(_) | F::DaysBetween | F::Position | F::Floor | F::Ceiling,
                _,
            ) => LogicalType::Integer,
            Node::Call(F::Lower | F::Upper | F::LowerAll | F::UpperAll | F::Trim | F::Substring | F::Replace, _)
            | Node::Arithmetic(Operator::Join, ..) => LogicalType::TEXT,
            Node::Call(F::StartOf(_), _) => LogicalType::Date,
            Node::Call(F::To(kind), _) => *kind,
            Node::Call(F::Round, parts) => match (parts.first()?.kind(of)?, parts.get(1).and_then(Expr::as_literal)) {
                (LogicalType::Decimal { precision, scale }, Some(Value::Integer(digits))) => {
                    let scale = scale.min(u8::try_from(*digits).unwrap_or(scale));
                    LogicalType::Decimal { precision: precision.saturating_add(1).min(MOST_DIGITS), scale }
                }
                (kind, _) => kind,
            },
            Node::Call(F::Negate | F::Absolute | F::NullIf, parts) => return parts.first()?.kind(of),
            Node::Call(F::Coalesce | F::Greatest | F::Least, parts) => return merged(parts.iter(), of),
            Node::Case(cases, otherwise) => {
                return merged(cases.iter().map(|(_, value)| value).chain(otherwise.as_deref()), of);
            }
            Node::Arithmetic(Operator::Divide, ..) => LogicalType::Real,
            Node::Arithmetic(operator, left, right) => return arithmetic(*operator, left, right, of),
            _ => LogicalType::Boolean,
        })
    }
}

/// The type of a fixed value by itself; null has none.
pub fn kind_of(value: &Value) -> Option<LogicalType> {
    Some(match value {
        Value::Null | Value::List(_) => return None,
        Value::Integer(_) => LogicalType::Integer,
        Value::Decimal(units, scale) => LogicalType::Decimal { precision: digits(units.get()).max(*scale), scale: *scale },
        Value::Real(_) => LogicalType::Real,
        Value::Text(_) => LogicalType::TEXT,
        Value::Boolean(_) => LogicalType::Boolean,
        Value::Date(_) => LogicalType::Date,
        Value::Timestamp(_) => LogicalType::Timestamp,
        Value::Uuid(_) => LogicalType::Uuid,
        Value::Blob(_) => LogicalType::Blob,
    })
}

fn digits(units: i128) -> u8 {
    units.unsigned_abs().checked_ilog10().map_or(1, |digits| digits as u8 + 1)
}

/// A number's digits before and behind the point; a written whole number has as many as are written.
pub(super) fn digits_of<L>(expr: &Expr<L>, kind: LogicalType) -> (u8, u8) {
    match (expr.as_literal(), kind) {
        (Some(Value::Integer(number)), _) => (digits(i128::from(*number)), 0),
        (_, LogicalType::Decimal { precision, scale }) => (precision.saturating_sub(scale), scale),
        _ => (WHOLE_DIGITS, 0),
    }
}

fn arithmetic<L>(operator: Operator, left: &Expr<L>, right: &Expr<L>, of: &dyn Fn(&L) -> Option<LogicalType>) -> Option<LogicalType> {
    // A parameter beside a number is a number like it.
    let (one, other) = match (left.kind(of), right.kind(of)) {
        (Some(one), Some(other)) => (one, other),
        (Some(kind), None) | (None, Some(kind)) => (kind, kind),
        (None, None) => return None,
    };
    match (one, other) {
        (LogicalType::Integer, LogicalType::Integer) => Some(LogicalType::Integer),
        (LogicalType::Real, other) | (other, LogicalType::Real) if other.is_number() => Some(LogicalType::Real),
        (one, other) if one.is_number() && other.is_number() => {
            let (whole, scale) = match operator {
                Operator::Multiply => product(left, one, right, other, of),
                _ => {
                    let ((before, behind), (more_before, more_behind)) = (digits_of(left, one), digits_of(right, other));
                    (before.max(more_before).saturating_add(1), behind.max(more_behind))
                }
            };
            Some(LogicalType::Decimal { precision: whole.saturating_add(scale), scale })
        }
        _ => None,
    }
}

/// The digits of a product before and behind the point. However it is put in parentheses, its whole numbers together are one of 64 bits, as where
/// they stand beside each other: larger ones are too large for their type.
fn product<L>(left: &Expr<L>, one: LogicalType, right: &Expr<L>, other: LogicalType, of: &dyn Fn(&L) -> Option<LogicalType>) -> (u8, u8) {
    let mut factors = Vec::new();
    for (side, kind) in [(left, one), (right, other)] {
        gather(side, Some(kind), of, &mut factors);
    }
    let (mut whole, mut scale, mut has_integer) = (0_u8, 0_u8, false);
    for (factor, kind) in factors {
        if kind == LogicalType::Integer && factor.as_literal().is_none() {
            has_integer = true;
            continue;
        }
        let (before, behind) = digits_of(factor, kind);
        (whole, scale) = (whole.saturating_add(before), scale.saturating_add(behind));
    }
    (whole.saturating_add(if has_integer { WHOLE_DIGITS } else { 0 }), scale)
}

/// The factors of a product, each with its type.
fn gather<'e, L>(
    expr: &'e Expr<L>,
    kind: Option<LogicalType>,
    of: &dyn Fn(&L) -> Option<LogicalType>,
    factors: &mut Vec<(&'e Expr<L>, LogicalType)>,
) {
    match (&expr.node, kind) {
        (Node::Arithmetic(Operator::Multiply, left, right), Some(LogicalType::Decimal { .. })) => {
            for side in [left, right] {
                gather(side, side.kind(of), of, factors);
            }
        }
        (_, kind) => factors.extend(kind.map(|kind| (expr, kind))),
    }
}

/// The one type that holds the values of several: none where there is none, or none of them has any.
fn merged<'a, L: 'a>(parts: impl Iterator<Item = &'a Expr<L>>, of: &dyn Fn(&L) -> Option<LogicalType>) -> Option<LogicalType> {
    let mut all: Option<(LogicalType, (u8, u8))> = None;
    for part in parts {
        let Some(kind) = part.kind(of) else { continue };
        let own = digits_of(part, kind);
        all = Some(match all {
            None => (kind, own),
            Some((known, digits)) => {
                let digits = (digits.0.max(own.0), digits.1.max(own.1));
                (wider(known, kind, digits)?, digits)
            }
        });
    }
    all.map(|(kind, _)| kind)
}

pub(super) fn wider(one: LogicalType, other: LogicalType, (before, behind): (u8, u8)) -> Option<LogicalType> {
    use LogicalType as T;
    Some(match (one, other) {
        (T::Text { length }, T::Text { length: more }) if length == more => one,
        (T::Text { .. }, T::Text { .. }) => T::TEXT,
        (T::Integer, T::Integer) => T::Integer,
        (T::Real, other) | (other, T::Real) if other.is_number() => T::Real,
        (one, other) if one.is_number() && other.is_number() => T::Decimal { precision: before.saturating_add(behind), scale: behind },
        (T::Date, T::Timestamp) | (T::Timestamp, T::Date) => T::Timestamp,
        (one, other) if one == other => one,
        _ => return None,
    })
}

/// A written value as a value of the type it is used as; `None` where it is no such value.
pub fn fit(value: &Value, kind: LogicalType) -> Option<Value> {
    Some(match (value, kind) {
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Real) => Value::Real(value.as_ref().as_real()?),
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Integer | LogicalType::Decimal { .. })
        | (Value::Real(_), LogicalType::Real)
        | (Value::Text(_), LogicalType::Text { .. })
        | (Value::Boolean(_), LogicalType::Boolean)
        | (Value::Date(_), LogicalType::Date)
        | (Value::Timestamp(_), LogicalType::Timestamp | LogicalType::Date)
        | (Value::Uuid(_), LogicalType::Uuid)
        | (Value::Blob(_), LogicalType::Blob) => value.clone(),
        (Value::Date(days), LogicalType::Timestamp) => Value::Timestamp(i64::from(*days) * 86_400_000_000),
        (Value::Text(text), LogicalType::Date) => Value::Date(parse_date(text)?),
        (Value::Text(text), LogicalType::Timestamp) => Value::Timestamp(parse_timestamp(text)?),
        (Value::Text(text), LogicalType::Uuid) => Value::Uuid(parse_uuid(text)?),
        _ => return None,
    })
}

/// Reads a UUID with or without its hyphens.
pub fn parse_uuid(text: &str) -> Option<[u8; 16]> {
    let digits: String = text.chars().filter(|&c| c != '-').collect();
    if digits.len() != 32 || !digits.is_ascii() {
        return None;
    }
    let mut bytes = [0; 16];
    for (at, byte) in bytes.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&digits[at * 2..at * 2 + 2], 16).ok()?;
    }
    Some(bytes)
}
