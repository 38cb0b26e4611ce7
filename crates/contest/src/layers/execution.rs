//! Carrying out a plan, call after call.

use kampf_schema::{Value, ValueRef};

use super::entity::{Managed, Plain};
use super::graph::{Graph, Prepared};
use super::map::Maps;
use super::record::Records;
use super::store::Store;
use crate::choice::Hydration;
use crate::engine::{EngineError, EngineErrorKind, Flow, Session, StatementId};
use crate::plan::{AppTerm, Bind, LayoutColumn, Plan};

/// Takes an answer, value by value.
pub trait Consumer {
    /// A row begins.
    fn row(&mut self);
    /// The next value of the row.
    fn value(&mut self, value: ValueRef<'_>);
}

/// Touches every value once, so that none can be left out, and keeps nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct Touch {
    mixed: u64,
    rows: u64,
}

impl Touch {
    /// Rows taken.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// What all values come to; without meaning, but it depends on each.
    pub fn mixed(&self) -> u64 {
        self.mixed
    }
}

impl Consumer for Touch {
    #[inline]
    fn row(&mut self) {
        self.rows += 1;
    }

    #[inline(always)]
    fn value(&mut self, value: ValueRef<'_>) {
        let bits = match value {
            ValueRef::Null => 1,
            ValueRef::Integer(number) | ValueRef::Timestamp(number) => number as u64,
            ValueRef::Decimal(units, _) => units.get() as u64,
            ValueRef::Real(number) => number.to_bits(),
            ValueRef::Text(text) => ends(text.as_bytes()),
            ValueRef::Boolean(truth) => u64::from(truth),
            ValueRef::Date(days) => days as u64,
            ValueRef::Uuid(bytes) => ends(&bytes),
            ValueRef::Blob(bytes) => ends(bytes),
        };
        self.mixed = self.mixed.rotate_left(5) ^ bits;
    }
}

#[inline(always)]
fn ends(bytes: &[u8]) -> u64 {
    let edge = |byte: Option<&u8>| u64::from(byte.copied().unwrap_or(0));
    bytes.len() as u64 ^ (edge(bytes.first()) << 32) ^ (edge(bytes.last()) << 40)
}

/// Keeps the whole answer.
#[derive(Clone, Debug, Default)]
pub struct Collect {
    /// The rows so far.
    pub rows: Vec<Vec<Value>>,
}

impl Consumer for Collect {
    fn row(&mut self) {
        let width = self.rows.last().map_or(0, Vec::len);
        self.rows.push(Vec::with_capacity(width));
    }

    fn value(&mut self, value: ValueRef<'_>) {
        if let Some(row) = self.rows.last_mut() {
            row.push(value.to_value());
        }
    }
}

/// A plan with its statements in one session. Statements are prepared when first sent and kept.
pub struct Execution {
    plan: Plan,
    root: Option<StatementId>,
    prepared: Prepared,
    /// Objects built by the last call.
    objects: u64,
}

impl Execution {
    /// Nothing is sent yet.
    pub fn new(plan: Plan) -> Execution {
        let prepared = vec![Default::default(); plan.nodes.len()];
        Execution { plan, root: None, prepared, objects: 0 }
    }

    /// The plan.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Entities, maps or records that the last call built.
    pub fn objects(&self) -> u64 {
        self.objects
    }

    /// One call: from the parameters to the answer, each value handed to the consumer, everything let go.
    ///
    /// # Errors
    /// Those of the session, and a statement whose columns are not as many as the need gives.
    pub fn call<C: Consumer>(&mut self, session: &mut dyn Session, parameters: &[Value], consumer: &mut C) -> Result<(), EngineError> {
        if self.plan.transaction {
            session.begin()?;
        }
        let root = match self.root {
            Some(root) => root,
            None => self.prepare_root(session)?,
        };
        let binds: Vec<ValueRef<'_>> = self
            .plan
            .root
            .binds
            .iter()
            .map(|bind| match bind {
                Bind::Value(value) => value.as_ref(),
                Bind::Parameter(at) => parameters.get(*at).map_or(ValueRef::Null, Value::as_ref),
            })
            .collect();
        let (plan, prepared) = (&self.plan, &mut self.prepared);
        self.objects = match plan.hydration {
            Hydration::Raw => raw(plan, session, root, &binds, consumer)?,
            Hydration::Record => kept::<Records, C>(plan, prepared, session, root, &binds, parameters, consumer)?,
            Hydration::Map => kept::<Maps, C>(plan, prepared, session, root, &binds, parameters, consumer)?,
            Hydration::Plain => kept::<Plain, C>(plan, prepared, session, root, &binds, parameters, consumer)?,
            Hydration::Managed => kept::<Managed, C>(plan, prepared, session, root, &binds, parameters, consumer)?,
        };
        if self.plan.transaction {
            session.commit()?;
        }
        Ok(())
    }

    fn prepare_root(&mut self, session: &mut dyn Session) -> Result<StatementId, EngineError> {
        let kinds: Vec<_> = self.plan.root.columns.iter().map(|column| column.kind).collect();
        let id = session.prepare(&self.plan.root.sql, &kinds)?;
        let names = session.columns(id);
        if self.plan.open_columns {
            self.plan.give = (0..names.len()).map(|column| AppTerm::Column { node: 0, column }).collect();
            self.plan.layouts[0].columns = names.into_iter().map(|name| LayoutColumn { name }).collect();
        } else if names.len() != kinds.len() {
            return Err(EngineError {
                kind: EngineErrorKind::Statement,
                message: format!("the statement gives {} columns, but {} are asked for", names.len(), kinds.len()),
                sql: Some(self.plan.root.sql.clone()),
                cause: None,
            });
        }
        self.root = Some(id);
        Ok(id)
    }
}

/// Values used in place: one statement, nothing kept.
fn raw<C: Consumer>(
    plan: &Plan,
    session: &mut dyn Session,
    root: StatementId,
    binds: &[ValueRef<'_>],
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let places: Vec<usize> = plan
        .give
        .iter()
        .map(|term| match term {
            AppTerm::Column { column, .. } => *column,
            AppTerm::Aggregate { column, .. } => column.unwrap_or(0),
        })
        .collect();
    // Most often the columns are just those given, in their order.
    let in_order = places.iter().copied().eq(0..plan.root.columns.len()) || plan.open_columns;
    session.run(root, binds, &mut |row: &[ValueRef<'_>]| {
        consumer.row();
        if in_order {
            row.iter().for_each(|value| consumer.value(*value));
        } else {
            places.iter().for_each(|&place| consumer.value(row[place]));
        }
        Flow::More
    })?;
    Ok(0)
}

fn kept<S: Store, C: Consumer>(
    plan: &Plan,
    prepared: &mut Prepared,
    session: &mut dyn Session,
    root: StatementId,
    binds: &[ValueRef<'_>],
    parameters: &[Value],
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let mut graph = Graph::<S>::new(plan);
    let mut roots = graph.fetch(session, root, binds)?;
    if plan.filter.is_some() || !plan.order.is_empty() || plan.limit.is_some() {
        graph.load_batches(session, prepared, &roots, true)?;
        graph.select(session, prepared, &mut roots, parameters)?;
    }
    graph.load_batches(session, prepared, &roots, false)?;
    for &row in &roots {
        consumer.row();
        for term in &plan.give {
            graph.with_value(session, prepared, row, term, |value| consumer.value(value))?;
        }
    }
    let objects = graph.objects();
    graph.end();
    Ok(objects)
}
