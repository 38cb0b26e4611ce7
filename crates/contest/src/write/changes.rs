//! Statements that change rows, as an engine's SQL.

use kampf_schema::expr::Expr;

use super::plan::{BatchPlan, Change, InsertStep, RowsOf, WritePlan, WriteStep};
use crate::choice::Back;
use crate::dialect::{Dialect, RowList};
use crate::sql::{Bind, Printed, Shape, Sql, print_condition, print_keys, print_terms, select_sql, typed};
use crate::statement::{Condition, Term};

impl WritePlan {
    /// The statements as they would be sent, those that come again and again once: for people.
    pub fn statements(&self, dialect: &Dialect, parameters: &[String]) -> Vec<String> {
        self.steps.iter().map(|step| step.named(dialect, parameters)).collect()
    }
}

impl WriteStep {
    fn named(&self, dialect: &Dialect, parameters: &[String]) -> String {
        let shape = Shape { abridged: true, ..Shape::PLAIN };
        match self {
            WriteStep::Once { change, .. } => change.print(dialect, &shape).named(dialect, parameters),
            WriteStep::Keys { select, .. } => crate::sql::print_select(dialect, select, &shape).named(dialect, parameters),
            WriteStep::Insert(step) => step.named(dialect, parameters),
        }
    }
}

impl Change {
    /// Its text for a shape.
    pub(crate) fn print(&self, dialect: &Dialect, shape: &Shape<'_>) -> Printed {
        print_change(dialect, self, shape)
    }
}

/// The text of a change for a shape. What an engine cannot say is no part of the changes that are made for it.
fn print_change(dialect: &Dialect, change: &Change, shape: &Shape<'_>) -> Printed {
    let sql = match change {
        Change::Update { table, set, of } => updated(dialect, table, set, of, shape),
        Change::Delete { table, of } => {
            let mut sql = Sql::text(format!("DELETE FROM {}", (dialect.quote)(table)));
            sql.add(which(dialect, table, of, shape));
            sql
        }
        Change::Written(body) => return body.print(dialect, shape),
    };
    sql.finish(dialect, shape.length)
}

fn updated(dialect: &Dialect, table: &str, set: &[(String, Expr<Term>)], of: &RowsOf, shape: &Shape<'_>) -> Sql {
    let mut sql = Sql::text(format!("UPDATE {}\nSET ", (dialect.quote)(table)));
    let set = set.iter().map(|(column, value)| {
        let mut one = Sql::text(format!("{} = ", (dialect.quote)(column)));
        one.add(print_terms(dialect, value, shape));
        one
    });
    sql.add(Sql::join(set, ", ")).add(which(dialect, table, of, shape));
    sql
}

/// What stands behind the table: which of its rows.
fn which(dialect: &Dialect, table: &str, of: &RowsOf, shape: &Shape<'_>) -> Sql {
    let quote = dialect.quote;
    match of {
        RowsOf::Where(conditions) if conditions.is_empty() => Sql::default(),
        RowsOf::With(columns, select, called) => {
            let called = quote(called);
            let mut sql = select_sql(dialect, select, shape).within("\nFROM (", &format!(") AS {called}\nWHERE "));
            let names = select.columns.iter().flatten().filter_map(|column| column.name.as_deref());
            let pair = |(own, theirs): (&String, &str)| Sql::text(format!("{}.{} = {called}.{}", quote(table), quote(own), quote(theirs)));
            sql.add(Sql::join(columns.iter().zip(names).map(pair), " AND "));
            sql
        }
        of => must_hold(dialect, of, shape).within("\nWHERE ", ""),
    }
}

/// What must hold of rows that are meant.
fn must_hold(dialect: &Dialect, of: &RowsOf, shape: &Shape<'_>) -> Sql {
    match of {
        RowsOf::Where(conditions) => Sql::join(conditions.iter().map(|part| condition(dialect, part, shape)), " AND "),
        RowsOf::Among(columns, select) => {
            let columns: Vec<String> = columns.iter().map(|column| (dialect.quote)(column)).collect();
            let left = if columns.len() == 1 { columns[0].clone() } else { format!("({})", columns.join(", ")) };
            select_sql(dialect, select, shape).within(&format!("{left} IN ("), ")")
        }
        RowsOf::Keys(keys) => print_keys(dialect, keys, shape),
        RowsOf::Any(all) => Sql::join(all.iter().map(|one| must_hold(dialect, one, shape).within("(", ")")), " OR "),
        // It is spoken of beside the table.
        RowsOf::With(..) => Sql::default(),
    }
}

fn condition(dialect: &Dialect, part: &Condition, shape: &Shape<'_>) -> Sql {
    print_condition(dialect, &part.condition, shape)
}

impl InsertStep {
    /// The text for so many rows, with what is bound: the n-th key is the n-th value of all rows, one row after the other.
    pub(crate) fn print(&self, dialect: &Dialect, rows: usize) -> Printed {
        self.sql(dialect, rows, false).finish(dialect, &|_| Some(1))
    }

    fn sql(&self, dialect: &Dialect, rows: usize, abridged: bool) -> Sql {
        let quote = dialect.quote;
        let names: Vec<String> = self.columns.iter().map(|column| quote(&column.name)).collect();
        let mut sql = Sql::text(format!("INSERT INTO {} ", quote(&self.table)));
        if self.columns.is_empty() {
            sql.push("DEFAULT VALUES");
        } else {
            sql.push(&format!("({})\nVALUES ", names.join(", ")));
            let width = self.columns.len();
            let row = |row: usize| {
                let values = self.columns.iter().enumerate().map(|(at, column)| {
                    let value = Sql::bind(Bind::Key(row * width + at));
                    // Of several rows an engine may guess the types, and of one it takes them from the columns.
                    if rows > 1 && dialect.row_list == RowList::Tuples { typed(dialect, value, Some(column.kind)) } else { value }
                });
                Sql::join(values, ", ").within("(", ")")
            };
            if abridged && rows > 1 {
                sql.add(row(0)).push(", …");
            } else {
                sql.add(Sql::join((0..rows).map(row), ", "));
            }
        }
        if let (Some((key, _)), Some(Back::Returned)) = (&self.key, self.back) {
            sql.push(&format!("\nRETURNING {}", quote(key)));
        }
        sql
    }

    /// What asks for the key of the row that went in last; none where nobody asks.
    pub(crate) fn asks(&self, dialect: &Dialect) -> Option<&'static str> {
        (self.back == Some(Back::Asked)).then_some(dialect.last_key)
    }

    /// As a person reads it.
    pub(super) fn named(&self, dialect: &Dialect, parameters: &[String]) -> String {
        if let Some(body) = &self.written {
            let names: Vec<String> = parameters.iter().cloned().chain(self.columns.iter().map(|column| column.name.clone())).collect();
            return body.print(dialect, &Shape::PLAIN).named(dialect, &names);
        }
        let rows = match self.batch {
            BatchPlan::Values(size) => size as usize,
            _ => 1,
        };
        let printed = self.sql(dialect, rows.min(2), true).finish(dialect, &|_| Some(1));
        let names: Vec<String> = self.columns.iter().map(|column| column.name.clone()).collect();
        let told = printed.with_keys_named(&names);
        let all = names.iter().map(|name| (dialect.quote)(name)).collect::<Vec<_>>().join(", ");
        match (self.batch, dialect.bulk, self.asks(dialect)) {
            (BatchPlan::Bulk, Some(bulk), _) => bulk(&(dialect.quote)(&self.table), &all),
            (_, _, Some(asks)) => format!("{told}\n{asks}"),
            _ => told,
        }
    }
}
