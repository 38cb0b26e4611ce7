//! Conditions and terms evaluated on a row.

use std::cmp::Ordering;

use super::{Function, Operator, Rule, Scalar};
use crate::calendar::civil_from_days;
use crate::model::ColumnId;
use crate::value::{Decimal, Value, ValueRef};

/// A row that values can be had from.
pub trait Row {
    /// The value of a column.
    fn value(&self, column: ColumnId) -> Value;
}

impl<F: Fn(ColumnId) -> Value> Row for F {
    fn value(&self, column: ColumnId) -> Value {
        self(column)
    }
}

impl Rule {
    /// Whether the condition holds; `None` where it is unknown.
    pub fn holds(&self, row: &dyn Row) -> Option<bool> {
        match self {
            Rule::Compare(comparison, left, right) => compare(&left.value(row), &right.value(row)).map(|order| comparison.holds(order)),
            Rule::In(term, list) => {
                let value = term.value(row);
                let mut unknown = value == Value::Null;
                for item in list {
                    match compare(&value, &item.value(row)) {
                        Some(Ordering::Equal) => return Some(true),
                        Some(_) => {}
                        None => unknown = true,
                    }
                }
                (!unknown).then_some(false)
            }
            Rule::IsNull(term) => Some(term.value(row) == Value::Null),
            Rule::Same(left, right) => {
                let (left, right) = (left.value(row), right.value(row));
                Some(compare(&left, &right).map_or(left == right, |order| order == Ordering::Equal))
            }
            Rule::Matches(term, pattern) => match term.value(row) {
                Value::Null => None,
                Value::Text(text) => Some(pattern.fits(&text)),
                other => Some(pattern.fits(&other.to_string())),
            },
            Rule::Not(rule) => rule.holds(row).map(|holds| !holds),
            Rule::And(rules) => {
                let mut result = Some(true);
                for rule in rules {
                    match rule.holds(row) {
                        Some(false) => return Some(false),
                        Some(true) => {}
                        None => result = None,
                    }
                }
                result
            }
            Rule::Or(rules) => {
                let mut result = Some(false);
                for rule in rules {
                    match rule.holds(row) {
                        Some(true) => return Some(true),
                        Some(false) => {}
                        None => result = None,
                    }
                }
                result
            }
            Rule::Truth(term) => match term.value(row) {
                Value::Null => None,
                Value::Boolean(truth) => Some(truth),
                other => other.as_ref().as_real().map(|number| number != 0.0),
            },
        }
    }

    /// Whether a check allows the row: it holds, or cannot be told.
    pub fn allows(&self, row: &dyn Row) -> bool {
        self.holds(row) != Some(false)
    }
}

impl Scalar {
    /// The value on a row.
    pub fn value(&self, row: &dyn Row) -> Value {
        match self {
            Scalar::Column(column) => row.value(*column),
            Scalar::Literal(value) => value.clone(),
            Scalar::Call(function, terms) => call(*function, &terms.iter().map(|term| term.value(row)).collect::<Vec<_>>()),
            Scalar::Arithmetic(operator, left, right) => arithmetic(*operator, &left.value(row), &right.value(row)),
            Scalar::Choose(cases) => {
                cases.iter().find(|(rule, _)| rule.holds(row) == Some(true)).map_or(Value::Null, |(_, term)| term.value(row))
            }
            Scalar::Whether(rule) => rule.holds(row).map_or(Value::Null, Value::Boolean),
        }
    }
}

fn compare(left: &Value, right: &Value) -> Option<Ordering> {
    if *left == Value::Null || *right == Value::Null {
        return None;
    }
    // Engines without a boolean type write 0 and 1.
    let plain = |value: &Value| match value {
        Value::Boolean(truth) => Value::Integer(i64::from(*truth)),
        other => other.clone(),
    };
    Some(match (left, right) {
        (Value::Boolean(_), Value::Integer(_)) | (Value::Integer(_), Value::Boolean(_)) => {
            plain(left).as_ref().order(plain(right).as_ref())
        }
        _ => left.as_ref().order(right.as_ref()),
    })
}

fn text(value: &Value) -> String {
    value.to_string()
}

fn call(function: Function, values: &[Value]) -> Value {
    use Function as F;
    let first = values.first().unwrap_or(&Value::Null);
    match function {
        F::FirstKnown => return values.iter().find(|value| **value != Value::Null).cloned().unwrap_or(Value::Null),
        F::Known => return integer(values.iter().filter(|value| **value != Value::Null).count()),
        F::Unknown => return integer(values.iter().filter(|value| **value == Value::Null).count()),
        F::NullIf => {
            let same = values.get(1).and_then(|second| compare(first, second)) == Some(Ordering::Equal);
            return if same { Value::Null } else { first.clone() };
        }
        F::Greatest | F::Least => {
            let known = values.iter().filter(|value| **value != Value::Null);
            let order = |left: &&Value, right: &&Value| left.as_ref().order(right.as_ref());
            let found = if function == F::Greatest { known.max_by(order) } else { known.min_by(order) };
            return found.cloned().unwrap_or(Value::Null);
        }
        _ => {}
    }
    if values.contains(&Value::Null) {
        return Value::Null;
    }
    let number = |at: usize| values.get(at).and_then(|value| value.as_ref().as_real());
    match function {
        F::Length => match first {
            Value::Blob(bytes) => integer(bytes.len()),
            other => integer(text(other).chars().count()),
        },
        F::Octets => integer(text(first).len()),
        F::Lower => Value::from(text(first).to_lowercase().as_str()),
        F::Upper => Value::from(text(first).to_uppercase().as_str()),
        F::Trim => Value::from(text(first).trim_matches(' ')),
        F::Part => {
            let start = number(1).map_or(1, |start| start as i64);
            let length = number(2).map_or(i64::MAX, |length| length as i64);
            let end = start.saturating_add(length);
            let part: String = text(first).chars().zip(1_i64..).filter(|(_, at)| (start..end).contains(at)).map(|(c, _)| c).collect();
            Value::from(part.as_str())
        }
        F::Absolute => match first {
            Value::Integer(number) => Value::Integer(number.saturating_abs()),
            Value::Decimal(units, scale) => Value::Decimal(units.get().saturating_abs().into(), *scale),
            other => other.as_ref().as_real().map_or(Value::Null, |number| Value::Real(number.abs())),
        },
        F::Round => {
            let digits = number(1).unwrap_or(0.0).clamp(0.0, 12.0) as u8;
            match first {
                Value::Integer(_) => first.clone(),
                other => other.as_ref().as_real().and_then(|number| Decimal::from_real(number, digits)).map_or(Value::Null, Value::from),
            }
        }
        F::Floor => number(0).map_or(Value::Null, |number| Value::Integer(number.floor() as i64)),
        F::Ceiling => number(0).map_or(Value::Null, |number| Value::Integer(number.ceil() as i64)),
        F::Year => match first.as_ref() {
            ValueRef::Date(days) => Value::Integer(civil_from_days(days).0.into()),
            ValueRef::Timestamp(micros) => Value::Integer(civil_from_days(micros.div_euclid(86_400_000_000) as i32).0.into()),
            _ => Value::Null,
        },
        F::IsJson => Value::Boolean(true),
        F::Position => {
            let (whole, part) = (text(first), text(values.get(1).unwrap_or(&Value::Null)));
            integer(whole.find(&part).map_or(0, |at| whole[..at].chars().count() + 1))
        }
        F::Replace => match values {
            [whole, from, to] => Value::from(text(whole).replace(&text(from), &text(to)).as_str()),
            _ => Value::Null,
        },
        F::FirstKnown | F::Known | F::Unknown | F::NullIf | F::Greatest | F::Least => Value::Null,
    }
}

fn integer(number: usize) -> Value {
    Value::Integer(i64::try_from(number).unwrap_or(i64::MAX))
}

fn arithmetic(operator: Operator, left: &Value, right: &Value) -> Value {
    if *left == Value::Null || *right == Value::Null {
        return Value::Null;
    }
    if operator == Operator::Join {
        return Value::from((text(left) + &text(right)).as_str());
    }
    if let (Value::Integer(left), Value::Integer(right)) = (left, right) {
        let result = match operator {
            Operator::Add => left.checked_add(*right),
            Operator::Subtract => left.checked_sub(*right),
            Operator::Multiply => left.checked_mul(*right),
            Operator::Divide => left.checked_div(*right),
            Operator::Remainder => left.checked_rem(*right),
            Operator::Join => None,
        };
        return result.map_or(Value::Null, Value::Integer);
    }
    // Exact as long as all is exact; a quotient is a real.
    if let (Some(left), Some(right)) = (left.as_ref().as_decimal(), right.as_ref().as_decimal())
        && let Some(exact) = exact(operator, left, right)
    {
        return exact.into();
    }
    let (Some(left), Some(right)) = (number(left), number(right)) else { return Value::Null };
    Value::Real(match operator {
        Operator::Add => left + right,
        Operator::Subtract => left - right,
        Operator::Multiply => left * right,
        Operator::Divide => left / right,
        Operator::Remainder => left % right,
        Operator::Join => return Value::Null,
    })
}

/// Dates count as days and timestamps as microseconds, so that two of a kind can be subtracted.
fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Date(days) => Some(f64::from(*days)),
        Value::Timestamp(micros) => Some(*micros as f64),
        Value::Boolean(truth) => Some(f64::from(u8::from(*truth))),
        other => other.as_ref().as_real(),
    }
}

fn exact(operator: Operator, left: Decimal, right: Decimal) -> Option<Decimal> {
    let scale = left.scale.max(right.scale);
    match operator {
        Operator::Add | Operator::Subtract => {
            let (left, right) = (left.rescaled(scale)?.units, right.rescaled(scale)?.units);
            let units = if operator == Operator::Add { left.checked_add(right) } else { left.checked_sub(right) }?;
            Some(Decimal { units, scale })
        }
        Operator::Multiply => Some(Decimal { units: left.units.checked_mul(right.units)?, scale: left.scale.checked_add(right.scale)? }),
        _ => None,
    }
}
