//! What names say of times, states and whom rows belong to.

use kampf_schema::{Column, LogicalType, Table, name_words};

/// Where in the life of a row a time stands, in the order of lives.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// The row came to be.
    Made,
    /// What it tells of was planned for then.
    Planned,
    /// It began.
    Begun,
    /// It was handed out, as a bill is.
    Issued,
    /// The row was changed.
    Changed,
    /// It came to its end.
    Ended,
    /// It is to be done, or paid, until then.
    Due,
    /// It was paid.
    Paid,
    /// It was called off.
    Cancelled,
    /// It was closed.
    Closed,
    /// It was taken away.
    Deleted,
}

use Stage::{Begun, Cancelled, Changed, Closed, Deleted, Due, Ended, Issued, Made, Paid, Planned};

/// The words for each.
const STAGES: [(Stage, &[&str]); 11] = [
    (
        Made,
        &[
            "created",
            "creation",
            "create",
            "inserted",
            "registered",
            "added",
            "entered",
            "joined",
            "ctime",
            "ordered",
            "placed",
            "submitted",
            "requested",
            "booked",
            "opened",
            "posted",
        ],
    ),
    (Planned, &["scheduled", "planned"]),
    (Begun, &["started", "start", "starts", "begun", "begins", "begin", "began"]),
    (Issued, &["issued", "issue", "invoiced"]),
    (Changed, &["updated", "modified", "changed", "edited", "mtime"]),
    (Ended, &["finished", "ended", "end", "ends", "completed", "stopped"]),
    (Due, &["due", "deadline"]),
    (Paid, &["paid", "settled"]),
    (Cancelled, &["cancelled", "canceled"]),
    (Closed, &["closed", "resolved", "archived"]),
    (Deleted, &["deleted", "removed"]),
];

/// What each comes after.
const AFTER: [(Stage, &[Stage]); 10] = [
    (Planned, &[Made]),
    (Begun, &[Made, Planned]),
    (Issued, &[Made]),
    (Changed, &[Made]),
    (Ended, &[Made, Planned, Begun]),
    (Due, &[Made, Issued]),
    (Paid, &[Made, Issued]),
    (Cancelled, &[Made]),
    (Closed, &[Made, Begun, Ended]),
    (Deleted, &[Made, Begun, Ended, Closed]),
];

/// Words of times that may lie ahead.
const AHEAD: [&str; 24] = [
    "due",
    "deadline",
    "expires",
    "expire",
    "expiry",
    "expiration",
    "scheduled",
    "planned",
    "until",
    "next",
    "valid",
    "end",
    "ends",
    "to",
    "renews",
    "renewal",
    "eta",
    "expected",
    "start",
    "starts",
    "begin",
    "begins",
    "target",
    "from",
];

/// Words of times that say nothing of a life, and that something happened then.
const HAPPENED: [&str; 11] = ["at", "on", "date", "time", "day", "occurred", "happened", "logged", "recorded", "measured", "moved"];

/// Words of what machines do, by night too.
const OF_MACHINES: [&str; 19] = [
    "log",
    "logs",
    "event",
    "events",
    "reading",
    "readings",
    "metric",
    "metrics",
    "sync",
    "job",
    "jobs",
    "run",
    "runs",
    "backup",
    "measured",
    "recorded",
    "logged",
    "heartbeat",
    "telemetry",
];

/// Words of what goes on for weeks and years.
const LONG: [&str; 16] = [
    "project",
    "subscription",
    "contract",
    "campaign",
    "membership",
    "employment",
    "lease",
    "season",
    "policy",
    "course",
    "term",
    "rental",
    "loan",
    "plan",
    "phase",
    "exhibition",
];

/// Words of rows that are over.
const OVER: [&str; 19] = [
    "discontinued",
    "closed",
    "deleted",
    "removed",
    "archived",
    "retired",
    "cancelled",
    "canceled",
    "edited",
    "blocked",
    "banned",
    "locked",
    "disabled",
    "hidden",
    "revoked",
    "refunded",
    "failed",
    "rejected",
    "suspended",
];

/// Words of tables in which most rows are over.
const OF_WHAT_IS_OVER: [&str; 20] = [
    "archive",
    "archived",
    "deleted",
    "history",
    "closed",
    "cancellation",
    "cancellations",
    "ticket",
    "tickets",
    "case",
    "cases",
    "task",
    "tasks",
    "failure",
    "failures",
    "error",
    "errors",
    "refund",
    "refunds",
    "revision",
];

/// Words by which a row answers another of its table.
const ANSWERS: [&str; 12] =
    ["parent", "reply", "replies", "replied", "answer", "answers", "answered", "thread", "response", "responds", "previous", "predecessor"];

/// Tables to which rows of anybody's refer: people, and lists that all use.
const OF_ALL: [&str; 57] = [
    "borrower",
    "owner",
    "patient",
    "guest",
    "student",
    "teacher",
    "driver",
    "subscriber",
    "participant",
    "visitor",
    "holder",
    "user",
    "person",
    "people",
    "member",
    "employee",
    "staff",
    "account",
    "customer",
    "client",
    "contact",
    "author",
    "operator",
    "keeper",
    "country",
    "countries",
    "currency",
    "currencies",
    "language",
    "locale",
    "category",
    "categories",
    "type",
    "kind",
    "status",
    "statuse",
    "state",
    "tag",
    "unit",
    "role",
    "permission",
    "region",
    "city",
    "cities",
    "place",
    "address",
    "addresse",
    "supplier",
    "product",
    "item",
    "tax",
    "colour",
    "color",
    "material",
    "file",
    "image",
    "setting",
];

/// Whether a column holds times.
pub fn is_time(column: &Column) -> bool {
    matches!(column.kind, LogicalType::Date | LogicalType::Timestamp)
}

/// A column's words, in small letters.
pub fn words(column: &Column) -> Vec<String> {
    name_words(&column.name)
}

/// Whether one of a column's words is among these.
pub fn has(column: &Column, of: &[&str]) -> bool {
    words(column).iter().any(|word| of.contains(&word.as_str()))
}

fn table_has(table: &Table, of: &[&str]) -> bool {
    name_words(&table.name).iter().any(|word| of.contains(&word.as_str()) || of.contains(&word.trim_end_matches('s')))
}

/// Where in a life a time stands: by the last of its words that says it.
pub fn stage(column: &Column) -> Option<Stage> {
    let words = if is_time(column) { words(column) } else { return None };
    words.iter().rev().find_map(|word| STAGES.iter().find(|(_, of)| of.contains(&word.as_str())).map(|(stage, _)| *stage))
}

/// Whether the first of two comes after the second.
pub fn comes_after(later: Stage, earlier: Stage) -> bool {
    AFTER.iter().any(|(stage, before)| *stage == later && before.contains(&earlier))
}

/// Whether a time may lie ahead.
pub fn may_lie_ahead(column: &Column) -> bool {
    has(column, &AHEAD)
}

/// Whether a time says that something happened then, whatever it was.
pub fn happened(column: &Column) -> bool {
    is_time(column) && has(column, &HAPPENED) && !may_lie_ahead(column)
}

/// Whether machines write a time, by night too.
pub fn is_of_machines(table: &Table, column: &Column) -> bool {
    table_has(table, &OF_MACHINES) || has(column, &OF_MACHINES)
}

/// Whether rows of a table go on for weeks and years.
pub fn goes_on_for_long(table: &Table) -> bool {
    table_has(table, &LONG)
}

/// Whether most rows of a table are over.
pub(crate) fn is_of_what_is_over(table: &Table) -> bool {
    table_has(table, &OF_WHAT_IS_OVER)
}

/// The word by which a column says that a row is over; none where most rows of the table are.
pub fn over(table: &Table, column: &Column) -> Option<String> {
    words(column).into_iter().find(|word| OVER.contains(&word.as_str())).filter(|_| !is_of_what_is_over(table))
}

/// Whether a column says what a row answers.
pub fn says_answer(column: &Column) -> bool {
    has(column, &ANSWERS)
}

/// Whether rows of anybody's refer to those of a table.
pub fn is_of_all(table: &Table) -> bool {
    name_words(&table.name).last().is_some_and(|word| OF_ALL.contains(&word.as_str()) || OF_ALL.contains(&word.trim_end_matches('s')))
}

/// States in which rows begin.
const FIRST_STATES: [&str; 13] = [
    "draft",
    "new",
    "open",
    "pending",
    "created",
    "queued",
    "planned",
    "requested",
    "submitted",
    "received",
    "scheduled",
    "todo",
    "waiting",
];

/// States in which rows go well to their end.
const LAST_STATES: [&str; 23] = [
    "done",
    "finished",
    "completed",
    "complete",
    "paid",
    "delivered",
    "closed",
    "returned",
    "resolved",
    "active",
    "published",
    "approved",
    "accepted",
    "fired",
    "sold",
    "shipped",
    "confirmed",
    "settled",
    "success",
    "succeeded",
    "fulfilled",
    "ok",
    "checked_out",
];

/// States in which things have gone wrong.
const BAD_STATES: [&str; 24] = [
    "cancelled",
    "canceled",
    "void",
    "broken",
    "lost",
    "failed",
    "rejected",
    "no_show",
    "overdue",
    "refunded",
    "expired",
    "deleted",
    "error",
    "dead",
    "blocked",
    "declined",
    "withdrawn",
    "abandoned",
    "suspended",
    "banned",
    "archived",
    "spoiled",
    "damaged",
    "aborted",
];

/// Whether rows begin in a state.
pub fn is_first_state(state: &str) -> bool {
    FIRST_STATES.contains(&state.to_lowercase().as_str())
}

/// How many rows are in a state beside others, where all have had time to go on.
pub(crate) fn state_weight(state: &str) -> u64 {
    let state = state.to_lowercase();
    match () {
        () if LAST_STATES.contains(&state.as_str()) => 6,
        () if BAD_STATES.contains(&state.as_str()) => 1,
        () => 2,
    }
}

/// Whether a column says in which state a row is.
pub fn says_state(column: &Column) -> bool {
    has(column, &["status", "state", "stage", "phase"])
}
