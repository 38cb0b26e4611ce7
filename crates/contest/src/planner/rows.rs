//! Plans with the rows of sources as nodes: what is kept of each, and how they hang together.

mod statements;

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, TableId};

use super::frame::Ground;
use super::list::{self, Listed};
use super::split::left_of_source;
use super::{Split, Ways, has_aggregate};
use crate::choice::{Columns, Hydration, Loading};
use crate::need::{Fold, Leaf, OrderBy};
use crate::plan::{AppAggregate, AppFold, AppGroup, AppLeaf, Plan, Reach};

/// A source whose rows come to the application.
struct Tree {
    source: usize,
    parent: usize,
    for_selection: bool,
}

pub(super) struct Rows<'a> {
    ground: Ground<'a>,
    ways: Ways,
    split: Split,
    /// The values that come with the root's row; none where columns of tables are kept.
    list: Option<Vec<Listed>>,
    /// How rows of related sources come.
    reach: Reach,
    tree: Vec<Tree>,
    /// What the application evaluates, in all places.
    wanted: Vec<Expr<Leaf>>,
    /// The aggregates that it computes, as places among the need's.
    aggregates: Vec<usize>,
    /// Kept columns per table, in the order of the tables' first use.
    kept: Vec<(TableId, Vec<ColumnId>)>,
    /// Relations kept with the rows of each table: sources that stand for them.
    slots: Vec<(TableId, Vec<usize>)>,
}

impl<'a> Rows<'a> {
    pub(super) fn new(ground: Ground<'a>, ways: Ways, split: Split) -> Rows<'a> {
        let mut rows = Rows {
            ground,
            ways,
            list: None,
            reach: Reach::Batched,
            tree: vec![Tree { source: 0, parent: 0, for_selection: true }],
            wanted: Vec::new(),
            aggregates: Vec::new(),
            kept: Vec::new(),
            slots: Vec::new(),
            split,
        };
        let (wanted, selecting) = rows.split.app_values(ground.need);
        let all: Vec<&Expr<Leaf>> = wanted.iter().chain(&selecting).copied().collect();
        if is_list(ways, &all) {
            rows.list = Some(list::listed(ground, ways, &rows.split));
        } else {
            rows.reach = match ways.loading {
                Loading::Lazy => Reach::Lazy,
                Loading::Batched => Reach::Batched,
                _ => Reach::Joined,
            };
        }
        selecting.into_iter().for_each(|value| rows.want(value, true));
        wanted.into_iter().for_each(|value| rows.want(value, false));
        rows.keep_columns();
        rows.keep_slots();
        rows
    }

    /// The place of a value among those that come with the root's row.
    fn place(&self, value: &Expr<Leaf>) -> Option<usize> {
        self.list.as_ref()?.iter().position(|listed| listed.value == *value)
    }

    /// Sees to it that what a value is made from comes.
    fn want(&mut self, value: &Expr<Leaf>, for_selection: bool) {
        if self.place(value).is_some() {
            return;
        }
        self.wanted.push(value.clone());
        for leaf in value.leaves() {
            if self.place(&Node::Leaf(leaf.clone()).into()).is_some() {
                continue;
            }
            match leaf {
                Leaf::Column { source, .. } => {
                    self.reach_source(*source, for_selection);
                }
                Leaf::Aggregate(at) => {
                    let aggregate = &self.ground.need.aggregates[*at];
                    if !self.aggregates.contains(at) {
                        self.aggregates.push(*at);
                    }
                    self.reach_source(aggregate.over, for_selection);
                    if let Some(of) = &aggregate.fold.of {
                        self.want(of, for_selection);
                    }
                }
                Leaf::Parameter(_) | Leaf::Key(_) | Leaf::Total(_) => {}
            }
        }
    }

    /// Adds the nodes that lead to a source and gives the last one's place.
    fn reach_source(&mut self, source: usize, for_selection: bool) -> usize {
        if source == 0 {
            return 0;
        }
        let parent = self.reach_source(self.ground.need.sources[source].parent, for_selection);
        if let Some(at) = self.tree.iter().position(|node| node.source == source) {
            self.tree[at].for_selection |= for_selection;
            return at;
        }
        self.tree.push(Tree { source, parent, for_selection });
        let at = self.tree.len() - 1;
        for part in left_of_source(self.ground, source) {
            self.want(&part, for_selection);
        }
        at
    }

    fn table(&self, node: usize) -> TableId {
        self.ground.need.sources[self.tree[node].source].table
    }

    /// Whether the root's row is a list of values, and not columns of its table.
    fn root_is_list(&self) -> bool {
        self.list.is_some()
    }

    fn keep_columns(&mut self) {
        let need = self.ground.need;
        let from = usize::from(self.root_is_list());
        let tables: Vec<TableId> = (from..self.tree.len()).map(|node| self.table(node)).collect();
        for &table in &tables {
            self.keep(table, &[]);
        }
        if self.ways.columns == Columns::All {
            for &table in &tables {
                let all: Vec<ColumnId> = (0..self.ground.schema.table(table).columns.len()).collect();
                self.keep(table, &all);
            }
        }
        let leaves: Vec<Leaf> = self.wanted.iter().flat_map(Expr::leaves).cloned().collect();
        for leaf in leaves {
            if let Leaf::Column { source, column } = leaf
                && !(source == 0 && self.root_is_list())
                && self.tree.iter().any(|node| node.source == source)
            {
                self.keep(need.sources[source].table, &[column]);
            }
        }
        for node in from..self.tree.len() {
            let table = self.table(node);
            if self.reach == Reach::Joined && self.tree.len() > 1 {
                let key = self.ground.schema.table(table).primary_key.clone();
                self.keep(table, &key);
            }
            if let Some(hop) = need.sources[self.tree[node].source].hop.clone() {
                self.keep_root_or(self.tree[node].parent, &hop.from_columns);
                self.keep(hop.to, &hop.to_columns);
            }
        }
    }

    /// Keeps columns of a node's rows; with a list of values for the root they are added to that.
    fn keep_root_or(&mut self, node: usize, columns: &[ColumnId]) {
        if node > 0 || !self.root_is_list() {
            self.keep(self.table(node), columns);
            return;
        }
        let table = self.ground.schema.table(self.ground.need.root());
        for &column in columns {
            let value: Expr<Leaf> = Node::Leaf(Leaf::Column { source: 0, column }).into();
            if self.place(&value).is_none()
                && let Some(list) = &mut self.list
            {
                list.push(Listed::own(value, &table.columns[column].name));
            }
        }
    }

    fn keep(&mut self, table: TableId, columns: &[ColumnId]) {
        let at = self.kept.iter().position(|(known, _)| *known == table).unwrap_or_else(|| {
            self.kept.push((table, Vec::new()));
            self.kept.len() - 1
        });
        let kept = &mut self.kept[at].1;
        kept.extend(columns.iter().filter(|column| !kept.contains(column)).copied().collect::<Vec<_>>());
        kept.sort_unstable();
    }

    /// A relation has one place with the rows of its table, whichever of its nodes it is reached by.
    fn keep_slots(&mut self) {
        for node in 1..self.tree.len() {
            let source = self.tree[node].source;
            let from = self.ground.need.sources[self.ground.need.sources[source].parent].table;
            let own_place = self.tree[node].parent == 0 && self.root_is_list();
            if own_place || self.slot(source, from).is_some() {
                continue;
            }
            match self.slots.iter_mut().find(|(table, _)| *table == from) {
                Some((_, sources)) => sources.push(source),
                None => self.slots.push((from, vec![source])),
            }
        }
    }

    fn slot(&self, source: usize, from: TableId) -> Option<usize> {
        let need = self.ground.need;
        let own = &need.sources[source];
        let same = |known: &usize| {
            let other = &need.sources[*known];
            *known == source || (other.hop == own.hop && own.filter.is_none() && other.filter.is_none())
        };
        self.slots.iter().find(|(table, _)| *table == from).and_then(|(_, sources)| sources.iter().position(same))
    }

    /// Nodes that hang on a root whose row is a list of values, in their order.
    fn root_slots(&self) -> Vec<usize> {
        (1..self.tree.len()).filter(|&node| self.tree[node].parent == 0).collect()
    }

    fn layout(&self, node: usize) -> usize {
        if self.root_is_list() && node == 0 {
            return 0;
        }
        let table = self.table(node);
        let at = self.kept.iter().position(|(known, _)| *known == table).unwrap_or(0);
        at + usize::from(self.root_is_list())
    }

    fn kept_of(&self, table: TableId) -> &[ColumnId] {
        self.kept.iter().find(|(known, _)| *known == table).map(|(_, columns)| columns.as_slice()).unwrap_or_default()
    }

    /// Places of columns in a node's rows.
    fn places(&self, node: usize, columns: &[ColumnId]) -> Vec<usize> {
        if self.root_is_list() && node == 0 {
            let place = |&column: &ColumnId| self.place(&Node::Leaf(Leaf::Column { source: 0, column }).into());
            return columns.iter().filter_map(place).collect();
        }
        let kept = self.kept_of(self.table(node));
        columns.iter().filter_map(|column| kept.iter().position(|known| known == column)).collect()
    }

    fn node_of(&self, source: usize) -> usize {
        self.tree.iter().position(|node| node.source == source).unwrap_or(0)
    }

    /// A value as the application evaluates it.
    fn app(&self, value: &Expr<Leaf>) -> Expr<AppLeaf> {
        if let Some(place) = self.place(value) {
            return AppLeaf::of_root(place);
        }
        value.map(&mut |leaf| {
            let place = self.place(&Node::Leaf(leaf.clone()).into());
            place.map_or_else(|| Node::Leaf(self.app_leaf(leaf)).into(), AppLeaf::of_root)
        })
    }

    /// A value that is asked of a row below the root's, which carries none that are worked out already.
    fn app_below(&self, value: &Expr<Leaf>) -> Expr<AppLeaf> {
        value.map(&mut |leaf| Node::Leaf(self.app_leaf(leaf)).into())
    }

    fn app_leaf(&self, leaf: &Leaf) -> AppLeaf {
        match leaf {
            Leaf::Column { source, column } => {
                let node = self.node_of(*source);
                AppLeaf::Column { node, column: self.places(node, &[*column]).first().copied().unwrap_or(0) }
            }
            Leaf::Aggregate(at) => AppLeaf::Aggregate(self.aggregates.iter().position(|known| known == at).unwrap_or(0)),
            Leaf::Parameter(at) => AppLeaf::Parameter(*at),
            Leaf::Key(at) => AppLeaf::Key(*at),
            Leaf::Total(at) => AppLeaf::Total(*at),
        }
    }

    pub(super) fn plan(mut self) -> Plan {
        let need = self.ground.need;
        let root = self.root_statement();
        let layouts = self.layouts();
        let nodes = self.nodes();
        let aggregates = self.aggregates.iter().map(|&at| {
            let aggregate = &need.aggregates[at];
            let fold = app_fold(&aggregate.fold, |of| self.app_below(of));
            AppAggregate { at: self.node_of(aggregate.at), over: self.node_of(aggregate.over), fold }
        });
        let aggregates = aggregates.collect();
        // A part that counts only with its parameter holds where that is null.
        let parts = self.split.app_filter(need).map(|part| {
            let condition = self.app(&part.condition);
            match part.only_if {
                Some(at) => {
                    let missing = Node::IsNull(Box::new(Node::Leaf(AppLeaf::Parameter(at)).into())).into();
                    Node::Or(vec![missing, condition]).into()
                }
                None => condition,
            }
        });
        let parts: Vec<Expr<AppLeaf>> = parts.collect();
        let group = need.group.as_ref().map(|group| AppGroup {
            keys: group.keys.iter().map(|key| self.app(&key.value)).collect(),
            totals: group.totals.iter().map(|total| app_fold(total, |of| self.app(of))).collect(),
        });
        let order = need.order.iter().filter(|_| !self.split.order);
        let order = order.map(|by| OrderBy { value: self.app(&by.value), descending: by.descending, appended: by.appended });
        Plan {
            hydration: self.ways.hydration,
            root,
            layouts,
            nodes,
            aggregates,
            filter: (!parts.is_empty()).then(|| Expr::all(parts)),
            group,
            give: need.give.iter().map(|given| self.app(&given.value)).collect(),
            order: order.collect(),
            limit: need.most().filter(|_| !self.split.limit),
            expect: need.expect,
            left: std::mem::take(&mut self.split.left),
            transaction: false,
            open_columns: false,
        }
    }
}

fn app_fold(fold: &Fold, app: impl Fn(&Expr<Leaf>) -> Expr<AppLeaf>) -> AppFold {
    AppFold { function: fold.function, distinct: fold.distinct, of: fold.of.as_ref().map(app) }
}

/// Whether every value comes with the root's own row, so that nothing else is kept; but for aggregates that the engine cannot say.
fn is_list(ways: Ways, values: &[&Expr<Leaf>]) -> bool {
    let related = |leaf: &Leaf| matches!(leaf, Leaf::Aggregate(_)) || matches!(leaf, Leaf::Column { source, .. } if *source != 0);
    let has_relations = values.iter().flat_map(|value| value.leaves()).any(related);
    match ways.loading {
        Loading::Grouped | Loading::Computed => true,
        Loading::Joined => {
            let to_one = !values.iter().any(|value| has_aggregate(value));
            !has_relations || (to_one && matches!(ways.hydration, Hydration::Map | Hydration::Record | Hydration::Raw))
        }
        Loading::Lazy | Loading::Batched => !has_relations,
    }
}
