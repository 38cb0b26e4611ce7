//! Values as the types of columns keep them.

use kampf_schema::{Decimal, LogicalType, Value};

/// A computed value as the column's type keeps it.
pub(crate) fn as_kind(value: Value, kind: LogicalType) -> Value {
    match (&value, kind) {
        (Value::Null, _) => Value::Null,
        (Value::Boolean(truth), LogicalType::Integer) => Value::Integer(i64::from(*truth)),
        (Value::Decimal(..) | Value::Real(_), LogicalType::Integer) => {
            value.as_ref().as_real().map_or(Value::Null, |number| Value::Integer(libm::round(number) as i64))
        }
        (Value::Integer(_) | Value::Decimal(..) | Value::Real(_), LogicalType::Decimal { scale, .. }) => {
            let exact = value.as_ref().as_decimal().and_then(|decimal| decimal.rescaled(scale));
            let decimal = exact.or_else(|| Decimal::from_real(value.as_ref().as_real()?, scale));
            decimal.map_or(Value::Null, Value::from)
        }
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Real) => value.as_ref().as_real().map_or(Value::Null, Value::Real),
        (Value::Integer(number), LogicalType::Boolean) => Value::Boolean(*number != 0),
        (Value::Text(_), LogicalType::Text { .. }) => value,
        (other, LogicalType::Text { .. }) => Value::from(other.to_string().as_str()),
        (Value::Timestamp(micros), LogicalType::Date) => Value::Date(micros.div_euclid(86_400_000_000) as i32),
        (Value::Date(days), LogicalType::Timestamp) => Value::Timestamp(i64::from(*days) * 86_400_000_000),
        _ => value,
    }
}
