//! Rows that a join repeats.

use std::collections::HashMap;

use kampf_schema::{HopKind, ValueRef};

use super::graph::{attach, nothing};
use super::store::{Slot, Store};
use crate::key::Key;
use crate::plan::Plan;

/// Recognises rows that a join repeats.
pub(super) struct Repeats {
    /// For each node the first one that fills the same relation of the same table.
    same_as: Vec<usize>,
    /// Rows seen per such node, by the parent's row (0 where a row has one place whatever its parent) and key.
    seen: Vec<HashMap<(u32, Key), u32>>,
    /// Whether any node has many rows per root, so that roots repeat.
    to_many: bool,
    /// The row at each node in the current joined row.
    current: Vec<Option<u32>>,
}

impl Repeats {
    pub(super) fn new(plan: &Plan) -> Repeats {
        let to_many = plan.nodes.iter().any(|node| node.link.as_ref().is_some_and(|link| link.kind == HopKind::Many));
        let slot = |at: usize| plan.nodes[at].link.as_ref().map(|link| (plan.nodes[link.parent].layout, link.slot));
        let same_as = (0..plan.nodes.len()).map(|at| (0..at).find(|&before| slot(before) == slot(at)).unwrap_or(at)).collect();
        Repeats { same_as, seen: vec![HashMap::new(); plan.nodes.len()], to_many, current: vec![None; plan.nodes.len()] }
    }

    pub(super) fn row<S: Store>(&mut self, plan: &Plan, stores: &mut [S], row: &[ValueRef<'_>], roots: &mut Vec<u32>) {
        for (at, node) in plan.nodes.iter().enumerate() {
            let layout = &plan.layouts[node.layout];
            let part = &row[node.offset..node.offset + layout.columns.len()];
            let key = || Key::of(layout.key.iter().map(|&column| part[column])).filter(|_| !layout.key.is_empty());
            let Some(link) = &node.link else {
                let store = &mut stores[node.layout];
                let known = if self.to_many { key() } else { None };
                let root = match known {
                    Some(key) => *self.seen[at].entry((0, key)).or_insert_with(|| {
                        let root = store.push(part);
                        roots.push(root);
                        root
                    }),
                    None => {
                        let root = store.push(part);
                        roots.push(root);
                        root
                    }
                };
                self.current[at] = Some(root);
                continue;
            };
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
            let seen = &mut self.seen[self.same_as[at]];
            let mut fresh = false;
            let store = &mut stores[node.layout];
            let child = match key() {
                Some(key) => *seen.entry((owner, key)).or_insert_with(|| {
                    fresh = true;
                    store.push(part)
                }),
                None => {
                    fresh = true;
                    store.push(part)
                }
            };
            if fresh || link.kind == HopKind::One {
                attach(stores[parent_layout].slot_mut(parent, link.slot), link, child);
            }
            self.current[at] = Some(child);
        }
    }
}
