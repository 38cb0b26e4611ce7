//! What a person would not believe of rows: times out of order, steps that do not continue, rows across tenants, shares of states, values that
//! are nothing like what their names, defaults and checks say.
//!
//! It is told from the schema and the rows alone, and knows nothing of how they were made: rows of a user's own would be read alike. All is by
//! names and shapes, so that a doubt is a question to a person and no proof.

mod histories;
mod lives;
mod look;
mod shares;
mod tenants;
mod values;

use kampf_fill::{BATCH_ROWS, Batch, Blueprint};
use kampf_schema::{ColumnId, Schema, TableId, Value};

use look::Looked;

/// Rows of a table that are looked at, the first ones.
pub const MOST_ROWS: usize = 20_000;

/// Of a history so many, since what its steps lead to is only known from the last of them.
pub const MOST_STEPS: usize = 100_000;

/// Rows to be looked at.
pub trait Rows {
    /// The first rows of a table, at most so many, column by column.
    fn columns(&self, table: TableId, most: usize) -> Vec<Vec<Value>>;
}

impl Rows for Blueprint {
    fn columns(&self, table: TableId, most: usize) -> Vec<Vec<Value>> {
        let (mut batch, mut columns, mut first) = (Batch::default(), Vec::new(), 0);
        while first < most {
            let rows = self.batch(table, first as u64, &mut batch).min(most - first);
            if rows == 0 {
                break;
            }
            columns.resize_with(batch.row(0).len(), || Vec::with_capacity(rows.max(BATCH_ROWS)));
            for (column, values) in columns.iter_mut().enumerate() {
                values.extend((0..rows).map(|row| batch.value(row, column).to_value()));
            }
            first += rows;
        }
        columns
    }
}

/// What is not believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum DoubtKind {
    /// Two times of a row, the later of which comes first.
    TimesOfRow,
    /// A row that is older than what it belongs to.
    BeforeParent,
    /// A step that does not begin where the one before ended.
    StepContinues,
    /// Steps of one row that go back in time.
    StepsInOrder,
    /// Steps that end in another state than the row has.
    LastStep,
    /// An answer that hangs on something else than what it answers.
    AnswerElsewhere,
    /// A row of one tenant that refers to a row of another.
    AcrossTenants,
    /// A time after today.
    Future,
    /// Times that are spread over the night.
    Night,
    /// Something that lasts too long.
    Lasting,
    /// More than a few rows in the state in which rows begin.
    FirstState,
    /// More than half of the rows over.
    Over,
    /// Values that are nothing like the column's default.
    UnlikeDefault,
    /// Values that leave nearly all of what a check allows unused.
    UnusedRange,
    /// Values that are too small for the unit in the name.
    Unit,
    /// A code of a country, a currency or a language with digits in it.
    Code,
    /// Numbers that are no moments, in a column for moments.
    Epoch,
    /// A few words where a text belongs.
    FewWords,
    /// Numbers behind names that need none.
    NumberedNames,
    /// The same value in every row.
    Constant,
}

impl DoubtKind {
    /// Its word, for programs.
    pub fn word(self) -> &'static str {
        match self {
            DoubtKind::TimesOfRow => "times-of-row",
            DoubtKind::BeforeParent => "before-parent",
            DoubtKind::StepContinues => "step-continues",
            DoubtKind::StepsInOrder => "steps-in-order",
            DoubtKind::LastStep => "last-step",
            DoubtKind::AnswerElsewhere => "answer-elsewhere",
            DoubtKind::AcrossTenants => "across-tenants",
            DoubtKind::Future => "future",
            DoubtKind::Night => "night",
            DoubtKind::Lasting => "lasting",
            DoubtKind::FirstState => "first-state",
            DoubtKind::Over => "over",
            DoubtKind::UnlikeDefault => "unlike-default",
            DoubtKind::UnusedRange => "unused-range",
            DoubtKind::Unit => "unit",
            DoubtKind::Code => "code",
            DoubtKind::Epoch => "epoch",
            DoubtKind::FewWords => "few-words",
            DoubtKind::NumberedNames => "numbered-names",
            DoubtKind::Constant => "constant",
        }
    }
}

/// A doubt.
#[derive(Clone, Debug, PartialEq)]
pub struct Doubt {
    /// What is not believed.
    pub kind: DoubtKind,
    /// Of which table.
    pub table: TableId,
    /// Of which of its columns.
    pub columns: Vec<ColumnId>,
    /// So many rows, or steps, are so.
    pub found: u64,
    /// Of so many that were looked at.
    pub of: u64,
    /// What is so, in words behind the two numbers: "204 of 232 …".
    pub what: String,
    /// A case of it.
    pub example: String,
}

/// All doubts, table by table in the order of the schema. `today` is in microseconds since 1970-01-01.
pub fn doubts(schema: &Schema, rows: &dyn Rows, today: i64) -> Vec<Doubt> {
    let (looked, tenants) = (Looked::of(schema, rows), kampf_fill::ties::tenants(schema));
    let mut doubts = Vec::new();
    for table in schema.ids() {
        lives::doubts(&looked, table, today, &mut doubts);
        histories::doubts(&looked, table, &mut doubts);
        tenants::doubts(&looked, table, &tenants, &mut doubts);
        shares::doubts(&looked, table, &mut doubts);
        values::doubts(&looked, table, &mut doubts);
    }
    doubts.sort_by_key(|doubt| (doubt.table, doubt.kind, doubt.columns.clone()));
    doubts
}
