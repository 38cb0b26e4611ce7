//! Rows of several tables and the relations between them, loaded the contender's way.

use std::collections::HashMap;

use kampf_schema::{HopKind, Value, ValueRef};

use super::aggregate::Accumulator;
use super::condition::truth;
use super::store::{Slot, Store};
use crate::engine::{EngineError, Flow, Session, StatementId};
use crate::key::Key;
use crate::need::{Condition, OrderBy};
use crate::plan::{AppTerm, Link, Plan, Reach, RelationStatement};

/// Statements of the nodes, prepared when first sent.
pub(super) type Prepared = Vec<NodeStatements>;

/// The statements of one node.
#[derive(Clone, Default)]
pub(super) struct NodeStatements {
    /// The one for a single key.
    single: Option<StatementId>,
    /// Those for lists, by the number of keys.
    lists: HashMap<usize, StatementId>,
}

pub(super) struct Graph<'p, S> {
    plan: &'p Plan,
    stores: Vec<S>,
    /// Rows of the aggregate being computed.
    leaves: Vec<u32>,
    above: Vec<u32>,
}

impl<'p, S: Store> Graph<'p, S> {
    pub(super) fn new(plan: &'p Plan) -> Graph<'p, S> {
        Graph { plan, stores: plan.layouts.iter().map(S::new).collect(), leaves: Vec::new(), above: Vec::new() }
    }

    fn store(&self, node: usize) -> &S {
        &self.stores[self.plan.nodes[node].layout]
    }

    fn store_mut(&mut self, node: usize) -> &mut S {
        &mut self.stores[self.plan.nodes[node].layout]
    }

    fn link(&self, node: usize) -> &'p Link {
        self.plan.nodes[node].link.as_ref().expect("only the root has no link")
    }

    pub(super) fn objects(&self) -> u64 {
        self.stores.iter().map(Store::built).sum()
    }

    /// Compares what is managed and lets everything go.
    pub(super) fn end(mut self) -> u64 {
        self.stores.iter_mut().map(Store::end).sum()
    }

    /// Fetches the root rows, with a joined plan all rows, and gives the roots in order.
    pub(super) fn fetch(&mut self, session: &mut dyn Session, root: StatementId, binds: &[ValueRef<'_>]) -> Result<Vec<u32>, EngineError> {
        let mut roots = Vec::new();
        if self.plan.reach == Reach::Joined {
            let mut repeats = Repeats::new(self.plan);
            let (plan, stores) = (self.plan, &mut self.stores);
            session.run(root, binds, &mut |row: &[ValueRef<'_>]| {
                repeats.row(plan, stores, row, &mut roots);
                Flow::More
            })?;
            return Ok(roots);
        }
        let store = &mut self.stores[self.plan.nodes[0].layout];
        session.run(root, binds, &mut |row: &[ValueRef<'_>]| {
            roots.push(store.push(row));
            Flow::More
        })?;
        Ok(roots)
    }

    /// Loads batched nodes for some roots: those the selection needs, or the others.
    pub(super) fn load_batches(
        &mut self,
        session: &mut dyn Session,
        prepared: &mut Prepared,
        roots: &[u32],
        for_selection: bool,
    ) -> Result<(), EngineError> {
        if self.plan.reach != Reach::Batched {
            return Ok(());
        }
        let mut rows: Vec<Vec<u32>> = vec![Vec::new(); self.plan.nodes.len()];
        rows[0] = roots.to_vec();
        for node in 1..self.plan.nodes.len() {
            let parents = std::mem::take(&mut rows[self.link(node).parent]);
            if self.plan.nodes[node].for_selection == for_selection {
                self.load_batch(session, prepared, node, &parents)?;
            }
            rows[node] = self.reached(node, &parents);
            rows[self.link(node).parent] = parents;
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

    fn load_batch(&mut self, session: &mut dyn Session, prepared: &mut Prepared, node: usize, parents: &[u32]) -> Result<(), EngineError> {
        let link = self.link(node);
        let statement = self.plan.nodes[node].statement.as_ref().expect("a batched node has a statement");
        let mut waiting: HashMap<Key, Vec<u32>> = HashMap::new();
        let mut keys: Vec<Vec<Value>> = Vec::new();
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
            let entry = waiting.entry(key).or_default();
            if entry.is_empty() {
                keys.push(values.map(ValueRef::to_value).collect());
            }
            entry.push(parent);
        }
        for list in keys.chunks(statement.most_keys) {
            let id = prepare(session, &mut prepared[node], statement, list.len(), link.to.len())?;
            let binds: Vec<ValueRef<'_>> = list.iter().flatten().map(Value::as_ref).collect();
            let mut found: Vec<(u32, Key)> = Vec::new();
            let store = &mut self.stores[self.plan.nodes[node].layout];
            let mut take = |row: &[ValueRef<'_>]| {
                let at = store.push(row);
                if let Some(key) = Key::of(link.to.iter().map(|&column| row[column])) {
                    found.push((at, key));
                }
                Flow::More
            };
            if statement.is_list {
                session.run_list(id, &binds, &mut take)?;
            } else {
                session.run(id, &binds, &mut take)?;
            }
            for (row, key) in found {
                for &parent in waiting.get(&key).into_iter().flatten() {
                    attach(self.store_mut(link.parent).slot_mut(parent, link.slot), link, row);
                }
            }
        }
        for parent in waiting.into_values().flatten() {
            let slot = self.store_mut(link.parent).slot_mut(parent, link.slot);
            if *slot == Slot::Unknown {
                *slot = nothing(link);
            }
        }
        Ok(())
    }

    /// The row that an identity map knows by a node's linking key.
    fn known(&self, node: usize, key: &Key) -> Option<u32> {
        (S::IDENTITY && self.link(node).by_key).then(|| self.store(node).find(key)).flatten()
    }

    /// Sees to it that a relation of a row is known; a lazy one sends its statement now.
    fn touch(&mut self, session: &mut dyn Session, prepared: &mut Prepared, node: usize, parent: u32) -> Result<(), EngineError> {
        let link = self.link(node);
        if *self.store(link.parent).slot(parent, link.slot) != Slot::Unknown {
            return Ok(());
        }
        let statement = self.plan.nodes[node].statement.as_ref().filter(|_| self.plan.reach == Reach::Lazy);
        let Some(statement) = statement else {
            // Batched and joined rows are all there by now.
            *self.store_mut(link.parent).slot_mut(parent, link.slot) = nothing(link);
            return Ok(());
        };
        let mut slot = nothing(link);
        let key = Key::of(link.from.iter().map(|&column| self.store(link.parent).value(parent, column)));
        if let Some(key) = key {
            match self.known(node, &key) {
                Some(row) => slot = Slot::One(Some(row)),
                None => {
                    let id = prepare(session, &mut prepared[node], statement, 1, link.to.len())?;
                    // Nearly all keys are one number; those need no list.
                    let (single, keys, several);
                    let binds: &[ValueRef<'_>] = if let Key::Integer(number) = key {
                        single = [ValueRef::Integer(number)];
                        &single
                    } else {
                        keys = link.from.iter().map(|&column| self.store(link.parent).value(parent, column).to_value()).collect::<Vec<_>>();
                        several = keys.iter().map(Value::as_ref).collect::<Vec<_>>();
                        &several
                    };
                    let store = &mut self.stores[self.plan.nodes[node].layout];
                    session.run(id, binds, &mut |row: &[ValueRef<'_>]| {
                        let at = store.push(row);
                        attach(&mut slot, link, at);
                        // A reference leads to a unique key: there is no second row to ask for.
                        if link.kind == HopKind::One { Flow::Stop } else { Flow::More }
                    })?;
                }
            }
        }
        *self.store_mut(link.parent).slot_mut(parent, link.slot) = slot;
        Ok(())
    }

    /// The row at a node that only one row can be at.
    fn one(&mut self, session: &mut dyn Session, prepared: &mut Prepared, root: u32, node: usize) -> Result<Option<u32>, EngineError> {
        let mut row = root;
        let plan = self.plan;
        for &step in &plan.nodes[node].path {
            self.touch(session, prepared, step, row)?;
            let link = self.link(step);
            match self.store(link.parent).slot(row, link.slot) {
                Slot::One(Some(next)) => row = *next,
                _ => return Ok(None),
            }
        }
        Ok(Some(row))
    }

    /// All rows at a node, into `self.leaves`.
    fn gather(&mut self, session: &mut dyn Session, prepared: &mut Prepared, root: u32, node: usize) -> Result<(), EngineError> {
        let plan = self.plan;
        self.leaves.clear();
        self.leaves.push(root);
        for &step in &plan.nodes[node].path {
            let mut above = std::mem::take(&mut self.above);
            std::mem::swap(&mut above, &mut self.leaves);
            self.leaves.clear();
            for &row in &above {
                self.touch(session, prepared, step, row)?;
                let link = self.link(step);
                match self.stores[plan.nodes[link.parent].layout].slot(row, link.slot) {
                    Slot::One(Some(next)) => self.leaves.push(*next),
                    Slot::Many(rows) => self.leaves.extend_from_slice(rows),
                    _ => {}
                }
            }
            self.above = above;
        }
        Ok(())
    }

    /// Hands a term's value for a root row to `use_it`.
    pub(super) fn with_value<R>(
        &mut self,
        session: &mut dyn Session,
        prepared: &mut Prepared,
        root: u32,
        term: &AppTerm,
        use_it: impl FnOnce(ValueRef<'_>) -> R,
    ) -> Result<R, EngineError> {
        match term {
            AppTerm::Column { node: 0, column } => Ok(use_it(self.store(0).value(root, *column))),
            AppTerm::Column { node, column } => Ok(match self.one(session, prepared, root, *node)? {
                Some(row) => use_it(self.store(*node).value(row, *column)),
                None => use_it(ValueRef::Null),
            }),
            AppTerm::Aggregate { function, node, column } => {
                self.gather(session, prepared, root, *node)?;
                let mut accumulator = Accumulator::new(*function);
                for &row in &self.leaves {
                    match column {
                        Some(column) => accumulator.value(self.store(*node).value(row, *column)),
                        None => accumulator.row(),
                    }
                }
                Ok(use_it(accumulator.finish().as_ref()))
            }
        }
    }

    /// Filters, sorts and cuts in the application.
    pub(super) fn select(
        &mut self,
        session: &mut dyn Session,
        prepared: &mut Prepared,
        roots: &mut Vec<u32>,
        parameters: &[Value],
    ) -> Result<(), EngineError> {
        let plan = self.plan;
        if let Some(filter) = &plan.filter {
            let mut kept = Vec::with_capacity(roots.len());
            for &root in roots.iter() {
                if self.holds(session, prepared, root, filter, parameters)? {
                    kept.push(root);
                }
            }
            *roots = kept;
        }
        if !plan.order.is_empty() {
            self.sort(session, prepared, roots, &plan.order)?;
        }
        if let Some(limit) = plan.limit {
            roots.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
        }
        Ok(())
    }

    fn holds(
        &mut self,
        session: &mut dyn Session,
        prepared: &mut Prepared,
        root: u32,
        filter: &Condition<AppTerm>,
        parameters: &[Value],
    ) -> Result<bool, EngineError> {
        let mut value = |term: &AppTerm| self.with_value(session, prepared, root, term, |value| value.to_value());
        Ok(truth(filter, parameters, &mut value)? == Some(true))
    }

    fn sort(
        &mut self,
        session: &mut dyn Session,
        prepared: &mut Prepared,
        roots: &mut Vec<u32>,
        order: &[OrderBy<AppTerm>],
    ) -> Result<(), EngineError> {
        let mut keyed: Vec<(Vec<Value>, u32)> = Vec::with_capacity(roots.len());
        for &root in roots.iter() {
            let mut key = Vec::with_capacity(order.len());
            for by in order {
                key.push(self.with_value(session, prepared, root, &by.term, |value| value.to_value())?);
            }
            keyed.push((key, root));
        }
        keyed.sort_by(|(left, _), (right, _)| {
            let pairs = left.iter().zip(right).zip(order);
            pairs
                .map(|((left, right), by)| {
                    let ascending = left.as_ref().order(right.as_ref());
                    if by.descending { ascending.reverse() } else { ascending }
                })
                .find(|ordering| ordering.is_ne())
                .unwrap_or(std::cmp::Ordering::Equal)
        });
        *roots = keyed.into_iter().map(|(_, root)| root).collect();
        Ok(())
    }
}

fn nothing(link: &Link) -> Slot {
    if link.kind == HopKind::One { Slot::One(None) } else { Slot::Many(Vec::new()) }
}

fn attach(slot: &mut Slot, link: &Link, row: u32) {
    match (link.kind, &mut *slot) {
        (HopKind::Many, Slot::Many(rows)) => rows.push(row),
        (HopKind::Many, _) => *slot = Slot::Many(vec![row]),
        (HopKind::One, _) => *slot = Slot::One(Some(row)),
    }
}

fn prepare(
    session: &mut dyn Session,
    prepared: &mut NodeStatements,
    statement: &RelationStatement,
    keys: usize,
    width: usize,
) -> Result<StatementId, EngineError> {
    let single = keys == 1 || statement.is_list;
    let known = if single { prepared.single } else { prepared.lists.get(&keys).copied() };
    if let Some(id) = known {
        return Ok(id);
    }
    let kinds: Vec<_> = statement.columns.iter().map(|column| column.kind).collect();
    let id = session.prepare(&statement.sql(keys, width), &kinds)?;
    if single {
        prepared.single = Some(id);
    } else {
        prepared.lists.insert(keys, id);
    }
    Ok(id)
}

/// Recognises rows that a join repeats.
struct Repeats {
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
    fn new(plan: &Plan) -> Repeats {
        let to_many = plan.nodes.iter().any(|node| node.link.as_ref().is_some_and(|link| link.kind == HopKind::Many));
        let slot = |at: usize| plan.nodes[at].link.as_ref().map(|link| (plan.nodes[link.parent].layout, link.slot));
        let same_as = (0..plan.nodes.len()).map(|at| (0..at).find(|&before| slot(before) == slot(at)).unwrap_or(at)).collect();
        Repeats { same_as, seen: vec![HashMap::new(); plan.nodes.len()], to_many, current: vec![None; plan.nodes.len()] }
    }

    fn row<S: Store>(&mut self, plan: &Plan, stores: &mut [S], row: &[ValueRef<'_>], roots: &mut Vec<u32>) {
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
