//! By how much a join multiplies rows, told before it runs.

use kampf_contest::Plan;

use super::Project;
use crate::output::{bytes, count};

/// What the root's statement of a contender brings, where several joined lists multiply each other.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Multiplied {
    rows: f64,
    table: String,
    branches: Vec<f64>,
    /// Bytes of all rows, about.
    pub(crate) bytes: f64,
}

/// So many rows for one that is wanted.
const OUT_OF_PROPORTION: f64 = 10.0;

/// Bytes that a value is taken to have.
const BYTES_OF_A_VALUE: f64 = 16.0;

impl Multiplied {
    /// At most so many root rows are joined.
    pub(crate) fn of(project: &Project, plan: &Plan, most: Option<u64>) -> Option<Multiplied> {
        let rows = |name: &str| project.schema.find(name).map_or(1, |table| project.blueprint.rows(table));
        let multiplied = plan.multiplied(0, &rows, most);
        let (table, branches) = multiplied.branches?;
        let bytes = multiplied.rows * plan.root.columns.len() as f64 * BYTES_OF_A_VALUE;
        Some(Multiplied { rows: multiplied.rows, table, branches, bytes })
    }

    /// Whether the lists multiply each other to so many times the rows that are wanted that nobody would join them.
    pub(crate) fn is_out_of_proportion(&self) -> bool {
        self.branches.iter().product::<f64>() >= OUT_OF_PROPORTION * self.branches.iter().sum::<f64>()
    }

    /// In a sentence.
    pub(crate) fn text(&self) -> String {
        let number = |many: f64| if many >= 10.0 { count(many.round() as u64) } else { format!("{}", (many * 10.0).round() / 10.0) };
        let factors: Vec<String> = self.branches.iter().map(|many| number(*many)).collect();
        let product: f64 = self.branches.iter().product();
        format!(
            "lists multiply each other: each row of {} comes as about {} = {} rows, {} in all ({})",
            self.table,
            factors.join(" x "),
            number(product),
            number(self.rows),
            bytes(self.bytes as u64)
        )
    }
}
