//! Plans with the rows of sources as nodes: what is kept of each, how they hang together, and the statements that fetch them.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, HopKind, TableId};

use super::frame::{Frame, Ground, ToOne, always};
use super::list::{self, Listed};
use super::split::{left_of_source, unsaid};
use super::{Split, Ways, has_aggregate};
use crate::choice::{Columns, Hydration, Loading};
use crate::dialect::KeyList;
use crate::need::{Fold, Leaf, OrderBy};
use crate::plan::{
    AppAggregate, AppFold, AppGroup, AppLeaf, Body, Layout, LayoutColumn, Link, Plan, PlanNode, Reach, RelationStatement, ResultColumn,
    RootStatement,
};
use crate::statement::{Keys, Select, Selected, SortKey, Term};

/// Keys of one list parameter at most: longer lists gain nothing and cost memory on both sides.
const KEYS_OF_A_LIST: usize = 100_000;
/// Parameters that are kept free for conditions besides the keys of a list.
const KEPT_FREE: usize = 64;

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
            return crate::sql::column(place);
        }
        let seen = |leaf: &Leaf| {
            if let Some(place) = self.place(&Node::Leaf(leaf.clone()).into()) {
                return AppLeaf::Column { node: 0, column: place };
            }
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
        };
        value.map(&mut |leaf| Node::Leaf(seen(leaf)).into())
    }

    fn app_fold(&self, fold: &Fold) -> AppFold {
        AppFold { function: fold.function, distinct: fold.distinct, of: fold.of.as_ref().map(|of| self.app(of)) }
    }

    pub(super) fn plan(mut self) -> Plan {
        let need = self.ground.need;
        let root = self.root_statement();
        let layouts = self.layouts();
        let nodes = self.nodes();
        let aggregates = self.aggregates.iter().map(|&at| {
            let aggregate = &need.aggregates[at];
            AppAggregate { at: self.node_of(aggregate.at), over: self.node_of(aggregate.over), fold: self.app_fold(&aggregate.fold) }
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
            totals: group.totals.iter().map(|total| self.app_fold(total)).collect(),
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

    fn layouts(&self) -> Vec<Layout> {
        let schema = self.ground.schema;
        let mut layouts = Vec::new();
        if let Some(list) = &self.list {
            let table = schema.table(self.ground.need.root());
            let key = self.places(0, &table.primary_key);
            layouts.push(Layout {
                name: table.name.clone(),
                columns: list.iter().map(|listed| LayoutColumn { name: listed.name.clone() }).collect(),
                key: if key.len() == table.primary_key.len() { key } else { Vec::new() },
                slots: self.root_slots().len(),
            });
        }
        for (table, columns) in &self.kept {
            let model = schema.table(*table);
            let places = model.primary_key.iter().filter_map(|column| columns.iter().position(|known| known == column));
            let key: Vec<usize> = places.collect();
            layouts.push(Layout {
                name: model.name.clone(),
                columns: columns.iter().map(|&column| LayoutColumn { name: model.columns[column].name.clone() }).collect(),
                key: if key.len() == model.primary_key.len() { key } else { Vec::new() },
                slots: self.slots.iter().find(|(known, _)| known == table).map_or(0, |(_, sources)| sources.len()),
            });
        }
        layouts
    }

    fn nodes(&self) -> Vec<PlanNode> {
        let mut nodes: Vec<PlanNode> = Vec::new();
        let mut offset = 0;
        for (at, node) in self.tree.iter().enumerate() {
            let path = if at == 0 { Vec::new() } else { nodes[node.parent].path.iter().copied().chain([at]).collect() };
            let left: Vec<Expr<AppLeaf>> = left_of_source(self.ground, node.source).iter().map(|part| self.app(part)).collect();
            let statement = match self.reach {
                Reach::Lazy if at > 0 => Some(self.relation_statement(at, 1)),
                Reach::Batched if at > 0 => Some(self.relation_statement(at, self.ground.dialect.max_parameters)),
                _ => None,
            };
            nodes.push(PlanNode {
                layout: self.layout(at),
                link: self.link(at),
                path,
                for_selection: node.for_selection,
                filter: (!left.is_empty()).then(|| Expr::all(left)),
                statement,
                offset,
            });
            offset +=
                if at == 0 && self.root_is_list() { self.list.as_ref().map_or(0, Vec::len) } else { self.kept_of(self.table(at)).len() };
        }
        nodes
    }

    fn link(&self, at: usize) -> Option<Link> {
        let need = self.ground.need;
        let Tree { source, parent, .. } = self.tree[at];
        let hop = need.sources[source].hop.as_ref()?;
        let key = &self.ground.schema.table(hop.to).primary_key;
        let slot = if parent == 0 && self.root_is_list() {
            self.root_slots().iter().position(|&node| node == at)
        } else {
            self.slot(source, hop.from)
        };
        Some(Link {
            reach: self.reach,
            parent,
            slot: slot.unwrap_or(0),
            kind: hop.kind,
            from: self.places(parent, &hop.from_columns),
            to: self.places(at, &hop.to_columns),
            by_key: hop.kind == HopKind::One && !key.is_empty() && *key == hop.to_columns && need.sources[source].filter.is_none(),
        })
    }

    fn result_columns(&self, node: usize) -> Vec<ResultColumn> {
        if let (0, Some(list)) = (node, &self.list) {
            let kind = |value| self.ground.need.kind_of(self.ground.schema, value);
            return list.iter().map(|listed| ResultColumn { name: listed.name.clone(), kind: Some(kind(&listed.value)) }).collect();
        }
        let table = self.ground.schema.table(self.table(node));
        let column = |&column: &ColumnId| ResultColumn { name: table.columns[column].name.clone(), kind: Some(table.columns[column].kind) };
        self.kept_of(self.table(node)).iter().map(column).collect()
    }

    /// The statement that fetches a source's rows for one key or a list of them, and only those that its condition takes.
    fn relation_statement(&self, at: usize, most: usize) -> RelationStatement {
        let Ground { need, dialect, schema } = self.ground;
        let source = &need.sources[self.tree[at].source];
        let to_columns = source.hop.as_ref().map(|hop| hop.to_columns.clone()).unwrap_or_default();
        let mut frame = Frame::new(self.ground, self.tree[at].source);
        for part in source.filter.iter().flat_map(Expr::conjuncts).filter(|part| unsaid(self.ground, part).is_none()) {
            let said = frame.say(part, ToOne::Join);
            frame.select.filter.push(always(said));
        }
        let alone = frame.select.filter.is_empty();
        let alias = frame.first_alias().to_owned();
        let table = schema.table(source.table);
        let term = |&column: &ColumnId| Term::Column {
            table: (!alone).then(|| alias.clone()),
            name: table.columns[column].name.clone(),
            kind: table.columns[column].kind,
        };
        let columns = self.kept_of(source.table).iter().map(|column| Selected { value: Node::Leaf(term(column)).into(), name: None });
        frame.select.columns = vec![columns.collect()];
        let is_list = to_columns.len() == 1 && most > 1 && dialect.key_list == KeyList::Array;
        let free = if alone { 0 } else { KEPT_FREE };
        let most = if most == 1 { 1 } else { (most.saturating_sub(free) / to_columns.len().max(1)).max(2) };
        frame.select.keys =
            Some(Keys { columns: to_columns.iter().map(term).collect(), most: if is_list { KEYS_OF_A_LIST } else { most }, is_list });
        RelationStatement { select: frame.select, columns: self.result_columns(at) }
    }

    /// The root's statement. A limit counts roots, so where a join multiplies rows it stands in a sub-select.
    fn root_statement(&self) -> RootStatement {
        let need = self.ground.need;
        if let Some(list) = &self.list {
            let select = list::statement(self.ground, self.ways, &self.split, list);
            return RootStatement { body: Body::Select(Box::new(select)), columns: self.result_columns(0) };
        }
        let joined = self.reach == Reach::Joined;
        let nodes: Vec<usize> = if joined { (0..self.tree.len()).collect() } else { vec![0] };
        let columns = nodes.iter().flat_map(|&node| self.result_columns(node)).collect();
        let is_many = |node: &Tree| need.sources[node.source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many);
        let multiplied = joined && self.tree.iter().any(is_many);
        let select = if multiplied && self.split.limit && need.most().is_some() { self.cut_inside(&nodes) } else { self.select(&nodes) };
        RootStatement { body: Body::Select(Box::new(select)), columns }
    }

    fn node_columns(&self, frame: &mut Frame<'a>, nodes: &[usize]) -> Vec<Vec<Selected>> {
        let mut lines = Vec::new();
        for &node in nodes {
            let alias = frame.reach(self.tree[node].source);
            let table = self.table(node);
            let columns = self.kept_of(table).iter();
            lines.push(columns.map(|&column| Selected { value: frame.column(&alias, table, column), name: None }).collect());
        }
        lines
    }

    /// A select of the kept columns of some nodes, with what the database does of the selection.
    fn select(&self, nodes: &[usize]) -> Select {
        let need = self.ground.need;
        let mut frame = Frame::new(self.ground, 0);
        frame.select.columns = self.node_columns(&mut frame, nodes);
        list::put_filter(&mut frame, need, self.ways, &self.split);
        if self.split.order {
            for by in &need.order {
                let value = frame.say(&by.value, ToOne::Join);
                frame.select.order.push(SortKey {
                    value,
                    descending: by.descending,
                    nullable: need.can_be_null(self.ground.schema, &by.value),
                });
            }
        }
        if self.split.limit {
            frame.select.limit = need.most();
        }
        frame.select
    }

    /// The same with filter, order and limit in a sub-select of the root's rows, which the others are joined to.
    fn cut_inside(&self, nodes: &[usize]) -> Select {
        let need = self.ground.need;
        let mut inner = self.select(&[0]);
        let mut outside = Vec::new();
        for (number, key) in (1..).zip(&mut inner.order) {
            let name = format!("sort_{number}");
            let kind = key.value.kind(&|term: &Term| Some(term.kind())).unwrap_or(kampf_schema::LogicalType::TEXT);
            let value = std::mem::replace(&mut key.value, Node::Leaf(Term::Output(name.clone(), kind)).into());
            inner.columns.push(vec![Selected { value, name: Some(name.clone()) }]);
            outside.push((name, kind, key.descending, key.nullable));
        }
        let mut outer = Frame::over(self.ground, inner);
        outer.select.columns = self.node_columns(&mut outer, nodes);
        let alias = outer.first_alias().to_owned();
        debug_assert!(need.most().is_some());
        outer.select.order = outside
            .into_iter()
            .map(|(name, kind, descending, nullable)| {
                let value = Node::Leaf(Term::Column { table: Some(alias.clone()), name, kind }).into();
                SortKey { value, descending, nullable }
            })
            .collect();
        outer.select
    }
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
