//! Checks that are not understood.

use kampf_schema::{Check, ColumnId, Schema, Span, Table, TableId};

use crate::order::Order;

/// A check that the schema goes on without.
#[derive(Clone, Debug, PartialEq)]
pub struct LeftOut {
    /// The table.
    pub table: TableId,
    /// The columns that it names.
    pub columns: Vec<ColumnId>,
    /// The check, as much of it as a person wants to see.
    pub check: String,
    /// What in it is not known, in words.
    pub unknown: String,
    /// Its place in the DDL file.
    pub span: Span,
    /// Whether the user says how one of its columns is made, and so may have met it.
    pub is_met: bool,
}

/// Takes checks out of a schema that are not understood: no rows can be made to meet them, and functions of an application are not
/// known to any engine. One stays where the user says how a column of it is made, unless it is about such a function: the engine that it
/// was written for then looks whether it holds.
pub fn leave_out_checks(schema: &mut Schema, order: &Order) -> Vec<LeftOut> {
    let mut left_out = Vec::new();
    for (at, table) in schema.tables.iter_mut().enumerate() {
        let checks = std::mem::take(&mut table.checks);
        for check in checks {
            match unknown(TableId(at), table, &check, order) {
                Some(found) => left_out.push(found),
                None => table.checks.push(check),
            }
        }
    }
    left_out
}

fn unknown(id: TableId, table: &Table, check: &Check, order: &Order) -> Option<LeftOut> {
    let unknown = check.rule.as_ref().err()?;
    let columns: Vec<ColumnId> = (0..table.columns.len()).filter(|&column| mentions(&check.sql, &table.columns[column].name)).collect();
    let is_met = columns.iter().any(|&column| order.values.contains_key(&(id, column)));
    if is_met && !check.has_unknown_function() {
        return None;
    }
    Some(LeftOut { table: id, columns, check: check.in_short(), unknown: unknown.clone(), span: check.span, is_met })
}

/// Whether a condition's text names a column.
fn mentions(sql: &str, column: &str) -> bool {
    sql.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(|word| word.eq_ignore_ascii_case(column))
}

#[cfg(test)]
mod tests {
    use super::*;
    use kampf_schema::{ddl, expr::read_recipe};

    #[test]
    fn what_no_engine_knows_is_left_out_and_the_rest_where_nobody_says_how_to_meet_it() {
        let sql =
            "CREATE TABLE a (id INTEGER PRIMARY KEY, b INTEGER CHECK (own(b) = 1), c INTEGER CHECK (c > 1), d INTEGER CHECK (d && 2));";
        let read = || ddl::read(sql).expect("the statement is right").schema;
        let left = |schema: &Schema| schema.tables[0].checks.iter().map(|check| check.sql.clone()).collect::<Vec<_>>();
        let mut schema = read();
        let found = leave_out_checks(&mut schema, &Order::default());
        let said: Vec<_> = found.iter().map(|one| (one.check.as_str(), one.columns.as_slice(), one.is_met)).collect();
        assert_eq!(said, [("own(b) = 1", &[1][..], false), ("d && 2", &[3][..], false)]);
        assert_eq!((found[0].unknown.as_str(), left(&schema)), ("the function own", vec!["c > 1".to_owned()]));
        let recipe = read_recipe("2").expect("the recipe is right");
        let order = Order { values: [1, 3].map(|column| ((TableId(0), column), recipe.clone())).into(), ..Order::default() };
        let mut schema = read();
        let found = leave_out_checks(&mut schema, &order);
        assert_eq!(found.iter().map(|one| (one.check.as_str(), one.is_met)).collect::<Vec<_>>(), [("own(b) = 1", true)]);
        assert_eq!(left(&schema), ["c > 1", "d && 2"]);
    }
}
