//! What the rows of sources are fetched by: layouts, nodes, and the statement of each.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, HopKind};

use super::{Rows, Tree};
use crate::dialect::KeyList;
use crate::plan::{AppLeaf, Body, Layout, LayoutColumn, Link, PlanNode, Reach, RelationStatement, ResultColumn, RootStatement};
use crate::planner::frame::{Frame, Ground, ToOne, always};
use crate::planner::list;
use crate::planner::split::{left_of_source, unsaid};
use crate::statement::{Keys, Select, Selected, SortKey, Term};

/// Keys of one list parameter at most: longer lists gain nothing and cost memory on both sides.
const KEYS_OF_A_LIST: usize = 100_000;
/// Parameters that are kept free for conditions besides the keys of a list.
const KEPT_FREE: usize = 64;

impl<'a> Rows<'a> {
    pub(super) fn layouts(&self) -> Vec<Layout> {
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

    pub(super) fn nodes(&self) -> Vec<PlanNode> {
        let mut nodes: Vec<PlanNode> = Vec::new();
        let mut offset = 0;
        for (at, node) in self.tree.iter().enumerate() {
            let path = if at == 0 { Vec::new() } else { nodes[node.parent].path.iter().copied().chain([at]).collect() };
            let left: Vec<Expr<AppLeaf>> = left_of_source(self.ground, node.source).iter().map(|part| self.app_below(part)).collect();
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
    pub(super) fn root_statement(&self) -> RootStatement {
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
