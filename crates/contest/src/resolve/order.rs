//! Terms to sort by, and what makes an order total.

use kampf_schema::expr::{Expr, Mistake, Node};
use kampf_schema::{ColumnId, Schema, Span, Table};

use crate::need::{Expect, Leaf, Need, OrderBy};

/// A group's term as a value.
pub(super) fn key(at: usize) -> Expr<Leaf> {
    Node::Leaf(Leaf::Key(at)).into()
}

/// The terms without those that an earlier one has decided: what is sorted by one value is not sorted by it again.
pub(super) fn without_repeats(order: Vec<OrderBy<Leaf>>) -> Vec<OrderBy<Leaf>> {
    let mut terms: Vec<OrderBy<Leaf>> = Vec::with_capacity(order.len());
    for by in order {
        if terms.iter().all(|term| term.value != by.value) {
            terms.push(by);
        }
    }
    terms
}

/// Appends what makes the order total: the terms of groups, or else a unique key of the root, unless the order holds it already.
pub(super) fn make_total(schema: &Schema, need: &mut Need) -> Result<(), Mistake> {
    let descending = need.order.last().is_some_and(|by| by.descending);
    let asked = !need.order.is_empty() || need.limit.is_some() || need.expect != Expect::Many;
    if !asked {
        return Ok(());
    }
    let appended = |value: Expr<Leaf>| OrderBy { value, descending, appended: true };
    if let Some(group) = &need.group {
        let missing = (0..group.keys.len()).map(key).filter(|key| need.order.iter().all(|by| by.value != *key));
        let missing: Vec<OrderBy<Leaf>> = missing.map(appended).collect();
        need.order.extend(missing);
        return Ok(());
    }
    let table = schema.table(need.root());
    if !make_total_at(table, 0, &mut need.order) && (need.limit.is_some() || need.expect != Expect::Many) {
        let message = format!("`{}` has no unique key, so a limit could cut anywhere among equal rows", table.name);
        return Err(Mistake::new(Span::default(), message).hint(format!("give `{}` a primary key, or ask without a limit", table.name)));
    }
    Ok(())
}

/// Appends a unique key of the rows at a source in the direction of the last term, unless the order holds one already. Whether the
/// order is total then.
pub(crate) fn make_total_at(table: &Table, source: usize, order: &mut Vec<OrderBy<Leaf>>) -> bool {
    let descending = order.last().is_some_and(|by| by.descending);
    let own = order.iter().filter_map(|by| match by.value.as_leaf() {
        Some(Leaf::Column { source: of, column }) if *of == source => Some(*column),
        _ => None,
    });
    let own: Vec<ColumnId> = own.collect();
    if table.is_unique_key(&own) {
        return true;
    }
    let unique = table.uniques.iter().map(|unique| &unique.columns).find(|columns| table.is_unique_key(columns));
    let key = if table.primary_key.is_empty() { unique } else { Some(&table.primary_key) };
    let Some(columns) = key else { return false };
    let missing = columns.iter().filter(|column| !own.contains(column));
    order.extend(missing.map(|&column| OrderBy { value: Node::Leaf(Leaf::Column { source, column }).into(), descending, appended: true }));
    true
}
