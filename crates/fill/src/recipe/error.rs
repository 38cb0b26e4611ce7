//! What is wrong with a recipe.

use kampf_schema::{LogicalType, Span};

/// What is wrong with a recipe.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct RecipeError {
    pub(crate) message: String,
    pub(crate) hint: Option<String>,
    /// In the recipe's text; none for all of it.
    pub(crate) span: Option<Span>,
}

pub(super) fn wrong<T>(message: impl Into<String>, hint: impl Into<String>) -> Result<T, RecipeError> {
    Err(RecipeError { message: message.into(), hint: Some(hint.into()), span: None })
}

/// What would suit a type, for hints.
pub(super) fn suitable(kind: LogicalType) -> &'static str {
    match kind {
        LogicalType::Integer => "a range like `1..100`, `normal(50, 10) in 0..100`, or `pick(1 5, 2 3)`",
        LogicalType::Decimal { .. } | LogicalType::Real => "a range like `0.5..99.5`, or `normal(50, 10) in 0..100`",
        LogicalType::Text { .. } => "`words(1..3)`, `text(200)`, `name`, `place`, `code('AB-####')`, or `pick('a' 3, 'b')`",
        LogicalType::Boolean => "`share(30)` for true in 30 of 100, `true`, or `false`",
        LogicalType::Date => "a range like `2020-01-01..2026-06-30`",
        LogicalType::Timestamp => "a range like `2020-01-01..2026-06-30`, or with times `2026-01-01T08:00:00..2026-01-01T18:00:00`",
        LogicalType::Uuid => "`uuid4` or `uuid7`",
        LogicalType::Blob => "`bytes(200)`",
    }
}
