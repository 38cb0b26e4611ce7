//! The driver's errors as Kampf's.

use std::sync::Arc;

use kampf_contest::{EngineError, EngineErrorKind};
use tokio_postgres::Error;
use tokio_postgres::error::{ErrorPosition, SqlState};

use crate::foreign::without_passwords;
use crate::statement::place_in;

/// Where a password can be given.
pub(super) const WHERE_PASSWORDS: &str = "; give it in the URL, in PGPASSWORD or in ~/.pgpass";

/// The error of a connection that could not be begun. Of a password that is wanted and not there the driver says only that its
/// settings will not do.
pub(super) fn start_error(error: Error, has_password: bool) -> EngineError {
    let error = engine_error(error, None);
    if error.kind == EngineErrorKind::Value && !has_password {
        let message = format!("the server wants a password{WHERE_PASSWORDS}");
        return EngineError { kind: EngineErrorKind::Password, message, ..error };
    }
    error
}

/// Whether an error is what the server says itself, and it has answered then.
pub(super) fn is_the_servers(error: &EngineError) -> bool {
    let driver = error.cause.as_ref().and_then(|cause| cause.downcast_ref::<Error>());
    driver.is_some_and(|error| error.as_db_error().is_some())
}

pub(super) fn engine_error(error: Error, sql: Option<&str>) -> EngineError {
    let sql = sql.map(str::to_owned);
    let Some(server) = error.as_db_error() else {
        let source = std::error::Error::source(&error);
        let lost = error.is_closed() || source.is_some_and(|source| source.is::<std::io::Error>());
        let cause = source.map(|source| format!(": {source}")).unwrap_or_default();
        let cause = without_passwords(&cause);
        let (kind, message) = if lost {
            (EngineErrorKind::Unreachable, format!("the connection to the server was lost{cause}"))
        } else if cause.is_empty() {
            (EngineErrorKind::Value, format!("the driver says: {error}"))
        } else {
            (EngineErrorKind::Value, format!("{error}{cause}"))
        };
        return EngineError { kind, message, sql, cause: Some(Arc::new(error)) };
    };
    let code = server.code();
    let class = &code.code()[..2];
    let (kind, remedy) = match class {
        _ if *code == SqlState::INVALID_PASSWORD => (EngineErrorKind::Password, WHERE_PASSWORDS),
        _ if *code == SqlState::INVALID_CATALOG_NAME => {
            (EngineErrorKind::Unreachable, "; make it (CREATE DATABASE), or name another in the URL")
        }
        _ if *code == SqlState::INSUFFICIENT_PRIVILEGE => (EngineErrorKind::Unreachable, ""),
        _ if *code == SqlState::READ_ONLY_SQL_TRANSACTION => (EngineErrorKind::Statement, "; contenders may only read"),
        _ if *code == SqlState::TOO_MANY_CONNECTIONS => (EngineErrorKind::Unreachable, "; end some of them, or raise max_connections"),
        _ if *code == SqlState::DISK_FULL => (EngineErrorKind::Full, "; make room on the server's disk"),
        _ if *code == SqlState::PROTOCOL_VIOLATION => (EngineErrorKind::Refused, ""),
        _ if *code == SqlState::OUT_OF_MEMORY => (EngineErrorKind::Unreachable, "; the server is short of memory, not of disk"),
        "53" => (EngineErrorKind::Unreachable, "; a limit of the server's configuration"),
        "54" => (EngineErrorKind::Statement, "; it is more than PostgreSQL takes"),
        "23" => (EngineErrorKind::Constraint, ""),
        "08" | "28" | "57" | "58" => (EngineErrorKind::Unreachable, ""),
        "22" => (EngineErrorKind::Value, ""),
        _ => (EngineErrorKind::Statement, ""),
    };
    let place = match (server.position(), &sql) {
        (Some(ErrorPosition::Original(character)), Some(sql)) => {
            let before = usize::try_from(*character).unwrap_or(1).saturating_sub(1);
            place_in(sql, sql.char_indices().nth(before).map_or(sql.len(), |(at, _)| at))
        }
        _ => String::new(),
    };
    let more =
        [server.detail(), server.hint()].into_iter().flatten().map(|more| format!("; {}", more.trim_end_matches('.'))).collect::<String>();
    let message = format!("PostgreSQL says: {}{place}{}{remedy}", without_passwords(server.message()), without_passwords(&more));
    EngineError { kind, message, sql, cause: Some(Arc::new(error)) }
}
