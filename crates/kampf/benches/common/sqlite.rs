//! A SQLite file of generated rows, as the layers' benches read it.

use std::path::Path;

use kampf_engine::{Ground, engine};
use kampf_fill::Blueprint;
use kampf_schema::Schema;
use rusqlite::Connection;

/// Loads rows into a new file in a folder; gives the file's place.
pub(crate) fn loaded(folder: &Path, schema: &Schema, blueprint: &Blueprint) -> String {
    let sqlite = engine("sqlite").expect("SQLite is always there");
    let place = Ground { folder, server: None, name: "bench", owner: "test", variant: None };
    sqlite.load(&place, schema, blueprint, &[], &mut |_| {}).expect("the rows load");
    sqlite.serve(&place, &[]).expect("the file is there").url().to_owned()
}

/// A connection that has room for all rows in its cache.
pub(crate) fn opened(file: &str) -> Connection {
    let connection = Connection::open(file).expect("the file opens");
    connection.pragma_update(None, "cache_size", -64_000).expect("the cache can be set");
    // As contenders' connections are, so that a prepared statement is not planned anew for each parameter.
    connection.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).expect("the plan can be kept");
    connection
}
