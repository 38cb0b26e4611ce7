//! The need: what must come back, resolved against a schema.

use kampf_schema::expr::Expr;
use kampf_schema::{ColumnId, Hop, HopKind, LogicalType, Schema, TableId};
use serde::{Deserialize, Serialize};

use crate::choice::Loading;
use crate::form::{Form, Item, ListForm, Sequence};

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
    /// Its named parameters.
    pub parameters: Vec<Parameter>,
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

impl Need {
    /// The table whose rows are asked for.
    pub fn root(&self) -> TableId {
        self.sources[0].table
    }

    /// The type of a leaf.
    pub fn kind(&self, schema: &Schema, leaf: &Leaf) -> LogicalType {
        match leaf {
            Leaf::Column { source, column } => schema.table(self.sources[*source].table).columns[*column].kind,
            Leaf::Aggregate(at) => self.aggregates[*at].fold.kind,
            Leaf::Parameter(at) => self.parameters[*at].kind,
            Leaf::Key(at) => self.group.as_ref().map_or(LogicalType::TEXT, |group| group.keys[*at].kind()),
            Leaf::Total(at) => self.group.as_ref().map_or(LogicalType::TEXT, |group| group.totals[*at].kind),
            Leaf::List(_) => LogicalType::TEXT,
        }
    }

    /// The type of an expression.
    pub fn kind_of(&self, schema: &Schema, value: &Expr<Leaf>) -> LogicalType {
        value.kind(&|leaf| Some(self.kind(schema, leaf))).unwrap_or(LogicalType::TEXT)
    }

    /// How many digits an engine that keeps few of a decimal is taken to need for one: whole numbers, parameters and sums count as
    /// short as can be, since what they come to is looked at before a race ([`crate::overflows`]).
    pub(crate) fn digits(&self, schema: &Schema, value: &Expr<Leaf>) -> u8 {
        match value.kind(&|leaf| Some(self.short_kind(schema, leaf))) {
            Some(LogicalType::Decimal { precision, .. }) => precision,
            _ => 0,
        }
    }

    fn short_kind(&self, schema: &Schema, leaf: &Leaf) -> LogicalType {
        let is_sum = |fold: &Fold| fold.function == Aggregate::Sum;
        let is_short = match leaf {
            Leaf::Column { .. } | Leaf::List(_) => false,
            Leaf::Parameter(_) => true,
            Leaf::Aggregate(at) => is_sum(&self.aggregates[*at].fold),
            Leaf::Total(at) => self.group.as_ref().is_some_and(|group| is_sum(&group.totals[*at])),
            Leaf::Key(at) => {
                let key = self.group.as_ref().map(|group| &group.keys[*at].value);
                return key.and_then(|key| key.kind(&|leaf| Some(self.short_kind(schema, leaf)))).unwrap_or(LogicalType::TEXT);
            }
        };
        match self.kind(schema, leaf) {
            LogicalType::Integer => LogicalType::Decimal { precision: 1, scale: 0 },
            LogicalType::Decimal { scale, .. } if is_short => LogicalType::Decimal { precision: scale.saturating_add(1), scale },
            kind => kind,
        }
    }

    /// Whether a decimal is reckoned by every engine because it is taken to have few digits, which its type does not say.
    pub(crate) fn is_taken_for_short(&self, schema: &Schema, value: &Expr<Leaf>) -> bool {
        let could_be_long = || matches!(self.kind_of(schema, value), LogicalType::Decimal { precision, .. } if precision > SURE_DIGITS);
        value.is_reckoned() && could_be_long() && self.digits(schema, value) <= SURE_DIGITS
    }

    /// The most rows that are asked of the database: the limit, or what is expected.
    pub fn most(&self) -> Option<u64> {
        match (self.limit, self.expect.asked()) {
            (Some(limit), Some(asked)) => Some(limit.min(asked)),
            (limit, asked) => limit.or(asked),
        }
    }

    /// What is asked of each root row: what is given, or what groups are made of.
    pub fn per_row(&self) -> Vec<&Expr<Leaf>> {
        match &self.group {
            Some(group) => {
                let totals = group.totals.iter().filter_map(|total| total.of.as_ref());
                group.keys.iter().map(|key| &key.value).chain(totals).collect()
            }
            None => self.give.iter().map(|given| &given.value).collect(),
        }
    }

    /// What decides which rows come back, and in which order.
    pub fn selection(&self) -> Vec<&Expr<Leaf>> {
        let order = self.order.iter().filter(|_| self.group.is_none()).map(|by| &by.value);
        self.filter.iter().map(|part| &part.condition).chain(order).collect()
    }

    /// The form of a list.
    pub(crate) fn list_form(&self, schema: &Schema, list: &ListOver) -> ListForm {
        let sequence = match list.order.as_slice() {
            [] => Sequence::Any,
            order if order.iter().any(|by| self.is_fuzzy(schema, &by.value)) => Sequence::Nearly,
            _ => Sequence::Ordered,
        };
        let items = list.give.iter().map(|given| Item { name: given.name.clone(), form: given.form.clone() }).collect();
        ListForm { sequence, items }
    }

    /// The form of each thing that is given of a row.
    pub fn forms(&self) -> Vec<Form> {
        self.give.iter().map(|given| given.form.clone()).collect()
    }

    /// Whether the last digits of a real in an expression depend on who computes it: sums and means of reals and decimals, and what
    /// is reckoned with reals.
    pub(crate) fn is_fuzzy(&self, schema: &Schema, value: &Expr<Leaf>) -> bool {
        use kampf_schema::expr::{Node, Operator};
        let kind = |value: &Expr<Leaf>| self.kind_of(schema, value);
        match &value.node {
            Node::Leaf(Leaf::Aggregate(at)) => {
                let fold = &self.aggregates[*at].fold;
                let of = fold.of.as_ref().map(kind);
                let adds = matches!(fold.function, Aggregate::Sum | Aggregate::Avg);
                let inexact =
                    matches!((fold.function, of), (_, Some(LogicalType::Real)) | (Aggregate::Avg, Some(LogicalType::Decimal { .. })));
                (adds && inexact) || fold.of.as_ref().is_some_and(|of| self.is_fuzzy(schema, of))
            }
            Node::Leaf(_) | Node::Literal(_) => false,
            Node::Arithmetic(operator, left, right) => {
                let inexact = kind(left) == LogicalType::Real || kind(right) == LogicalType::Real;
                inexact || (*operator == Operator::Divide && (self.is_fuzzy(schema, left) || self.is_fuzzy(schema, right)))
            }
            _ => value.parts().into_iter().any(|part| self.is_fuzzy(schema, part)),
        }
    }

    /// Whether any value comes from a related row.
    pub fn has_relations(&self) -> bool {
        self.asked().count() > 1
    }

    /// The sources that anything is asked of, each with its place.
    pub(crate) fn asked(&self) -> impl Iterator<Item = (usize, &Source)> {
        self.sources.iter().enumerate().filter(|(_, source)| !source.by_habit)
    }

    /// Whether entities of the tables that are read are used to more than is asked for.
    pub fn has_habits(&self) -> bool {
        self.sources.iter().any(|source| source.by_habit)
    }

    /// Whether any aggregate over related rows is asked for, picks aside.
    pub fn has_aggregates(&self) -> bool {
        self.aggregates.iter().any(|aggregate| aggregate.fold.function != Aggregate::First)
    }

    /// Whether the first or the last of related rows is asked for.
    pub fn has_picks(&self) -> bool {
        self.aggregates.iter().any(|aggregate| aggregate.fold.function == Aggregate::First)
    }

    /// Whether lists of related rows are asked for.
    pub fn has_lists(&self) -> bool {
        !self.lists.is_empty()
    }

    /// Whether anything filters, sorts, groups or limits the rows.
    pub fn has_selection(&self) -> bool {
        !self.filter.is_empty() || !self.order.is_empty() || self.limit.is_some() || self.group.is_some() || self.expect != Expect::Many
    }

    /// Whether a value of a row to one is given, at the root or in a list.
    pub fn reaches_one(&self) -> bool {
        let is_far = |at: usize, value: &Expr<Leaf>| {
            value.leaves().into_iter().any(|leaf| matches!(leaf, Leaf::Column { source, .. } if *source != at))
        };
        let in_lists = self.lists.iter().any(|list| list.give.iter().any(|given| is_far(list.over, &given.value)));
        in_lists || self.per_row().into_iter().any(|value| is_far(0, value))
    }

    /// Whether several rows may hang on one root row.
    pub fn reaches_many(&self) -> bool {
        self.asked().filter_map(|(_, source)| source.hop.as_ref()).any(|hop| hop.kind == HopKind::Many)
    }

    /// The sources from below `from` down to `to`.
    pub fn way(&self, from: usize, to: usize) -> Vec<usize> {
        let mut way = Vec::new();
        let mut at = to;
        while at != from && at != 0 {
            way.push(at);
            at = self.sources[at].parent;
        }
        way.reverse();
        way
    }

    /// The tables that are read.
    pub fn tables(&self) -> Vec<TableId> {
        let mut tables: Vec<TableId> = self.asked().map(|(_, source)| source.table).collect();
        tables.sort_unstable();
        tables.dedup();
        tables
    }

    /// Whether a value of a root row can be null.
    pub fn can_be_null(&self, schema: &Schema, value: &Expr<Leaf>) -> bool {
        self.can_be_null_at(schema, 0, value)
    }

    /// Whether a value can be null that is asked of a row at a source.
    pub(crate) fn can_be_null_at(&self, schema: &Schema, at: usize, value: &Expr<Leaf>) -> bool {
        use kampf_schema::expr::{Function, Node, Operator};
        let any = |parts: Vec<&Expr<Leaf>>| parts.into_iter().any(|part| self.can_be_null_at(schema, at, part));
        match &value.node {
            Node::Leaf(Leaf::Column { source, column }) => {
                let nullable = |source: usize, column: ColumnId| schema.table(self.sources[source].table).columns[column].nullable;
                nullable(*source, *column)
                    || self.way(at, *source).into_iter().any(|at| {
                        let Source { parent, hop, filter, .. } = &self.sources[at];
                        filter.is_some() || hop.iter().any(|hop| hop.from_columns.iter().any(|&column| nullable(*parent, column)))
                    })
            }
            Node::Leaf(Leaf::Aggregate(at)) => self.aggregates[*at].fold.function.can_be_null(),
            Node::Leaf(Leaf::Total(at)) => self.group.as_ref().is_none_or(|group| group.totals[*at].function.can_be_null()),
            Node::Leaf(Leaf::Key(at)) => self.group.as_ref().is_none_or(|group| self.can_be_null(schema, &group.keys[*at].value)),
            Node::Leaf(Leaf::Parameter(_)) => true,
            Node::Leaf(Leaf::List(_)) => false,
            Node::Literal(literal) => *literal == kampf_schema::Value::Null,
            Node::IsNull(_) | Node::Same(..) => false,
            Node::Call(Function::Coalesce, parts) => parts.iter().all(|part| self.can_be_null_at(schema, at, part)),
            Node::Call(Function::NullIf | Function::Substring, _) | Node::Arithmetic(Operator::Divide | Operator::Remainder, ..) => true,
            Node::Case(_, None) => true,
            _ => any(value.parts()),
        }
    }
}
