//! Plans whose rows of several tables are kept apart and linked in the application: lazy, batched and joined loading.

use kampf_schema::{ColumnId, Hop, HopKind, Schema, TableId};

use super::Ways;
use super::condition::{condition, sort_key};
use super::flat::can_be_null;
use super::fragment::Sql;
use super::scope::Scope;
use crate::choice::{Columns, Loading, Work};
use crate::dialect::{Dialect, KeyList, RowList};
use crate::need::{Need, OrderBy, Term};
use crate::plan::{AppTerm, Layout, LayoutColumn, Link, Plan, PlanNode, Reach, RelationStatement, ResultColumn, RootStatement};

/// A set of related rows on the way to some term.
struct TreeNode {
    path: Vec<Hop>,
    parent: usize,
    for_selection: bool,
}

struct Builder<'a> {
    schema: &'a Schema,
    need: &'a Need,
    dialect: &'a Dialect,
    ways: Ways,
    tree: Vec<TreeNode>,
    /// Kept columns per table, in the order of the tables' first use.
    kept: Vec<(TableId, Vec<ColumnId>)>,
    /// Relations kept with the rows of each table.
    slots: Vec<(TableId, Vec<Hop>)>,
}

/// Keys of one list parameter at most: longer lists gain nothing and cost memory on both sides.
const KEYS_OF_A_LIST: usize = 100_000;

pub(super) fn plan(schema: &Schema, need: &Need, dialect: &Dialect, ways: Ways) -> Plan {
    builder(schema, need, dialect, ways).plan()
}

/// The columns of each table that are kept.
pub(super) fn kept(schema: &Schema, need: &Need, dialect: &Dialect, ways: Ways) -> Vec<(TableId, Vec<ColumnId>)> {
    builder(schema, need, dialect, ways).kept
}

fn builder<'a>(schema: &'a Schema, need: &'a Need, dialect: &'a Dialect, ways: Ways) -> Builder<'a> {
    let mut builder = Builder { schema, need, dialect, ways, tree: Vec::new(), kept: Vec::new(), slots: Vec::new() };
    builder.tree.push(TreeNode { path: Vec::new(), parent: 0, for_selection: true });
    if ways.work == Work::App {
        for term in need.selection_terms() {
            builder.reach(term.path(), true);
        }
    }
    for given in &need.give {
        builder.reach(given.term.path(), false);
    }
    builder.keep_columns();
    builder
}

impl Builder<'_> {
    /// Adds the nodes of a path and gives the last one's place.
    fn reach(&mut self, path: &[Hop], for_selection: bool) -> usize {
        let Some((_, before)) = path.split_last() else { return 0 };
        let parent = self.reach(before, for_selection);
        if let Some(at) = self.tree.iter().position(|node| node.path == path) {
            self.tree[at].for_selection |= for_selection;
            return at;
        }
        self.tree.push(TreeNode { path: path.to_vec(), parent, for_selection });
        self.tree.len() - 1
    }

    fn table(&self, node: usize) -> TableId {
        self.tree[node].path.last().map_or(self.need.root, |hop| hop.to)
    }

    fn terms(&self) -> Vec<Term> {
        let selection = self.need.selection_terms().filter(|_| self.ways.work == Work::App);
        self.need.give.iter().map(|given| &given.term).chain(selection).cloned().collect()
    }

    fn keep_columns(&mut self) {
        let tables: Vec<TableId> = (0..self.tree.len()).map(|node| self.table(node)).collect();
        for &table in &tables {
            self.keep(table, &[]);
        }
        if self.ways.columns == Columns::All {
            for &table in &tables {
                let all: Vec<ColumnId> = (0..self.schema.table(table).columns.len()).collect();
                self.keep(table, &all);
            }
        } else {
            for term in self.terms() {
                if let Some(column) = term.column() {
                    self.keep(term.table(self.need.root), &[column]);
                }
            }
            let repeats = self.ways.loading == Loading::Joined;
            for (node, &table) in tables.iter().enumerate() {
                if repeats {
                    let key = self.schema.table(table).primary_key.clone();
                    self.keep(table, &key);
                }
                if let Some(hop) = self.tree[node].path.last().cloned() {
                    self.keep(hop.from, &hop.from_columns);
                    self.keep(hop.to, &hop.to_columns);
                }
            }
        }
        for node in 1..self.tree.len() {
            let hop = self.tree[node].path[self.tree[node].path.len() - 1].clone();
            match self.slots.iter_mut().find(|(table, _)| *table == hop.from) {
                Some((_, hops)) if hops.contains(&hop) => {}
                Some((_, hops)) => hops.push(hop),
                None => self.slots.push((hop.from, vec![hop])),
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

    fn layout(&self, table: TableId) -> usize {
        self.kept.iter().position(|(known, _)| *known == table).expect("every table of the tree is kept")
    }

    fn places(&self, table: TableId, columns: &[ColumnId]) -> Vec<usize> {
        let kept = &self.kept[self.layout(table)].1;
        columns.iter().filter_map(|column| kept.iter().position(|known| known == column)).collect()
    }

    fn app_term(&self, term: &Term) -> AppTerm {
        let node = self.tree.iter().position(|node| node.path == term.path()).expect("every term's path is in the tree");
        let place = term.column().map(|column| self.places(term.table(self.need.root), &[column])[0]);
        match term {
            Term::Column { .. } => AppTerm::Column { node, column: place.expect("a column term has a column") },
            Term::Aggregate { function, .. } => AppTerm::Aggregate { function: *function, node, column: place },
        }
    }

    fn plan(&self) -> Plan {
        let root = self.root_statement();
        let layouts = self
            .kept
            .iter()
            .map(|(table, columns)| {
                let model = self.schema.table(*table);
                let key = self.places(*table, &model.primary_key);
                Layout {
                    name: model.name.clone(),
                    columns: columns.iter().map(|&column| LayoutColumn { name: model.columns[column].name.clone() }).collect(),
                    key: if key.len() == model.primary_key.len() { key } else { Vec::new() },
                    slots: self.slots.iter().find(|(known, _)| known == table).map_or(0, |(_, hops)| hops.len()),
                }
            })
            .collect();
        let mut nodes: Vec<PlanNode> = Vec::new();
        let mut offset = 0;
        for (at, node) in self.tree.iter().enumerate() {
            let table = self.table(at);
            let link = node.path.last().map(|hop| self.link(node.parent, hop));
            let path = if at == 0 { Vec::new() } else { nodes[node.parent].path.iter().copied().chain([at]).collect() };
            let statement = match (self.ways.loading, node.path.last()) {
                (Loading::Lazy, Some(hop)) => Some(self.relation_statement(hop, 1)),
                (Loading::Batched, Some(hop)) => Some(self.relation_statement(hop, self.dialect.max_parameters / hop.to_columns.len())),
                _ => None,
            };
            nodes.push(PlanNode { layout: self.layout(table), link, path, for_selection: node.for_selection, statement, offset });
            offset += self.kept[self.layout(table)].1.len();
        }
        let app = self.ways.work == Work::App;
        let order = self.need.order.iter().filter(|_| app);
        Plan {
            hydration: self.ways.hydration,
            reach: match self.ways.loading {
                Loading::Lazy => Reach::Lazy,
                Loading::Batched => Reach::Batched,
                _ => Reach::Joined,
            },
            root,
            layouts,
            nodes,
            give: self.need.give.iter().map(|given| self.app_term(&given.term)).collect(),
            filter: self.need.filter.as_ref().filter(|_| app).map(|filter| filter.map(&mut |term| self.app_term(term))),
            order: order.map(|by| OrderBy { term: self.app_term(&by.term), descending: by.descending, appended: by.appended }).collect(),
            limit: self.need.limit.filter(|_| app),
            transaction: false,
            open_columns: false,
        }
    }

    fn link(&self, parent: usize, hop: &Hop) -> Link {
        let slot = self.slots.iter().find(|(table, _)| *table == hop.from).and_then(|(_, hops)| hops.iter().position(|known| known == hop));
        let key = &self.schema.table(hop.to).primary_key;
        Link {
            parent,
            slot: slot.expect("every hop of the tree has a slot"),
            kind: hop.kind,
            from: self.places(hop.from, &hop.from_columns),
            to: self.places(hop.to, &hop.to_columns),
            by_key: hop.kind == HopKind::One && !key.is_empty() && *key == hop.to_columns,
        }
    }

    fn result_columns(&self, table: TableId) -> Vec<ResultColumn> {
        let model = self.schema.table(table);
        let kept = &self.kept[self.layout(table)].1;
        kept.iter()
            .map(|&column| ResultColumn { name: model.columns[column].name.clone(), kind: Some(model.columns[column].kind) })
            .collect()
    }

    fn relation_statement(&self, hop: &Hop, most_keys: usize) -> RelationStatement {
        let model = self.schema.table(hop.to);
        let quote = self.dialect.quote;
        let names = |columns: &[ColumnId]| columns.iter().map(|&column| quote(&model.columns[column].name)).collect::<Vec<_>>();
        let kept = names(&self.kept[self.layout(hop.to)].1);
        let keys = names(&hop.to_columns);
        let several = keys.len() > 1;
        let is_list = !several && most_keys > 1 && self.dialect.key_list == KeyList::Array;
        let (left, open, close) = match (several, most_keys) {
            (false, _) if is_list => (keys[0].clone(), " = ANY(", ")"),
            (false, 1) => (keys[0].clone(), " = ", ""),
            (false, _) => (keys[0].clone(), " IN (", ")"),
            (true, 1) => (format!("({})", keys.join(", ")), " = ", ""),
            (true, _) => {
                (format!("({})", keys.join(", ")), if self.dialect.row_list == RowList::Values { " IN (VALUES " } else { " IN (" }, ")")
            }
        };
        let placeholder = (self.dialect.placeholder)(1);
        RelationStatement {
            before: format!("SELECT {}\nFROM {}\nWHERE {left}{open}", kept.join(", "), quote(&model.name)),
            between: ", ".to_owned(),
            after: close.to_owned(),
            parentheses: several,
            most_keys: if is_list { KEYS_OF_A_LIST } else { most_keys.max(1) },
            is_list,
            placeholder: placeholder.replace('1', "#"),
            columns: self.result_columns(hop.to),
        }
    }

    /// The root's statement. A limit counts roots, so where a join multiplies rows it stands in a sub-select.
    fn root_statement(&self) -> RootStatement {
        let database = self.ways.work == Work::Database;
        let joined = self.ways.loading == Loading::Joined;
        let to_many = self.tree.iter().any(|node| node.path.iter().any(|hop| hop.kind == HopKind::Many));
        let root = self.need.root;
        let mut scope = Scope::new(self.schema, self.dialect, root);
        if !joined {
            let (sql, binds) = self.select(&mut scope, &[0], database, &[]).finish(self.dialect);
            return RootStatement { sql, binds, columns: self.result_columns(root) };
        }
        let all: Vec<usize> = (0..self.tree.len()).collect();
        let columns = all.iter().flat_map(|&node| self.result_columns(self.table(node))).collect();
        let sql = if !(database && to_many && self.need.limit.is_some()) {
            self.select(&mut scope, &all, database, &[])
        } else {
            let keys: Vec<(Sql, bool, bool)> = self
                .need
                .order
                .iter()
                .map(|by| (scope.term(root, &by.term), by.descending, can_be_null(self.schema, self.need, &by.term)))
                .collect();
            let names: Vec<String> = (1..=keys.len()).map(|number| (self.dialect.quote)(&format!("sort_{number}"))).collect();
            let sort: Vec<(Sql, &str)> = keys.iter().zip(&names).map(|((key, ..), name)| (key.clone(), name.as_str())).collect();
            let inner = self.select(&mut scope, &[0], true, &sort);
            let mut outer = Scope::over(self.schema, self.dialect, root, inner);
            let mut sql = self.select(&mut outer, &all, false, &[]);
            let alias = (self.dialect.quote)(outer.root_alias());
            let order = keys.iter().zip(&names).map(|((_, descending, nullable), name)| {
                sort_key(self.dialect, Sql::text(format!("{alias}.{name}")), *descending, *nullable)
            });
            sql.push("\nORDER BY ").add(Sql::join(order, ", "));
            sql
        };
        let (sql, binds) = sql.finish(self.dialect);
        RootStatement { sql, binds, columns }
    }

    /// A select of the kept columns of some nodes, with the need's selection or without. Sort keys that are given with a
    /// name are selected too, and sorted by under that name.
    fn select(&self, scope: &mut Scope<'_>, nodes: &[usize], selection: bool, sort: &[(Sql, &str)]) -> Sql {
        let root = self.need.root;
        let mut list = Vec::new();
        for &node in nodes {
            let alias = scope.join(&self.tree[node].path);
            let table = self.table(node);
            let kept = &self.kept[self.layout(table)].1;
            list.push(Sql::text(kept.iter().map(|&column| scope.column(&alias, table, column)).collect::<Vec<_>>().join(", ")));
        }
        for (key, name) in sort {
            let mut sql = key.clone();
            sql.push(&format!(" AS {name}"));
            list.push(sql);
        }
        let (mut filter, mut order) = (Sql::default(), Sql::default());
        if selection {
            if let Some(of) = &self.need.filter {
                filter = condition(self.dialect, of, &mut |term| scope.term(root, term));
            }
            let keys: Vec<Sql> = self
                .need
                .order
                .iter()
                .enumerate()
                .map(|(at, by)| {
                    let key = sort.get(at).map_or_else(|| scope.term(root, &by.term), |(_, name)| Sql::text(*name));
                    sort_key(self.dialect, key, by.descending, can_be_null(self.schema, self.need, &by.term))
                })
                .collect();
            order = Sql::join(keys, ", ");
        }
        let mut sql = Sql::text("SELECT ");
        sql.add(Sql::join(list, ",\n  ")).add(scope.joined_sources());
        if !filter.is_empty() {
            sql.push("\nWHERE ").add(filter);
        }
        if !order.is_empty() {
            sql.push("\nORDER BY ").add(order);
        }
        if let Some(limit) = self.need.limit.filter(|_| selection) {
            sql.push(&format!("\nLIMIT {limit}"));
        }
        sql
    }
}
