//! The need: what must come back, resolved against a schema.

mod about;

use kampf_schema::expr::Expr;
use kampf_schema::{ColumnId, Hop, LogicalType, TableId};
use serde::{Deserialize, Serialize};

use crate::choice::Loading;
use crate::form::Form;

pub(crate) use about::{is_fuzzy, list_form};

/// What a contest asks for: a tree of sources, and values that hang on them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Need {
    /// Where values come from: the table whose rows are asked for, then related rows, parents before children.
    pub sources: Vec<Source>,
    /// Aggregates over related rows; one value for each row that they stand at.
    pub aggregates: Vec<AggregateOver>,
    /// Lists of related rows; one for each row that they stand at.
    pub lists: Vec<ListOver>,
    /// The values of each row of the answer.
    pub give: Vec<Given>,
    /// Which rows; all parts must hold.
    pub filter: Vec<Part>,
    /// What rows are grouped by, where they are: each group is a row of the answer.
    pub group: Option<Group>,
    /// Equal rows of the answer count once; they are groups of all that is given.
    pub distinct: bool,
    /// In which order; empty for any.
    pub order: Vec<OrderBy<Leaf>>,
    /// At most how many rows.
    pub limit: Option<u64>,
    /// How many rows must come.
    pub expect: Expect,
    /// How many rows are read at a time, where they are not read at once: each number is tried. One alone, where the answer is read page
    /// after page.
    #[serde(default = "usual_portions")]
    pub portions: Vec<u32>,
    /// Its named parameters.
    pub parameters: Vec<Parameter>,
}

/// Rows that are read at a time where nobody says.
const USUAL_PORTION: u32 = 1_000;

pub(crate) fn usual_portions() -> Vec<u32> {
    vec![USUAL_PORTION]
}

/// Digits of a decimal that every engine keeps: those of a real.
pub(crate) const SURE_DIGITS: u8 = 15;

/// Rows of one table: the root's, or those that a relation leads to from the rows of another source, and of them those that a
/// condition is fulfilled by. Two uses under different conditions are two sources, equal ones are one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Source {
    /// The source that it starts from; itself for the root.
    pub parent: usize,
    /// The step from there; none for the root.
    pub hop: Option<Hop>,
    /// Its table.
    pub table: TableId,
    /// What it is called where it starts: its relation, or for the steps of one through a junction their tables.
    pub name: String,
    /// Which of the rows, over this source and those to one behind it.
    pub filter: Option<Expr<Leaf>>,
    /// How its rows are loaded whatever else a contender does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fixed: Option<Loading>,
    /// Whether nobody asks for its rows: they come because entities of the table before are used to having them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_habit: bool,
}

impl Source {
    /// All rows that a step leads to from another source.
    pub(crate) fn along(parent: usize, hop: &Hop, name: &str) -> Source {
        Source { parent, hop: Some(hop.clone()), table: hop.to, name: name.to_owned(), filter: None, fixed: None, by_habit: false }
    }
}

/// What only the data knows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Leaf {
    /// A column of the one row at a source, seen from the row at hand.
    Column {
        /// The source.
        source: usize,
        /// The column.
        column: ColumnId,
    },
    /// The aggregate at a place, for the row at hand.
    Aggregate(usize),
    /// The parameter at a place in the need's list.
    Parameter(usize),
    /// The group's term at a place.
    Key(usize),
    /// The aggregate over the rows of a group at a place.
    Total(usize),
    /// The list at a place, for the row at hand; it is all of what is given there.
    List(usize),
}

/// An aggregate over related rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AggregateOver {
    /// The source at whose rows it stands.
    pub at: usize,
    /// The source that it goes over; behind `at`.
    pub over: usize,
    /// What is computed.
    pub fold: Fold,
}

/// What is computed of several rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Fold {
    /// The function.
    pub function: Aggregate,
    /// Whether equal values count once.
    pub distinct: bool,
    /// Of what, seen from each row; none where rows are counted.
    pub of: Option<Expr<Leaf>>,
    /// In which order the first row is looked for, a total one; empty where no row is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub order: Vec<OrderBy<Leaf>>,
    /// The type of the result.
    pub kind: LogicalType,
}

/// A list of related rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ListOver {
    /// The source at whose rows it stands.
    pub at: usize,
    /// The source of its rows; behind `at`.
    pub over: usize,
    /// In which order; empty for any. A list with a limit has a total one.
    pub order: Vec<OrderBy<Leaf>>,
    /// At most how many rows for each row that it stands at.
    pub limit: Option<u64>,
    /// What is given of each row, seen from there.
    pub give: Vec<Given>,
}

/// What rows are grouped by, and what is computed of each group.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Group {
    /// The terms; without any, all rows are one group, which is there even when there are no rows.
    pub keys: Vec<Given>,
    /// The aggregates over a group's rows.
    pub totals: Vec<Fold>,
}

/// One value of each row.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Given {
    /// Its name in the answer.
    pub name: String,
    /// What it is.
    pub value: Expr<Leaf>,
    /// Its form.
    pub form: Form,
}

impl Given {
    /// The type of the value; for a list that of the text that a database says it by.
    pub fn kind(&self) -> LogicalType {
        self.form.kind().unwrap_or(LogicalType::TEXT)
    }
}

/// A part of the condition.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// What must hold.
    pub condition: Expr<Leaf>,
    /// The parameter without which this part does not count.
    pub only_if: Option<usize>,
}

/// What an aggregate computes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Aggregate {
    /// How many rows, or values that are not null.
    Count,
    /// The sum; null without values.
    Sum,
    /// The mean as a real; null without values.
    Avg,
    /// The smallest.
    Min,
    /// The largest.
    Max,
    /// Whether there is any row.
    Exists,
    /// The value of the first row in an order; null without rows. The last one is the first in the opposite order.
    First,
}

impl Aggregate {
    /// Those with a name in needs and in SQL.
    pub const NAMED: [Aggregate; 5] = [Aggregate::Count, Aggregate::Sum, Aggregate::Avg, Aggregate::Min, Aggregate::Max];

    /// The word of the grammar and of SQL.
    pub fn word(self) -> &'static str {
        match self {
            Aggregate::Count => "count",
            Aggregate::Sum => "sum",
            Aggregate::Avg => "avg",
            Aggregate::Min => "min",
            Aggregate::Max => "max",
            Aggregate::Exists => "exists",
            Aggregate::First => "first",
        }
    }

    /// The type of its result, from that of its values; none where rows are counted.
    pub fn kind(self, of: Option<LogicalType>) -> LogicalType {
        match (self, of) {
            (Aggregate::Exists, _) => LogicalType::Boolean,
            (Aggregate::Avg, _) => LogicalType::Real,
            (Aggregate::Count, _) | (_, None) => LogicalType::Integer,
            // Of many rows, yet with digits that every engine keeps as long as one value's are.
            (Aggregate::Sum, Some(LogicalType::Decimal { precision, scale })) => {
                let most = precision.max(SURE_DIGITS);
                LogicalType::Decimal { precision: precision.saturating_add(5).min(most), scale }
            }
            (_, Some(kind)) => kind,
        }
    }

    /// Whether it is null where there is no value.
    pub fn can_be_null(self) -> bool {
        !matches!(self, Aggregate::Count | Aggregate::Exists)
    }
}

/// One term to sort by.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OrderBy<L> {
    /// What to sort by.
    pub value: Expr<L>,
    /// Largest first.
    pub descending: bool,
    /// Not written by the user, but added so that the order is total.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub appended: bool,
}

/// A named parameter.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Parameter {
    /// Its name, without the colon.
    pub name: String,
    /// Its type, taken from what it stands beside.
    pub kind: LogicalType,
    /// Whether it is a list of such values.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_list: bool,
}

/// How many rows must come.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Expect {
    /// Any number.
    #[default]
    Many,
    /// Exactly one.
    One,
    /// One, or none.
    ZeroOrOne,
    /// The first; there is one at least.
    OneOfMany,
    /// The first, where there is any.
    ZeroOrOneOfMany,
}

impl Expect {
    /// All of them.
    pub const ALL: [Expect; 5] = [Expect::Many, Expect::One, Expect::ZeroOrOne, Expect::OneOfMany, Expect::ZeroOrOneOfMany];

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Expect::Many => "many",
            Expect::One => "1",
            Expect::ZeroOrOne => "0..1",
            Expect::OneOfMany => "1 of many",
            Expect::ZeroOrOneOfMany => "0..1 of many",
        }
    }

    /// How many rows the database is asked for: one more than may come, so that it is seen; of many only the first.
    pub fn asked(self) -> Option<u64> {
        match self {
            Expect::Many => None,
            Expect::One | Expect::ZeroOrOne => Some(2),
            Expect::OneOfMany | Expect::ZeroOrOneOfMany => Some(1),
        }
    }

    /// Whether so many rows are as expected.
    pub fn holds(self, came: u64) -> bool {
        match self {
            Expect::Many | Expect::ZeroOrOneOfMany => true,
            Expect::One | Expect::OneOfMany => came == 1,
            Expect::ZeroOrOne => came <= 1,
        }
    }

    /// What is wrong with so many rows, in words.
    pub fn failure(self, came: u64) -> String {
        let wanted = match self {
            Expect::One => "exactly one",
            Expect::ZeroOrOne => "one at most",
            _ => "one at least",
        };
        let came = if came > 1 {
            format!("{came} came")
        } else if came == 1 {
            "one came".to_owned()
        } else {
            "none came".to_owned()
        };
        format!("expected {wanted}, {came}")
    }
}
