//! What of a need decides which choices and options there are for it.

use kampf_schema::Schema;

use crate::choice::{ChoiceOption, Choices, Columns, Hydration, Loading, Ways, Work};
use crate::dialect::Dialect;
use crate::need::{Leaf, Need};
use crate::plan::Plan;
use crate::planner::plan;
use crate::resolve::make_total_at;

/// What of a need decides which choices and options there are for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Nature {
    pub(super) has_relations: bool,
    /// Whether any related row is asked for as more than a row to one.
    pub(super) has_many: bool,
    /// Whether anything has a form of its own where relations are grouped, ranked, computed or nested.
    pub(super) has_grouped: bool,
    pub(super) has_ranked: bool,
    pub(super) has_computed: bool,
    pub(super) has_nested: bool,
    /// Whether anything filters, sorts, groups or limits the rows.
    pub(super) has_selection: bool,
    /// Whether rows are grouped.
    pub(super) has_group: bool,
    /// Whether any part of the condition counts only with its parameter.
    pub(super) has_optional: bool,
    /// Whether entities of the tables that are read are used to more than is asked for.
    pub(super) has_habits: bool,
    /// Whether anything comes over a relation to many.
    pub(super) reaches_many: bool,
    /// Whether fetching only what is needed differs from fetching everything, in any way of loading and wherever the work is done.
    pub(super) columns_matter: bool,
    /// Whether the root has a primary key, and whether every table has one.
    pub(super) has_root_key: bool,
    pub(super) has_all_keys: bool,
    /// Whether more than one row can come.
    pub(super) many_rows: bool,
    /// Whether rows have places to count from: an order, or a key to sort by.
    pub(super) can_page: bool,
    /// Why rows cannot be read from the key of the last one on; none where they can.
    pub(super) no_chunks: Option<&'static str>,
}

impl Nature {
    pub(super) fn of(schema: &Schema, need: &Need, dialect: &Dialect) -> Nature {
        let has_key = |table| !schema.table(table).primary_key.is_empty();
        Nature {
            has_relations: need.has_relations(),
            has_many: need.has_aggregates() || need.has_picks() || need.has_lists(),
            has_grouped: need.has_aggregates() || need.has_picks(),
            has_ranked: need.has_picks() || need.lists.iter().any(|list| list.limit.is_some()),
            has_computed: !need.has_lists() || need.has_aggregates() || need.has_picks() || need.reaches_one(),
            has_nested: need.has_lists() && dialect.json.is_some(),
            has_selection: need.has_selection(),
            has_group: need.group.is_some(),
            has_optional: need.filter.iter().any(|part| part.only_if.is_some()),
            has_habits: need.has_habits(),
            reaches_many: need.reaches_many(),
            columns_matter: columns_matter(schema, need, dialect),
            has_root_key: has_key(need.root()),
            has_all_keys: need.tables().into_iter().all(has_key),
            many_rows: need.gives_many(),
            can_page: can_page(schema, need),
            no_chunks: no_chunks(schema, need),
        }
    }

    /// Whether the database makes the groups, so that what comes back are no rows of a table.
    pub(super) fn groups_in_database(&self, plan: &Plan) -> bool {
        self.has_group && plan.group.is_none()
    }
}

/// Keys that link rows, and what rows are chosen and sorted by, are needed where the application does that, and not where the
/// database does.
fn columns_matter(schema: &Schema, need: &Need, dialect: &Dialect) -> bool {
    let loadings = if need.has_relations() { &[Loading::Batched, Loading::Joined, Loading::Computed][..] } else { &[Loading::Joined] };
    let works = if need.has_selection() { Work::ALL } else { &[Work::Database] };
    loadings.iter().flat_map(|&loading| works.iter().map(move |&work| (loading, work))).any(|(loading, work)| {
        let layouts = |columns| {
            let ways = Ways { loading, work, columns, hydration: Hydration::Record, ..Ways::of(&Choices::default()) };
            plan(schema, need, dialect, ways).layouts
        };
        layouts(Columns::All) != layouts(Columns::Needed)
    })
}

/// Whether rows have places to count from: pages in no total order could bring some twice and others never.
fn can_page(schema: &Schema, need: &Need) -> bool {
    let table = schema.table(need.root());
    need.group.is_some() || make_total_at(table, 0, &mut need.order.clone())
}

/// Chunks go on behind the key of the last row, which is what rows are sorted by.
fn no_chunks(schema: &Schema, need: &Need) -> Option<&'static str> {
    if need.group.is_some() {
        return Some("groups have no key to go on behind");
    }
    let table = schema.table(need.root());
    let mut order = need.order.clone();
    if !make_total_at(table, 0, &mut order) {
        return Some("without a unique key there is nothing to go on behind");
    }
    let own = |value: Option<&Leaf>| match value {
        Some(Leaf::Column { source: 0, column }) => !table.columns[*column].nullable,
        _ => false,
    };
    if !order.iter().all(|by| own(by.value.as_leaf())) {
        return Some("rows are sorted by more than columns of their own that are never null");
    }
    let one_way = order.iter().all(|by| by.descending == order[0].descending);
    (!one_way).then_some("rows are sorted in both directions")
}
