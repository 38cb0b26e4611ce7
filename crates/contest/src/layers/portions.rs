//! Answers that are read in portions: so many rows of the root at a time, with what hangs on them, and let go before the next.

use kampf_schema::{Value, ValueRef};

use super::consumer::Consumer;
use super::execution::Roots;
use super::graph::{Brings, Call, Graph, NodeStatements};
use super::sending::{Progress, Ready, bound};
use super::store::Store;
use super::whole::{finish, give_in_place};
use crate::choice::{Fetch, Statement};
use crate::dialect::Dialect;
use crate::engine::{EngineError, Flow, Portions, Session, Sink};
use crate::plan::Plan;

/// The sizes of portions that are read by a statement each, for as long as each portion is full.
struct Windows {
    size: u64,
    left: u64,
    is_over: bool,
}

impl Windows {
    fn of(plan: &Plan) -> Windows {
        Windows { size: u64::from(plan.manner.size.max(1)), left: plan.manner.most.unwrap_or(u64::MAX), is_over: false }
    }

    /// How many rows the next portion has at most; none after the last.
    fn next(&self) -> Option<u64> {
        let size = self.size.min(self.left);
        (!self.is_over && size > 0).then_some(size)
    }

    fn came(&mut self, rows: u64) {
        self.is_over = rows < self.size.min(self.left);
        self.left -= rows.min(self.left);
    }
}

/// How many rows of the root a portion is made room for: what it has at most, where that is not absurd.
pub(super) fn roots_of(plan: &Plan) -> usize {
    const MOST: u32 = 10_000;
    plan.manner.size.min(MOST) as usize
}

/// Only chunks have another text for the first portion.
fn is_first(plan: &Plan, progress: &Progress) -> bool {
    plan.manner.fetch != Fetch::Chunks || progress.last.is_empty()
}

/// Pages or chunks that are kept in one form, one portion at a time.
pub(super) fn windowed<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    roots: &mut Roots,
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let (mut windows, mut progress, mut objects) = (Windows::of(plan), Progress::default(), 0);
    let mut graph = Graph::<S>::of_portion(plan);
    while let Some(size) = windows.next() {
        let ready = roots.ready(plan, call, size, is_first(plan, &progress))?;
        let binds = bound(&ready.binds, call.parameters, &[], &progress);
        let mut fetched = graph.fetch(call.session, ready.sent(), &binds)?;
        drop(binds);
        let came = fetched.len() as u64;
        if let Some(&last) = fetched.last() {
            progress.last = plan.manner.behind.iter().map(|&column| graph.root_value(last, column)).collect();
        }
        progress.before += came;
        windows.came(came);
        if came > 0 {
            objects += finish(plan, call, &mut graph, &mut fetched, consumer)?;
        }
    }
    Ok(objects)
}

/// Pages or chunks whose values are used in place.
pub(super) fn windowed_raw<C: Consumer>(plan: &Plan, call: &mut Call<'_>, roots: &mut Roots, consumer: &mut C) -> Result<u64, EngineError> {
    let (mut windows, mut progress) = (Windows::of(plan), Progress::default());
    let places: Vec<usize> = plan.manner.behind.iter().map(|&column| plan.place(column)).collect();
    while let Some(size) = windows.next() {
        let ready = roots.ready(plan, call, size, is_first(plan, &progress))?;
        let binds = bound(&ready.binds, call.parameters, &[], &progress);
        let mut used = InPlace::new(plan, call.parameters, consumer);
        let (mut came, mut last) = (0, Vec::new());
        call.session.carry_out(ready.sent(), &binds, &mut |row: &[ValueRef<'_>]| {
            came += 1;
            if came == size {
                last = places.iter().map(|&place| row[place].to_value()).collect();
            }
            used.row(row)
        })?;
        used.failed.map_or(Ok(()), Err)?;
        drop(binds);
        progress.last = last;
        progress.before += came;
        windows.came(came);
    }
    Ok(0)
}

/// Rows whose values are handed on in place.
struct InPlace<'a, C> {
    plan: &'a Plan,
    parameters: &'a [Value],
    consumer: &'a mut C,
    /// The places of what is given, where it is nothing but columns.
    places: Option<Vec<usize>>,
    failed: Option<EngineError>,
}

impl<'a, C: Consumer> InPlace<'a, C> {
    fn new(plan: &'a Plan, parameters: &'a [Value], consumer: &'a mut C) -> InPlace<'a, C> {
        InPlace { plan, parameters, consumer, places: plan.places(), failed: None }
    }
}

impl<C: Consumer> Sink for InPlace<'_, C> {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        self.consumer.row();
        if let Some(places) = &self.places {
            places.iter().for_each(|&place| self.consumer.value(row[place]));
        } else if let Err(error) = give_in_place(self.plan, row, self.parameters, self.consumer) {
            self.failed = Some(error);
            return Flow::Stop;
        }
        Flow::More
    }
}

impl<C: Consumer> Portions for InPlace<'_, C> {
    fn portion(&mut self, _: &mut dyn Session) -> Result<Flow, EngineError> {
        self.failed.take().map_or(Ok(Flow::More), Err)
    }
}

/// Rows from an open cursor whose values are used in place.
pub(super) fn streamed_raw<C: Consumer>(plan: &Plan, call: &mut Call<'_>, root: &Ready, consumer: &mut C) -> Result<u64, EngineError> {
    let binds = bound(&root.binds, call.parameters, &[], Progress::NONE);
    call.session.stream(root.sent(), &binds, plan.manner.size, &mut InPlace::new(plan, call.parameters, consumer))?;
    Ok(0)
}

/// Rows from an open cursor, kept in one form a portion at a time.
struct Streamed<'a, S, C> {
    plan: &'a Plan,
    nodes: &'a mut Vec<NodeStatements>,
    parameters: &'a [Value],
    dialect: &'a Dialect,
    statement: Statement,
    consumer: &'a mut C,
    /// The rows of the portion.
    graph: Graph<'a, S>,
    roots: Vec<u32>,
    brings: Brings,
    objects: u64,
    failed: Option<EngineError>,
}

/// The same for what is kept.
pub(super) fn streamed<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    root: &Ready,
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let binds = bound(&root.binds, call.parameters, &[], Progress::NONE);
    let graph = Graph::<S>::of_portion(plan);
    let mut streamed = Streamed {
        plan,
        nodes: &mut *call.nodes,
        parameters: call.parameters,
        dialect: call.dialect,
        statement: call.statement,
        consumer,
        brings: graph.brings(),
        graph,
        roots: Vec::with_capacity(roots_of(plan)),
        objects: 0,
        failed: None,
    };
    call.session.stream(root.sent(), &binds, plan.manner.size, &mut streamed)?;
    Ok(streamed.objects)
}

impl<S: Store, C: Consumer> Sink for Streamed<'_, S, C> {
    fn row(&mut self, row: &[ValueRef<'_>]) -> Flow {
        match self.graph.take_root(row, &mut self.brings) {
            Ok(root) => {
                self.roots.push(root);
                Flow::More
            }
            Err(error) => {
                self.failed = Some(error);
                Flow::Stop
            }
        }
    }
}

impl<S: Store, C: Consumer> Portions for Streamed<'_, S, C> {
    fn portion(&mut self, session: &mut dyn Session) -> Result<Flow, EngineError> {
        if let Some(error) = self.failed.take() {
            return Err(error);
        }
        let Streamed { plan, nodes, parameters, dialect, statement, consumer, graph, roots, .. } = self;
        let mut call = Call { session, nodes, parameters, dialect, statement: *statement };
        if !roots.is_empty() {
            self.objects += finish(plan, &mut call, graph, roots, *consumer)?;
        }
        self.roots.clear();
        // Nothing is recognised again that was let go.
        if let Brings::Joined(_) = self.brings {
            self.brings = self.graph.brings();
        }
        Ok(Flow::More)
    }
}
