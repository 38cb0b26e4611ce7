//! Plans with the rows of sources as nodes: what is kept of each, and how they hang together.
//!
//! A *level* is a node whose rows values are given of: the root, and the rows of each list. Where values of a level come with its rows,
//! these carry a list of values, and not the columns of their table.

mod statements;

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, HopKind, TableId};

use super::forms::Forms;
use super::frame::Ground;
use super::list::{self, Level, Listed};
use super::split::left_of_source;
use super::{Split, Ways};
use crate::choice::{Columns, Habit, Hydration, Loading};
use crate::need::{Fold, Leaf, Need, OrderBy};
use crate::plan::{AppAggregate, AppFold, AppGroup, AppLeaf, AppList, Plan, Reach};

/// A source whose rows come to the application.
struct Tree {
    source: usize,
    parent: usize,
    reach: Reach,
    for_selection: bool,
    /// The list that it alone stands for, whose order and limit are the database's; else all may use it that go along its source.
    own: Option<usize>,
    /// Whether its rows come because entities are used to having them.
    always: bool,
    /// The values that come with a row; none where columns of the table are kept.
    listed: Option<Vec<Listed>>,
    /// Of rows in a JSON text what each holds, in order.
    cells: Vec<Planned>,
}

/// One item of a row in a JSON text.
enum Planned {
    /// The listed value at a place.
    Value(usize),
    /// A list of the need's.
    List(usize),
}

impl Tree {
    fn new(source: usize, parent: usize, reach: Reach, for_selection: bool) -> Tree {
        Tree { source, parent, reach, for_selection, own: None, always: false, listed: None, cells: Vec::new() }
    }
}

pub(super) struct Rows<'a> {
    ground: Ground<'a>,
    ways: Ways,
    split: Split,
    tree: Vec<Tree>,
    /// What the application evaluates, in all places, each with the node that it is asked of.
    wanted: Vec<(usize, Expr<Leaf>)>,
    /// The aggregates that it computes: the node that they stand at, and the place among the need's.
    aggregates: Vec<(usize, usize)>,
    /// The lists: the node that they stand at, the place among the need's, and the node of their rows.
    lists: Vec<(usize, usize, usize)>,
    /// Kept columns per table, in the order of the tables' first use.
    kept: Vec<(TableId, Vec<ColumnId>)>,
    /// Relations kept with the rows of each table: nodes that stand for them.
    slots: Vec<(TableId, Vec<usize>)>,
}

impl<'a> Rows<'a> {
    pub(super) fn new(ground: Ground<'a>, ways: Ways, split: Split) -> Rows<'a> {
        let mut rows = Rows {
            ground,
            ways,
            tree: vec![Tree::new(0, 0, Reach::Joined, true)],
            wanted: Vec::new(),
            aggregates: Vec::new(),
            lists: Vec::new(),
            kept: Vec::new(),
            slots: Vec::new(),
            split,
        };
        let need = ground.need;
        let (wanted, selecting) = rows.split.app_values(need);
        let called = |at: usize| match &need.group {
            None => need.give[at].name.as_str(),
            Some(group) => group.keys.get(at).map_or("part", |key| key.name.as_str()),
        };
        let wanted = wanted.into_iter().enumerate().map(|(at, value)| (value, called(at))).collect();
        rows.level(0, Level { source: 0, wanted, selecting, beside_rows: false });
        rows.add_habits();
        rows.keep_columns();
        rows.keep_something();
        rows.keep_slots();
        rows
    }

    fn forms(&self) -> Forms<'a> {
        Forms { ground: self.ground, ways: self.ways }
    }

    /// Says how everything comes that is asked of the rows at a node, and adds the nodes that are needed for it.
    fn level(&mut self, node: usize, asked: Level<'a>) {
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
        // Lists that share their rows are one level.
        let mut below: Vec<(usize, Vec<usize>)> = Vec::new();
        for list in lists {
            let over = match forms.list(list) {
                Loading::Nested => self.own_node(node, list, Reach::Nested),
                Loading::Ranked => self.own_node(node, list, Reach::Batched),
                got => self.reach_source(node, need.lists[list].over, reach_of(got), false),
            };
            self.lists.push((node, list, over));
            match below.iter_mut().find(|(known, _)| *known == over) {
                Some((_, lists)) => lists.push(list),
                None => below.push((over, vec![list])),
            }
        }
        for (over, lists) in below {
            let given = lists.iter().flat_map(|list| &need.lists[*list].give);
            let wanted: Vec<_> = given.map(|given| (&given.value, given.name.as_str())).collect();
            if self.tree[over].reach == Reach::Nested {
                self.nested_level(over, lists[0]);
                continue;
            }
            let in_app = lists.iter().filter(|_| self.tree[over].own.is_none());
            let selecting = in_app.flat_map(|list| &need.lists[*list].order).map(|by| &by.value).collect();
            let source = self.tree[over].source;
            self.level(over, Level { source, wanted, selecting, beside_rows: false });
        }
    }

    /// What entities are used to having comes with them, in the contender's own way; rows out of JSON texts are used to nothing.
    fn add_habits(&mut self) {
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

    /// The place of a value among those that come with a node's row.
    fn place(&self, node: usize, value: &Expr<Leaf>) -> Option<usize> {
        self.tree[node].listed.as_ref()?.iter().position(|listed| listed.value == *value)
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

    /// The node of a source that hangs on another, and stands for no list alone.
    fn child(&self, parent: usize, source: usize) -> Option<usize> {
        (1..self.tree.len()).find(|&at| {
            let node = &self.tree[at];
            node.parent == parent && node.source == source && node.own.is_none()
        })
    }

    /// The node of a source, seen from one above it.
    fn node_of(&self, from: usize, source: usize) -> usize {
        self.ground.need.way(self.tree[from].source, source).into_iter().fold(from, |at, step| self.child(at, step).unwrap_or(at))
    }

    fn table(&self, node: usize) -> TableId {
        self.ground.need.sources[self.tree[node].source].table
    }

    fn is_listed(&self, node: usize) -> bool {
        self.tree[node].listed.is_some()
    }

    /// The node whose statement brings a node's rows.
    fn with(&self, node: usize) -> usize {
        match self.tree[node].reach {
            Reach::Joined | Reach::Nested if node > 0 => self.with(self.tree[node].parent),
            _ => node,
        }
    }

    /// The nodes whose rows come with a node's statement, itself first; those in JSON texts aside.
    fn members(&self, node: usize) -> Vec<usize> {
        (0..self.tree.len()).filter(|&at| self.with(at) == node && (at == 0 || self.tree[at].reach != Reach::Nested)).collect()
    }

    /// Whether a node has a statement of its own that brings rows of others too.
    fn brings_others(&self, node: usize) -> bool {
        self.with(node) == node && self.members(node).len() > 1
    }

    /// The lists that are JSON texts of a node's rows.
    fn nested(&self, node: usize) -> Vec<usize> {
        (1..self.tree.len()).filter(|&at| self.tree[at].parent == node && self.tree[at].reach == Reach::Nested).collect()
    }

    fn keep_columns(&mut self) {
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
    fn keep_something(&mut self) {
        for node in (0..self.tree.len()).filter(|&node| !self.is_listed(node)).collect::<Vec<_>>() {
            let table = self.table(node);
            if self.kept_of(table).is_empty() {
                let column = self.ground.schema.table(table).primary_key.first().copied().unwrap_or(0);
                self.keep(table, &[column]);
            }
        }
    }

    fn is_many(&self, node: usize) -> bool {
        node > 0 && self.ground.need.sources[self.tree[node].source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many)
    }

    /// The first step from where a list stands to its rows.
    fn first_hop(&self, list: usize) -> Option<&'a kampf_schema::Hop> {
        let need: &'a Need = self.ground.need;
        let list = &need.lists[list];
        need.sources[*need.way(list.at, list.over).first()?].hop.as_ref()
    }

    /// Keeps columns of a node's rows; where those carry values they are added to them.
    fn keep_at(&mut self, node: usize, columns: &[ColumnId]) {
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

    fn keep(&mut self, table: TableId, columns: &[ColumnId]) {
        let at = self.kept.iter().position(|(known, _)| *known == table).unwrap_or_else(|| {
            self.kept.push((table, Vec::new()));
            self.kept.len() - 1
        });
        let kept = &mut self.kept[at].1;
        kept.extend(columns.iter().filter(|column| !kept.contains(column)).copied().collect::<Vec<_>>());
        kept.sort_unstable();
    }

    /// A relation has one place with the rows of its table, whichever of its nodes it is reached by.
    fn keep_slots(&mut self) {
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

    fn slot(&self, node: usize, table: TableId) -> Option<usize> {
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
    fn hanging(&self, node: usize) -> Vec<usize> {
        (1..self.tree.len()).filter(|&at| self.tree[at].parent == node).collect()
    }

    /// Where a node's rows are kept: those that carry values apart, before those of tables.
    fn layout(&self, node: usize) -> usize {
        let listed = |upto: usize| (0..upto).filter(|&at| self.is_listed(at)).count();
        if self.is_listed(node) {
            return listed(node);
        }
        let table = self.table(node);
        let at = self.kept.iter().position(|(known, _)| *known == table).unwrap_or(0);
        at + listed(self.tree.len())
    }

    fn kept_of(&self, table: TableId) -> &[ColumnId] {
        self.kept.iter().find(|(known, _)| *known == table).map(|(_, columns)| columns.as_slice()).unwrap_or_default()
    }

    /// Places of columns in a node's rows.
    fn places(&self, node: usize, columns: &[ColumnId]) -> Vec<usize> {
        let source = self.tree[node].source;
        if self.is_listed(node) {
            let place = |&column: &ColumnId| self.place(node, &Node::Leaf(Leaf::Column { source, column }).into());
            return columns.iter().filter_map(place).collect();
        }
        let kept = self.kept_of(self.table(node));
        columns.iter().filter_map(|column| kept.iter().position(|known| known == column)).collect()
    }

    /// A value as the application evaluates it, asked of a node's row.
    fn app(&self, node: usize, value: &Expr<Leaf>) -> Expr<AppLeaf> {
        let of_row = |column| Node::Leaf(AppLeaf::Column { node, column }).into();
        if let Some(place) = self.place(node, value) {
            return of_row(place);
        }
        value.map(&mut |leaf| {
            let place = self.place(node, &Node::Leaf(leaf.clone()).into());
            place.map_or_else(|| Node::Leaf(self.app_leaf(node, leaf)).into(), of_row)
        })
    }

    fn app_leaf(&self, node: usize, leaf: &Leaf) -> AppLeaf {
        match leaf {
            Leaf::Column { source, column } => {
                let node = self.node_of(node, *source);
                AppLeaf::Column { node, column: self.places(node, &[*column]).first().copied().unwrap_or(0) }
            }
            Leaf::Aggregate(at) => AppLeaf::Aggregate(self.aggregates.iter().position(|known| *known == (node, *at)).unwrap_or(usize::MAX)),
            Leaf::Parameter(at) => AppLeaf::Parameter(*at),
            Leaf::Key(at) => AppLeaf::Key(*at),
            Leaf::Total(at) => AppLeaf::Total(*at),
            Leaf::List(at) => {
                AppLeaf::List(self.lists.iter().position(|(from, known, _)| (*from, *known) == (node, *at)).unwrap_or(usize::MAX))
            }
        }
    }

    fn app_order(&self, node: usize, order: &[OrderBy<Leaf>]) -> Vec<OrderBy<AppLeaf>> {
        let one = |by: &OrderBy<Leaf>| OrderBy { value: self.app(node, &by.value), descending: by.descending, appended: by.appended };
        order.iter().map(one).collect()
    }

    fn app_fold(&self, node: usize, fold: &Fold) -> AppFold {
        AppFold {
            function: fold.function,
            distinct: fold.distinct,
            of: fold.of.as_ref().map(|of| self.app(node, of)),
            order: self.app_order(node, &fold.order),
        }
    }

    fn app_list(&self, (at, list, over): (usize, usize, usize)) -> AppList {
        let list = &self.ground.need.lists[list];
        let in_app = self.tree[over].own.is_none();
        let in_place = self.tree[over].reach == Reach::Nested && self.ways.hydration == Hydration::Raw;
        let give = if in_place { self.given_in_place(over, &list.give) } else { Vec::new() };
        AppList {
            at,
            over,
            order: if in_app { self.app_order(over, &list.order) } else { Vec::new() },
            limit: list.limit.filter(|_| in_app),
            give: if give.is_empty() { list.give.iter().map(|given| self.app(over, &given.value)).collect() } else { give },
        }
    }

    /// What is given of the rows of a JSON text: each value has its own place, behind those of the table.
    fn given_in_place(&self, node: usize, give: &[crate::need::Given]) -> Vec<Expr<AppLeaf>> {
        let values = give.iter().filter(|given| given.form.kind().is_some()).count();
        let mut next = self.tree[node].listed.as_ref().map_or(0, Vec::len) - values;
        let one = |given: &crate::need::Given| match given.value.as_leaf() {
            Some(leaf @ Leaf::List(_)) => Node::Leaf(self.app_leaf(node, leaf)).into(),
            _ => {
                next += 1;
                Node::Leaf(AppLeaf::Column { node, column: next - 1 }).into()
            }
        };
        give.iter().map(one).collect()
    }

    pub(super) fn plan(mut self) -> Plan {
        let need = self.ground.need;
        let root = self.root_statement();
        let layouts = self.layouts();
        let nodes = self.nodes();
        let aggregates = self.aggregates.iter().map(|&(at, aggregate)| {
            let over = self.node_of(at, need.aggregates[aggregate].over);
            AppAggregate { at, over, fold: self.app_fold(over, &need.aggregates[aggregate].fold) }
        });
        let aggregates = aggregates.collect();
        // A part that counts only with its parameter holds where that is null.
        let parts = self.split.app_filter(need).map(|part| {
            let condition = self.app(0, &part.condition);
            match part.only_if {
                Some(at) => {
                    let missing = Node::IsNull(Box::new(Node::Leaf(AppLeaf::Parameter(at)).into())).into();
                    Node::Or(vec![missing, condition]).into()
                }
                None => condition,
            }
        });
        let parts: Vec<Expr<AppLeaf>> = parts.collect();
        let group = need.group.as_ref().map(|group| AppGroup {
            keys: group.keys.iter().map(|key| self.app(0, &key.value)).collect(),
            totals: group.totals.iter().map(|total| self.app_fold(0, total)).collect(),
        });
        let order = if self.split.order { Vec::new() } else { self.app_order(0, &need.order) };
        Plan {
            hydration: self.ways.hydration,
            root,
            layouts,
            nodes,
            aggregates,
            lists: self.lists.iter().map(|&list| self.app_list(list)).collect(),
            filter: (!parts.is_empty()).then(|| Expr::all(parts)),
            group,
            give: need.give.iter().map(|given| self.app(0, &given.value)).collect(),
            order,
            limit: need.most().filter(|_| !self.split.limit),
            expect: need.expect,
            left: std::mem::take(&mut self.split.left),
            transaction: false,
            open_columns: false,
        }
    }
}

/// How rows are reached that get something; what the engine was to compute and cannot say is loaded in batches.
fn reach_of(got: Loading) -> Reach {
    match got {
        Loading::Lazy => Reach::Lazy,
        Loading::Joined | Loading::Grouped => Reach::Joined,
        Loading::Batched | Loading::Ranked | Loading::Computed | Loading::Nested => Reach::Batched,
    }
}
