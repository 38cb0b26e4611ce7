//! Rows of several tables and the relations between them, loaded the contender's way.

use std::collections::HashMap;

use kampf_schema::expr::{Expr, Scope};
use kampf_schema::{HopKind, Span, Value, ValueRef};

use super::aggregate::Accumulator;
use super::execution::Consumer;
use super::group::{GroupRow, Groups};
use super::nested;
use super::repeats::{Repeats, is_member};
use super::store::{Slot, Store};
use crate::dialect::Dialect;
use crate::engine::{EngineError, Flow, Session, StatementId};
use crate::key::Key;
use crate::need::{Aggregate, OrderBy};
use crate::plan::{AppFold, AppLeaf, Link, Plan, PlanNode, Reach, RelationStatement};
use crate::sql::Bind;

/// Statements of the nodes, prepared when first sent.
pub(super) type Prepared = Vec<NodeStatements>;

/// A statement that is prepared, with what is bound to it.
#[derive(Clone)]
pub(super) struct Ready {
    pub(super) id: StatementId,
    pub(super) binds: Vec<Bind>,
}

/// The statements of one node.
#[derive(Clone, Default)]
pub(super) struct NodeStatements {
    /// The one for a single key, or for a list that is one parameter.
    single: Option<Ready>,
    /// Those for lists, by the number of keys.
    lists: HashMap<usize, Ready>,
}

/// What a call has besides the rows: where statements go, and what stands in them.
pub(super) struct Call<'c> {
    pub(super) session: &'c mut dyn Session,
    pub(super) prepared: &'c mut Prepared,
    pub(super) parameters: &'c [Value],
    pub(super) dialect: &'c Dialect,
}

pub(super) struct Graph<'p, S> {
    plan: &'p Plan,
    stores: Vec<S>,
    /// Rows of the aggregate being computed.
    leaves: Vec<u32>,
    above: Vec<u32>,
}

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
        if self.brings_others(0) {
            let (plan, stores) = (self.plan, &mut self.stores);
            run_statement(plan, stores, 0, session, root, binds, None, &mut |root, _| {
                roots.push(root);
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

    /// Loads batched nodes for some roots: those the selection needs, or the others.
    pub(super) fn load_batches(&mut self, call: &mut Call<'_>, roots: &[u32], for_selection: bool) -> Result<(), EngineError> {
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
    pub(super) fn load_always(&mut self, call: &mut Call<'_>, node: usize, rows: &[u32]) -> Result<(), EngineError> {
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

    fn load_batch(&mut self, call: &mut Call<'_>, node: usize, parents: &[u32]) -> Result<(), EngineError> {
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
            let binds = bound(&ready.binds, call.parameters, list);
            if brings_others {
                let mut found: Vec<(u32, Key)> = Vec::new();
                run_statement(self.plan, stores, node, call.session, ready.id, &binds, repeats.as_mut(), &mut |at, row| {
                    found.extend(Key::of(link.to.iter().map(|&column| row[column])).map(|key| (at, key)));
                    Flow::More
                })?;
                for (at, key) in found {
                    waiting.of(&key).for_each(|parent| attach(stores[above].slot_mut(parent, link.slot), link, at));
                }
            } else {
                call.session.run(ready.id, &binds, &mut |row: &[ValueRef<'_>]| {
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
                    if call.prepared[node].single.is_none() {
                        prepare(call, node, statement, 1)?;
                    }
                    let Some(ready) = &call.prepared[node].single else { return Ok(()) };
                    // Nearly all keys are one number; those need no list.
                    let (single, keys, several);
                    let binds: &[ValueRef<'_>] = match (&key, ready.binds.as_slice()) {
                        (Key::Integer(number), [Bind::Key(0)]) => {
                            single = [ValueRef::Integer(*number)];
                            &single
                        }
                        _ => {
                            let store = self.store(link.parent);
                            keys = link.from.iter().map(|&column| store.value(parent, column).to_value()).collect::<Vec<_>>();
                            several = bound(&ready.binds, call.parameters, &keys);
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
                        run_statement(self.plan, &mut self.stores, node, call.session, ready.id, binds, None, &mut |at, _| {
                            attach(&mut slot, link, at);
                            flow
                        })?;
                    } else {
                        let store = &mut self.stores[self.plan.nodes[node].layout];
                        call.session.run(ready.id, binds, &mut |row: &[ValueRef<'_>]| {
                            let at = store.push(row);
                            attach(&mut slot, link, at);
                            flow
                        })?;
                    }
                }
            }
        }
        let rows = match (&slot, self.plan.nodes.iter().any(|node| node.always)) {
            (Slot::Many(rows), true) => rows.clone(),
            (Slot::One(Some(row)), true) => vec![*row],
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

    /// An aggregate over the rows that hang on a row.
    fn aggregate(&mut self, call: &mut Call<'_>, at: usize, row: u32, place: usize) -> Result<Value, EngineError> {
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

    /// Hands what is given of a row on, its lists row by row.
    pub(super) fn give<C: Consumer>(
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
    pub(super) fn select(&mut self, call: &mut Call<'_>, roots: &mut Vec<u32>) -> Result<(), EngineError> {
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

    fn holds(&mut self, call: &mut Call<'_>, node: usize, row: u32, filter: &Expr<AppLeaf>) -> Result<bool, EngineError> {
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
    pub(super) fn group(&mut self, call: &mut Call<'_>, roots: &[u32]) -> Result<Vec<GroupRow>, EngineError> {
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

/// Runs the statement of a node whose rows hold more than its own columns: joined rows, JSON texts, keys. Each of the node's rows is
/// handed on once.
#[expect(clippy::too_many_arguments, reason = "parts of a graph and of a call that are borrowed one by one")]
fn run_statement<S: Store>(
    plan: &Plan,
    stores: &mut [S],
    node: usize,
    session: &mut dyn Session,
    statement: StatementId,
    binds: &[ValueRef<'_>],
    repeats: Option<&mut Repeats>,
    each: &mut dyn FnMut(u32, &[ValueRef<'_>]) -> Flow,
) -> Result<(), EngineError> {
    let joined = (0..plan.nodes.len()).any(|at| at != node && is_member(plan, node, at));
    let mut own = None;
    let mut repeats = repeats.filter(|_| joined);
    if joined && repeats.is_none() {
        repeats = Some(own.insert(Repeats::new(plan, node)));
    }
    let mut failed = None;
    session.run(statement, binds, &mut |row: &[ValueRef<'_>]| {
        let kept = match &mut repeats {
            Some(repeats) => repeats.row(plan, stores, row),
            None => keep_row(plan, stores, node, row).map(|row| (row, true)),
        };
        match kept {
            Ok((at, true)) => each(at, row),
            Ok((_, false)) => Flow::More,
            Err(error) => {
                failed = Some(error);
                Flow::Stop
            }
        }
    })?;
    failed.map_or(Ok(()), Err)
}

/// Keeps the row of a node, which begins with its first column, and the rows of the lists in its JSON texts.
pub(super) fn keep_row<S: Store>(plan: &Plan, stores: &mut [S], node: usize, part: &[ValueRef<'_>]) -> Result<u32, EngineError> {
    let PlanNode { layout, takes, .. } = &plan.nodes[node];
    let row = if takes.is_empty() {
        stores[*layout].push(&part[..plan.layouts[*layout].columns.len()])
    } else {
        stores[*layout].push(&takes.iter().map(|&place| part[place]).collect::<Vec<_>>())
    };
    for (child, nested) in plan.nodes.iter().enumerate() {
        let Some(link) = nested.link.as_ref().filter(|link| link.reach == Reach::Nested && link.parent == node) else { continue };
        let rows = nested::keep(plan, stores, child, part[nested.offset])?;
        *stores[*layout].slot_mut(row, link.slot) = Slot::Many(rows);
    }
    Ok(row)
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

/// What is bound to a statement, in order.
pub(super) fn bound<'v>(binds: &'v [Bind], parameters: &'v [Value], keys: &'v [Value]) -> Vec<ValueRef<'v>> {
    let one = |bind: &'v Bind| match bind {
        Bind::Value(value) => value.as_ref(),
        Bind::Parameter(at) => parameters.get(*at).map_or(ValueRef::Null, Value::as_ref),
        Bind::Item(at, item) => match parameters.get(*at) {
            Some(Value::List(values)) => values.get(*item).map_or(ValueRef::Null, Value::as_ref),
            _ => ValueRef::Null,
        },
        Bind::Key(at) => keys.get(*at).map_or(ValueRef::Null, Value::as_ref),
        Bind::Keys => ValueRef::List(keys),
    };
    binds.iter().map(one).collect()
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

fn prepare(call: &mut Call<'_>, node: usize, statement: &RelationStatement, keys: usize) -> Result<Ready, EngineError> {
    let single = keys == 1 || statement.is_list();
    let known = if single { call.prepared[node].single.as_ref() } else { call.prepared[node].lists.get(&keys) };
    if let Some(ready) = known {
        return Ok(ready.clone());
    }
    let kinds: Vec<_> = statement.columns.iter().map(|column| column.kind).collect();
    let printed = statement.print(call.dialect, keys, call.parameters);
    let ready = Ready { id: call.session.prepare(&printed.sql, &kinds)?, binds: printed.binds };
    if single {
        call.prepared[node].single = Some(ready.clone());
    } else {
        call.prepared[node].lists.insert(keys, ready.clone());
    }
    Ok(ready)
}
