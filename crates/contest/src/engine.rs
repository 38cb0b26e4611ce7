//! What an engine must do for contenders.

use std::fmt;
use std::sync::Arc;

use kampf_schema::{LogicalType, Value, ValueRef};
use serde::{Deserialize, Serialize};

use crate::query_plan::QueryPlan;

/// A statement prepared in a session.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct StatementId(pub usize);

/// Whether more rows are wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flow {
    /// Go on.
    More,
    /// Enough.
    Stop,
}

/// Takes the rows of a statement, in order, each valid only during the call.
pub trait Sink {
    /// One row.
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow;
}

impl<F: FnMut(&[ValueRef<'_>]) -> Flow> Sink for F {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        self(row)
    }
}

/// What went over a session, counted where it left the process.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Traffic {
    /// Statements carried out, begin and commit included.
    pub statements: u64,
    /// Waits for the server; for an engine without one, what a server would have needed.
    pub round_trips: u64,
    /// Rows delivered.
    pub rows: u64,
    /// Bytes of values delivered, by [`ValueRef::size`].
    pub bytes: u64,
    /// Bytes that went over the wire in both directions; none where there is no wire.
    pub wire_bytes: Option<u64>,
}

/// One statement as it was carried out.
#[derive(Clone, Debug, PartialEq)]
pub struct Observed {
    /// Its text.
    pub sql: String,
    /// Its parameters.
    pub parameters: Vec<Value>,
    /// How long it took, from sending to the last row taken, in nanoseconds.
    pub nanos: u64,
    /// Rows delivered.
    pub rows: u64,
}

/// What kind of trouble an engine has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EngineErrorKind {
    /// The statement is wrong.
    Statement,
    /// A rule of the schema does not hold.
    Constraint,
    /// No room on disk.
    Full,
    /// No more memory.
    Memory,
    /// What stands before the server does not let a session be set up as it is asked for.
    Refused,
    /// The data cannot be reached: locked, unreadable, its server does not answer.
    Unreachable,
    /// The server wants a password, or another one.
    Password,
    /// What Kampf made is not there any more, or is not what it made: only making it anew helps.
    Gone,
    /// Another Kampf is at work on the same data; it will be free once that has ended.
    Busy,
    /// The data came in a form that its type does not allow.
    Value,
}

/// An engine's error.
#[derive(Clone, Debug)]
pub struct EngineError {
    /// What kind.
    pub kind: EngineErrorKind,
    /// What failed on what, in the engine's words.
    pub message: String,
    /// The statement, where one was at work.
    pub sql: Option<String>,
    /// What it comes from, as the driver or the system has it; the message says it already.
    pub cause: Option<Arc<dyn std::error::Error + Send + Sync>>,
}

impl EngineError {
    /// A number in the application that 64 bits, or the digits of a decimal, do not hold.
    pub(crate) fn too_large() -> EngineError {
        EngineError {
            kind: EngineErrorKind::Value,
            message: "a number computed in the application is too large for its type".to_owned(),
            sql: None,
            cause: None,
        }
    }
}

impl PartialEq for EngineError {
    fn eq(&self, other: &EngineError) -> bool {
        (self.kind, &self.message, &self.sql) == (other.kind, &other.message, &other.sql)
    }
}

impl fmt::Display for EngineError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for EngineError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        self.cause.as_deref().map(|cause| cause as _)
    }
}

/// A statement as it goes to the engine.
#[derive(Clone, Copy, Debug)]
pub enum Sent<'a> {
    /// One that is prepared and kept.
    Kept(StatementId),
    /// A text, read anew by the engine, of which neither side keeps anything afterwards.
    Text {
        /// The text.
        sql: &'a str,
        /// What each result column means, as for [`Session::prepare`].
        kinds: &'a [Option<LogicalType>],
    },
}

/// Takes the rows of an open cursor, so many at a time.
pub trait Portions: Sink {
    /// A portion is over. The session can carry out other statements until this returns; whether more rows are wanted.
    ///
    /// # Errors
    /// Whatever went wrong with the portion; the cursor is closed then.
    fn portion(&mut self, session: &mut dyn Session) -> Result<Flow, EngineError>;
}

/// A statement of a group.
pub struct Grouped<'a> {
    /// The statement.
    pub statement: StatementId,
    /// Its parameters.
    pub parameters: &'a [ValueRef<'a>],
    /// Takes its rows.
    pub sink: &'a mut dyn Sink,
}

/// Where many rows go.
#[derive(Clone, Copy, Debug)]
pub struct BulkInto<'a> {
    /// The table.
    pub table: &'a str,
    /// The columns that are written, with their types.
    pub columns: &'a [(String, LogicalType)],
}

/// What a group of statements belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupUnit {
    /// It is a transaction of its own, of which all or nothing stays.
    Own,
    /// The transaction that is open.
    Open,
}

/// A connection that does one thing at a time. At most one result is open: a sink cannot reach the session.
pub trait Session {
    /// Prepares a statement and keeps it; the same text again gives the same statement. `kinds` says what each result
    /// column means; where it says nothing the value comes as the engine has it.
    fn prepare(&mut self, sql: &str, kinds: &[Option<LogicalType>]) -> Result<StatementId, EngineError>;

    /// The names of a prepared statement's result columns.
    fn columns(&self, statement: StatementId) -> Vec<String>;

    /// Carries out a statement and hands its rows to the sink until it has enough. A parameter may be a list
    /// ([`ValueRef::List`]) where the engine's dialect has such lists ([`crate::KeyList::Array`]); another engine refuses. Gives how
    /// many rows the statement has changed, where it is one that changes rows and the sink took all that it gave.
    fn carry_out(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<Option<u64>, EngineError>;

    /// Carries out a prepared statement.
    fn run(&mut self, statement: StatementId, parameters: &[ValueRef<'_>], sink: &mut dyn Sink) -> Result<(), EngineError> {
        self.carry_out(Sent::Kept(statement), parameters, sink).map(|_| ())
    }

    /// Carries out a statement whose result stays open, and fetches `size` of its rows at a time. What the engine needs around it,
    /// a transaction, is begun and ended too, so that none may be open.
    fn stream(&mut self, statement: Sent<'_>, parameters: &[ValueRef<'_>], size: u32, to: &mut dyn Portions) -> Result<(), EngineError>;

    /// Carries out several prepared statements in one trip, each after the one before. After one that fails none is carried out.
    ///
    /// # Errors
    /// That of the first statement that fails. A transaction of the group's own is taken back then; one that was open is the caller's to end.
    fn group(&mut self, group: &mut [Grouped<'_>], unit: GroupUnit) -> Result<(), EngineError>;

    /// Puts rows into a table in the engine's own way for many of them. Gives how many that were.
    ///
    /// # Errors
    /// Those of the engine; one that has no such way ([`crate::Dialect::bulk`]) refuses.
    fn bulk(&mut self, into: &BulkInto<'_>, rows: &[Vec<ValueRef<'_>>]) -> Result<u64, EngineError>;

    /// Begins something in which nothing can be written, whatever statements come.
    ///
    /// # Errors
    /// Those of the engine.
    fn begin_reading(&mut self) -> Result<(), EngineError>;

    /// Ends it, and makes sure that the session still may not write outside of it either.
    ///
    /// # Errors
    /// When a statement has changed that.
    fn end_reading(&mut self) -> Result<(), EngineError>;

    /// Starts counting from zero; rows and bytes are counted only from here on.
    fn count(&mut self);

    /// What was counted; counting ends.
    fn counted(&mut self) -> Traffic;

    /// Starts noting every statement.
    fn observe(&mut self);

    /// The statements noted since; noting ends.
    fn observed(&mut self) -> Vec<Observed>;

    /// The engine's plan for a statement that reads. Where asked to, the statement is carried out, and the plan says what came of its
    /// steps, as far as the engine tells.
    fn explain(&mut self, sql: &str, parameters: &[ValueRef<'_>], carried_out: bool) -> Result<QueryPlan, EngineError>;
}
