//! Tenants: tables that many others belong to, whose rows are kept apart.

use kampf_fill::ties::way;
use kampf_schema::{ColumnId, TableId};

use crate::look::{Cases, Looked};
use crate::{Doubt, DoubtKind};

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, tenants: &[TableId], doubts: &mut Vec<Doubt>) {
    doubts.extend(tenants.iter().flat_map(|&tenant| across(looked, table, tenant)));
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
    let Some(own) = way(looked.schema, table, tenant) else { return Vec::new() };
    let model = looked.table(table);
    let other = |at: usize| {
        let parent = model.references[at].parent;
        if parent == tenant || own.first() == Some(&at) {
            return None;
        }
        let theirs = way(looked.schema, parent, tenant)?;
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
