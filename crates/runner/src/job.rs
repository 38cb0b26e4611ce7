//! What contenders have to do.

use std::collections::BTreeMap;

use kampf_contest::{Form, KeyedNeed, Need, Plan, RowSource, Write};
use kampf_fill::{Blueprint, NewNumbers};
use kampf_schema::{ColumnId, TableId, Value};

/// What contenders have to do. Fields, checks and outcomes ask it, and nothing else knows which jobs there are.
#[derive(Clone)]
pub enum Job {
    /// Rows are read and given.
    Read(Box<ReadJob>),
    /// Rows are written.
    Write(Box<WriteJob>),
}

/// Rows that are to be written.
#[derive(Clone)]
pub struct WriteJob {
    /// What is done.
    pub write: Write,
    /// The rows that are there, and those that are new behind them.
    pub rows: JobRows,
    /// For each table that gets new rows their numbers.
    pub new: Vec<NewNumbers>,
    /// The tables whose rows may be new, changed or gone.
    pub touched: Vec<TableId>,
    /// Of each of these its name and those of its columns.
    pub names: BTreeMap<TableId, (String, Vec<String>)>,
}

/// The rows of a job.
#[derive(Clone)]
pub struct JobRows(pub Blueprint);

impl RowSource for JobRows {
    fn count(&self, table: TableId) -> u64 {
        self.0.rows(table)
    }

    fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        self.0.value(table, row, column)
    }
}

/// Rows that are to be read.
#[derive(Clone, Default)]
pub struct ReadJob {
    /// Which; none where only own SQL competes.
    pub need: Option<Need>,
    /// Whether the order of rows counts, where there is no need to say so.
    pub ordered: bool,
    /// What gives the reference where there is too much data for the plain evaluation.
    pub reference: Option<FullerNeed>,
    /// What it is over keys of other types, by the names of variants.
    pub keyed: BTreeMap<String, KeyedContest>,
}

/// A need of which more is asked than of contenders: its sort keys are given too, then what says which root row it is, and the limit is larger.
#[derive(Clone)]
pub struct FullerNeed {
    /// The need.
    pub need: Need,
    /// Plans for it that have little in common, one of which is enough.
    pub plans: Vec<Plan>,
    /// The columns of the root's primary key, given last; none where that says nothing, as with groups.
    pub identity: Vec<ColumnId>,
}

/// A contest over keys of another type.
#[derive(Clone)]
pub struct KeyedContest {
    /// The need, resolved against the variant's schema.
    pub need: Need,
    /// As [`Contest::reference`], for the variant's schema.
    pub reference: Option<FullerNeed>,
    /// What differs in parameters and answers.
    pub keys: KeyedNeed,
}

impl Job {
    /// What is read, where that is said.
    pub fn need(&self) -> Option<&Need> {
        self.read()?.need.as_ref()
    }

    /// What is written, where it is that.
    pub fn write(&self) -> Option<&WriteJob> {
        match self {
            Job::Write(write) => Some(write),
            Job::Read(_) => None,
        }
    }

    fn read(&self) -> Option<&ReadJob> {
        match self {
            Job::Read(read) => Some(read),
            Job::Write(_) => None,
        }
    }

    /// The same job over the keys of a variant, where these are of other types.
    pub fn keyed(&self, variant: &str) -> Option<&KeyedContest> {
        self.read()?.keyed.get(variant)
    }

    /// What is read by contenders on a variant.
    pub(crate) fn need_on(&self, variant: Option<&str>) -> Option<&Need> {
        variant.and_then(|name| self.keyed(name)).map(|on| &on.need).or(self.need())
    }

    /// The forms of what is given on a variant.
    pub(crate) fn forms_on(&self, variant: Option<&str>) -> Vec<Form> {
        self.need_on(variant).map(Need::forms).unwrap_or_default()
    }

    /// What gives the reference where there is too much data for the plain evaluation.
    pub(crate) fn reference(&self) -> Option<&FullerNeed> {
        self.read()?.reference.as_ref()
    }

    /// Whether the order of what is given counts, where there is no need to say so.
    pub(crate) fn is_ordered(&self) -> bool {
        self.read().is_some_and(|read| read.ordered)
    }

    /// At most how many rows are asked for.
    pub fn limit(&self) -> Option<u64> {
        self.need().and_then(|need| need.limit)
    }
}
