//! Level by level: what is asked of rows, and the nodes that are needed for it.

use kampf_schema::HopKind;
use kampf_schema::expr::{Expr, Node};

use super::{Planned, Rows, Tree, reach_of};
use crate::choice::{Columns, Habit, Hydration, Loading};
use crate::need::Leaf;
use crate::plan::Reach;
use crate::planner::list::{self, Level, Listed};
use crate::planner::split::left_of_source;

impl<'a> Rows<'a> {
    /// Says how everything comes that is asked of the rows at a node, and adds the nodes that are needed for it.
    pub(super) fn level(&mut self, node: usize, asked: Level<'a>) {
        let (need, forms) = (self.ground.need, self.forms());
        let source = asked.source;
        let mut lists = Vec::new();
        for (value, _) in &asked.wanted {
            if let Some(Leaf::List(list)) = value.as_leaf()
                && !lists.contains(list)
            {
                lists.push(*list);
            }
        }
        let rows_of_lists = lists.iter().any(|list| matches!(forms.list(*list), Loading::Lazy | Loading::Batched | Loading::Joined));
        let rows_of_aggregates =
            asked.values().flat_map(Expr::leaves).any(|leaf| matches!(leaf, Leaf::Aggregate(at) if !forms.is_computed(*at)));
        let level = Level { beside_rows: rows_of_lists || rows_of_aggregates, ..asked };
        let leaves = || level.values().flat_map(Expr::leaves);
        let far = |leaf: &&Leaf| matches!(leaf, Leaf::Aggregate(_)) || matches!(leaf, Leaf::Column { source: of, .. } if *of != source);
        let has_values = leaves().filter(far).any(|leaf| level.is_value(forms, leaf));
        let has_rows = rows_of_lists || leaves().filter(far).any(|leaf| !level.is_value(forms, leaf));
        // Where nothing is related, or the option makes values of what is, the root's rows are what is asked of them.
        let is_made = !matches!(self.ways.loading, Loading::Lazy | Loading::Batched | Loading::Joined);
        if has_values || (node == 0 && (is_made || !has_rows)) {
            self.tree[node].listed = Some(list::listed(forms, &level));
        }
        // Only the root's rows are selected by it; those of lists are sorted and cut when they are given.
        level.selecting.iter().for_each(|value| self.want(node, value, node == 0));
        level
            .wanted
            .iter()
            .filter(|(value, _)| !matches!(value.as_leaf(), Some(Leaf::List(_))))
            .for_each(|(value, _)| self.want(node, value, false));
        for list in lists {
            let over = match forms.list(list) {
                Loading::Nested => self.own_node(node, list, Reach::Nested),
                Loading::Ranked => self.own_node(node, list, Reach::Batched),
                got => self.reach_source(node, need.lists[list].over, reach_of(got), false),
            };
            self.lists.push((node, list, over));
            match self.below.iter_mut().find(|(known, _)| *known == over) {
                Some((_, lists)) => lists.push(list),
                None => self.below.push((over, vec![list])),
            }
        }
    }

    /// The levels below the root. Lists that share their rows are one level, wherever they stand: all that stand above a node have been
    /// seen when it is its turn, since it lies deeper.
    pub(super) fn levels_below(&mut self) {
        let need = self.ground.need;
        while let Some(next) = (0..self.below.len()).min_by_key(|&at| self.depth(self.below[at].0)) {
            let (over, lists) = self.below.remove(next);
            if self.tree[over].reach == Reach::Nested {
                self.nested_level(over, lists[0]);
                continue;
            }
            let given = lists.iter().flat_map(|list| &need.lists[*list].give);
            let wanted = given.map(|given| (&given.value, given.name.as_str())).collect();
            let in_app = lists.iter().filter(|_| self.tree[over].own.is_none());
            let selecting = in_app.flat_map(|list| &need.lists[*list].order).map(|by| &by.value).collect();
            let source = self.tree[over].source;
            self.level(over, Level { source, wanted, selecting, beside_rows: false });
        }
    }

    /// How many steps a node lies from the root.
    fn depth(&self, node: usize) -> usize {
        if node == 0 { 0 } else { 1 + self.depth(self.tree[node].parent) }
    }

    /// What entities are used to having comes with them, in the contender's own way; rows out of JSON texts are used to nothing.
    pub(super) fn add_habits(&mut self) {
        let is_entity = matches!(self.ways.hydration, Hydration::Managed | Hydration::Plain);
        if self.ways.habit == Habit::Dropped || !is_entity {
            return;
        }
        let need = self.ground.need;
        let mut node = 0;
        while node < self.tree.len() {
            let habits = need
                .sources
                .iter()
                .enumerate()
                .filter(|(at, source)| *at > 0 && source.by_habit && source.parent == self.tree[node].source);
            let habits: Vec<usize> = habits.map(|(at, _)| at).collect();
            let of_text = self.tree[node].reach == Reach::Nested;
            for source in habits.into_iter().filter(|_| !of_text) {
                let is_one = need.sources[source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::One);
                let reach = match self.ways.loading {
                    _ if self.tree[self.with(node)].own.is_some() => Reach::Batched,
                    Loading::Lazy => Reach::Lazy,
                    Loading::Joined | Loading::Grouped => Reach::Joined,
                    Loading::Ranked | Loading::Computed | Loading::Nested if is_one => Reach::Joined,
                    _ => Reach::Batched,
                };
                let for_selection = self.tree[node].for_selection;
                let asked = self.same_child(node, source);
                match asked {
                    Some(asked) => self.tree[asked].always = true,
                    None => self.tree.push(Tree { always: true, ..Tree::new(source, node, reach, for_selection) }),
                }
            }
            node += 1;
        }
    }

    /// A node that stands for the same relation already, because its rows are asked for.
    fn same_child(&self, parent: usize, source: usize) -> Option<usize> {
        let hop = &self.ground.need.sources[source].hop;
        (1..self.tree.len()).find(|&at| {
            let (node, theirs) = (&self.tree[at], &self.ground.need.sources[self.tree[at].source]);
            node.parent == parent && node.own.is_none() && node.listed.is_none() && theirs.filter.is_none() && theirs.hop == *hop
        })
    }

    /// A node for a list alone.
    fn own_node(&mut self, parent: usize, list: usize, reach: Reach) -> usize {
        let source = self.ground.need.lists[list].over;
        self.tree.push(Tree { own: Some(list), ..Tree::new(source, parent, reach, false) });
        self.tree.len() - 1
    }

    /// The rows of a JSON text hold what is given, in its order, behind the columns of the table where all are fetched. What is used in
    /// place stands there once for each time that it is given, so that it comes in the order in which it is given.
    fn nested_level(&mut self, node: usize, list: usize) {
        let need = self.ground.need;
        let source = self.tree[node].source;
        let table = self.ground.schema.table(need.sources[source].table);
        let mut listed: Vec<Listed> = Vec::new();
        if self.ways.columns == Columns::All {
            let own = |(column, model): (usize, &kampf_schema::Column)| {
                Listed::own(Node::Leaf(Leaf::Column { source, column }).into(), &model.name)
            };
            listed.extend(table.columns.iter().enumerate().map(own));
        }
        let mut cells: Vec<Planned> = (0..listed.len()).map(Planned::Value).collect();
        for given in &need.lists[list].give {
            if let Some(Leaf::List(inner)) = given.value.as_leaf() {
                let over = self.own_node(node, *inner, Reach::Nested);
                self.lists.push((node, *inner, over));
                self.nested_level(over, *inner);
                cells.push(Planned::List(*inner));
            } else if self.ways.hydration == Hydration::Raw || !listed.iter().any(|known| known.value == given.value) {
                cells.push(Planned::Value(listed.len()));
                listed.push(Listed::own(given.value.clone(), &given.name));
            }
        }
        (self.tree[node].listed, self.tree[node].cells) = (Some(listed), cells);
    }

    /// Sees to it that what a value is made from comes.
    fn want(&mut self, node: usize, value: &Expr<Leaf>, for_selection: bool) {
        if self.place(node, value).is_some() {
            return;
        }
        self.wanted.push((node, value.clone()));
        let (need, forms) = (self.ground.need, self.forms());
        for leaf in value.leaves() {
            if self.place(node, &Node::Leaf(leaf.clone()).into()).is_some() {
                continue;
            }
            match leaf {
                Leaf::Column { source, .. } if *source != self.tree[node].source => {
                    let reach = reach_of(forms.one(self.tree[node].source, *source));
                    self.reach_source(node, *source, reach, for_selection);
                }
                Leaf::Aggregate(at) => {
                    let aggregate = &need.aggregates[*at];
                    if !self.aggregates.contains(&(node, *at)) {
                        self.aggregates.push((node, *at));
                    }
                    let over = self.reach_source(node, aggregate.over, reach_of(forms.aggregate(*at)), for_selection);
                    for of in aggregate.fold.of.iter().chain(aggregate.fold.order.iter().map(|by| &by.value)) {
                        self.want(over, of, for_selection);
                    }
                }
                Leaf::Column { .. } | Leaf::Parameter(_) | Leaf::Key(_) | Leaf::Total(_) | Leaf::List(_) => {}
            }
        }
    }

    /// Adds the nodes that lead from one to a source and gives the last one's place.
    fn reach_source(&mut self, from: usize, source: usize, reach: Reach, for_selection: bool) -> usize {
        if source == self.tree[from].source {
            return from;
        }
        let need = self.ground.need;
        let above = need.sources[source].parent;
        let parent = if source == 0 { from } else { self.reach_source(from, above, reach, for_selection) };
        if let Some(at) = self.child(parent, source) {
            self.tree[at].for_selection |= for_selection;
            return at;
        }
        let reach = need.sources[source].fixed.map_or(reach, reach_of);
        // Nothing is joined to rows that are numbered in a select of their own.
        let is_ranked = self.tree[self.with(parent)].own.is_some();
        let reach = if reach == Reach::Joined && is_ranked { Reach::Batched } else { reach };
        self.tree.push(Tree::new(source, parent, reach, for_selection));
        let at = self.tree.len() - 1;
        for part in left_of_source(self.ground, source) {
            self.want(at, &part, for_selection);
        }
        at
    }
}
