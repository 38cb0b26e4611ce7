//! What the rows of sources are fetched by: layouts, nodes, and the statement of each.

use kampf_schema::expr::{Comparison, Expr, Node};
use kampf_schema::{ColumnId, HopKind, LogicalType};

use super::{Planned, Rows, Tree};
use crate::dialect::KeyList;
use crate::need::Leaf;
use crate::plan::{AppLeaf, Body, Cell, Layout, LayoutColumn, Link, PlanNode, Reach, RelationStatement, ResultColumn, RootStatement};
use crate::planner::frame::{Frame, JsonList, JsonPart, PlanGround, ToOne, always};
use crate::planner::list;
use crate::planner::split::{left_of_source, unsaid};
use crate::statement::{Keys, Select, Selected, SortKey, Table, Term};

/// Keys of one list parameter at most: longer lists gain nothing and cost memory on both sides.
const KEYS_OF_A_LIST: usize = 100_000;
/// Parameters that are kept free for conditions besides the keys of a list.
const KEPT_FREE: usize = 64;

impl<'a> Rows<'a> {
    pub(super) fn layouts(&self) -> Vec<Layout> {
        let schema = self.ground.schema;
        let mut layouts = Vec::new();
        for (node, tree) in self.tree.iter().enumerate() {
            let Some(list) = &tree.listed else { continue };
            let table = schema.table(self.table(node));
            let key = if tree.reach == Reach::Nested && node > 0 { Vec::new() } else { self.places(node, &table.primary_key) };
            layouts.push(Layout {
                name: table.name.clone(),
                columns: list.iter().map(|listed| LayoutColumn { name: listed.name.clone() }).collect(),
                key: if key.len() == table.primary_key.len() { key } else { Vec::new() },
                slots: self.hanging(node).len(),
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
                slots: self.slots.iter().find(|(known, _)| known == table).map_or(0, |(_, nodes)| nodes.len()),
            });
        }
        layouts
    }

    pub(super) fn nodes(&self) -> Vec<PlanNode> {
        let mut nodes: Vec<PlanNode> = Vec::new();
        for (at, node) in self.tree.iter().enumerate() {
            let path = if at == 0 { Vec::new() } else { nodes[node.parent].path.iter().copied().chain([at]).collect() };
            let left: Vec<Expr<AppLeaf>> = match node.own {
                None => left_of_source(self.ground, node.source).iter().map(|part| self.app(at, part)).collect(),
                Some(_) => Vec::new(),
            };
            let statement = match node.reach {
                Reach::Lazy if at > 0 => Some(self.relation_statement(at, 1)),
                Reach::Batched if at > 0 => Some(self.relation_statement(at, self.ground.dialect.max_parameters)),
                _ => None,
            };
            nodes.push(PlanNode {
                layout: self.layout(at),
                link: self.link(at),
                path,
                for_selection: node.for_selection,
                always: node.always,
                filter: (!left.is_empty()).then(|| Expr::all(left)),
                statement,
                with: self.with(at),
                offset: self.offset(at),
                cells: self.cells(at),
                takes: Vec::new(),
            });
        }
        nodes
    }

    /// How many columns of a statement's row are a node's: those that are kept, and behind them its JSON texts.
    fn width(&self, node: usize) -> usize {
        self.own_width(node) + self.nested(node).len()
    }

    fn own_width(&self, node: usize) -> usize {
        self.tree[node].listed.as_ref().map_or_else(|| self.kept_of(self.table(node)).len(), Vec::len)
    }

    fn offset(&self, node: usize) -> usize {
        let Tree { parent, reach, .. } = self.tree[node];
        if reach == Reach::Nested && node > 0 {
            let place = self.nested(parent).iter().position(|known| *known == node).unwrap_or(0);
            // In a JSON text everything stands in its own place.
            let is_inner = self.tree[parent].reach == Reach::Nested && parent > 0;
            return if is_inner { 0 } else { self.own_width(parent) + place };
        }
        self.members(self.with(node)).into_iter().take_while(|known| *known != node).map(|known| self.width(known)).sum()
    }

    /// What the array of a row in a JSON text holds.
    fn cells(&self, node: usize) -> Vec<Cell> {
        let (Reach::Nested, Some(listed)) = (self.tree[node].reach, &self.tree[node].listed) else {
            return Vec::new();
        };
        let kind = |at: usize| self.ground.need.kind_of(self.ground.schema, &listed[at].value);
        let cell = |planned: &Planned| match planned {
            Planned::Value(at) => Cell::Value(kind(*at)),
            Planned::List(list) => Cell::List(self.inner(node, *list)),
        };
        self.tree[node].cells.iter().map(cell).collect()
    }

    /// The node of a list in the rows of another.
    fn inner(&self, node: usize, list: usize) -> usize {
        self.lists.iter().find(|(at, known, _)| (*at, *known) == (node, list)).map_or(node, |(.., over)| *over)
    }

    /// The rows of a node's JSON text as they are said.
    fn json(&self, node: usize) -> JsonList {
        let list = self.tree[node].own.unwrap_or(0);
        let listed = self.tree[node].listed.as_deref().unwrap_or_default();
        let item = |planned: &Planned| match planned {
            Planned::Value(at) => JsonPart::Value(listed[*at].value.clone()),
            Planned::List(inner) => JsonPart::List(self.json(self.inner(node, *inner))),
        };
        JsonList { list, items: self.tree[node].cells.iter().map(item).collect() }
    }

    fn link(&self, at: usize) -> Option<Link> {
        let need = self.ground.need;
        let Tree { source, parent, reach, own, .. } = self.tree[at];
        if at == 0 {
            return None;
        }
        let slot = if self.is_listed(parent) {
            self.hanging(parent).iter().position(|&node| node == at)
        } else {
            self.slot(at, self.table(parent))
        };
        let slot = slot.unwrap_or(0);
        if reach == Reach::Nested {
            return Some(Link::nested(parent, slot));
        }
        if let Some(hop) = own.and_then(|list| self.first_hop(list)) {
            let keys = self.width(at)..self.width(at) + hop.to_columns.len();
            let from = self.places(parent, &hop.from_columns);
            return Some(Link { reach, parent, slot, kind: HopKind::Many, from, to: keys.collect(), by_key: false });
        }
        let hop = need.sources[source].hop.as_ref()?;
        let key = &self.ground.schema.table(hop.to).primary_key;
        let is_key = hop.kind == HopKind::One && !key.is_empty() && *key == hop.to_columns && need.sources[source].filter.is_none();
        Some(Link {
            reach,
            parent,
            slot,
            kind: hop.kind,
            from: self.places(parent, &hop.from_columns),
            to: self.places(at, &hop.to_columns),
            // What comes with its statement would be missing from a row that is known already.
            by_key: is_key && self.members(self.with(at)).len() == 1,
        })
    }

    fn result_columns(&self, node: usize) -> Vec<ResultColumn> {
        let mut columns: Vec<ResultColumn> = match &self.tree[node].listed {
            Some(list) => {
                let kind = |value| self.ground.need.kind_of(self.ground.schema, value);
                list.iter().map(|listed| ResultColumn { name: listed.name.clone(), kind: Some(kind(&listed.value)) }).collect()
            }
            None => {
                let table = self.ground.schema.table(self.table(node));
                let column =
                    |&column: &ColumnId| ResultColumn { name: table.columns[column].name.clone(), kind: Some(table.columns[column].kind) };
                self.kept_of(self.table(node)).iter().map(column).collect()
            }
        };
        columns
            .extend(self.nested(node).into_iter().map(|list| ResultColumn { name: self.json_name(list), kind: Some(LogicalType::TEXT) }));
        columns
    }

    /// What the JSON text of a list is called.
    fn json_name(&self, node: usize) -> String {
        let need = self.ground.need;
        let list = self.tree[node].own.unwrap_or(0);
        let parent = self.tree[node].parent;
        let given = if parent == 0 { &need.give } else { self.tree[parent].own.map_or(&need.give, |above| &need.lists[above].give) };
        let given = given.iter().find(|given| given.value.as_leaf() == Some(&Leaf::List(list)));
        let name = given.map_or_else(|| "list".to_owned(), |given| given.name.clone());
        let taken = self.tree[parent].listed.iter().flatten().any(|listed| listed.name == name);
        if taken { format!("{name}_list") } else { name }
    }

    /// The statement that fetches a source's rows for one key or a list of them, and only those that its condition takes.
    fn relation_statement(&self, at: usize, most: usize) -> RelationStatement {
        let PlanGround { need, schema, .. } = self.ground;
        let source = &need.sources[self.tree[at].source];
        if let Some(list) = self.tree[at].own {
            return self.ranked_statement(at, list);
        }
        let to_columns = source.hop.as_ref().map(|hop| hop.to_columns.clone()).unwrap_or_default();
        let mut frame = Frame::new(self.ground, self.tree[at].source);
        for part in source.filter.iter().flat_map(Expr::conjuncts).filter(|part| unsaid(self.ground, part).is_none()) {
            let said = frame.say(part, ToOne::Join);
            frame.select.filter.push(always(said));
        }
        let members = self.members(at);
        let alone = frame.select.filter.is_empty() && members.len() == 1 && !self.is_listed(at) && self.nested(at).is_empty();
        let alias = frame.first_alias().to_owned();
        let table = schema.table(source.table);
        let term = |&column: &ColumnId| Term::Column {
            table: (!alone).then(|| alias.clone()),
            name: table.columns[column].name.clone(),
            kind: table.columns[column].kind,
        };
        if alone {
            let columns = self.kept_of(source.table).iter().map(|column| Selected { value: Node::Leaf(term(column)).into(), name: None });
            frame.select.columns = vec![columns.collect()];
        } else {
            frame.select.columns = self.member_columns(&mut frame, &members);
        }
        let columns = to_columns.iter().map(term).collect();
        frame.select.keys = Some(self.keys(columns, most, alone));
        let columns = members.into_iter().flat_map(|member| self.result_columns(member)).collect();
        RelationStatement { select: frame.select, columns }
    }

    fn keys(&self, columns: Vec<Term>, most: usize, alone: bool) -> Keys {
        let is_list = columns.len() == 1 && most > 1 && self.ground.dialect.key_list == KeyList::Array;
        let free = if alone { 0 } else { KEPT_FREE };
        let most = if most == 1 { 1 } else { (most.saturating_sub(free) / columns.len().max(1)).max(2) };
        Keys { columns, most: if is_list { KEYS_OF_A_LIST } else { most }, is_list }
    }

    /// The statement that fetches the first rows of a list for each key: they are numbered in a select of their own.
    fn ranked_statement(&self, at: usize, list: usize) -> RelationStatement {
        let need = self.ground.need;
        let over = &need.lists[list];
        let Some(hop) = self.first_hop(list) else {
            return RelationStatement { select: Frame::new(self.ground, 0).select, columns: Vec::new() };
        };
        let mut inner = Frame::new(self.ground, 0).chain(over.at, over.over, false);
        let keys = inner.keys_of(hop);
        let part = keys.clone();
        let order = inner.sort_keys(over.over, &over.order);
        let mut columns = self.member_columns(&mut inner, &[at]);
        let mut behind = Vec::new();
        let mut results = self.result_columns(at);
        rename_lost(&mut columns, &mut results);
        let model = self.ground.schema.table(hop.to);
        for ((number, key), column) in (1..).zip(keys.clone()).zip(&hop.to_columns) {
            behind.push(Selected { value: key, name: Some(format!("key_{number}")) });
            results.push(ResultColumn { name: format!("key_{number}"), kind: Some(model.columns[*column].kind) });
        }
        let alias = self.ground.schema.table(need.sources[over.over].table).name.clone();
        let outer = |name: &str, kind: LogicalType| -> Expr<Term> {
            Node::Leaf(Term::Column { table: Some(alias.clone()), name: name.to_owned(), kind }).into()
        };
        let result = |column: &ResultColumn| outer(&column.name, column.kind.unwrap_or(LogicalType::TEXT));
        let outside = results.iter().map(|column| Selected { value: result(column), name: None }).collect();
        columns.push(behind);
        columns.push(vec![Selected { value: Node::Leaf(Term::Place { part, order }).into(), name: Some("place".to_owned()) }]);
        inner.select.columns = columns;
        let terms = keys.into_iter().filter_map(|key| key.as_leaf().cloned()).collect();
        inner.select.keys = Some(self.keys(terms, self.ground.dialect.max_parameters, false));
        let place = outer("place", LogicalType::Integer);
        let limit = i64::try_from(over.limit.unwrap_or(u64::MAX)).unwrap_or(i64::MAX);
        let limit = Node::Leaf(Term::Constant(limit)).into();
        let mut select = Select::from(Table::Derived { select: Box::new(inner.select), alias, lateral: false });
        select.columns = vec![outside];
        select.filter = vec![always(Node::Compare(Comparison::LessOrEqual, Box::new(place.clone()), Box::new(limit)).into())];
        select.order = vec![SortKey { value: place, descending: false, nullable: false }];
        RelationStatement { select, columns: results }
    }

    /// The root's statement. A limit counts roots, so where a join multiplies rows it stands in a sub-select.
    pub(super) fn root_statement(&self) -> RootStatement {
        let need = self.ground.need;
        let members = self.members(0);
        let columns = members.iter().flat_map(|&node| self.result_columns(node)).collect();
        let multiplied = members.iter().any(|&node| self.is_many(node));
        let is_cut = self.split.limit && (need.most().is_some() || self.ways.is_windowed());
        let select = if multiplied && is_cut { self.cut_inside(&members) } else { self.select(&members) };
        RootStatement { body: Body::Select(Box::new(select)), columns }
    }

    /// What is selected of some nodes whose rows come with one statement.
    fn member_columns(&self, frame: &mut Frame<'a>, members: &[usize]) -> Vec<Vec<Selected>> {
        let mut lines = Vec::new();
        for &node in members {
            let source = self.tree[node].source;
            let alias = frame.reach(source);
            match &self.tree[node].listed {
                Some(list) => lines.extend(list::columns(frame, self.forms(), source, list, &[], false)),
                None => {
                    let table = self.table(node);
                    let columns = self.kept_of(table).iter();
                    lines.push(columns.map(|&column| Selected { value: frame.column(&alias, table, column), name: None }).collect());
                }
            }
            lines.extend(self.json_columns(frame, node));
        }
        lines
    }

    /// The JSON texts that come with a node's row.
    fn json_columns(&self, frame: &mut Frame<'a>, node: usize) -> Vec<Vec<Selected>> {
        let one = |list: usize| {
            let value = Node::Leaf(Term::Json(Box::new(frame.json(&self.json(list))))).into();
            vec![Selected { value, name: Some(self.json_name(list)) }]
        };
        self.nested(node).into_iter().map(one).collect()
    }

    /// A select of what some nodes keep, the root first, with what the database does of the selection.
    fn select(&self, members: &[usize]) -> Select {
        let need = self.ground.need;
        if let Some(list) = &self.tree[0].listed {
            let mut frame = list::statement(self.forms(), &self.split, list, members.len() == 1);
            let json = self.json_columns(&mut frame, 0);
            frame.select.columns.extend(json);
            let others = self.member_columns(&mut frame, &members[1..]);
            frame.select.columns.extend(others);
            return frame.select;
        }
        let mut frame = Frame::new(self.ground, 0);
        frame.select.columns = self.member_columns(&mut frame, members);
        list::put_filter(&mut frame, need, self.ways, &self.split);
        if self.split.order {
            frame.select.order = frame.sort_keys(0, &need.order);
        }
        list::put_limit(&mut frame, need, self.ways, self.split.limit);
        frame.select
    }

    /// The same with filter, order and limit in a sub-select of the root's rows, which the others are joined to.
    fn cut_inside(&self, members: &[usize]) -> Select {
        let mut inner = self.select(&[0]);
        let mut results = self.result_columns(0);
        let lost = rename_lost(&mut inner.columns, &mut results);
        let mut outside = Vec::new();
        for (number, key) in (1..).zip(&mut inner.order) {
            let name = format!("sort_{number}");
            let kind = key.value.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
            if let Some(Term::Output(known, _)) = key.value.as_leaf() {
                let known = lost.iter().find(|(name, _)| name == known).map_or(known, |(_, other)| other).clone();
                outside.push((known.clone(), kind, key.descending, key.nullable));
                key.value = Node::Leaf(Term::Output(known, kind)).into();
                continue;
            }
            let value = std::mem::replace(&mut key.value, Node::Leaf(Term::Output(name.clone(), kind)).into());
            inner.columns.push(vec![Selected { value, name: Some(name.clone()) }]);
            outside.push((name, kind, key.descending, key.nullable));
        }
        let renamed = match &self.tree[0].listed {
            Some(list) => {
                let own = list.iter().zip(&results).filter_map(|(listed, result)| match listed.value.as_leaf() {
                    Some(Leaf::Column { source: 0, column }) => Some((*column, result.name.clone())),
                    _ => None,
                });
                own.collect()
            }
            None => {
                let kept = self.kept_of(self.table(0)).iter().zip(&results);
                let other = kept.filter(|(_, result)| lost.iter().any(|(_, name)| *name == result.name));
                other.map(|(column, result)| (*column, result.name.clone())).collect()
            }
        };
        let mut outer = Frame::over(self.ground, inner, renamed);
        let alias = outer.first_alias().to_owned();
        let of_root = |name: &str, kind| -> Expr<Term> {
            Node::Leaf(Term::Column { table: Some(alias.clone()), name: name.to_owned(), kind }).into()
        };
        outer.select.columns = match self.tree[0].listed {
            None => self.member_columns(&mut outer, members),
            Some(_) => {
                let own = results
                    .iter()
                    .map(|column| Selected { value: of_root(&column.name, column.kind.unwrap_or(LogicalType::TEXT)), name: None });
                let mut lines = vec![own.collect()];
                lines.extend(self.member_columns(&mut outer, &members[1..]));
                lines
            }
        };
        let key = |(name, kind, descending, nullable): (String, LogicalType, bool, bool)| SortKey {
            value: of_root(&name, kind),
            descending,
            nullable,
        };
        outer.select.order = outside.into_iter().map(key).collect();
        outer.select
    }
}

/// Gives columns another name whose own is lost on the way out of a select, and says which had which.
fn rename_lost(columns: &mut [Vec<Selected>], results: &mut [ResultColumn]) -> Vec<(String, String)> {
    let mut lost = Vec::new();
    for (number, (column, result)) in (1..).zip(columns.iter_mut().flatten().zip(results)) {
        if list::is_lost(&result.name) {
            let name = format!("column_{number}");
            lost.push((std::mem::replace(&mut result.name, name.clone()), name.clone()));
            column.name = Some(name);
        }
    }
    lost
}
