//! Rows of several tables and the relations between them, loaded the contender's way.

mod answer;
mod batch;
mod statement;

use std::collections::HashMap;

use kampf_schema::expr::{Expr, Scope};
use kampf_schema::{HopKind, Span, Value, ValueRef};

use super::portions::roots_of;
use super::repeats::{Repeats, is_member};
use super::sending::{Progress, Ready, bound};
use super::store::{Slot, Store};
use crate::choice::Statement;
use crate::dialect::Dialect;
use crate::engine::{EngineError, Flow, Sent, Session};
use crate::key::Key;
use crate::need::OrderBy;
use crate::plan::{AppLeaf, Link, Plan, Reach, RelationStatement};
use crate::sql::Bind;
pub(super) use statement::keep_row;
use statement::run_statement;

/// The statements of one node.
#[derive(Clone, Default)]
pub(super) struct NodeStatements {
    /// The one for a single key, or for a list that is one parameter.
    single: Option<Ready>,
    /// Those for lists, by the number of keys.
    lists: HashMap<usize, Ready>,
}

/// What the rows of the root's statement bring.
pub(super) enum Brings {
    /// The root's own columns alone.
    Own,
    /// Lists in JSON texts too, or columns in another order.
    Others,
    /// Rows of others, which may come again.
    Joined(Box<Repeats>),
}

/// What a call has besides the rows: where statements go, and what stands in them.
pub(super) struct Call<'c> {
    pub(super) session: &'c mut dyn Session,
    pub(super) nodes: &'c mut Vec<NodeStatements>,
    pub(super) parameters: &'c [Value],
    pub(super) dialect: &'c Dialect,
    /// How statements are sent.
    pub(super) statement: Statement,
}

pub(super) struct Graph<'p, S> {
    plan: &'p Plan,
    stores: Vec<S>,
    /// Whether entities are used to having others.
    has_habits: bool,
    /// Rows of the aggregate being computed.
    leaves: Vec<u32>,
    above: Vec<u32>,
}

/// The row at hand, as the scope of what is asked of it.
struct Here<'g, 'c, 'p, S> {
    graph: &'g mut Graph<'p, S>,
    call: &'g mut Call<'c>,
    node: usize,
    row: u32,
}

impl<S: Store> Scope<AppLeaf> for Here<'_, '_, '_, S> {
    type Error = EngineError;

    fn leaf(&mut self, leaf: &AppLeaf) -> Result<Value, EngineError> {
        self.graph.leaf(self.call, self.node, self.row, leaf, |value| value.to_value())
    }

    fn overflow(&mut self, _: Span, _: Option<f64>) -> Result<Value, EngineError> {
        Err(EngineError::too_large())
    }
}

impl<'p, S: Store> Graph<'p, S> {
    pub(super) fn new(plan: &'p Plan) -> Graph<'p, S> {
        let has_habits = plan.nodes.iter().any(|node| node.always);
        Graph { plan, stores: plan.layouts.iter().map(S::new).collect(), has_habits, leaves: Vec::new(), above: Vec::new() }
    }

    /// The same with room for a portion of the root's rows.
    pub(super) fn of_portion(plan: &'p Plan) -> Graph<'p, S> {
        let mut graph = Graph::<'p, S>::new(plan);
        graph.store_mut(0).reserve(roots_of(plan));
        graph
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

    /// Compares what is managed and lets all rows go; the room that they had is kept for those to come.
    pub(super) fn end(&mut self) -> u64 {
        let changed = self.stores.iter_mut().map(Store::end).sum();
        self.stores.iter_mut().for_each(Store::clear);
        changed
    }

    /// Fetches the root rows, with a joined plan all rows, and gives the roots in order.
    pub(super) fn fetch(&mut self, session: &mut dyn Session, root: Sent<'_>, binds: &[ValueRef<'_>]) -> Result<Vec<u32>, EngineError> {
        let mut roots = Vec::with_capacity(roots_of(self.plan));
        if self.brings_others(0) {
            let (plan, stores) = (self.plan, &mut self.stores);
            run_statement(plan, stores, 0, session, root, binds, None, &mut |root, _| {
                roots.push(root);
                Flow::More
            })?;
            return Ok(roots);
        }
        let store = &mut self.stores[self.plan.nodes[0].layout];
        session.carry_out(root, binds, &mut |row: &[ValueRef<'_>]| {
            roots.push(store.push(row));
            Flow::More
        })?;
        Ok(roots)
    }

    /// What the rows of the root's statement bring.
    pub(super) fn brings(&self) -> Brings {
        if !self.brings_others(0) {
            return Brings::Own;
        }
        let joined = (1..self.plan.nodes.len()).any(|at| is_member(self.plan, 0, at));
        if joined { Brings::Joined(Box::new(Repeats::new(self.plan, 0))) } else { Brings::Others }
    }

    /// Takes a row of the root's statement, which is of another root than every row before.
    #[inline]
    pub(super) fn take_root(&mut self, row: &[ValueRef<'_>], brings: &mut Brings) -> Result<u32, EngineError> {
        match brings {
            Brings::Own => Ok(self.store_mut(0).push(row)),
            Brings::Others => keep_row(self.plan, &mut self.stores, 0, row),
            Brings::Joined(repeats) => repeats.row(self.plan, &mut self.stores, row).map(|(root, _)| root),
        }
    }

    /// A value that is kept of a root.
    pub(super) fn root_value(&self, root: u32, column: usize) -> Value {
        self.store(0).value(root, column).to_value()
    }

    /// Whether the rows of a node's statement hold more than the node's own columns.
    fn brings_others(&self, node: usize) -> bool {
        let others = self.plan.nodes.iter().enumerate().any(|(at, other)| at != node && other.with == node);
        others || !self.plan.nodes[node].takes.is_empty() || self.plan.nodes[node].statement.is_some() && self.has_keys_behind(node)
    }

    /// Whether the key that a row belongs to stands behind the node's own columns.
    fn has_keys_behind(&self, node: usize) -> bool {
        let width = self.plan.layouts[self.plan.nodes[node].layout].columns.len();
        self.plan.nodes[node].link.as_ref().is_some_and(|link| link.to.iter().any(|&place| place >= width))
    }

    /// The row that an identity map knows by a node's linking key.
    fn known(&self, node: usize, key: &Key) -> Option<u32> {
        (S::IDENTITY && self.link(node).by_key).then(|| self.store(node).find(key)).flatten()
    }

    /// Sees to it that a relation of a row is known; a lazy one sends its statement now.
    fn touch(&mut self, call: &mut Call<'_>, node: usize, parent: u32) -> Result<(), EngineError> {
        let link = self.link(node);
        if *self.store(link.parent).slot(parent, link.slot) != Slot::Unknown {
            return Ok(());
        }
        if link.reach == Reach::Batched {
            // A row that came later than the batch.
            return self.load_batch(call, node, &[parent]);
        }
        let statement = self.plan.nodes[node].statement.as_ref().filter(|_| link.reach == Reach::Lazy);
        let Some(statement) = statement else {
            // Joined rows are all there by now.
            *self.store_mut(link.parent).slot_mut(parent, link.slot) = nothing(link);
            return Ok(());
        };
        let mut slot = nothing(link);
        let key = Key::of(link.from.iter().map(|&column| self.store(link.parent).value(parent, column)));
        if let Some(key) = key {
            match self.known(node, &key) {
                Some(row) => slot = Slot::One(Some(row)),
                None => {
                    if call.nodes[node].single.is_none() || call.statement == Statement::Built {
                        prepare(call, node, statement, 1)?;
                    }
                    let Some(ready) = &call.nodes[node].single else { return Ok(()) };
                    // Nearly all keys are one value; those need no list.
                    let (single, keys, several);
                    let one = if let [Bind::Key(0)] = ready.binds.as_slice() { key.as_it_was() } else { None };
                    let binds: &[ValueRef<'_>] = match one {
                        Some(value) => {
                            single = [value];
                            &single
                        }
                        None => {
                            let store = self.store(link.parent);
                            keys = link.from.iter().map(|&column| store.value(parent, column).to_value()).collect::<Vec<_>>();
                            several = bound(&ready.binds, call.parameters, &keys, Progress::NONE);
                            &several
                        }
                    };
                    // A reference leads to a unique key: there is no second row to ask for.
                    let flow = if link.kind == HopKind::One { Flow::Stop } else { Flow::More };
                    if self.plan.nodes.len() > 2 && self.brings_others(node) {
                        let flow = if self.plan.nodes.iter().enumerate().any(|(at, other)| at != node && other.with == node) {
                            Flow::More
                        } else {
                            flow
                        };
                        run_statement(self.plan, &mut self.stores, node, call.session, ready.sent(), binds, None, &mut |at, _| {
                            attach(&mut slot, link, at);
                            flow
                        })?;
                    } else {
                        let store = &mut self.stores[self.plan.nodes[node].layout];
                        call.session.carry_out(ready.sent(), binds, &mut |row: &[ValueRef<'_>]| {
                            let at = store.push(row);
                            attach(&mut slot, link, at);
                            flow
                        })?;
                    }
                }
            }
        }
        if !self.has_habits {
            *self.store_mut(link.parent).slot_mut(parent, link.slot) = slot;
            return Ok(());
        }
        let rows = match &slot {
            Slot::Many(rows) => rows.clone(),
            Slot::One(Some(row)) => vec![*row],
            _ => Vec::new(),
        };
        *self.store_mut(link.parent).slot_mut(parent, link.slot) = slot;
        self.load_always(call, node, &rows)
    }

    /// The row at a node that only one row can be at, seen from a row at a node above it.
    fn one(&mut self, call: &mut Call<'_>, from: usize, row: u32, node: usize) -> Result<Option<u32>, EngineError> {
        let mut row = row;
        let plan = self.plan;
        for &step in &plan.nodes[node].path[plan.nodes[from].path.len()..] {
            self.touch(call, step, row)?;
            let link = self.link(step);
            match self.store(link.parent).slot(row, link.slot) {
                Slot::One(Some(next)) => row = *next,
                _ => return Ok(None),
            }
        }
        Ok(Some(row))
    }

    /// All rows at a node that hang on a row at a node above it, into `self.leaves`; only those that the nodes' conditions take.
    fn gather(&mut self, call: &mut Call<'_>, from: usize, row: u32, node: usize) -> Result<(), EngineError> {
        let plan = self.plan;
        self.leaves.clear();
        self.leaves.push(row);
        for &step in &plan.nodes[node].path[plan.nodes[from].path.len()..] {
            let mut above = std::mem::take(&mut self.above);
            std::mem::swap(&mut above, &mut self.leaves);
            self.leaves.clear();
            for &row in &above {
                self.touch(call, step, row)?;
                let link = self.link(step);
                match self.stores[plan.nodes[link.parent].layout].slot(row, link.slot) {
                    Slot::One(Some(next)) => self.leaves.push(*next),
                    Slot::Many(rows) => self.leaves.extend_from_slice(rows),
                    _ => {}
                }
            }
            self.above = above;
            if let Some(filter) = &plan.nodes[step].filter {
                let mut taken = Vec::new();
                for row in std::mem::take(&mut self.leaves) {
                    if self.holds(call, step, row, filter)? {
                        taken.push(row);
                    }
                }
                self.leaves = taken;
            }
        }
        Ok(())
    }

    /// Hands a value that is asked of a row to `use_it`.
    pub(super) fn with_value<R>(
        &mut self,
        call: &mut Call<'_>,
        node: usize,
        row: u32,
        value: &Expr<AppLeaf>,
        use_it: impl FnOnce(ValueRef<'_>) -> R,
    ) -> Result<R, EngineError> {
        match value.as_leaf() {
            Some(leaf) => self.leaf(call, node, row, leaf, use_it),
            None => {
                let value = value.value(&mut Here { graph: self, call, node, row })?;
                Ok(use_it(value.as_ref()))
            }
        }
    }

    fn leaf<R>(
        &mut self,
        call: &mut Call<'_>,
        at: usize,
        row: u32,
        leaf: &AppLeaf,
        use_it: impl FnOnce(ValueRef<'_>) -> R,
    ) -> Result<R, EngineError> {
        match leaf {
            AppLeaf::Column { node, column } if *node == at => Ok(use_it(self.store(at).value(row, *column))),
            AppLeaf::Column { node, column } => Ok(match self.one(call, at, row, *node)? {
                Some(row) => use_it(self.store(*node).value(row, *column)),
                None => use_it(ValueRef::Null),
            }),
            AppLeaf::Aggregate(place) => Ok(use_it(self.aggregate(call, at, row, *place)?.as_ref())),
            AppLeaf::Parameter(place) => Ok(use_it(call.parameters.get(*place).map_or(ValueRef::Null, Value::as_ref))),
            // Only groups have those, and lists are given by themselves.
            AppLeaf::Key(_) | AppLeaf::Total(_) | AppLeaf::List(_) => Ok(use_it(ValueRef::Null)),
        }
    }
}

/// The order of two rows by their keys.
pub(super) fn in_order(left: &[Value], right: &[Value], order: &[OrderBy<AppLeaf>]) -> std::cmp::Ordering {
    let pairs = left.iter().zip(right).zip(order);
    let orders = pairs.map(|((left, right), by)| {
        let ascending = left.as_ref().order(right.as_ref());
        if by.descending { ascending.reverse() } else { ascending }
    });
    orders.into_iter().find(|ordering| ordering.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
}

pub(super) fn nothing(link: &Link) -> Slot {
    if link.kind == HopKind::One { Slot::One(None) } else { Slot::Many(Vec::new()) }
}

pub(super) fn attach(slot: &mut Slot, link: &Link, row: u32) {
    match (link.kind, &mut *slot) {
        (HopKind::Many, Slot::Many(rows)) => rows.push(row),
        (HopKind::Many, _) => *slot = Slot::Many(vec![row]),
        (HopKind::One, _) => *slot = Slot::One(Some(row)),
    }
}

/// The statement of a node for a number of keys, ready to be sent; where texts are built for each it is built again.
fn prepare(call: &mut Call<'_>, node: usize, statement: &RelationStatement, keys: usize) -> Result<Ready, EngineError> {
    let single = keys == 1 || statement.is_list();
    let known = if single { call.nodes[node].single.as_ref() } else { call.nodes[node].lists.get(&keys) };
    if let Some(ready) = known.filter(|_| call.statement != Statement::Built) {
        return Ok(ready.clone());
    }
    let kinds: Vec<_> = statement.columns.iter().map(|column| column.kind).collect();
    let printed = statement.print(call.dialect, keys, call.parameters);
    let ready = Ready::of(call.session, call.statement, printed.sql, printed.binds, &kinds)?;
    if single {
        call.nodes[node].single = Some(ready.clone());
    } else {
        call.nodes[node].lists.insert(keys, ready.clone());
    }
    Ok(ready)
}
