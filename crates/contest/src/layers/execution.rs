//! Carrying out a plan, call after call.

use std::collections::HashMap;

use kampf_schema::expr::Scope;
use kampf_schema::{Span, Value, ValueRef};

use super::entity::{Managed, Plain};
use super::graph::{Call, Graph, Prepared, Ready, bound, in_order};
use super::group::OfGroup;
use super::map::Maps;
use super::nested;
use super::record::Records;
use super::store::Store;
use crate::answer::Answer;
use crate::choice::Hydration;
use crate::dialect::Dialect;
use crate::engine::{EngineError, EngineErrorKind, Flow, Sent, Session};
use crate::plan::{AppLeaf, LayoutColumn, Plan, length_of};
use crate::sql::Shape;

/// Takes an answer, value by value.
pub trait Consumer {
    /// A call begins.
    fn begin(&mut self) {}
    /// A row begins.
    fn row(&mut self);
    /// The next value of the row.
    fn value(&mut self, value: ValueRef<'_>);
    /// The next value of the row is a list: its rows follow, each with its values, up to [`Consumer::end`].
    fn list(&mut self);
    /// A row of a list begins.
    fn item(&mut self);
    /// The list is over.
    fn end(&mut self);
    /// So many rows came, which is not how many are expected: that is the answer, and what was taken in this call is void.
    fn came(&mut self, rows: u64);
}

/// Touches every value once, so that none can be left out, and keeps nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct Touch {
    mixed: u64,
    rows: u64,
    /// Rows taken before the current call.
    before: u64,
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
    fn begin(&mut self) {
        self.before = self.rows;
    }

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
            ValueRef::List(values) => values.len() as u64,
        };
        self.mixed = self.mixed.rotate_left(5) ^ bits;
    }

    fn list(&mut self) {
        self.mixed = self.mixed.rotate_left(7);
    }

    #[inline]
    fn item(&mut self) {
        self.mixed = self.mixed.wrapping_add(1);
    }

    fn end(&mut self) {
        self.mixed = self.mixed.rotate_left(3);
    }

    fn came(&mut self, rows: u64) {
        self.mixed ^= rows;
        self.rows = self.before;
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
    /// The answer so far.
    pub answer: Answer,
    /// The lists that are not over, the innermost last, each with its rows so far.
    open: Vec<Vec<Vec<Value>>>,
}

impl Collect {
    fn put(&mut self, value: Value) {
        let rows = self.open.last_mut().unwrap_or(&mut self.answer.rows);
        if let Some(row) = rows.last_mut() {
            row.push(value);
        }
    }
}

impl Consumer for Collect {
    fn row(&mut self) {
        let width = self.answer.rows.last().map_or(0, Vec::len);
        self.answer.rows.push(Vec::with_capacity(width));
    }

    fn value(&mut self, value: ValueRef<'_>) {
        self.put(value.to_value());
    }

    fn list(&mut self) {
        self.open.push(Vec::new());
    }

    fn item(&mut self) {
        if let Some(list) = self.open.last_mut() {
            list.push(Vec::new());
        }
    }

    fn end(&mut self) {
        let rows = self.open.pop().unwrap_or_default();
        self.put(Value::List(rows.into_iter().map(|row| Value::List(row.into())).collect()));
    }

    fn came(&mut self, rows: u64) {
        self.answer = Answer::unexpected(rows);
    }
}

/// For each parameter how many values it has; none where it is null.
type Shaped = Vec<Option<usize>>;

/// A plan with its statements in one session. Statements are printed and prepared when first sent, and kept.
pub struct Execution {
    plan: Plan,
    dialect: &'static Dialect,
    /// The root's statement, for the shape of the last call.
    root: Option<Ready>,
    /// The root's statements by shape: which parameters are given and how many values lists have.
    by_shape: HashMap<Shaped, Ready>,
    /// The shape of the last call; none where no statement depends on parameters.
    shape: Option<Shaped>,
    prepared: Prepared,
    /// Objects built by the last call.
    objects: u64,
}

impl Execution {
    /// Nothing is sent yet.
    pub fn new(plan: Plan, dialect: &'static Dialect) -> Execution {
        let prepared = vec![Default::default(); plan.nodes.len()];
        let varies = plan.root.varies() || plan.nodes.iter().filter_map(|node| node.statement.as_ref()).any(|one| one.select.varies());
        Execution { plan, dialect, root: None, by_shape: HashMap::new(), shape: varies.then(Vec::new), prepared, objects: 0 }
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
        consumer.begin();
        if self.plan.transaction {
            around(session, self.dialect.begin)?;
        }
        if let Some(last) = &self.shape {
            let shape: Shaped = (0..parameters.len()).map(|at| length_of(parameters, at)).collect();
            if *last != shape {
                self.root = self.by_shape.get(&shape).cloned();
                self.prepared.iter_mut().for_each(|node| *node = Default::default());
                self.shape = Some(shape);
            }
        }
        if self.root.is_none() {
            self.prepare_root(session, parameters)?;
        }
        let Some(root) = &self.root else { return Ok(()) };
        let binds = bound(&root.binds, parameters, &[]);
        let (plan, dialect) = (&self.plan, self.dialect);
        let mut call = Call { session, prepared: &mut self.prepared, parameters, dialect };
        self.objects = match plan.hydration {
            Hydration::Raw => raw(plan, &mut call, root, &binds, consumer)?,
            Hydration::Record => kept::<Records, C>(plan, &mut call, root, &binds, consumer)?,
            Hydration::Map => kept::<Maps, C>(plan, &mut call, root, &binds, consumer)?,
            Hydration::Plain => kept::<Plain, C>(plan, &mut call, root, &binds, consumer)?,
            Hydration::Managed => kept::<Managed, C>(plan, &mut call, root, &binds, consumer)?,
        };
        if self.plan.transaction {
            around(session, self.dialect.commit)?;
        }
        Ok(())
    }

    fn prepare_root(&mut self, session: &mut dyn Session, parameters: &[Value]) -> Result<(), EngineError> {
        let kinds: Vec<_> = self.plan.root.columns.iter().map(|column| column.kind).collect();
        let length = |at: usize| length_of(parameters, at);
        let printed = self.plan.root.print(self.dialect, &Shape { keys: 1, length: &length, abridged: false });
        let id = session.prepare(&printed.sql, &kinds)?;
        let names = session.columns(id);
        if self.plan.open_columns {
            self.plan.give = (0..names.len()).map(AppLeaf::of_root).collect();
            self.plan.layouts[0].columns = names.into_iter().map(|name| LayoutColumn { name }).collect();
        } else if names.len() != kinds.len() {
            return Err(EngineError {
                kind: EngineErrorKind::Statement,
                message: format!("the statement gives {} columns, but {} are asked for", names.len(), kinds.len()),
                sql: Some(printed.sql),
                cause: None,
            });
        }
        let ready = Ready { id, binds: printed.binds };
        if let Some(shape) = &self.shape {
            self.by_shape.insert(shape.clone(), ready.clone());
        }
        self.root = Some(ready);
        Ok(())
    }
}

/// Sends what begins or ends a transaction.
fn around(session: &mut dyn Session, sql: &str) -> Result<(), EngineError> {
    session.carry_out(Sent::Text { sql, kinds: &[] }, &[], &mut |_: &[ValueRef<'_>]| Flow::More).map(|_| ())
}

/// A row that is not kept, as the scope of what is asked of it.
struct InPlace<'a> {
    row: &'a [ValueRef<'a>],
    parameters: &'a [Value],
}

impl Scope<AppLeaf> for InPlace<'_> {
    type Error = EngineError;

    fn leaf(&mut self, leaf: &AppLeaf) -> Result<Value, EngineError> {
        Ok(match leaf {
            AppLeaf::Column { column, .. } => self.row.get(*column).map_or(Value::Null, |value| value.to_value()),
            AppLeaf::Parameter(at) => self.parameters.get(*at).cloned().unwrap_or(Value::Null),
            AppLeaf::Aggregate(_) | AppLeaf::Key(_) | AppLeaf::Total(_) | AppLeaf::List(_) => Value::Null,
        })
    }

    fn overflow(&mut self, _: Span, _: Option<f64>) -> Result<Value, EngineError> {
        Err(EngineError::too_large())
    }
}

/// Values used in place: one statement, nothing kept.
fn raw<C: Consumer>(plan: &Plan, call: &mut Call<'_>, root: &Ready, binds: &[ValueRef<'_>], consumer: &mut C) -> Result<u64, EngineError> {
    let takes = &plan.nodes[0].takes;
    let place = |column: usize| takes.get(column).copied().unwrap_or(column);
    let places: Option<Vec<usize>> = plan
        .give
        .iter()
        .map(|value| if let Some(AppLeaf::Column { column, .. }) = value.as_leaf() { Some(place(*column)) } else { None })
        .collect();
    // Most often the columns are just those given, in their order.
    let in_order = plan.open_columns || places.as_ref().is_some_and(|places| places.iter().copied().eq(0..plan.root.columns.len()));
    let parameters = call.parameters;
    let (mut rows, mut failed) = (0_u64, None);
    let mut as_they_come = |row: &[ValueRef<'_>]| {
        rows += 1;
        consumer.row();
        row.iter().for_each(|value| consumer.value(*value));
        Flow::More
    };
    if in_order {
        call.session.run(root.id, binds, &mut as_they_come)?;
        if !plan.expect.holds(rows) {
            consumer.came(rows);
        }
        return Ok(0);
    }
    call.session.run(root.id, binds, &mut |row: &[ValueRef<'_>]| {
        rows += 1;
        consumer.row();
        if let Some(places) = &places {
            places.iter().for_each(|&place| consumer.value(row[place]));
        } else if let Err(error) = give_in_place(plan, row, parameters, consumer) {
            failed = Some(error);
            return Flow::Stop;
        }
        Flow::More
    })?;
    if !plan.expect.holds(rows) {
        consumer.came(rows);
    }
    failed.map_or(Ok(0), Err)
}

/// What is given of a row that is not kept, where that is more than its columns. Apart, so that the loop over rows stays small.
#[inline(never)]
fn give_in_place<C: Consumer>(plan: &Plan, row: &[ValueRef<'_>], parameters: &[Value], consumer: &mut C) -> Result<(), EngineError> {
    let takes = &plan.nodes[0].takes;
    for value in &plan.give {
        match value.as_leaf() {
            Some(AppLeaf::List(list)) => nested::hand(plan, *list, row[plan.nodes[plan.lists[*list].over].offset], consumer)?,
            Some(AppLeaf::Column { column, .. }) => consumer.value(row[takes.get(*column).copied().unwrap_or(*column)]),
            _ => consumer.value(value.value(&mut InPlace { row, parameters })?.as_ref()),
        }
    }
    Ok(())
}

fn kept<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    root: &Ready,
    binds: &[ValueRef<'_>],
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let mut graph = Graph::<S>::new(plan);
    let mut roots = graph.fetch(call.session, root.id, binds)?;
    graph.load_always(call, 0, &roots)?;
    graph.load_batches(call, &roots, true)?;
    if plan.filter.is_some() || !plan.order.is_empty() || plan.limit.is_some() {
        graph.select(call, &mut roots)?;
    }
    if plan.group.is_some() {
        graph.load_batches(call, &roots, false)?;
        groups(plan, call, &mut graph, &roots, consumer)?;
    } else if plan.expect.holds(roots.len() as u64) {
        graph.load_batches(call, &roots, false)?;
        if plan.give.iter().all(|value| matches!(value.as_leaf(), Some(AppLeaf::Column { node: 0, .. }))) {
            graph.give_columns(&roots, &plan.give, consumer);
        } else {
            for &row in &roots {
                consumer.row();
                graph.give(call, 0, row, &plan.give, consumer)?;
            }
        }
    } else {
        consumer.came(roots.len() as u64);
    }
    let objects = graph.objects();
    graph.end();
    Ok(objects)
}

/// Groups the rows, sorts and cuts the groups, and gives what is asked of each.
fn groups<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    graph: &mut Graph<'_, S>,
    roots: &[u32],
    consumer: &mut C,
) -> Result<(), EngineError> {
    let mut rows = graph.group(call, roots)?;
    let parameters = call.parameters;
    if !plan.order.is_empty() {
        let mut keyed = Vec::with_capacity(rows.len());
        for row in rows {
            let keys = plan.order.iter().map(|by| by.value.value(&mut OfGroup { row: &row, parameters }));
            keyed.push((keys.collect::<Result<Vec<_>, _>>()?, row));
        }
        keyed.sort_by(|(left, _), (right, _)| in_order(left, right, &plan.order));
        rows = keyed.into_iter().map(|(_, row)| row).collect();
    }
    if let Some(limit) = plan.limit {
        rows.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
    }
    if !plan.expect.holds(rows.len() as u64) {
        consumer.came(rows.len() as u64);
        return Ok(());
    }
    for row in &rows {
        consumer.row();
        for value in &plan.give {
            consumer.value(value.value(&mut OfGroup { row, parameters })?.as_ref());
        }
    }
    Ok(())
}
