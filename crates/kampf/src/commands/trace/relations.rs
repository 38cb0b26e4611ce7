//! What a call reads and needs of each relation, level by level.

use std::collections::BTreeMap;

use kampf_contest::{AppLeaf, Consumer, Dialect, Plan, Reach, Touch};
use kampf_schema::ValueRef;

use super::Shape;

/// Touches an answer and counts its rows, those of each list apart.
#[derive(Default)]
pub(super) struct Counting {
    touch: Touch,
    /// Rows given of each list, by the places of lists within rows that lead to it.
    lists: BTreeMap<Vec<usize>, u64>,
    /// The place within the row at hand, and before it those within the rows around it.
    at: Vec<usize>,
}

impl Counting {
    pub(super) fn rows(&self) -> u64 {
        self.touch.rows()
    }

    fn next(&mut self) {
        if let Some(at) = self.at.last_mut() {
            *at += 1;
        }
    }
}

impl Consumer for Counting {
    fn begin(&mut self) {
        self.touch.begin();
        self.lists.clear();
        self.at = vec![0];
    }

    fn row(&mut self) {
        self.touch.row();
        self.at = vec![0];
    }

    fn value(&mut self, value: ValueRef<'_>) {
        self.touch.value(value);
        self.next();
    }

    fn list(&mut self) {
        self.touch.list();
        self.lists.entry(self.at.clone()).or_default();
        self.at.push(0);
    }

    fn item(&mut self) {
        self.touch.item();
        self.at.pop();
        *self.lists.entry(self.at.clone()).or_default() += 1;
        self.at.push(0);
    }

    fn end(&mut self) {
        self.touch.end();
        self.at.pop();
        self.next();
    }

    fn came(&mut self, rows: u64) {
        self.touch.came(rows);
    }
}

/// What a call reads and needs of one relation.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Relation {
    /// How many steps from the root.
    pub(super) level: usize,
    /// Its table.
    pub(super) table: String,
    /// How its rows come: `lazy`, `batched`, `joined`, `nested`; none for the root.
    pub(super) reach: Option<&'static str>,
    /// Statements of its own, and rows that they brought; none where they come with another's.
    pub(super) read: Option<(u64, u64)>,
    /// Rows that the answer holds of it, or is made from, one for each value.
    pub(super) needed: u64,
}

/// All relations of a plan, each behind the one that it hangs on.
pub(super) fn relations(plan: &Plan, dialect: &Dialect, shapes: &[Shape], counting: &Counting) -> Vec<Relation> {
    let texts: Vec<Vec<String>> = plan.nodes.iter().map(|node| texts(node.statement.as_ref(), dialect)).collect();
    let mut needed: Vec<Option<u64>> = vec![None; plan.nodes.len()];
    for (path, rows) in &counting.lists {
        if let Some(over) = list_at(plan, path) {
            // The rows of a junction are needed as often as those behind it.
            let own = plan.lists[over].over;
            for &step in &plan.nodes[own].path[plan.nodes[plan.lists[over].at].path.len()..] {
                *needed[step].get_or_insert(0) += rows;
            }
        }
    }
    let mut all = Vec::new();
    let mut waiting = vec![0];
    while let Some(at) = waiting.pop() {
        let node = &plan.nodes[at];
        let parent = node.link.as_ref().map(|link| link.parent);
        let rows = match (parent, needed[at]) {
            (None, _) => counting.rows(),
            (_, Some(rows)) => rows,
            // One row, or what one value is made from.
            (Some(parent), None) => needed[parent].unwrap_or_else(|| counting.rows()),
        };
        needed[at] = Some(rows);
        let own: Vec<&Shape> = match parent {
            None => shapes
                .iter()
                .filter(|shape| !texts.iter().flatten().any(|text| *text == shape.sql))
                .filter(|shape| shape.sql.contains(' '))
                .collect(),
            Some(_) => shapes.iter().filter(|shape| texts[at].contains(&shape.sql)).collect(),
        };
        let read = (!own.is_empty()).then(|| (own.iter().map(|shape| shape.count).sum(), own.iter().map(|shape| shape.rows).sum()));
        let reach = node.link.as_ref().map(|link| match link.reach {
            Reach::Lazy => "lazy",
            Reach::Batched => "batched",
            Reach::Joined => "joined",
            Reach::Nested => "nested",
        });
        all.push(Relation { level: node.path.len(), table: plan.layouts[node.layout].name.clone(), reach, read, needed: rows });
        let below = (1..plan.nodes.len()).rev().filter(|&below| plan.nodes[below].link.as_ref().is_some_and(|link| link.parent == at));
        waiting.extend(below);
    }
    all
}

/// The texts that a statement is sent with, as shapes.
fn texts(statement: Option<&kampf_contest::RelationStatement>, dialect: &Dialect) -> Vec<String> {
    statement.into_iter().flat_map(|statement| [1, 2].map(|keys| super::shape_of(&statement.print(dialect, keys, &[]).sql))).collect()
}

/// The list at some places within rows, each leading further in.
fn list_at(plan: &Plan, path: &[usize]) -> Option<usize> {
    let mut give = &plan.give;
    let mut found = None;
    for &at in path {
        let Some(AppLeaf::List(list)) = give.get(at)?.as_leaf() else { return None };
        found = Some(*list);
        give = &plan.lists[*list].give;
    }
    found
}
