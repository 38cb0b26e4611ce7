//! A way of writing as plain data: what is sent, and how much of it goes together.

use kampf_schema::LogicalType;
use kampf_schema::expr::Expr;
use serde::{Deserialize, Serialize};

use crate::choice::{Back, Commit, Statement};
use crate::plan::Body;
use crate::statement::{Condition, Keys, Select, Table, Term};

/// Everything a process needs to carry out a contender that writes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct WritePlan {
    /// What is done, in order.
    pub steps: Vec<WriteStep>,
    /// What a transaction holds; none where there is one statement, which is one by itself.
    pub commit: Option<Commit>,
    /// How statements are sent.
    pub statement: Statement,
    /// How many parameters the contest has.
    pub parameters: usize,
}

/// A step of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WriteStep {
    /// A statement is carried out once.
    Once {
        /// The statement.
        change: Change,
        /// Whether the rows that it changes are those of the contest's own table.
        is_own: bool,
    },
    /// The keys of rows are read, for statements that come later.
    Keys {
        /// What gives them.
        select: Box<Select>,
        /// How many columns a key has, with their types.
        kinds: Vec<LogicalType>,
    },
    /// New rows of a table go in.
    Insert(InsertStep),
}

/// A statement that changes rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Change {
    /// Columns become something else.
    Update {
        /// The table.
        table: String,
        /// The columns, with what they become.
        set: Vec<(String, Expr<Term>)>,
        /// Which rows.
        of: RowsOf,
    },
    /// Rows go.
    Delete {
        /// The table.
        table: String,
        /// Which rows.
        of: RowsOf,
    },
    /// As a developer has written it.
    Written(Body),
}

/// Which rows of a table are meant.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RowsOf {
    /// Those that fulfil conditions over their own columns; all where there is none.
    Where(Vec<Condition>),
    /// Those whose columns are among what a select gives.
    Among(Vec<String>, Box<Select>),
    /// Those whose columns are what a select gives first, which is called so, and whose other columns can be spoken of.
    With(Vec<String>, Box<Select>, String),
    /// Those with the keys that were read before, so many at a time.
    Keys(Keys),
    /// Those that are meant by any of several.
    Any(Vec<RowsOf>),
}

/// How new rows of one table go in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct InsertStep {
    /// The table.
    pub table: String,
    /// Its place among the tables with new rows.
    pub place: usize,
    /// The columns that are written.
    pub columns: Vec<NewColumn>,
    /// The column whose values the database makes, where it is of use afterwards.
    pub key: Option<(String, LogicalType)>,
    /// The place of the table on whose new rows these hang.
    pub under: Option<usize>,
    /// How keys that the database makes come back; none where it makes none.
    pub back: Option<Back>,
    /// How much goes together.
    pub batch: BatchPlan,
    /// The texts of a developer's own statement for each new row; their parameters are the contest's, then the columns, then the parent's key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub written: Option<Body>,
}

/// A column that is written.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NewColumn {
    /// Its name.
    pub name: String,
    /// Its type.
    pub kind: LogicalType,
    /// Its place among the columns of its table.
    pub column: usize,
    /// Whether it holds the key of the new row that this one hangs on, which the database has made.
    pub is_parents: bool,
}

/// How much goes together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum BatchPlan {
    /// A row a statement.
    Single,
    /// So many statements in one trip.
    Sent(u32),
    /// So many rows in one statement.
    Values(u32),
    /// The engine's own way.
    Bulk,
}

impl WritePlan {
    /// Whether more than one statement is sent, for a number of rows in each table with new ones.
    pub fn is_single(&self, new: &[u64]) -> bool {
        let statements: u64 = self.steps.iter().map(|step| step.statements(new)).sum();
        statements <= 1
    }
}

impl WriteStep {
    /// How many statements it takes at least, where each table has so many new rows.
    pub fn statements(&self, new: &[u64]) -> u64 {
        match self {
            WriteStep::Once { .. } | WriteStep::Keys { .. } => 1,
            WriteStep::Insert(step) => {
                let rows = new.get(step.place).copied().unwrap_or(0);
                match step.batch {
                    BatchPlan::Single if step.back == Some(Back::Asked) => 2 * rows,
                    BatchPlan::Single | BatchPlan::Sent(_) => rows,
                    BatchPlan::Values(size) => rows.div_ceil(u64::from(size.max(1))),
                    BatchPlan::Bulk => 1,
                }
            }
        }
    }
}

impl RowsOf {
    /// The keys that rows are meant by, where it is that.
    pub(crate) fn wanted_keys(&self) -> Option<&Keys> {
        fn of_select(select: &Select) -> Option<&Keys> {
            let joined = select.joins.iter().find_map(|join| match &join.table {
                Table::Derived { select, .. } => of_select(select),
                Table::Named { .. } => None,
            });
            select.wanted_keys().or(joined)
        }
        match self {
            RowsOf::Keys(keys) => Some(keys),
            RowsOf::Among(_, select) => of_select(select),
            RowsOf::Any(all) => all.iter().find_map(RowsOf::wanted_keys),
            RowsOf::Where(_) | RowsOf::With(..) => None,
        }
    }
}

impl Change {
    /// The keys that rows are meant by, where it is that.
    pub(crate) fn wanted_keys(&self) -> Option<&Keys> {
        match self {
            Change::Update { of, .. } | Change::Delete { of, .. } => of.wanted_keys(),
            Change::Written(_) => None,
        }
    }

    /// Whether its text depends on which parameters are given, or on how many values a list has.
    pub(crate) fn varies(&self) -> bool {
        fn of_rows(of: &RowsOf) -> bool {
            match of {
                RowsOf::Where(conditions) => Select::varies_by(conditions),
                RowsOf::Among(_, select) | RowsOf::With(_, select, _) => select.varies(),
                RowsOf::Keys(_) => false,
                RowsOf::Any(all) => all.iter().any(of_rows),
            }
        }
        match self {
            Change::Update { of, .. } | Change::Delete { of, .. } => of_rows(of),
            Change::Written(_) => true,
        }
    }
}
