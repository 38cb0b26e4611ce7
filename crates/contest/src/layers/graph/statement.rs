//! Statements whose rows hold more than one node's columns.

use kampf_schema::ValueRef;

use crate::engine::{EngineError, Flow, Sent, Session};
use crate::layers::nested;
use crate::layers::repeats::{Repeats, is_member};
use crate::layers::store::{Slot, Store};
use crate::plan::{Plan, PlanNode, Reach};

/// Runs the statement of a node whose rows hold more than its own columns: joined rows, JSON texts, keys. Each of the node's rows is
/// handed on once.
#[expect(clippy::too_many_arguments, reason = "parts of a graph and of a call that are borrowed one by one")]
pub(super) fn run_statement<S: Store>(
    plan: &Plan,
    stores: &mut [S],
    node: usize,
    session: &mut dyn Session,
    statement: Sent<'_>,
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
    session.carry_out(statement, binds, &mut |row: &[ValueRef<'_>]| {
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
pub(in crate::layers) fn keep_row<S: Store>(plan: &Plan, stores: &mut [S], node: usize, part: &[ValueRef<'_>]) -> Result<u32, EngineError> {
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
