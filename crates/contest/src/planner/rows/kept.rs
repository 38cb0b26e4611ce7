//! What is kept of rows: columns, relations, and where.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, HopKind, TableId};

use super::Rows;
use crate::choice::Columns;
use crate::need::{Leaf, Need};
use crate::plan::Reach;
use crate::planner::list::Listed;

impl<'a> Rows<'a> {
    pub(super) fn keep_columns(&mut self) {
        let need = self.ground.need;
        let kept: Vec<usize> = (0..self.tree.len()).filter(|&node| !self.is_listed(node)).collect();
        for &node in &kept {
            self.keep(self.table(node), &[]);
        }
        for &node in &kept {
            if self.tree[node].always || self.ways.columns == Columns::All {
                let all: Vec<ColumnId> = (0..self.ground.schema.table(self.table(node)).columns.len()).collect();
                self.keep(self.table(node), &all);
            }
        }
        let wanted: Vec<(usize, Leaf)> =
            self.wanted.iter().flat_map(|(node, value)| value.leaves().into_iter().map(|leaf| (*node, leaf.clone()))).collect();
        for (node, leaf) in wanted {
            if let Leaf::Column { source, column } = &leaf
                && self.place(node, &Node::Leaf(leaf.clone()).into()).is_none()
            {
                self.keep_at(self.node_of(node, *source), &[*column]);
            }
        }
        for node in 0..self.tree.len() {
            let joined = self.members(self.with(node)).len() > 1 && self.tree[node].reach != Reach::Nested;
            if joined {
                let key = self.ground.schema.table(self.table(node)).primary_key.clone();
                let repeats = !self.is_listed(node) || self.members(self.with(node)).into_iter().any(|at| self.is_many(at));
                if repeats {
                    self.keep_at(node, &key);
                }
            }
            let parent = self.tree[node].parent;
            match self.tree[node].own {
                None => {
                    if let Some(hop) = &need.sources[self.tree[node].source].hop {
                        self.keep_at(parent, &hop.from_columns);
                        self.keep_at(node, &hop.to_columns);
                    }
                }
                Some(_) if self.tree[node].reach == Reach::Nested => {}
                Some(list) => {
                    if let Some(hop) = self.first_hop(list) {
                        self.keep_at(parent, &hop.from_columns);
                    }
                }
            }
        }
    }

    /// Rows of which nothing is asked are told by one of their columns.
    pub(super) fn keep_something(&mut self) {
        for node in (0..self.tree.len()).filter(|&node| !self.is_listed(node)).collect::<Vec<_>>() {
            let table = self.table(node);
            if self.kept_of(table).is_empty() {
                let column = self.ground.schema.table(table).primary_key.first().copied().unwrap_or(0);
                self.keep(table, &[column]);
            }
        }
    }

    pub(super) fn is_many(&self, node: usize) -> bool {
        node > 0 && self.ground.need.sources[self.tree[node].source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many)
    }

    /// The first step from where a list stands to its rows.
    pub(super) fn first_hop(&self, list: usize) -> Option<&'a kampf_schema::Hop> {
        let need: &'a Need = self.ground.need;
        let list = &need.lists[list];
        need.sources[*need.way(list.at, list.over).first()?].hop.as_ref()
    }

    /// Keeps columns of a node's rows; where those carry values they are added to them.
    pub(super) fn keep_at(&mut self, node: usize, columns: &[ColumnId]) {
        let (table, source) = (self.table(node), self.tree[node].source);
        if !self.is_listed(node) {
            self.keep(table, columns);
            return;
        }
        for &column in columns {
            let value: Expr<Leaf> = Node::Leaf(Leaf::Column { source, column }).into();
            if self.place(node, &value).is_none()
                && let Some(list) = &mut self.tree[node].listed
            {
                let name = &self.ground.schema.table(table).columns[column].name;
                let taken = list.iter().any(|listed| listed.name == *name);
                let mut own = Listed::own(value, name);
                if taken {
                    (own.name, own.named) = (format!("{name}_{}", list.len() + 1), true);
                }
                list.push(own);
            }
        }
    }

    pub(super) fn keep(&mut self, table: TableId, columns: &[ColumnId]) {
        let at = self.kept.iter().position(|(known, _)| *known == table).unwrap_or_else(|| {
            self.kept.push((table, Vec::new()));
            self.kept.len() - 1
        });
        let kept = &mut self.kept[at].1;
        kept.extend(columns);
        kept.sort_unstable();
        kept.dedup();
    }

    /// A relation has one place with the rows of its table, whichever of its nodes it is reached by.
    pub(super) fn keep_slots(&mut self) {
        for node in 1..self.tree.len() {
            let parent = self.tree[node].parent;
            let table = self.table(parent);
            if self.is_listed(parent) || self.slot(node, table).is_some() {
                continue;
            }
            match self.slots.iter_mut().find(|(known, _)| *known == table) {
                Some((_, nodes)) => nodes.push(node),
                None => self.slots.push((table, vec![node])),
            }
        }
    }

    pub(super) fn slot(&self, node: usize, table: TableId) -> Option<usize> {
        let need = self.ground.need;
        let (own, source) = (&self.tree[node], &need.sources[self.tree[node].source]);
        let same = |known: &usize| {
            let (other, theirs) = (&self.tree[*known], &need.sources[self.tree[*known].source]);
            let apart = own.own.is_some() || other.own.is_some() || own.listed.is_some() || other.listed.is_some();
            // What comes with a node's statement would be missing where another has brought its rows.
            let apart = apart || self.brings_others(node) || self.brings_others(*known);
            let alike = theirs.hop == source.hop && source.filter.is_none() && theirs.filter.is_none();
            *known == node || (other.source == own.source && own.own == other.own && !apart) || (alike && !apart)
        };
        self.slots.iter().find(|(known, _)| *known == table).and_then(|(_, nodes)| nodes.iter().position(same))
    }

    /// Nodes that hang on one whose rows carry values, in their order.
    pub(super) fn hanging(&self, node: usize) -> Vec<usize> {
        (1..self.tree.len()).filter(|&at| self.tree[at].parent == node).collect()
    }

    /// Where a node's rows are kept: those that carry values apart, before those of tables.
    pub(super) fn layout(&self, node: usize) -> usize {
        let listed = |upto: usize| (0..upto).filter(|&at| self.is_listed(at)).count();
        if self.is_listed(node) {
            return listed(node);
        }
        let table = self.table(node);
        let at = self.kept.iter().position(|(known, _)| *known == table).unwrap_or(0);
        at + listed(self.tree.len())
    }

    pub(super) fn kept_of(&self, table: TableId) -> &[ColumnId] {
        self.kept.iter().find(|(known, _)| *known == table).map(|(_, columns)| columns.as_slice()).unwrap_or_default()
    }

    /// Places of columns in a node's rows.
    pub(super) fn places(&self, node: usize, columns: &[ColumnId]) -> Vec<usize> {
        let source = self.tree[node].source;
        if self.is_listed(node) {
            let place = |&column: &ColumnId| self.place(node, &Node::Leaf(Leaf::Column { source, column }).into());
            return columns.iter().filter_map(place).collect();
        }
        let kept = self.kept_of(self.table(node));
        columns.iter().filter_map(|column| kept.iter().position(|known| known == column)).collect()
    }
}
