//! Types, defaults and fixed values of columns.

use sqlparser::ast::{self, DataType, ExactNumberInfo, UnaryOperator};

use crate::calendar::{parse_date, parse_timestamp};
use crate::model::Default;
use crate::types::LogicalType;
use crate::value::{Decimal, Value};

/// What a column type means; `None` for one that is not understood.
pub(super) fn logical_type(kind: &DataType) -> Option<LogicalType> {
    use DataType as D;
    Some(match kind {
        D::TinyInt(_)
        | D::SmallInt(_)
        | D::MediumInt(_)
        | D::Int(_)
        | D::Integer(_)
        | D::BigInt(_)
        | D::Int2(_)
        | D::Int4(_)
        | D::Int8(_)
        | D::Int16
        | D::Int32
        | D::Int64
        | D::TinyIntUnsigned(_)
        | D::SmallIntUnsigned(_)
        | D::IntUnsigned(_)
        | D::IntegerUnsigned(_)
        | D::BigIntUnsigned(_)
        | D::MediumIntUnsigned(_) => LogicalType::Integer,
        D::Numeric(info) | D::Decimal(info) | D::Dec(info) => decimal(*info),
        D::Real | D::Float(_) | D::Double(_) | D::DoublePrecision | D::Float4 | D::Float8 | D::Float64 => LogicalType::Real,
        D::Text | D::Clob(_) | D::TinyText | D::MediumText | D::LongText | D::String(None) => LogicalType::TEXT,
        D::Varchar(length) | D::CharVarying(length) | D::CharacterVarying(length) | D::Nvarchar(length) => {
            LogicalType::Text { length: characters(length.as_ref()) }
        }
        D::Char(length) | D::Character(length) => LogicalType::Text { length: Some(characters(length.as_ref()).unwrap_or(1)) },
        D::Boolean | D::Bool => LogicalType::Boolean,
        D::Date => LogicalType::Date,
        D::Timestamp(..) | D::Datetime(_) => LogicalType::Timestamp,
        D::Uuid => LogicalType::Uuid,
        D::Blob(_) | D::Bytea | D::Binary(_) | D::Varbinary(_) | D::TinyBlob | D::MediumBlob | D::LongBlob => LogicalType::Blob,
        D::Custom(name, _) => match name.to_string().to_lowercase().as_str() {
            "serial" | "bigserial" | "smallserial" | "int unsigned" => LogicalType::Integer,
            "timestamptz" => LogicalType::Timestamp,
            _ => return None,
        },
        // SQLite allows a column without a type; it holds whatever is put there, and here that is text.
        D::Unspecified => LogicalType::TEXT,
        _ => return None,
    })
}

fn decimal(info: ExactNumberInfo) -> LogicalType {
    let clamp = |number: u64| u8::try_from(number).unwrap_or(36).min(36);
    match info {
        // Without digits the type says nothing; two behind the point is what such columns mostly hold.
        ExactNumberInfo::None => LogicalType::Decimal { precision: 15, scale: 2 },
        ExactNumberInfo::Precision(precision) => LogicalType::Decimal { precision: clamp(precision), scale: 0 },
        ExactNumberInfo::PrecisionAndScale(precision, scale) => {
            let precision = clamp(precision);
            LogicalType::Decimal { precision, scale: u8::try_from(scale).unwrap_or(0).min(precision) }
        }
    }
}

fn characters(length: Option<&ast::CharacterLength>) -> Option<u32> {
    match length {
        Some(ast::CharacterLength::IntegerLength { length, .. }) => Some(u32::try_from(*length).unwrap_or(u32::MAX).max(1)),
        _ => None,
    }
}

/// A default: a fixed value of the column's type, or else its text.
pub(super) fn default(expr: &ast::Expr, kind: LogicalType) -> Default {
    fixed(expr, kind).map_or_else(|| Default::Computed(expr.to_string()), Default::Value)
}

/// A fixed value of a type; `None` where it is not fixed or does not fit.
pub(super) fn fixed(expr: &ast::Expr, kind: LogicalType) -> Option<Value> {
    match expr {
        ast::Expr::Nested(inner) => fixed(inner, kind),
        ast::Expr::UnaryOp { op: UnaryOperator::Minus, expr } => match fixed(expr, kind)? {
            Value::Integer(number) => Some(Value::Integer(-number)),
            Value::Real(number) => Some(Value::Real(-number)),
            Value::Decimal(units, scale) => Some(Value::Decimal((-units.get()).into(), scale)),
            _ => None,
        },
        ast::Expr::Value(value) => {
            let value = &value.value;
            Some(match (value, kind) {
                (ast::Value::Null, _) => Value::Null,
                (ast::Value::Number(text, _), LogicalType::Integer) => Value::Integer(text.to_string().parse().ok()?),
                (ast::Value::Number(text, _), LogicalType::Real) => Value::Real(text.to_string().parse().ok()?),
                (ast::Value::Number(text, _), LogicalType::Decimal { scale, .. }) => {
                    Decimal::parse(&text.to_string())?.rescaled(scale)?.into()
                }
                (ast::Value::Number(text, _), LogicalType::Boolean) => Value::Boolean(*text != *"0"),
                (ast::Value::Boolean(truth), LogicalType::Boolean) => Value::Boolean(*truth),
                (ast::Value::SingleQuotedString(text), LogicalType::Text { .. }) => Value::from(text.as_str()),
                (ast::Value::SingleQuotedString(text), LogicalType::Date) => Value::Date(parse_date(text)?),
                (ast::Value::SingleQuotedString(text), LogicalType::Timestamp) => Value::Timestamp(parse_timestamp(text)?),
                _ => return None,
            })
        }
        _ => None,
    }
}
