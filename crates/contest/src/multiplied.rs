//! By how much joins multiply rows, estimated from how many rows the tables have.

use kampf_schema::HopKind;

use crate::plan::{Plan, Reach};

/// What a statement brings that joins rows of others to its own.
#[derive(Clone, Debug, PartialEq)]
pub struct Multiplied {
    /// How many rows it brings in all.
    pub rows: f64,
    /// The table to whose rows several branches of rows to many are joined, so that they multiply each other, and how many rows of each
    /// branch there are for one; none where there is one branch at most.
    pub branches: Option<(String, Vec<f64>)>,
}

impl Plan {
    /// What the statement of a node brings, where it joins rows of others; `rows` says how many a table has, `most` how many of the
    /// node's own rows there are at most.
    pub fn multiplied(&self, with: usize, rows: &dyn Fn(&str) -> u64, most: Option<u64>) -> Multiplied {
        let many = |node: usize| rows(&self.layouts[self.nodes[node].layout].name) as f64;
        // From the leaves up: how many rows one row comes as.
        let mut each = vec![1.0; self.nodes.len()];
        let mut branches: Vec<(usize, f64)> = Vec::new();
        for node in (1..self.nodes.len()).rev().filter(|&node| node != with && self.nodes[node].with == with) {
            let Some(link) = self.nodes[node].link.as_ref().filter(|link| link.reach == Reach::Joined) else { continue };
            let own = match link.kind {
                HopKind::One => 1.0,
                HopKind::Many => (many(node) / many(link.parent).max(1.0)).max(1.0),
            };
            each[link.parent] *= own * each[node];
            if link.kind == HopKind::Many {
                branches.push((link.parent, own));
            }
        }
        let of = |parent: usize| branches.iter().rev().filter(move |(known, _)| *known == parent).map(|(_, many)| *many);
        let crossing = branches.iter().map(|(parent, _)| *parent).find(|&parent| of(parent).count() > 1);
        let base = most.map_or(many(with), |most| many(with).min(most as f64));
        let branches = crossing.map(|parent| (self.layouts[self.nodes[parent].layout].name.clone(), of(parent).collect()));
        Multiplied { rows: base * each[with], branches }
    }
}
