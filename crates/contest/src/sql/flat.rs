//! Plans with one statement, whose rows carry every value: plain reads, joins to one, grouped and computed loading.

use kampf_schema::{Hop, HopKind, Schema};

use super::Ways;
use super::condition::{condition, sort_key};
use super::fragment::Sql;
use super::scope::Scope;
use crate::choice::{Columns, Loading, Work};
use crate::dialect::Dialect;
use crate::need::{Condition, Need, OrderBy, Term};
use crate::plan::{AppTerm, Layout, LayoutColumn, Plan, PlanNode, Reach, ResultColumn, RootStatement};

/// One column of the select list.
struct Selected {
    term: Term,
    name: String,
    /// Whether the name was given by us or the user, and differs from what the column would be called anyway.
    named: bool,
}

pub(super) fn plan(schema: &Schema, need: &Need, dialect: &Dialect, ways: Ways) -> Plan {
    let selected = select_list(schema, need, ways);
    let mut writer = Writer { need, ways, scope: Scope::new(schema, dialect, need.root), derived: Vec::new(), group: None };
    if ways.loading == Loading::Grouped {
        writer.prepare_groups(&selected);
    }
    let sql = writer.statement(&selected);
    let (sql, binds) = sql.finish(dialect);
    let place = |term: &Term| AppTerm::Column {
        node: 0,
        column: selected.iter().position(|selected| selected.term == *term).expect("every term asked for is selected"),
    };
    let app = ways.work == Work::App;
    let own_key: Vec<usize> = schema
        .table(need.root)
        .primary_key
        .iter()
        .filter_map(|&column| selected.iter().position(|selected| selected.term == Term::Column { path: Vec::new(), column }))
        .collect();
    let whole_key = own_key.len() == schema.table(need.root).primary_key.len();
    Plan {
        hydration: ways.hydration,
        reach: Reach::Root,
        root: RootStatement {
            sql,
            binds,
            columns: selected
                .iter()
                .map(|selected| ResultColumn { name: selected.name.clone(), kind: Some(selected.term.kind(schema, need.root)) })
                .collect(),
        },
        layouts: vec![Layout {
            name: schema.table(need.root).name.clone(),
            columns: selected.iter().map(|selected| LayoutColumn { name: selected.name.clone() }).collect(),
            key: if whole_key { own_key } else { Vec::new() },
            slots: 0,
        }],
        nodes: vec![PlanNode { layout: 0, link: None, path: Vec::new(), for_selection: true, statement: None, offset: 0 }],
        give: need.give.iter().map(|given| place(&given.term)).collect(),
        filter: need.filter.as_ref().filter(|_| app).map(|filter| filter.map(&mut |term| place(term))),
        order: need
            .order
            .iter()
            .filter(|_| app)
            .map(|order| OrderBy { term: place(&order.term), descending: order.descending, appended: order.appended })
            .collect(),
        limit: need.limit.filter(|_| app),
        transaction: false,
        open_columns: false,
    }
}

/// What is kept of a row: every term with its name.
pub(super) fn kept(schema: &Schema, need: &Need, ways: Ways) -> Vec<(Term, String)> {
    select_list(schema, need, ways).into_iter().map(|selected| (selected.term, selected.name)).collect()
}

/// What is selected: all columns of the root (joined: of every table) or only what is given, then what else is asked for.
fn select_list(schema: &Schema, need: &Need, ways: Ways) -> Vec<Selected> {
    let mut list: Vec<Selected> = Vec::new();
    let mut add = |term: &Term, name: String, named: bool| {
        if list.iter().any(|selected| selected.term == *term) {
            return;
        }
        let mut unique = name.clone();
        let mut number = 1;
        while list.iter().any(|selected| selected.name == unique) {
            number += 1;
            unique = format!("{name}_{number}");
        }
        let named = named || unique != name;
        list.push(Selected { term: term.clone(), name: unique, named });
    };
    if ways.columns == Columns::All {
        for (column, model) in schema.table(need.root).columns.iter().enumerate() {
            add(&Term::Column { path: Vec::new(), column }, model.name.clone(), false);
        }
        if ways.loading == Loading::Joined {
            for path in need.terms().map(Term::path).flat_map(|path| (1..=path.len()).map(|end| &path[..end])) {
                let table = schema.table(path[path.len() - 1].to);
                for (column, model) in table.columns.iter().enumerate() {
                    add(&Term::Column { path: path.to_vec(), column }, format!("{}.{}", table.name, model.name), true);
                }
            }
        }
    }
    for given in &need.give {
        // A column asked for by its own name, in whatever letters, is called as the schema calls it.
        let own = match &given.term {
            Term::Column { path, column } if path.is_empty() => {
                Some(&schema.table(need.root).columns[*column].name).filter(|name| name.eq_ignore_ascii_case(&given.name))
            }
            _ => None,
        };
        add(&given.term, own.unwrap_or(&given.name).clone(), own.is_none());
    }
    if ways.work == Work::App {
        for term in need.selection_terms() {
            match term {
                Term::Column { path, column } if path.is_empty() => {
                    add(term, schema.table(need.root).columns[*column].name.clone(), false);
                }
                _ => add(term, "key".to_owned(), true),
            }
        }
    }
    list
}

struct Writer<'a> {
    need: &'a Need,
    ways: Ways,
    scope: Scope<'a>,
    /// With grouped loading over several branches: each aggregate and the column of a derived table that holds it.
    derived: Vec<(Term, String)>,
    /// With grouped loading over one branch: what the statement groups by.
    group: Option<Vec<String>>,
}

impl Writer<'_> {
    fn term(&mut self, term: &Term) -> Sql {
        let root = self.need.root;
        match (self.ways.loading, term) {
            (Loading::Grouped, Term::Aggregate { function, path, column }) => {
                if let Some((_, column)) = self.derived.iter().find(|(known, _)| known == term) {
                    return Sql::text(column.clone());
                }
                let alias = self.scope.join(path);
                let hop = path.last().expect("an aggregate has a path");
                let rows = self.scope.column(&alias, hop.to, hop.to_columns[0]);
                Sql::text(self.scope.aggregate(*function, &alias, term.table(root), *column, &rows))
            }
            (Loading::Computed, _) => self.scope.computed(root, term),
            _ => self.scope.term(root, term),
        }
    }

    /// One branch of aggregates is joined and grouped as it is; several would multiply each other's rows, so each is grouped
    /// in a table of its own first.
    fn prepare_groups(&mut self, selected: &[Selected]) {
        let need = self.need;
        let aggregates: Vec<&Term> = {
            let mut all: Vec<&Term> = Vec::new();
            let database = self.ways.work == Work::Database;
            let selection = need.selection_terms().filter(|_| database);
            for term in selected.iter().map(|selected| &selected.term).chain(selection) {
                if term.is_aggregate() && !all.contains(&term) {
                    all.push(term);
                }
            }
            all
        };
        let mut branches: Vec<&[Hop]> = Vec::new();
        for term in &aggregates {
            let branch = many_part(term.path());
            if !branches.contains(&branch) {
                branches.push(branch);
            }
        }
        let key = &self.scope.schema.table(need.root).primary_key;
        if branches.len() == 1 && !key.is_empty() {
            let root = self.scope.root_alias().to_owned();
            let mut group: Vec<String> = key.iter().map(|&column| self.scope.column(&root, need.root, column)).collect();
            for term in selected.iter().map(|selected| &selected.term).chain(need.selection_terms()) {
                if let Term::Column { path, column } = term
                    && !path.is_empty()
                {
                    let alias = self.scope.join(path);
                    let column = self.scope.column(&alias, term.table(need.root), *column);
                    if !group.contains(&column) {
                        group.push(column);
                    }
                }
            }
            self.group = Some(group);
            return;
        }
        for branch in branches {
            self.derive_branch(branch, &aggregates);
        }
    }

    fn derive_branch(&mut self, branch: &[Hop], aggregates: &[&Term]) {
        let need = self.need;
        let quote = self.scope.dialect.quote;
        let of_branch: Vec<&&Term> = aggregates.iter().filter(|term| many_part(term.path()) == branch).collect();
        let longest = of_branch.iter().map(|term| term.path()).max_by_key(|path| path.len()).unwrap_or(branch);
        let alias = self.scope.alias(&self.scope.schema.table(branch[0].to).name.clone());
        // Its own scope starts at the branch's first table; what lies behind is joined to that.
        let mut inner = Scope::new(self.scope.schema, self.scope.dialect, branch[0].to);
        let first = inner.root_alias().to_owned();
        let mut keys: Vec<String> = Vec::new();
        for &column in &branch[0].to_columns {
            keys.push(inner.column(&first, branch[0].to, column));
        }
        let mut list = keys.clone();
        for (number, term) in of_branch.iter().enumerate() {
            let Term::Aggregate { function, path, column } = term else { continue };
            let last = inner.join(&path[1..]);
            let hop = path.last().expect("an aggregate has a path");
            let rows = if path.len() == 1 { "*".to_owned() } else { inner.column(&last, hop.to, hop.to_columns[0]) };
            let name = format!("{}_{}", function.word(), number + 1);
            list.push(format!("{} AS {}", inner.aggregate(*function, &last, term.table(need.root), *column, &rows), quote(&name)));
            let outer = format!("{}.{}", quote(&alias), quote(&name));
            let outer = if *function == crate::need::Aggregate::Count { format!("coalesce({outer}, 0)") } else { outer };
            self.derived.push(((**term).clone(), outer));
        }
        inner.join(&longest[1..]);
        let mut sql = Sql::text(format!("SELECT {}", list.join(", ")));
        sql.add(inner.joined_sources()).push(&format!("\nGROUP BY {}", keys.join(", ")));
        self.scope.join_derived(&branch[0], &alias, sql);
    }

    fn statement(&mut self, selected: &[Selected]) -> Sql {
        let dialect = self.scope.dialect;
        let quote = dialect.quote;
        let mut list = Vec::new();
        for column in selected {
            let mut sql = self.term(&column.term);
            if column.named {
                sql.push(&format!(" AS {}", quote(&column.name)));
            }
            list.push(sql);
        }
        let (mut filter, mut having, mut order) = (Sql::default(), Sql::default(), Sql::default());
        if self.ways.work == Work::Database {
            let need = self.need;
            if let Some(condition) = &need.filter {
                (filter, having) = self.filter(condition);
            }
            let keys: Vec<Sql> = need.order.iter().map(|by| self.sort_key(by, selected)).collect();
            order = Sql::join(keys, ", ");
        }
        let mut sql = Sql::text("SELECT ");
        sql.add(Sql::join(list, ",\n  ")).add(self.scope.joined_sources());
        if !filter.is_empty() {
            sql.push("\nWHERE ").add(filter);
        }
        if let Some(group) = &self.group {
            sql.push(&format!("\nGROUP BY {}", group.join(", ")));
        }
        if !having.is_empty() {
            sql.push("\nHAVING ").add(having);
        }
        if !order.is_empty() {
            sql.push("\nORDER BY ").add(order);
        }
        if let Some(limit) = self.need.limit.filter(|_| self.ways.work == Work::Database) {
            sql.push(&format!("\nLIMIT {limit}"));
        }
        sql
    }

    /// WHERE and HAVING: parts with aggregates go behind the grouping.
    fn filter(&mut self, filter: &Condition<Term>) -> (Sql, Sql) {
        let dialect = self.scope.dialect;
        if self.group.is_none() {
            return (condition(dialect, filter, &mut |term| self.term(term)), Sql::default());
        }
        let parts: Vec<&Condition<Term>> = match filter {
            Condition::And(parts) => parts.iter().collect(),
            other => vec![other],
        };
        let (having, before): (Vec<_>, Vec<_>) = parts.into_iter().partition(|part| part.terms().any(Term::is_aggregate));
        let mut together = |parts: Vec<&Condition<Term>>| match parts.as_slice() {
            [] => Sql::default(),
            [one] => condition(dialect, one, &mut |term| self.term(term)),
            many => condition(dialect, &Condition::And(many.iter().map(|&part| part.clone()).collect()), &mut |term| self.term(term)),
        };
        (together(before), together(having))
    }

    fn sort_key(&mut self, by: &OrderBy<Term>, selected: &[Selected]) -> Sql {
        let dialect = self.scope.dialect;
        let named = selected.iter().find(|selected| selected.named && selected.term == by.term);
        let expression = match named {
            Some(column) => Sql::text((dialect.quote)(&column.name)),
            None => self.term(&by.term),
        };
        sort_key(dialect, expression, by.descending, can_be_null(self.scope.schema, self.need, &by.term))
    }
}

/// The path up to its last hop to many: aggregates that share it do not multiply each other's rows.
fn many_part(path: &[Hop]) -> &[Hop] {
    let last = path.iter().rposition(|hop| hop.kind == HopKind::Many).map_or(0, |at| at + 1);
    &path[..last]
}

/// Whether a term's value can be null.
pub(super) fn can_be_null(schema: &Schema, need: &Need, term: &Term) -> bool {
    match term {
        Term::Aggregate { function, .. } => *function != crate::need::Aggregate::Count,
        Term::Column { path, column } => {
            schema.table(term.table(need.root)).columns[*column].nullable
                || path.iter().any(|hop| hop.from_columns.iter().any(|&column| schema.table(hop.from).columns[column].nullable))
        }
    }
}
