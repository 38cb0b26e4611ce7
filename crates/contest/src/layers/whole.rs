//! Answers that are read whole: all rows are there before the first is used.

use kampf_schema::expr::Scope;
use kampf_schema::{Span, Value, ValueRef};

use super::consumer::Consumer;
use super::graph::{Call, Graph, in_order};
use super::group::OfGroup;
use super::nested;
use super::sending::Ready;
use super::store::Store;
use crate::engine::{EngineError, Flow};
use crate::plan::{AppLeaf, Plan};

/// A row that is not kept, as the scope of what is asked of it.
struct OfRow<'a> {
    row: &'a [ValueRef<'a>],
    parameters: &'a [Value],
}

impl Scope<AppLeaf> for OfRow<'_> {
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
pub(super) fn raw<C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    root: &Ready,
    binds: &[ValueRef<'_>],
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let places = plan.places();
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
        call.session.carry_out(root.sent(), binds, &mut as_they_come)?;
        if !plan.expect.holds(rows) {
            consumer.came(rows);
        }
        return Ok(0);
    }
    call.session.carry_out(root.sent(), binds, &mut |row: &[ValueRef<'_>]| {
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
pub(super) fn give_in_place<C: Consumer>(
    plan: &Plan,
    row: &[ValueRef<'_>],
    parameters: &[Value],
    consumer: &mut C,
) -> Result<(), EngineError> {
    for value in &plan.give {
        match value.as_leaf() {
            Some(AppLeaf::List(list)) => nested::hand(plan, *list, row[plan.nodes[plan.lists[*list].over].offset], consumer)?,
            Some(AppLeaf::Column { column, .. }) => consumer.value(row[plan.place(*column)]),
            _ => consumer.value(value.value(&mut OfRow { row, parameters })?.as_ref()),
        }
    }
    Ok(())
}

/// Rows that are kept in one form for as long as the call takes.
pub(super) fn kept<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    root: &Ready,
    binds: &[ValueRef<'_>],
    consumer: &mut C,
) -> Result<u64, EngineError> {
    let mut graph = Graph::<S>::new(plan);
    let mut roots = graph.fetch(call.session, root.sent(), binds)?;
    finish(plan, call, &mut graph, &mut roots, consumer)
}

/// What is done with the rows of the root once they are there: related rows, the selection, the answer; then all rows are let go. Gives how
/// many objects were built.
pub(super) fn finish<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    graph: &mut Graph<'_, S>,
    roots: &mut Vec<u32>,
    consumer: &mut C,
) -> Result<u64, EngineError> {
    load(plan, call, graph, roots)?;
    give(plan, call, graph, roots, consumer)?;
    let objects = graph.objects();
    graph.end();
    Ok(objects)
}

/// Loads related rows, and chooses among the root's.
fn load<S: Store>(plan: &Plan, call: &mut Call<'_>, graph: &mut Graph<'_, S>, roots: &mut Vec<u32>) -> Result<(), EngineError> {
    graph.load_always(call, 0, roots)?;
    graph.load_batches(call, roots, true)?;
    if plan.filter.is_some() || !plan.order.is_empty() || plan.limit.is_some() {
        graph.select(call, roots)?;
    }
    if plan.group.is_some() || plan.expect.holds(roots.len() as u64) {
        graph.load_batches(call, roots, false)?;
    }
    Ok(())
}

/// Hands on the answer, value by value.
fn give<S: Store, C: Consumer>(
    plan: &Plan,
    call: &mut Call<'_>,
    graph: &mut Graph<'_, S>,
    roots: &[u32],
    consumer: &mut C,
) -> Result<(), EngineError> {
    if plan.group.is_some() {
        return groups(plan, call, graph, roots, consumer);
    }
    if !plan.expect.holds(roots.len() as u64) {
        consumer.came(roots.len() as u64);
        return Ok(());
    }
    if plan.gives_columns() {
        graph.give_columns(roots, &plan.give, consumer);
        return Ok(());
    }
    for &row in roots {
        consumer.row();
        graph.give(call, 0, row, &plan.give, consumer)?;
    }
    Ok(())
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
