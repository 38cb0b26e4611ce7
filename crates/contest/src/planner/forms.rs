//! How what is asked of related rows comes, by the option of loading and what each relation allows.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{LogicalType, Schema};

use super::frame::PlanGround;
use super::split::{unsaid, unsaid_aggregate, unsaid_items, unsaid_list};
use crate::choice::Ways;
use crate::choice::{Choices, Hydration, Loading};
use crate::dialect::Dialect;
use crate::need::{Aggregate, Fold, Leaf, Need};

/// Order terms that a grouped extreme is looked for by at most: each is a level of the statement.
const MOST_EXTREMES: usize = 3;
/// Items of a row in a JSON text at most, which engines take as arguments of a function.
const MOST_ITEMS: usize = 100;

#[derive(Clone, Copy)]
pub(super) struct Forms<'a> {
    pub(super) ground: PlanGround<'a>,
    pub(super) ways: Ways,
}

impl Forms<'_> {
    /// The option for what lies behind a relation: the contender's, or the one that the relation is fixed to.
    fn option(&self, from: usize, to: usize) -> Loading {
        let need = self.ground.need;
        need.way(from, to).into_iter().rev().find_map(|source| need.sources[source].fixed).unwrap_or(self.ways.loading)
    }

    /// What a row to one gets.
    pub(super) fn one(&self, from: usize, to: usize) -> Loading {
        match self.option(from, to) {
            Loading::Grouped | Loading::Ranked => Loading::Joined,
            Loading::Nested => Loading::Computed,
            option => option,
        }
    }

    /// What an aggregate or a pick gets; what the engine cannot say is loaded as rows.
    pub(super) fn aggregate(&self, at: usize) -> Loading {
        let aggregate = &self.ground.need.aggregates[at];
        let wanted = self.wanted_of_aggregate(at);
        let by_rows = matches!(wanted, Loading::Lazy | Loading::Batched | Loading::Joined);
        if !by_rows && unsaid_aggregate(self.ground, at).is_some() {
            return Loading::Batched;
        }
        if wanted == Loading::Grouped && aggregate.fold.function == Aggregate::First && !self.has_extremes(aggregate.over, &aggregate.fold)
        {
            return Loading::Joined;
        }
        wanted
    }

    /// What it would get from an engine that can say it.
    fn wanted_of_aggregate(&self, at: usize) -> Loading {
        let aggregate = &self.ground.need.aggregates[at];
        let is_pick = aggregate.fold.function == Aggregate::First;
        match self.option(aggregate.at, aggregate.over) {
            Loading::Ranked if !is_pick => Loading::Grouped,
            Loading::Nested => Loading::Computed,
            option => option,
        }
    }

    /// Whether the first row of an order is the one with the extremes of its terms: columns that are never null, whose smallest and
    /// largest value every engine knows.
    fn has_extremes(&self, over: usize, fold: &Fold) -> bool {
        let table = self.ground.schema.table(self.ground.need.sources[over].table);
        let is_plain = |value: &Expr<Leaf>| match value.as_leaf() {
            Some(Leaf::Column { source, column }) if *source == over => {
                let column = &table.columns[*column];
                !column.nullable && !matches!(column.kind, LogicalType::Boolean | LogicalType::Uuid | LogicalType::Blob)
            }
            _ => false,
        };
        fold.order.len() <= MOST_EXTREMES && fold.order.iter().all(|by| is_plain(&by.value))
    }

    /// What a list gets. Only one with a limit is ranked; one that is not is loaded by key lists.
    pub(super) fn list(&self, at: usize) -> Loading {
        let list = &self.ground.need.lists[at];
        let ranked = || {
            let is_ranked = list.limit.is_some() && unsaid_list(self.ground, at).is_none();
            if is_ranked { Loading::Ranked } else { Loading::Batched }
        };
        match self.option(list.at, list.over) {
            Loading::Grouped => Loading::Joined,
            Loading::Ranked | Loading::Computed => ranked(),
            Loading::Nested if self.is_nested(at) => Loading::Nested,
            Loading::Nested => ranked(),
            option => option,
        }
    }

    /// Whether a list can be a JSON text with all that is in it.
    fn is_nested(&self, at: usize) -> bool {
        let list = &self.ground.need.lists[at];
        let inner =
            list.give.iter().filter_map(|given| if let Some(Leaf::List(inner)) = given.value.as_leaf() { Some(*inner) } else { None });
        let width = list.give.len() + self.ground.schema.table(self.ground.need.sources[list.over].table).columns.len();
        self.ground.dialect.json.is_some()
            && width <= MOST_ITEMS
            && unsaid_list(self.ground, at).is_none()
            && unsaid_items(self.ground, at).is_none()
            && inner.into_iter().all(|inner| self.is_nested(inner))
    }

    /// Why an aggregate that the database was to compute is loaded as rows.
    pub(super) fn why_rows(&self, at: usize) -> Option<String> {
        let by_rows = matches!(self.wanted_of_aggregate(at), Loading::Lazy | Loading::Batched | Loading::Joined);
        if by_rows { None } else { unsaid_aggregate(self.ground, at) }
    }

    /// Why a list that the database was to make is loaded as rows.
    pub(super) fn why_rows_of_list(&self, at: usize) -> Option<String> {
        let list = &self.ground.need.lists[at];
        match self.option(list.at, list.over) {
            Loading::Ranked | Loading::Computed if list.limit.is_some() => unsaid_list(self.ground, at),
            Loading::Nested => unsaid_list(self.ground, at).or_else(|| unsaid_items(self.ground, at)),
            _ => None,
        }
    }

    /// Whether an aggregate's value comes with the row that it is asked of.
    pub(super) fn is_computed(&self, at: usize) -> bool {
        matches!(self.aggregate(at), Loading::Grouped | Loading::Ranked | Loading::Computed)
    }

    /// Whether rows to one that are joined come as values of the row that they belong to: where they become no entities and no rows
    /// to many come beside them.
    pub(super) fn joins_values(&self, from: usize, to: usize, beside_rows: bool) -> bool {
        let is_entity = matches!(self.ways.hydration, Hydration::Managed | Hydration::Plain);
        match self.option(from, to) {
            Loading::Lazy | Loading::Batched => false,
            Loading::Joined => !is_entity && !beside_rows,
            Loading::Grouped | Loading::Ranked | Loading::Computed | Loading::Nested => true,
        }
    }
}

/// How something that is asked of related rows comes.
#[derive(Clone, Debug, PartialEq)]
pub struct Reached {
    /// What it is, in the language of needs; lists by their names.
    pub what: String,
    /// By which option of loading.
    pub by: Loading,
}

/// How each thing that a contender's answer asks of related rows comes: an option that has no form of its own for it is taken by the
/// nearest one.
pub fn reached(schema: &Schema, need: &Need, dialect: &Dialect, choices: &Choices) -> Vec<Reached> {
    let forms = Forms { ground: PlanGround { schema, need, dialect }, ways: Ways::of(choices) };
    let mut all = Vec::new();
    let values: Vec<(&Expr<Leaf>, &str)> = match &need.group {
        None => need.give.iter().map(|given| (&given.value, given.name.as_str())).collect(),
        Some(_) => need.per_row().into_iter().map(|value| (value, "")).collect(),
    };
    forms.reached(0, &values, "", false, &mut all);
    all
}

impl Forms<'_> {
    fn reached(self, at: usize, values: &[(&Expr<Leaf>, &str)], before: &str, in_text: bool, all: &mut Vec<Reached>) {
        let PlanGround { need, schema, .. } = self.ground;
        let mut add = |what: String, by: Loading| {
            let what = format!("{before}{what}");
            if !all.iter().any(|known| known.what == what) {
                all.push(Reached { what, by });
            }
        };
        for leaf in values.iter().flat_map(|(value, _)| value.leaves()) {
            match leaf {
                Leaf::Column { source, .. } if *source != at => {
                    add(need.path(at, *source), if in_text { Loading::Joined } else { self.one(at, *source) });
                }
                Leaf::Aggregate(of) => {
                    let by = if in_text { Loading::Computed } else { self.aggregate(*of) };
                    add(need.said_at(schema, &Node::Leaf(Leaf::Aggregate(*of)).into(), at), by);
                }
                _ => {}
            }
        }
        for (value, name) in values {
            let Some(Leaf::List(list)) = value.as_leaf() else { continue };
            let by = if in_text { Loading::Nested } else { self.list(*list) };
            let what = format!("{before}{name}");
            all.push(Reached { what: what.clone(), by });
            let list = &need.lists[*list];
            let inside: Vec<_> = list.give.iter().map(|given| (&given.value, given.name.as_str())).collect();
            self.reached(list.over, &inside, &format!("{what}."), by == Loading::Nested, all);
        }
    }
}

/// The aggregates over related rows in some values, each once.
pub(super) fn aggregates_of<'v>(need: &Need, at: usize, values: impl IntoIterator<Item = &'v Expr<Leaf>>) -> Vec<usize> {
    let mut all = Vec::new();
    for leaf in values.into_iter().flat_map(Expr::leaves) {
        if let Leaf::Aggregate(aggregate) = leaf
            && need.aggregates[*aggregate].at == at
            && !all.contains(aggregate)
        {
            all.push(*aggregate);
        }
    }
    all
}

/// Why an engine cannot say any of some values.
pub(super) fn any_unsaid<'v>(ground: PlanGround<'_>, values: impl IntoIterator<Item = &'v Expr<Leaf>>) -> Option<String> {
    values.into_iter().find_map(|value| unsaid(ground, value))
}
