//! By how much a join multiplies rows, told before it runs.

use kampf_contest::{Plan, Reach};
use kampf_schema::{HopKind, TableId};

use super::Project;
use crate::output::{bytes, count};

/// What a statement brings that joins several rows to many at once.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Multiplied {
    /// Rows of the statement's own table that they are joined to.
    pub(crate) base: f64,
    table: String,
    /// How many rows each comes as, by the average of each branch.
    branches: Vec<f64>,
    /// Bytes of all rows, about.
    pub(crate) bytes: f64,
}

/// Bytes that a value is taken to have.
const BYTES_OF_A_VALUE: f64 = 16.0;

impl Multiplied {
    /// The root's statement of a plan, where two branches of rows to many multiply each other; at most so many root rows are joined.
    pub(crate) fn of(project: &Project, plan: &Plan, most: Option<u64>) -> Option<Multiplied> {
        let name = |node: usize| plan.layouts[plan.nodes[node].layout].name.as_str();
        let rows = |node: usize| project.schema.find(name(node)).map(|table: TableId| project.blueprint.rows(table));
        let is_joined =
            |node: usize| plan.nodes[node].link.as_ref().is_some_and(|link| link.reach == Reach::Joined && plan.nodes[node].with == 0);
        // From the leaves up: how many rows one row comes as.
        let mut each = vec![1.0; plan.nodes.len()];
        let mut branches = Vec::new();
        for node in (1..plan.nodes.len()).rev().filter(|&node| is_joined(node)) {
            let link = plan.nodes[node].link.as_ref()?;
            let own = match link.kind {
                HopKind::One => 1.0,
                HopKind::Many => (rows(node)? as f64 / rows(link.parent)?.max(1) as f64).max(1.0),
            };
            let branch = own * each[node];
            each[link.parent] *= branch;
            if link.kind == HopKind::Many {
                branches.push((link.parent, own));
            }
        }
        let crossing = |parent: usize| branches.iter().filter(|(of, _)| *of == parent).count() > 1;
        let parent = branches.iter().map(|(parent, _)| *parent).find(|&parent| crossing(parent))?;
        let mut own: Vec<f64> = branches.iter().filter(|(of, _)| *of == parent).map(|(_, many)| *many).collect();
        own.reverse();
        let base = most.map_or(rows(0)?, |most| most.min(rows(0).unwrap_or(most))) as f64;
        let bytes = base * each[0] * plan.root.columns.len() as f64 * BYTES_OF_A_VALUE;
        Some(Multiplied { base: base * each[0], table: name(parent).to_owned(), branches: own, bytes })
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
            number(self.base),
            bytes(self.bytes as u64)
        )
    }
}
