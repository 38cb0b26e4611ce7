//! What is asked about a need: types, nulls, sources, what depends on what.

use kampf_schema::expr::{Expr, Node, Operator};
use kampf_schema::{ColumnId, HopKind, LogicalType, Schema, TableId};

use super::{Aggregate, AggregateOver, Expect, Fold, Leaf, ListOver, Need, SURE_DIGITS, Source};
use crate::form::{Form, Item, ListForm, Sequence};

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

    /// Whether more than one row can come.
    pub(crate) fn gives_many(&self) -> bool {
        let is_one_group = self.group.as_ref().is_some_and(|group| group.keys.is_empty());
        !is_one_group && self.expect == Expect::Many && self.limit.is_none_or(|limit| limit > 1)
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

    /// The form of each thing that is given of a row.
    pub fn forms(&self) -> Vec<Form> {
        self.give.iter().map(|given| given.form.clone()).collect()
    }

    /// Whether the last digits of a real in an expression depend on who computes it.
    pub(crate) fn is_fuzzy(&self, schema: &Schema, value: &Expr<Leaf>) -> bool {
        is_fuzzy(&self.aggregates, &|value| self.kind_of(schema, value), value)
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

/// The form of a list; `is_fuzzy` says of what it is sorted by whether its last digits depend on who computes them.
pub(crate) fn list_form(list: &ListOver, is_fuzzy: &dyn Fn(&Expr<Leaf>) -> bool) -> ListForm {
    let sequence = match list.order.as_slice() {
        [] => Sequence::Any,
        order if order.iter().any(|by| is_fuzzy(&by.value)) => Sequence::Nearly,
        _ => Sequence::Ordered,
    };
    let items = list.give.iter().map(|given| Item { name: given.name.clone(), form: given.form.clone() }).collect();
    ListForm { sequence, items }
}

/// Whether the last digits of a real in an expression depend on who computes it: sums and means of reals and decimals, and what is
/// reckoned with reals. `kind` gives the type of an expression.
pub(crate) fn is_fuzzy(aggregates: &[AggregateOver], kind: &dyn Fn(&Expr<Leaf>) -> LogicalType, value: &Expr<Leaf>) -> bool {
    let any = |part: &Expr<Leaf>| is_fuzzy(aggregates, kind, part);
    match &value.node {
        Node::Leaf(Leaf::Aggregate(at)) => {
            let fold = &aggregates[*at].fold;
            let of = fold.of.as_ref().map(kind);
            let adds = matches!(fold.function, Aggregate::Sum | Aggregate::Avg);
            let inexact = matches!((fold.function, of), (_, Some(LogicalType::Real)) | (Aggregate::Avg, Some(LogicalType::Decimal { .. })));
            (adds && inexact) || fold.of.as_ref().is_some_and(any)
        }
        Node::Leaf(_) | Node::Literal(_) => false,
        Node::Arithmetic(operator, left, right) => {
            let inexact = kind(left) == LogicalType::Real || kind(right) == LogicalType::Real;
            inexact || (*operator == Operator::Divide && (any(left) || any(right)))
        }
        _ => value.parts().into_iter().any(any),
    }
}
