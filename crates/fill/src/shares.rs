//! Whether nulls come as often as they were asked for: a check may let nothing but nulls pass, or none.

use kampf_schema::{ColumnId, Schema, TableId, Value};

use crate::blueprint::Blueprint;

/// A column whose nulls come more or less often than they were asked for.
#[derive(Clone, Debug, PartialEq)]
pub struct OtherShare {
    /// The column.
    pub column: ColumnId,
    /// The share that was asked for or guessed, from 0 to 1.
    pub asked: f64,
    /// The share among the rows that were looked at.
    pub comes: f64,
    /// The check that decides it, as the schema has it.
    pub check: Option<String>,
}

/// A share may be beside what was asked for by this and by what chance does.
const BESIDE: f64 = 0.03;
/// Rows that are looked at, from all over the table.
const LOOKED_AT: u64 = 1_000;
/// Standard errors that chance is given.
const ERRORS: f64 = 4.0;

impl Blueprint {
    /// The columns of a table whose rows are drawn again for checks, and whose nulls come more or less often for it; by a thousand rows of it.
    pub fn other_shares(&self, schema: &Schema, table: TableId) -> Vec<OtherShare> {
        let plan = &self.tables[table.0];
        let drawn_again = |column: &ColumnId| plan.columns[*column].guard.is_some() && plan.columns[*column].way.null_share > 0;
        let columns: Vec<ColumnId> = (0..plan.columns.len()).filter(drawn_again).collect();
        if columns.is_empty() {
            return Vec::new();
        }
        let given = self.given(table);
        let made = self.rows(table) - given;
        let rows = usize::try_from(made.min(LOOKED_AT)).unwrap_or_default();
        let row = |at: usize| given + at as u64 * made / rows as u64;
        let is_null = |at: &usize, column: ColumnId| self.as_planned(table, row(*at), column) == Value::Null;
        let nulls = columns.iter().map(|&column| (0..rows).filter(|at| is_null(at, column)).count());
        let share = |(nulls, column): (usize, ColumnId)| {
            let asked = f64::from(plan.columns[column].way.null_share) / 100_000.0;
            let comes = nulls as f64 / rows.max(1) as f64;
            let chance = ERRORS * (asked * (1.0 - asked) / rows.max(1) as f64).sqrt();
            let rules = schema.table(table).checks.iter();
            let of_column = rules.filter(|check| check.rule.as_ref().is_ok_and(|rule| rule.column_set().contains(&column)));
            let check = of_column.map(|check| check.sql.clone()).next();
            (rows > 0 && (comes - asked).abs() > BESIDE + chance).then_some(OtherShare { column, asked, comes, check })
        };
        nulls.zip(columns.iter().copied()).filter_map(share).collect()
    }
}
