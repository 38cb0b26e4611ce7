//! Terms to sort by, and what makes an order total.

use kampf_schema::expr::{Expr, Mistake, Node};
use kampf_schema::{ColumnId, Schema, Span};

use crate::need::{Expect, Leaf, Need, OrderBy};

/// A group's term as a value.
pub(super) fn key(at: usize) -> Expr<Leaf> {
    Node::Leaf(Leaf::Key(at)).into()
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
    let own: Vec<ColumnId> = need
        .order
        .iter()
        .filter_map(|by| match by.value.as_leaf() {
            Some(Leaf::Column { source: 0, column }) => Some(*column),
            _ => None,
        })
        .collect();
    if table.is_unique_key(&own) {
        return Ok(());
    }
    let unique = table.uniques.iter().map(|unique| &unique.columns).find(|columns| table.is_unique_key(columns));
    let key = if table.primary_key.is_empty() { unique } else { Some(&table.primary_key) };
    let Some(columns) = key else {
        if need.limit.is_none() && need.expect == Expect::Many {
            return Ok(());
        }
        let message = format!("`{}` has no unique key, so a limit could cut anywhere among equal rows", table.name);
        return Err(Mistake::new(Span::default(), message).hint(format!("give `{}` a primary key, or ask without a limit", table.name)));
    };
    let missing = columns.iter().filter(|column| !own.contains(column));
    let missing: Vec<_> = missing.map(|&column| appended(Node::Leaf(Leaf::Column { source: 0, column }).into())).collect();
    need.order.extend(missing);
    Ok(())
}
