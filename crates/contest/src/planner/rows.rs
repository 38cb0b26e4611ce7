//! Plans with the rows of sources as nodes: what is kept of each, and how they hang together.
//!
//! A *level* is a node whose rows values are given of: the root, and the rows of each list. Where values of a level come with its rows,
//! these carry a list of values, and not the columns of their table.

mod kept;
mod levels;
mod statements;

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, TableId};

use super::Split;
use super::forms::Forms;
use super::frame::PlanGround;
use super::list::{self, Level, Listed};
use crate::choice::Ways;
use crate::choice::{Fetch, Hydration, Loading};
use crate::manner::Manner;
use crate::need::{Fold, Leaf, OrderBy};
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
    ground: PlanGround<'a>,
    ways: Ways,
    split: Split,
    tree: Vec<Tree>,
    /// What the application evaluates, in all places, each with the node that it is asked of.
    wanted: Vec<(usize, Expr<Leaf>)>,
    /// The aggregates that it computes: the node that they stand at, and the place among the need's.
    aggregates: Vec<(usize, usize)>,
    /// The lists: the node that they stand at, the place among the need's, and the node of their rows.
    lists: Vec<(usize, usize, usize)>,
    /// Nodes of lists that are still to be seen as levels, with the lists.
    below: Vec<(usize, Vec<usize>)>,
    /// Kept columns per table, in the order of the tables' first use.
    kept: Vec<(TableId, Vec<ColumnId>)>,
    /// Relations kept with the rows of each table: nodes that stand for them.
    slots: Vec<(TableId, Vec<usize>)>,
}

impl<'a> Rows<'a> {
    pub(super) fn new(ground: PlanGround<'a>, ways: Ways, split: Split) -> Rows<'a> {
        let mut rows = Rows {
            ground,
            ways,
            tree: vec![Tree::new(0, 0, Reach::Joined, true)],
            wanted: Vec::new(),
            aggregates: Vec::new(),
            lists: Vec::new(),
            below: Vec::new(),
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
        rows.levels_below();
        rows.add_habits();
        if ways.fetch == Fetch::Chunks {
            rows.keep_at(0, &list::order_columns(need));
        }
        rows.keep_columns();
        rows.keep_something();
        rows.keep_slots();
        rows
    }

    fn forms(&self) -> Forms<'a> {
        Forms { ground: self.ground, ways: self.ways }
    }

    /// The place of a value among those that come with a node's row.
    fn place(&self, node: usize, value: &Expr<Leaf>) -> Option<usize> {
        self.tree[node].listed.as_ref()?.iter().position(|listed| listed.value == *value)
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

    /// Places of the key that chunks go on behind.
    fn behind(&self) -> Vec<usize> {
        if self.ways.fetch == Fetch::Chunks { self.places(0, &list::order_columns(self.ground.need)) } else { Vec::new() }
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
            manner: Manner { behind: self.behind(), ..Manner::of(self.ways, need) },
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
