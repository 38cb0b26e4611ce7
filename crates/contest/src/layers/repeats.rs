//! Rows that a join repeats.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use kampf_schema::{HopKind, ValueRef};

use super::graph::{attach, keep_row, nothing};
use super::store::{Slot, Store};
use crate::engine::EngineError;
use crate::key::Key;
use crate::plan::{Plan, Reach};

/// Recognises rows that a join repeats.
pub(super) struct Repeats {
    /// The node whose statement it is.
    base: usize,
    /// It and the others that come with it.
    nodes: Vec<usize>,
    /// For each node the first one that fills the same relation of the same table.
    same_as: Vec<usize>,
    /// Rows seen per such node, by the parent's row (0 where a row has one place whatever its parent) and key.
    seen: Vec<HashMap<(u32, Key), u32>>,
    /// Whether any node has many rows per row of the base, so that these repeat.
    to_many: bool,
    /// The row at each node in the current joined row.
    current: Vec<Option<u32>>,
    /// Of entities' relations to many whether they were known before.
    full: HashMap<(usize, u32), bool>,
}

impl Repeats {
    /// For the statement of a node, which brings the rows of others too.
    pub(super) fn new(plan: &Plan, base: usize) -> Repeats {
        let nodes: Vec<usize> = (0..plan.nodes.len()).filter(|&at| is_member(plan, base, at)).collect();
        let is_many = |at: &usize| *at != base && plan.nodes[*at].link.as_ref().is_some_and(|link| link.kind == HopKind::Many);
        let to_many = nodes.iter().any(is_many);
        let slot = |at: usize| plan.nodes[at].link.as_ref().map(|link| (plan.nodes[link.parent].layout, link.slot));
        let same = |at: usize| nodes.iter().copied().find(|&before| before < at && slot(before) == slot(at)).unwrap_or(at);
        let same_as = (0..plan.nodes.len()).map(same).collect();
        let all = plan.nodes.len();
        Repeats { base, nodes, same_as, seen: vec![HashMap::new(); all], to_many, current: vec![None; all], full: HashMap::new() }
    }

    /// Takes a row of the statement; gives the base's row, and whether it was not seen before.
    pub(super) fn row<S: Store>(&mut self, plan: &Plan, stores: &mut [S], row: &[ValueRef<'_>]) -> Result<(u32, bool), EngineError> {
        let mut base = (0, false);
        for place in 0..self.nodes.len() {
            let at = self.nodes[place];
            let node = &plan.nodes[at];
            let layout = &plan.layouts[node.layout];
            let part = &row[node.offset..];
            let key = || Key::of(layout.key.iter().map(|&column| part[column])).filter(|_| !layout.key.is_empty());
            if at == self.base {
                let known = if self.to_many { key() } else { None };
                base = match known {
                    Some(key) => match self.seen[at].entry((0, key)) {
                        Entry::Occupied(known) => (*known.get(), false),
                        Entry::Vacant(place) => (*place.insert(keep_row(plan, stores, at, part)?), true),
                    },
                    None => (keep_row(plan, stores, at, part)?, true),
                };
                self.current[at] = Some(base.0);
                continue;
            }
            let Some(link) = &node.link else { continue };
            let Some(parent) = self.current[link.parent] else {
                self.current[at] = None;
                continue;
            };
            let parent_layout = plan.nodes[link.parent].layout;
            if let (HopKind::One, Slot::One(known)) = (link.kind, stores[parent_layout].slot(parent, link.slot)) {
                self.current[at] = *known;
                continue;
            }
            if link.to.iter().any(|&column| part[column].is_null()) {
                let slot = stores[parent_layout].slot_mut(parent, link.slot);
                if *slot == Slot::Unknown {
                    *slot = nothing(link);
                }
                self.current[at] = None;
                continue;
            }
            let owner = if link.kind == HopKind::Many { parent + 1 } else { 0 };
            let mut fresh = false;
            let same = self.same_as[at];
            let child = match key() {
                Some(key) => match self.seen[same].entry((owner, key)) {
                    Entry::Occupied(known) => *known.get(),
                    Entry::Vacant(place) => {
                        fresh = true;
                        *place.insert(keep_row(plan, stores, at, part)?)
                    }
                },
                None => {
                    fresh = true;
                    keep_row(plan, stores, at, part)?
                }
            };
            // To what an entity knew before this statement nothing is added.
            let may_be_full = S::IDENTITY && self.base != 0 && link.kind == HopKind::Many;
            let slot = || *stores[parent_layout].slot(parent, link.slot) != Slot::Unknown;
            if may_be_full && *self.full.entry((same, parent)).or_insert_with(slot) {
                fresh = false;
            }
            if fresh || link.kind == HopKind::One {
                attach(stores[parent_layout].slot_mut(parent, link.slot), link, child);
            }
            self.current[at] = Some(child);
        }
        Ok(base)
    }
}

/// Whether a node's rows come with another's statement, itself among them.
pub(super) fn is_member(plan: &Plan, base: usize, at: usize) -> bool {
    let joined = || plan.nodes[at].link.as_ref().is_some_and(|link| link.reach == Reach::Joined);
    plan.nodes[at].with == base && (at == base || joined())
}
