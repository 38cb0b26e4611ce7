//! SQLite's errors in the words of the engine trait.

use std::sync::Arc;

use kampf_contest::{EngineError, EngineErrorKind};
use rusqlite::ErrorCode;

use crate::statement::place_in;

pub(super) fn engine_error(error: rusqlite::Error, sql: Option<&str>) -> EngineError {
    let kind = match error.sqlite_error_code() {
        Some(ErrorCode::ConstraintViolation) => EngineErrorKind::Constraint,
        Some(ErrorCode::DiskFull | ErrorCode::TooBig) => EngineErrorKind::Full,
        Some(ErrorCode::OutOfMemory) => EngineErrorKind::Memory,
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => EngineErrorKind::Gone,
        Some(
            ErrorCode::CannotOpen
            | ErrorCode::ReadOnly
            | ErrorCode::PermissionDenied
            | ErrorCode::DatabaseBusy
            | ErrorCode::DatabaseLocked
            | ErrorCode::SystemIoFailure,
        ) => EngineErrorKind::Unreachable,
        Some(ErrorCode::TypeMismatch) => EngineErrorKind::Value,
        _ => EngineErrorKind::Statement,
    };
    let message = match &error {
        rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
        rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
        other => other.to_string(),
    };
    let remedy = match error.sqlite_error_code() {
        Some(ErrorCode::AuthorizationForStatementDenied) => "; contenders may only read",
        _ => "",
    };
    // Of names with a table before them SQLite does not say where they are.
    let named = |message: &str| Some((sql?, sql?.find(message.rsplit_once(": ")?.1)?));
    let place = match &error {
        rusqlite::Error::SqlInputError { sql, offset, .. } => usize::try_from(*offset).ok().map(|at| (sql.as_str(), at)),
        rusqlite::Error::SqliteFailure(_, Some(message)) if kind == EngineErrorKind::Statement => named(message),
        _ => None,
    };
    let place = place.map_or_else(String::new, |(sql, at)| place_in(sql, at));
    let message = format!("SQLite says: {message}{place}{remedy}");
    EngineError { kind, message, sql: sql.map(str::to_owned), cause: Some(Arc::new(error)) }
}
