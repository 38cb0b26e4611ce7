//! The FROM of a statement: aliases, and joins added as they are needed.

use kampf_schema::{ColumnId, Hop, HopKind, Schema, TableId};

use super::fragment::Sql;
use crate::dialect::Dialect;
use crate::need::{Aggregate, Term};

/// What the tables of one statement are called, and how they are joined.
pub(crate) struct Scope<'a> {
    pub(crate) schema: &'a Schema,
    pub(crate) dialect: &'a Dialect,
    taken: Vec<String>,
    /// Ways already joined: path, alias, and whether its rows are there for every root row.
    joined: Vec<(Vec<Hop>, String, bool)>,
    sources: Sql,
}

impl<'a> Scope<'a> {
    pub(crate) fn new(schema: &'a Schema, dialect: &'a Dialect, root: TableId) -> Scope<'a> {
        let name = schema.table(root).name.clone();
        let sources = Sql::text((dialect.quote)(&name));
        Scope { schema, dialect, taken: vec![name.to_lowercase()], joined: vec![(Vec::new(), name, true)], sources }
    }

    /// A scope whose root rows come from a sub-select under the root table's name.
    pub(crate) fn over(schema: &'a Schema, dialect: &'a Dialect, root: TableId, inner: Sql) -> Scope<'a> {
        let mut scope = Scope::new(schema, dialect, root);
        let mut sources = Sql::text("(\n  ");
        sources.add(inner.indented("  ")).push("\n) AS ").push(&(dialect.quote)(&schema.table(root).name));
        scope.sources = sources;
        scope
    }

    /// A name not yet taken in this statement.
    pub(crate) fn alias(&mut self, wanted: &str) -> String {
        let mut alias = wanted.to_owned();
        let mut number = 1;
        while self.taken.contains(&alias.to_lowercase()) {
            number += 1;
            alias = format!("{wanted}_{number}");
        }
        self.taken.push(alias.to_lowercase());
        alias
    }

    pub(crate) fn root_alias(&self) -> &str {
        &self.joined[0].1
    }

    /// `"alias"."column"`.
    pub(crate) fn column(&self, alias: &str, table: TableId, column: ColumnId) -> String {
        let quote = self.dialect.quote;
        format!("{}.{}", quote(alias), quote(&self.schema.table(table).columns[column].name))
    }

    /// `"table"`, or `"table" AS "alias"`.
    fn source(&self, table: TableId, alias: &str) -> String {
        let quote = self.dialect.quote;
        let name = &self.schema.table(table).name;
        if name == alias { quote(name) } else { format!("{} AS {}", quote(name), quote(alias)) }
    }

    /// The condition that a hop's rows under `near` and `far` belong together.
    fn meets(&self, hop: &Hop, near: &str, far: &str) -> String {
        let columns = hop.to_columns.iter().zip(&hop.from_columns);
        columns
            .map(|(&to, &from)| format!("{} = {}", self.column(far, hop.to, to), self.column(near, hop.from, from)))
            .collect::<Vec<_>>()
            .join(" AND ")
    }

    /// Joins the way of a path where that is not done yet, and gives its alias.
    pub(crate) fn join(&mut self, path: &[Hop]) -> String {
        if let Some((_, alias, _)) = self.joined.iter().find(|(known, ..)| known == path) {
            return alias.clone();
        }
        let (hop, before) = path.split_last().expect("the root is always joined");
        let near = self.join(before);
        let near_is_there = self.joined.iter().any(|(known, _, there)| known == before && *there);
        let never_null = hop.from_columns.iter().all(|&column| !self.schema.table(hop.from).columns[column].nullable);
        let there = hop.kind == HopKind::One && near_is_there && never_null;
        let alias = self.alias(&self.schema.table(hop.to).name.clone());
        let join =
            format!("\n{} {} ON {}", if there { "JOIN" } else { "LEFT JOIN" }, self.source(hop.to, &alias), self.meets(hop, &near, &alias));
        self.sources.push(&join);
        self.joined.push((path.to_vec(), alias.clone(), there));
        alias
    }

    /// Joins a sub-select that stands for a path's first table, on the columns of its first hop.
    pub(crate) fn join_derived(&mut self, hop: &Hop, alias: &str, inner: Sql) {
        let near = self.root_alias().to_owned();
        let on = self.meets(hop, &near, alias);
        let quote = self.dialect.quote;
        self.sources.push("\nLEFT JOIN (\n  ").add(inner.indented("  ")).push(&format!("\n) AS {} ON {on}", quote(alias)));
    }

    /// `FROM …` with all that was joined.
    pub(crate) fn joined_sources(&self) -> Sql {
        let mut sql = Sql::text("\nFROM ");
        sql.add(self.sources.clone());
        sql
    }

    /// A sub-select over a path's rows for the current root row. `what` gives the expression from the alias of the last table.
    pub(crate) fn sub_select(&mut self, path: &[Hop], what: impl FnOnce(&Scope<'a>, &str) -> String) -> Sql {
        let root = self.root_alias().to_owned();
        let outside = self.taken.len();
        let (from, first, last) = self.chain(path);
        let expression = what(self, &last);
        let on = self.meets(&path[0], &root, &first);
        // Its aliases end with it; the next sub-select may use the same.
        self.taken.truncate(outside);
        Sql::text(format!("(SELECT {expression} FROM {from} WHERE {on})"))
    }

    /// The tables of a path joined among themselves: text, first alias, last alias.
    pub(crate) fn chain(&mut self, path: &[Hop]) -> (String, String, String) {
        let first = self.alias(&self.schema.table(path[0].to).name.clone());
        let mut text = self.source(path[0].to, &first);
        let mut near = first.clone();
        for hop in &path[1..] {
            let far = self.alias(&self.schema.table(hop.to).name.clone());
            text += &format!(" JOIN {} ON {}", self.source(hop.to, &far), self.meets(hop, &near, &far));
            near = far;
        }
        (text, first, near)
    }

    /// An aggregate as SQL, over rows under `alias`; `rows` is what counts them.
    pub(crate) fn aggregate(&self, function: Aggregate, alias: &str, table: TableId, column: Option<ColumnId>, rows: &str) -> String {
        let Some(column) = column else { return format!("count({rows})") };
        let column = self.column(alias, table, column);
        match function {
            Aggregate::Avg if !self.dialect.avg_is_real => {
                let (real, _) = (self.dialect.column_type)(kampf_schema::LogicalType::Real);
                format!("avg(CAST({column} AS {real}))")
            }
            _ => format!("{}({column})", function.word()),
        }
    }

    /// A term of the root row: a joined column, or a sub-select for an aggregate.
    pub(crate) fn term(&mut self, root: TableId, term: &Term) -> Sql {
        match term {
            Term::Column { path, column } => {
                let alias = self.join(path);
                Sql::text(self.column(&alias, term.table(root), *column))
            }
            Term::Aggregate { .. } => self.computed(root, term),
        }
    }

    /// A term of the root row, related values by a sub-select.
    pub(crate) fn computed(&mut self, root: TableId, term: &Term) -> Sql {
        let table = term.table(root);
        match term {
            Term::Column { path, column } if path.is_empty() => Sql::text(self.column(self.root_alias(), root, *column)),
            Term::Column { path, column } => self.sub_select(path, |scope, alias| scope.column(alias, table, *column)),
            Term::Aggregate { function, path, column } => {
                self.sub_select(path, |scope, alias| scope.aggregate(*function, alias, table, *column, "*"))
            }
        }
    }
}
