//! What is made of the rows that are there: aggregates, lists, order, groups.

use kampf_schema::Value;
use kampf_schema::expr::Expr;

use super::{Call, Graph, Here, in_order};
use crate::engine::EngineError;
use crate::layers::aggregate::Accumulator;
use crate::layers::consumer::Consumer;
use crate::layers::group::{GroupRow, Groups};
use crate::layers::store::Store;
use crate::need::{Aggregate, OrderBy};
use crate::plan::{AppFold, AppLeaf};

impl<S: Store> Graph<'_, S> {
    /// An aggregate over the rows that hang on a row.
    pub(super) fn aggregate(&mut self, call: &mut Call<'_>, at: usize, row: u32, place: usize) -> Result<Value, EngineError> {
        let aggregate = &self.plan.aggregates[place];
        self.gather(call, at, row, aggregate.over)?;
        if aggregate.fold.function == Aggregate::First {
            return self.first(call, &aggregate.fold, aggregate.over);
        }
        let mut accumulator = Accumulator::of(&aggregate.fold);
        let own = |of: &Expr<AppLeaf>| match of.as_leaf() {
            Some(AppLeaf::Column { node, column }) if *node == aggregate.over => Some(*column),
            _ => None,
        };
        match &aggregate.fold.of {
            None => self.leaves.iter().for_each(|_| accumulator.row()),
            Some(of) => match own(of) {
                Some(column) => {
                    let store = self.store(aggregate.over);
                    self.leaves.iter().for_each(|&row| accumulator.value(store.value(row, column)));
                }
                None => {
                    // What is asked of these rows may gather others.
                    let leaves = std::mem::take(&mut self.leaves);
                    for &row in &leaves {
                        let value = of.value(&mut Here { graph: self, call, node: aggregate.over, row })?;
                        accumulator.value(value.as_ref());
                    }
                    self.leaves = leaves;
                }
            },
        }
        Ok(accumulator.finish())
    }

    /// The value of the first of the gathered rows in an order.
    fn first(&mut self, call: &mut Call<'_>, fold: &AppFold, over: usize) -> Result<Value, EngineError> {
        let rows = std::mem::take(&mut self.leaves);
        let mut first: Option<(Vec<Value>, u32)> = None;
        for &row in &rows {
            let keys = self.keys(call, over, row, &fold.order)?;
            if first.as_ref().is_none_or(|(known, _)| in_order(&keys, known, &fold.order).is_lt()) {
                first = Some((keys, row));
            }
        }
        self.leaves = rows;
        match (first, &fold.of) {
            (Some((_, row)), Some(of)) => self.with_value(call, over, row, of, |value| value.to_value()),
            _ => Ok(Value::Null),
        }
    }

    fn keys(&mut self, call: &mut Call<'_>, node: usize, row: u32, order: &[OrderBy<AppLeaf>]) -> Result<Vec<Value>, EngineError> {
        let mut keys = Vec::with_capacity(order.len());
        for by in order {
            keys.push(self.with_value(call, node, row, &by.value, |value| value.to_value())?);
        }
        Ok(keys)
    }

    /// Hands columns of the root's rows on, where nothing else is given.
    pub(in crate::layers) fn give_columns<C: Consumer>(&self, roots: &[u32], give: &[Expr<AppLeaf>], consumer: &mut C) {
        let store = self.store(0);
        let place = |value: &Expr<AppLeaf>| if let Some(AppLeaf::Column { column, .. }) = value.as_leaf() { Some(*column) } else { None };
        let width = self.plan.layouts[self.plan.nodes[0].layout].columns.len();
        // Most often all that is kept is given, in its order.
        if give.iter().map(place).eq((0..width).map(Some)) {
            for &row in roots {
                consumer.row();
                store.each_value(row, |value| consumer.value(value));
            }
            return;
        }
        let places: Vec<usize> = give.iter().filter_map(place).collect();
        for &row in roots {
            consumer.row();
            places.iter().for_each(|&place| consumer.value(store.value(row, place)));
        }
    }

    /// Hands what is given of a row on, its lists row by row.
    pub(in crate::layers) fn give<C: Consumer>(
        &mut self,
        call: &mut Call<'_>,
        node: usize,
        row: u32,
        give: &[Expr<AppLeaf>],
        consumer: &mut C,
    ) -> Result<(), EngineError> {
        for value in give {
            match value.as_leaf() {
                Some(AppLeaf::List(list)) => self.list(call, node, row, *list, consumer)?,
                _ => self.with_value(call, node, row, value, |value| consumer.value(value))?,
            }
        }
        Ok(())
    }

    fn list<C: Consumer>(&mut self, call: &mut Call<'_>, at: usize, row: u32, list: usize, consumer: &mut C) -> Result<(), EngineError> {
        let list = &self.plan.lists[list];
        self.gather(call, at, row, list.over)?;
        let mut rows = std::mem::take(&mut self.leaves);
        if !list.order.is_empty() {
            self.sort_at(call, list.over, &mut rows, &list.order)?;
        }
        let most = list.limit.map_or(usize::MAX, |limit| usize::try_from(limit).unwrap_or(usize::MAX));
        consumer.list();
        for &row in rows.iter().take(most) {
            consumer.item();
            self.give(call, list.over, row, &list.give, consumer)?;
        }
        consumer.end();
        self.leaves = rows;
        Ok(())
    }

    /// Filters, sorts and cuts in the application.
    pub(in crate::layers) fn select(&mut self, call: &mut Call<'_>, roots: &mut Vec<u32>) -> Result<(), EngineError> {
        let plan = self.plan;
        if let Some(filter) = &plan.filter {
            let mut kept = Vec::with_capacity(roots.len());
            for &root in roots.iter() {
                if self.holds(call, 0, root, filter)? {
                    kept.push(root);
                }
            }
            *roots = kept;
        }
        if plan.group.is_some() {
            return Ok(());
        }
        if !plan.order.is_empty() {
            self.sort_at(call, 0, roots, &plan.order)?;
        }
        if let Some(limit) = plan.limit {
            roots.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
        }
        Ok(())
    }

    pub(super) fn holds(&mut self, call: &mut Call<'_>, node: usize, row: u32, filter: &Expr<AppLeaf>) -> Result<bool, EngineError> {
        Ok(filter.truth(&mut Here { graph: self, call, node, row })? == Some(true))
    }

    fn sort_at(&mut self, call: &mut Call<'_>, node: usize, rows: &mut Vec<u32>, order: &[OrderBy<AppLeaf>]) -> Result<(), EngineError> {
        let mut keyed: Vec<(Vec<Value>, u32)> = Vec::with_capacity(rows.len());
        for &row in rows.iter() {
            keyed.push((self.keys(call, node, row, order)?, row));
        }
        keyed.sort_by(|(left, _), (right, _)| in_order(left, right, order));
        rows.clear();
        rows.extend(keyed.into_iter().map(|(_, row)| row));
        Ok(())
    }

    /// Groups rows.
    pub(in crate::layers) fn group(&mut self, call: &mut Call<'_>, roots: &[u32]) -> Result<Vec<GroupRow>, EngineError> {
        let Some(group) = &self.plan.group else { return Ok(Vec::new()) };
        let mut groups = Groups::new(group);
        for &root in roots {
            let mut keys = Vec::with_capacity(group.keys.len());
            for key in &group.keys {
                keys.push(self.with_value(call, 0, root, key, |value| value.to_value())?);
            }
            let place = groups.place(keys);
            for (at, total) in group.totals.iter().enumerate() {
                match &total.of {
                    None => groups.totals_mut(place)[at].row(),
                    Some(of) => self.with_value(call, 0, root, of, |value| groups.totals_mut(place)[at].value(value))?,
                }
            }
        }
        Ok(groups.finish())
    }
}
