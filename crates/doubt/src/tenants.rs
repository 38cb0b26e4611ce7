//! Tenants: tables that many others belong to, whose rows are kept apart.

use kampf_schema::{ColumnId, TableId};

use crate::look::{Cases, Looked};
use crate::{Doubt, DoubtKind};
use kampf_fill::names::is_of_all;

/// So many tables belong to a tenant, at least.
const TABLES: usize = 3;

/// References are followed no further than this to a tenant.
const DEEPEST: usize = 4;

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, doubts: &mut Vec<Doubt>) {
    doubts.extend(looked.schema.ids().filter(|&tenant| is_tenant(looked, tenant)).flat_map(|tenant| across(looked, table, tenant)));
}

/// Whether rows of other tables belong to those of a table: at least three refer to it always, it is no list that all use, and itself belongs to
/// nothing.
fn is_tenant(looked: &Looked<'_>, table: TableId) -> bool {
    let of = looked.table(table);
    let belongs = |child: &TableId| *child != table && always(looked, *child).any(|(_, parent)| parent == table);
    !is_of_all(of) && always(looked, table).next().is_none() && looked.schema.ids().filter(belongs).count() >= TABLES
}

/// The references of a table that are never null, with where they lead.
fn always<'l>(looked: &'l Looked<'_>, table: TableId) -> impl Iterator<Item = (usize, TableId)> + 'l {
    let model = looked.table(table);
    let is_always = |at: &usize| model.references[*at].columns.iter().all(|&column| !model.columns[column].nullable);
    (0..model.references.len()).filter(is_always).map(|at| (at, model.references[at].parent))
}

/// The way by which a row of a table belongs to a tenant: the shortest along references that are never null.
fn way(looked: &Looked<'_>, table: TableId, tenant: TableId) -> Option<Vec<usize>> {
    let mut ways: Vec<(TableId, Vec<usize>)> = vec![(table, Vec::new())];
    for _ in 0..DEEPEST {
        let mut next = Vec::new();
        for (at, way) in &ways {
            for (reference, parent) in always(looked, *at) {
                let further: Vec<usize> = way.iter().copied().chain([reference]).collect();
                if parent == tenant {
                    return Some(further);
                }
                // Ways through people and lists say nothing of who owns a row.
                if parent != table && !next.iter().any(|(known, _)| *known == parent) && !is_of_all(looked.table(parent)) {
                    next.push((parent, further));
                }
            }
        }
        ways = next;
    }
    None
}

fn follow(looked: &Looked<'_>, table: TableId, way: &[usize], row: usize) -> Option<usize> {
    let mut at = (table, row);
    for &reference in way {
        let parent = looked.parent(at.0, reference, at.1)?;
        at = (looked.table(at.0).references[reference].parent, parent);
    }
    Some(at.1)
}

/// Rows that refer to a row of another tenant than their own.
fn across(looked: &Looked<'_>, table: TableId, tenant: TableId) -> Vec<Doubt> {
    let Some(own) = way(looked, table, tenant) else { return Vec::new() };
    let model = looked.table(table);
    let other = |at: usize| {
        let parent = model.references[at].parent;
        if parent == tenant || own.first() == Some(&at) {
            return None;
        }
        let theirs = way(looked, parent, tenant)?;
        let mut cases = Cases::default();
        for row in 0..looked.rows(table) {
            let mine = follow(looked, table, &own, row);
            let other = looked.parent(table, at, row).and_then(|parent_row| follow(looked, parent, &theirs, parent_row));
            if let Some((mine, other)) = mine.zip(other) {
                let key = |row: usize| {
                    looked.table(tenant).primary_key.first().map_or(String::new(), |&id| looked.value(tenant, row, id).to_string())
                };
                cases
                    .look(mine != other, || format!("of {} {}, and refers to one of {}", looked.table(tenant).name, key(mine), key(other)));
            }
        }
        let columns: Vec<ColumnId> = model.references[at].columns.clone();
        let names: Vec<&str> = columns.iter().map(|&column| model.columns[column].name.as_str()).collect();
        let what = format!("refer by `{}` to a row of another `{}` than their own", names.join("`, `"), looked.table(tenant).name);
        cases.doubt(DoubtKind::AcrossTenants, table, columns, what)
    };
    (0..model.references.len()).filter_map(other).collect()
}
