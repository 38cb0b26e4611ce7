//! Carrying out a plan, call after call.

use std::collections::HashMap;

use kampf_schema::{Value, ValueRef};

use super::cache::Answers;
use super::consumer::Consumer;
use super::entity::{Managed, Plain};
use super::graph::{Call, NodeStatements};
use super::map::Maps;
use super::portions;
use super::record::Records;
use super::sending::{Progress, Ready, SentForm, bound};
use super::whole;
use crate::choice::{Cache, Fetch, Hydration, Statement, Unit};
use crate::dialect::Dialect;
use crate::engine::{EngineError, EngineErrorKind, Flow, Session};
use crate::plan::{AppLeaf, LayoutColumn, Plan, length_of};
use crate::sql::Shape;

/// For each parameter how many values it has; none where it is null.
type Shaped = Vec<Option<usize>>;

/// A plan with its statements in one session. Statements are printed and prepared when first sent, and kept, where the plan says so.
pub struct Execution {
    plan: Plan,
    dialect: &'static Dialect,
    roots: Roots,
    /// Statements of the nodes.
    nodes: Vec<NodeStatements>,
    /// What begins and ends a transaction around a call, and takes it back.
    around: [Option<Ready>; 3],
    answers: Option<Answers>,
    /// Objects built by the last call.
    objects: u64,
}

/// The root's statement for one size of portion, 0 where all rows come at once.
struct PortionStatement {
    size: u64,
    /// Whether it asks for the first rows.
    is_first: bool,
    ready: Ready,
}

/// The root's statements.
#[derive(Default)]
pub(super) struct Roots {
    /// Those of the last call: one, or with portions several.
    current: Vec<PortionStatement>,
    /// The same for other shapes of the parameters: which are given and how many values lists have.
    by_shape: HashMap<Shaped, Vec<PortionStatement>>,
    /// The shape of the last call; none where no statement depends on parameters.
    shape: Option<Shaped>,
}

impl Execution {
    /// Nothing is sent yet.
    pub fn new(plan: Plan, dialect: &'static Dialect) -> Execution {
        let nodes = vec![NodeStatements::default(); plan.nodes.len()];
        let varies = plan.root.varies() || plan.nodes.iter().filter_map(|node| node.statement.as_ref()).any(|one| one.select.varies());
        let roots = Roots { shape: varies.then(Vec::new), ..Roots::default() };
        let answers = (plan.manner.cache == Cache::Warm).then(|| Answers::of(&plan));
        Execution { plan, dialect, roots, nodes, around: [None, None, None], answers, objects: 0 }
    }

    /// The plan.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Entities, maps or records that the last call built.
    pub fn objects(&self) -> u64 {
        self.objects
    }

    /// Forgets all answers that are kept.
    pub fn forget(&mut self) {
        if let Some(answers) = &mut self.answers {
            answers.clear();
        }
    }

    /// One call: from the parameters to the answer, each value handed to the consumer, everything let go but answers that are kept.
    ///
    /// # Errors
    /// Those of the session, and a statement whose columns are not as many as the need gives.
    pub fn call<C: Consumer>(&mut self, session: &mut dyn Session, parameters: &[Value], consumer: &mut C) -> Result<(), EngineError> {
        consumer.begin();
        if self.answers.as_ref().is_some_and(|answers| answers.give(parameters, consumer)) {
            self.objects = 0;
            return Ok(());
        }
        self.ask(session, parameters, consumer)
    }

    /// Asks the database.
    fn ask<C: Consumer>(&mut self, session: &mut dyn Session, parameters: &[Value], consumer: &mut C) -> Result<(), EngineError> {
        if self.roots.is_for_others(parameters) {
            self.nodes.iter_mut().for_each(|node| *node = NodeStatements::default());
        }
        if self.plan.manner.unit == Unit::None {
            return self.read(session, parameters, consumer);
        }
        let Dialect { begin, commit, rollback, .. } = self.dialect;
        self.send(session, 0, begin)?;
        let read = self.read(session, parameters, consumer);
        if read.is_ok() {
            return self.send(session, 1, commit);
        }
        // What went wrong says more than that it cannot be taken back.
        let _ = self.send(session, 2, rollback);
        read
    }

    /// Sends what begins or ends a transaction.
    fn send(&mut self, session: &mut dyn Session, at: usize, sql: &str) -> Result<(), EngineError> {
        if self.around[at].is_none() {
            self.around[at] = Some(Ready::of(session, self.plan.manner.statement, sql.to_owned(), Vec::new(), &[])?);
        }
        let Some(ready) = &self.around[at] else { return Ok(()) };
        session.carry_out(ready.sent(), &[], &mut |_: &[ValueRef<'_>]| Flow::More).map(|_| ())
    }

    fn read<C: Consumer>(&mut self, session: &mut dyn Session, parameters: &[Value], consumer: &mut C) -> Result<(), EngineError> {
        let dialect = self.dialect;
        if self.plan.open_columns && self.roots.current.is_empty() {
            self.open_columns(session, parameters)?;
        }
        let Execution { plan, roots, nodes, answers, .. } = self;
        let plan: &Plan = plan;
        let mut call = Call { session, nodes, parameters, dialect, statement: plan.manner.statement };
        macro_rules! by_hydration {
            ($raw:path, $kept:ident, $($arguments:expr),*) => {
                match plan.hydration {
                    Hydration::Raw => $raw(plan, $($arguments),*)?,
                    Hydration::Record => $kept::<Records, C>(plan, $($arguments),*)?,
                    Hydration::Map => $kept::<Maps, C>(plan, $($arguments),*)?,
                    Hydration::Plain => $kept::<Plain, C>(plan, $($arguments),*)?,
                    Hydration::Managed => $kept::<Managed, C>(plan, $($arguments),*)?,
                }
            };
        }
        use portions::{streamed, windowed};
        use whole::kept;
        self.objects = match plan.manner.fetch {
            Fetch::Pages | Fetch::Chunks => by_hydration!(portions::windowed_raw, windowed, &mut call, roots, consumer),
            Fetch::Stream => {
                let root = roots.ready(plan, &mut call, 0, true)?;
                by_hydration!(portions::streamed_raw, streamed, &mut call, root, consumer)
            }
            Fetch::Whole => {
                let root = roots.ready(plan, &mut call, 0, true)?;
                let binds = bound(&root.binds, parameters, &[], Progress::NONE);
                match answers {
                    Some(answers) => answers.ask(plan, &mut call, root, &binds, consumer)?,
                    None => by_hydration!(whole::raw, kept, &mut call, root, &binds, consumer),
                }
            }
        };
        Ok(())
    }

    /// Learns what columns a developer's own statement has, which are the answer.
    fn open_columns(&mut self, session: &mut dyn Session, parameters: &[Value]) -> Result<(), EngineError> {
        let length = |at: usize| length_of(parameters, at);
        let printed = self.plan.root.print(self.dialect, &Shape { length: &length, ..Shape::PLAIN });
        let id = session.prepare(&printed.sql, &[])?;
        let names = session.columns(id);
        self.plan.give = (0..names.len()).map(AppLeaf::of_root).collect();
        self.plan.layouts[0].columns = names.into_iter().map(|name| LayoutColumn { name }).collect();
        Ok(())
    }
}

impl Roots {
    /// Whether a call has other parameters given than the one before, so that statements may have other texts; they are looked out then.
    fn is_for_others(&mut self, parameters: &[Value]) -> bool {
        let Some(last) = &mut self.shape else { return false };
        let is_same = last.len() == parameters.len() && last.iter().enumerate().all(|(at, length)| *length == length_of(parameters, at));
        if is_same && !self.current.is_empty() {
            return false;
        }
        let shape: Shaped = (0..parameters.len()).map(|at| length_of(parameters, at)).collect();
        let before = std::mem::replace(last, shape);
        let next = self.by_shape.remove(last).unwrap_or_default();
        let current = std::mem::replace(&mut self.current, next);
        if !current.is_empty() {
            self.by_shape.insert(before, current);
        }
        true
    }

    /// The root's statement for so many rows, ready to be sent.
    pub(super) fn ready(&mut self, plan: &Plan, call: &mut Call<'_>, size: u64, is_first: bool) -> Result<&Ready, EngineError> {
        let known = self.current.iter().position(|one| (one.size, one.is_first) == (size, is_first));
        let at = match known.filter(|_| call.statement != Statement::Built) {
            Some(at) => at,
            None => {
                let ready = prepared(plan, call, size, is_first)?;
                if call.statement == Statement::Built {
                    self.current.clear();
                }
                self.current.push(PortionStatement { size, is_first, ready });
                self.current.len() - 1
            }
        };
        Ok(&self.current[at].ready)
    }
}

fn prepared(plan: &Plan, call: &mut Call<'_>, size: u64, is_first: bool) -> Result<Ready, EngineError> {
    let kinds: Vec<_> = plan.root.columns.iter().map(|column| column.kind).collect();
    let length = |at: usize| length_of(call.parameters, at);
    let printed = plan.root.print(call.dialect, &Shape { length: &length, size, is_first, ..Shape::PLAIN });
    let ready = Ready::of(call.session, call.statement, printed.sql, printed.binds, &kinds)?;
    if let (Ready { form: SentForm::Kept(id), .. }, false) = (&ready, plan.open_columns) {
        let columns = call.session.columns(*id).len();
        if columns != kinds.len() {
            let printed = plan.root.print(call.dialect, &Shape { length: &length, size, is_first, ..Shape::PLAIN });
            return Err(EngineError {
                kind: EngineErrorKind::Statement,
                message: format!("the statement gives {columns} columns, but {} are asked for", kinds.len()),
                sql: Some(printed.sql),
                cause: None,
            });
        }
    }
    Ok(ready)
}
