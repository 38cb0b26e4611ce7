//! What of a need decides which choices and options there are for it.

use kampf_schema::{HopKind, Schema};

use crate::choice::{ChoiceOption, Columns, Hydration, Loading, Work};
use crate::dialect::Dialect;
use crate::need::Need;
use crate::sql::{Ways, is_flat, kept};

/// What of a need decides which choices and options there are for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Nature {
    pub(crate) has_relations: bool,
    pub(crate) has_aggregates: bool,
    /// Whether anything filters, sorts or limits the rows.
    pub(crate) has_selection: bool,
    /// Whether any value comes over a relation to many.
    pub(crate) reaches_many: bool,
    /// Whether fetching only what is needed differs from fetching everything, in any way of loading and wherever the work is done.
    pub(crate) columns_matter: bool,
    /// Whether the root has a primary key, and whether every table has one.
    pub(crate) has_root_key: bool,
    pub(crate) has_all_keys: bool,
}

impl Nature {
    pub(crate) fn of(schema: &Schema, need: &Need, dialect: &Dialect) -> Nature {
        let has_key = |table| !schema.table(table).primary_key.is_empty();
        Nature {
            has_relations: need.has_relations(),
            has_aggregates: need.has_aggregates(),
            has_selection: need.has_selection(),
            reaches_many: need.terms().any(|term| term.path().iter().any(|hop| hop.kind == HopKind::Many)),
            columns_matter: columns_matter(schema, need, dialect),
            has_root_key: has_key(need.root),
            has_all_keys: need.tables().into_iter().all(has_key),
        }
    }

    /// Whether every value comes with the root's own row, so that nothing else is kept.
    pub(crate) fn is_flat(&self, ways: &Ways) -> bool {
        is_flat(self.has_relations, self.has_aggregates, ways)
    }
}

/// Keys that link rows, and what rows are chosen and sorted by, are needed where the application does that, and not where the
/// database does.
fn columns_matter(schema: &Schema, need: &Need, dialect: &Dialect) -> bool {
    let loadings = if need.has_relations() { &[Loading::Batched, Loading::Joined, Loading::Computed][..] } else { &[Loading::Joined] };
    let works = if need.has_selection() { Work::ALL } else { &[Work::Database] };
    loadings.iter().flat_map(|&loading| works.iter().map(move |&work| (loading, work))).any(|(loading, work)| {
        let columns = |columns| kept(schema, need, dialect, Ways { loading, work, columns, hydration: Hydration::Record }).columns();
        columns(Columns::All) != columns(Columns::Needed)
    })
}
