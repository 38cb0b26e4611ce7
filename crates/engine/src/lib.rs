//! Database engines: sessions, bulk load and dialects.
//!
//! An [`Engine`] loads a dataset into a folder of its own and opens sessions on it. What its SQL looks like is data beside it.
//! Nothing above this crate asks which engine it has: [`engine`] gives one by name.

mod engine;
mod engines;
mod event;
pub mod fault;
mod foreign;
mod generated;
mod load;
mod postgres;
mod session;
mod sockets;
mod sqlite;
mod statement;
mod tables;
mod throwaway;
mod touched;
mod whole;

pub use engine::{
    Connection, Effort, Endpoint, Engine, Ground, IndexSize, ONE_ROW_CHANGES, Scratch, ScratchOrder, Served, Setting, Swept, TableSize,
};
pub use engines::{engine, is_file_of_dataset, is_variable_of_driver, names, schemes, usual};
pub use event::{LoadEvent, Loaded};
pub use foreign::{STARS, without_passwords};
pub use generated::GeneratedRows;
pub use session::STREAM_TRIPS;
pub use sockets::socket_folder;
pub use tables::{create_index, schema_sql};
pub use touched::TouchedTables;
pub use whole::{write_whole, writer_of};

/// A session on a SQLite connection of the caller's, for tests that watch the connection from outside and for benches.
pub fn sqlite_session(connection: &rusqlite::Connection) -> Box<dyn kampf_contest::Session + '_> {
    sqlite::session_on(connection)
}
