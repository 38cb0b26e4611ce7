//! Logical column types: what a value means, whatever an engine calls its storage.

use std::fmt;

use serde::{Deserialize, Serialize};

/// The meaning of a column's values, the same on every engine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LogicalType {
    /// Whole numbers that fit 64 bits.
    Integer,
    /// Exact decimal numbers with `scale` digits behind the point.
    Decimal {
        /// Digits in all.
        precision: u8,
        /// Digits behind the point.
        scale: u8,
    },
    /// 64-bit binary floating point.
    Real,
    /// Text, compared by code point.
    Text {
        /// Longest text in characters, where the schema limits it.
        length: Option<u32>,
    },
    /// True or false.
    Boolean,
    /// A calendar date.
    Date,
    /// A point in time, UTC, in microseconds.
    Timestamp,
    /// A UUID.
    Uuid,
    /// Bytes.
    Blob,
}

impl LogicalType {
    /// Text without a limit.
    pub const TEXT: LogicalType = LogicalType::Text { length: None };

    /// Whether sums and averages make sense.
    pub fn is_number(self) -> bool {
        matches!(self, LogicalType::Integer | LogicalType::Decimal { .. } | LogicalType::Real)
    }

    /// Whether values of the two types can be compared with each other.
    pub fn comparable_with(self, other: LogicalType) -> bool {
        let text_like = |kind| matches!(kind, LogicalType::Text { .. });
        (self.is_number() && other.is_number())
            || (text_like(self) && text_like(other))
            || std::mem::discriminant(&self) == std::mem::discriminant(&other)
            || matches!((self, other), (LogicalType::Date, LogicalType::Timestamp) | (LogicalType::Timestamp, LogicalType::Date))
    }
}

impl fmt::Display for LogicalType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            LogicalType::Integer => f.write_str("integer"),
            LogicalType::Decimal { precision, scale } => write!(f, "decimal({precision}, {scale})"),
            LogicalType::Real => f.write_str("real"),
            LogicalType::Text { length: None } => f.write_str("text"),
            LogicalType::Text { length: Some(length) } => write!(f, "text({length})"),
            LogicalType::Boolean => f.write_str("boolean"),
            LogicalType::Date => f.write_str("date"),
            LogicalType::Timestamp => f.write_str("timestamp"),
            LogicalType::Uuid => f.write_str("uuid"),
            LogicalType::Blob => f.write_str("blob"),
        }
    }
}
