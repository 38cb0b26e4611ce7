//! Rows for many parents at once, by lists of their keys.

use std::collections::HashMap;

use kampf_schema::{Value, ValueRef};

use super::statement::run_statement;
use super::{Call, Graph, attach, nothing, prepare};
use crate::engine::{EngineError, Flow};
use crate::key::Key;
use crate::layers::repeats::Repeats;
use crate::layers::sending::{Progress, bound};
use crate::layers::store::{Slot, Store};
use crate::plan::{PlanNode, Reach};

/// Parents that wait for the rows of their keys.
#[derive(Default)]
struct Waiting {
    /// Of each key the first parent's place.
    first: HashMap<Key, usize>,
    /// Each parent, and the place of the next one with its key.
    parents: Vec<(u32, Option<usize>)>,
    /// The key that was asked for last and its first parent: rows of one key mostly come together.
    last: Option<(Key, Option<usize>)>,
}

impl Waiting {
    /// Adds a parent; whether its key is a new one.
    fn add(&mut self, key: Key, parent: u32) -> bool {
        let place = self.parents.len();
        let next = self.first.insert(key, place);
        self.parents.push((parent, next));
        next.is_none()
    }

    /// The parents of a key.
    fn of(&mut self, key: &Key) -> impl Iterator<Item = u32> + use<'_> {
        let known = self.last.as_ref().filter(|(last, _)| last == key).map(|(_, first)| *first);
        let mut next = known.unwrap_or_else(|| {
            let first = self.first.get(key).copied();
            self.last = Some((key.clone(), first));
            first
        });
        std::iter::from_fn(move || {
            let (parent, after) = self.parents[next?];
            next = after;
            Some(parent)
        })
    }

    fn all(&self) -> impl Iterator<Item = u32> + use<'_> {
        self.parents.iter().map(|(parent, _)| *parent)
    }
}

impl<S: Store> Graph<'_, S> {
    /// Loads batched nodes for some roots: those the selection needs, or the others.
    pub(in crate::layers) fn load_batches(&mut self, call: &mut Call<'_>, roots: &[u32], for_selection: bool) -> Result<(), EngineError> {
        let is_due = |node: &PlanNode| {
            let is_batched = node.link.as_ref().is_some_and(|link| link.reach == Reach::Batched);
            is_batched && node.for_selection == for_selection
        };
        if !self.plan.nodes.iter().any(is_due) {
            return Ok(());
        }
        let mut rows: Vec<Vec<u32>> = vec![Vec::new(); self.plan.nodes.len()];
        rows[0] = roots.to_vec();
        for node in 1..self.plan.nodes.len() {
            let parents = std::mem::take(&mut rows[self.link(node).parent]);
            if self.plan.nodes[node].for_selection == for_selection && self.link(node).reach == Reach::Batched {
                self.load_batch(call, node, &parents)?;
            }
            if self.plan.nodes.iter().any(|below| below.link.as_ref().is_some_and(|link| link.parent == node)) {
                rows[node] = self.reached(node, &parents);
            }
            rows[self.link(node).parent] = parents;
        }
        Ok(())
    }

    /// Loads what rows of a node are used to having, where each row asks for it by itself.
    pub(in crate::layers) fn load_always(&mut self, call: &mut Call<'_>, node: usize, rows: &[u32]) -> Result<(), EngineError> {
        let plan = self.plan;
        for (at, habit) in plan.nodes.iter().enumerate().filter(|(_, habit)| habit.always) {
            let Some(link) = habit.link.as_ref().filter(|link| link.parent == node && link.reach == Reach::Lazy) else { continue };
            for &row in rows {
                if *self.store(link.parent).slot(row, link.slot) == Slot::Unknown {
                    self.touch(call, at, row)?;
                }
            }
        }
        Ok(())
    }

    /// The rows of a node that some parents know of, each once.
    fn reached(&self, node: usize, parents: &[u32]) -> Vec<u32> {
        let link = self.link(node);
        let mut reached = Vec::new();
        for &parent in parents {
            match self.store(link.parent).slot(parent, link.slot) {
                Slot::One(Some(row)) => reached.push(*row),
                Slot::Many(rows) => reached.extend(rows),
                _ => {}
            }
        }
        reached.sort_unstable();
        reached.dedup();
        reached
    }

    pub(super) fn load_batch(&mut self, call: &mut Call<'_>, node: usize, parents: &[u32]) -> Result<(), EngineError> {
        let link = self.link(node);
        let statement = self.plan.nodes[node].statement.as_ref().expect("a batched node has a statement");
        let mut waiting = Waiting::default();
        // One key after the other.
        let mut keys: Vec<Value> = Vec::new();
        let width = link.from.len().max(1);
        for &parent in parents {
            let store = self.store(link.parent);
            if *store.slot(parent, link.slot) != Slot::Unknown {
                continue;
            }
            let values = link.from.iter().map(|&column| store.value(parent, column));
            let Some(key) = Key::of(values.clone()) else {
                *self.store_mut(link.parent).slot_mut(parent, link.slot) = nothing(link);
                continue;
            };
            if let Some(row) = self.known(node, &key) {
                *self.store_mut(link.parent).slot_mut(parent, link.slot) = Slot::One(Some(row));
                continue;
            }
            if waiting.add(key, parent) {
                keys.extend(values.map(ValueRef::to_value));
            }
        }
        let brings_others = self.brings_others(node);
        let mut repeats = brings_others.then(|| Repeats::new(self.plan, node));
        let (own, above) = (self.plan.nodes[node].layout, self.plan.nodes[link.parent].layout);
        let stores = &mut self.stores;
        for list in keys.chunks(statement.most_keys().saturating_mul(width)) {
            let ready = prepare(call, node, statement, list.len() / width)?;
            let binds = bound(&ready.binds, call.parameters, list, Progress::NONE);
            if brings_others {
                let mut found: Vec<(u32, Key)> = Vec::new();
                run_statement(self.plan, stores, node, call.session, ready.sent(), &binds, repeats.as_mut(), &mut |at, row| {
                    found.extend(Key::of(link.to.iter().map(|&column| row[column])).map(|key| (at, key)));
                    Flow::More
                })?;
                for (at, key) in found {
                    waiting.of(&key).for_each(|parent| attach(stores[above].slot_mut(parent, link.slot), link, at));
                }
            } else {
                call.session.carry_out(ready.sent(), &binds, &mut |row: &[ValueRef<'_>]| {
                    let at = stores[own].push(row);
                    if let Some(key) = Key::of(link.to.iter().map(|&column| row[column])) {
                        waiting.of(&key).for_each(|parent| attach(stores[above].slot_mut(parent, link.slot), link, at));
                    }
                    Flow::More
                })?;
            }
        }
        for parent in waiting.all() {
            let slot = stores[above].slot_mut(parent, link.slot);
            if *slot == Slot::Unknown {
                *slot = nothing(link);
            }
        }
        Ok(())
    }
}
