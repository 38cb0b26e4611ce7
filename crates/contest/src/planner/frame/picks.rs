//! What the database computes of related rows, at hand in a select: single rows that are picked.

use kampf_schema::expr::{Comparison, Expr, Node};
use kampf_schema::{ColumnId, Hop, LogicalType};

use super::{Frame, ToOne};
use crate::choice::Loading;
use crate::need::{Aggregate, Leaf, Need};
use crate::planner::forms::{Forms, aggregates_of};
use crate::statement::{Join, Select, Selected, Table, Term};

/// Whether an aggregate takes a value of one row.
fn is_pick(need: &Need, aggregate: usize) -> bool {
    need.aggregates[aggregate].fold.function == Aggregate::First
}

impl<'a> Frame<'a> {
    /// Makes what the database computes of a level's related rows at hand: aggregates by joining and grouping, picks by their
    /// extremes, ranks or lateral selects. `alone` says that nothing else but the level's own rows is selected; `dependent` is what the
    /// statement is grouped by besides the level's key then.
    pub(in crate::planner) fn compute(
        &mut self,
        forms: Forms<'_>,
        level: usize,
        values: &[&Expr<Leaf>],
        dependent: &[(usize, ColumnId)],
        alone: bool,
    ) {
        let need = self.ground.need;
        let all = aggregates_of(need, level, values.iter().copied());
        let got = |form: Loading, picks: bool| {
            let those = all.iter().copied().filter(|at| is_pick(need, *at) == picks && forms.aggregate(*at) == form);
            those.collect::<Vec<usize>>()
        };
        let (extremes, ranked) = (got(Loading::Grouped, true), got(Loading::Ranked, true));
        let alone = alone && extremes.is_empty() && ranked.is_empty();
        self.group(level, &got(Loading::Grouped, false), dependent, alone);
        for picks in self.by_rows(&extremes) {
            self.pick_by_extremes(&picks);
        }
        for picks in self.by_rows(&ranked) {
            self.pick_by_rank(&picks);
        }
        self.pick_laterally(&got(Loading::Computed, true));
    }

    /// Picks that go over the same rows in the same order, together.
    fn by_rows(&self, picks: &[usize]) -> Vec<Vec<usize>> {
        let need = self.ground.need;
        let mut all: Vec<Vec<usize>> = Vec::new();
        for &pick in picks {
            let same = |other: &Vec<usize>| {
                let (one, other) = (&need.aggregates[pick], &need.aggregates[other[0]]);
                one.over == other.over && one.fold.order == other.fold.order
            };
            match all.iter_mut().find(|known| same(known)) {
                Some(known) => known.push(pick),
                None => all.push(vec![pick]),
            }
        }
        all
    }

    /// The values of picks as columns that are called something.
    fn picked(&mut self, picks: &[usize], alias: &str, outer: &mut Vec<(usize, Expr<Term>)>) -> Vec<Selected> {
        let mut columns = Vec::new();
        for (number, &pick) in (1..).zip(picks) {
            let fold = &self.ground.need.aggregates[pick].fold;
            let Some(of) = &fold.of else { continue };
            let name = format!("first_{number}");
            columns.push(Selected { value: self.say(of, ToOne::Join), name: Some(name.clone()) });
            outer.push((pick, Node::Leaf(Term::Column { table: Some(alias.to_owned()), name, kind: fold.kind }).into()));
        }
        columns
    }

    /// Several picks over the same rows by one select that sees the row at hand, where the engine has such; a single one is as well a
    /// sub-select. Of the aggregates given only those that are picks.
    pub(super) fn pick_laterally(&mut self, aggregates: &[usize]) {
        let need = self.ground.need;
        let picks: Vec<usize> = aggregates.iter().copied().filter(|at| is_pick(need, *at)).collect();
        for picks in self.by_rows(&picks) {
            let aggregate = &need.aggregates[picks[0]];
            if picks.len() < 2 || !self.ground.dialect.has_lateral {
                continue;
            }
            self.reach(aggregate.at);
            let alias = self.name(&self.ground.schema.table(need.sources[aggregate.over].table).name.clone());
            let mut inner = self.chain(aggregate.at, aggregate.over, true);
            let mut values = Vec::new();
            inner.select.columns = vec![inner.picked(&picks, &alias, &mut values)];
            inner.select.order = inner.sort_keys(aggregate.over, &aggregate.fold.order);
            inner.select.limit = Some(1);
            let table = Table::Derived { select: Box::new(inner.select), alias, lateral: true };
            self.select.joins.push(Join { outer: true, table, on: Vec::new(), optional: false });
            self.values.extend(values);
        }
    }

    /// Picks by numbering the related rows of each key: the first of them is joined.
    fn pick_by_rank(&mut self, picks: &[usize]) {
        let need = self.ground.need;
        let aggregate = &need.aggregates[picks[0]];
        let Some((hop, alias)) = self.derived(aggregate.at, aggregate.over) else { return };
        let mut inner = self.chain(aggregate.at, aggregate.over, false);
        let keys = inner.keys_of(&hop);
        let mut values = Vec::new();
        let picked = inner.picked(picks, &alias, &mut values);
        let order = inner.sort_keys(aggregate.over, &aggregate.fold.order);
        let place: Expr<Term> = Node::Leaf(Term::Place { part: keys.clone(), order }).into();
        let mut columns: Vec<Selected> = keys.into_iter().map(|value| Selected { value, name: None }).collect();
        columns.extend(picked);
        columns.push(Selected { value: place, name: Some("place".to_owned()) });
        inner.select.columns = vec![columns];
        let place = Node::Leaf(Term::Column { table: Some(alias.clone()), name: "place".to_owned(), kind: LogicalType::Integer });
        let first = Node::Compare(Comparison::Equal, Box::new(place.into()), Box::new(Node::Leaf(Term::Constant(1)).into())).into();
        self.join_derived(aggregate.at, &hop, &alias, inner.select, vec![first]);
        self.values.extend(values);
    }

    /// Picks by the extremes of the order's terms, one after the other, each among the rows that have those before it.
    fn pick_by_extremes(&mut self, picks: &[usize]) {
        let need = self.ground.need;
        let aggregate = &need.aggregates[picks[0]];
        let Some((hop, alias)) = self.derived(aggregate.at, aggregate.over) else { return };
        let order = &aggregate.fold.order;
        let mut below: Option<Select> = None;
        let mut values = Vec::new();
        for level in 0..=order.len() {
            let mut inner = self.chain(aggregate.at, aggregate.over, false);
            let keys = inner.keys_of(&hop);
            let mut columns: Vec<Selected> = keys.iter().map(|key| Selected { value: key.clone(), name: None }).collect();
            let mut group = keys.clone();
            if let Some(select) = below.take() {
                let extremes = inner.name("extremes");
                let mut on = Vec::new();
                for (key, column) in keys.iter().zip(&hop.to_columns) {
                    let met = inner.column(&extremes, hop.to, *column);
                    on.push(Node::Compare(Comparison::Equal, Box::new(met), Box::new(key.clone())).into());
                }
                for (number, by) in order.iter().enumerate().take(level) {
                    let said = inner.say(&by.value, ToOne::Join);
                    let kind = said.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
                    let name = format!("extreme_{}", number + 1);
                    let met: Expr<Term> = Node::Leaf(Term::Column { table: Some(extremes.clone()), name: name.clone(), kind }).into();
                    on.push(Node::Compare(Comparison::Equal, Box::new(met.clone()), Box::new(said)).into());
                    if level < order.len() {
                        columns.push(Selected { value: met.clone(), name: Some(name) });
                        group.push(met);
                    }
                }
                let table = Table::Derived { select: Box::new(select), alias: extremes, lateral: false };
                inner.select.joins.push(Join { outer: false, table, on, optional: false });
            }
            match order.get(level) {
                Some(by) => {
                    let of = inner.say(&by.value, ToOne::Join);
                    let function = if by.descending { Aggregate::Max } else { Aggregate::Min };
                    let kind = of.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
                    let extreme = Node::Leaf(Term::Aggregate { function, distinct: false, of: Some(Box::new(of)), kind }).into();
                    columns.push(Selected { value: extreme, name: Some(format!("extreme_{}", level + 1)) });
                    inner.select.group = group;
                }
                None => {
                    columns.extend(inner.picked(picks, &alias, &mut values));
                    // The same row may be reached in several ways.
                    inner.select.distinct = need.way(aggregate.at, aggregate.over).len() > 1;
                }
            }
            inner.select.columns = vec![columns];
            below = Some(inner.select);
        }
        if let Some(select) = below {
            self.join_derived(aggregate.at, &hop, &alias, select, Vec::new());
            self.values.extend(values);
        }
    }

    /// The first step to a source, and a name for a table that stands for its rows.
    fn derived(&mut self, at: usize, over: usize) -> Option<(Hop, String)> {
        let need = self.ground.need;
        let hop = need.sources[*need.way(at, over).first()?].hop.clone()?;
        let alias = self.name(&self.ground.schema.table(need.sources[over].table).name.clone());
        Some((hop, alias))
    }

    /// The columns of the first table that a step leads to.
    pub(in crate::planner) fn keys_of(&self, hop: &Hop) -> Vec<Expr<Term>> {
        let own = self.first_alias();
        hop.to_columns.iter().map(|&column| self.column(own, hop.to, column)).collect()
    }
}
