//! The driver's errors as Kampf's.

use kampf_contest::{EngineError, EngineErrorKind};
use tokio_postgres::Error;
use tokio_postgres::error::{ErrorPosition, SqlState};

use crate::statement::place_in;

/// How a message begins that is the server's own.
pub(super) const SAYS: &str = "PostgreSQL says: ";
/// Where a password can be given.
pub(super) const WHERE_PASSWORDS: &str = "; give it in the URL, in PGPASSWORD or in ~/.pgpass";

pub(super) fn engine_error(error: &Error, sql: Option<&str>) -> EngineError {
    let sql = sql.map(str::to_owned);
    let Some(server) = error.as_db_error() else {
        let lost = error.is_closed() || error.to_string().contains("communicating with the server");
        let cause = std::error::Error::source(error).map(|source| format!(": {source}")).unwrap_or_default();
        let (kind, message) = if cause.contains("password missing") {
            (EngineErrorKind::Unreachable, format!("the server wants a password{WHERE_PASSWORDS}"))
        } else if lost {
            (EngineErrorKind::Unreachable, format!("the connection to the server was lost{cause}"))
        } else if cause.is_empty() {
            (EngineErrorKind::Value, format!("the driver says: {error}"))
        } else {
            (EngineErrorKind::Value, format!("{error}{cause}"))
        };
        return EngineError { kind, message, sql };
    };
    let code = server.code();
    let class = &code.code()[..2];
    let (kind, remedy) = match class {
        _ if *code == SqlState::INVALID_PASSWORD => (EngineErrorKind::Unreachable, WHERE_PASSWORDS),
        _ if *code == SqlState::INVALID_CATALOG_NAME => {
            (EngineErrorKind::Unreachable, "; make it (CREATE DATABASE), or name another in the URL")
        }
        _ if *code == SqlState::INSUFFICIENT_PRIVILEGE => (EngineErrorKind::Unreachable, ""),
        _ if *code == SqlState::READ_ONLY_SQL_TRANSACTION => (EngineErrorKind::Statement, "; contenders may only read"),
        _ if *code == SqlState::TOO_MANY_CONNECTIONS => (EngineErrorKind::Unreachable, "; end some of them, or raise max_connections"),
        _ if *code == SqlState::DISK_FULL => (EngineErrorKind::Full, "; make room on the server's disk"),
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
    let more = [server.detail(), server.hint()].into_iter().flatten().map(|more| format!("; {more}")).collect::<String>();
    EngineError { kind, message: format!("{SAYS}{}{place}{more}{remedy}", server.message()), sql }
}
