//! The rows at hand in a select: what their tables are called, and how values of a need are said there.

use kampf_schema::expr::{Comparison, Expr, Function, Node};
use kampf_schema::{ColumnId, Hop, HopKind, LogicalType, Schema, TableId};

use super::split::unsaid;
use crate::dialect::Dialect;
use crate::need::{Aggregate, Fold, Leaf, Need};
use crate::statement::{Condition, Join, Select, Selected, Table, Term};

/// What all statements of a plan are made from.
#[derive(Clone, Copy)]
pub(super) struct Ground<'a> {
    pub(super) schema: &'a Schema,
    pub(super) need: &'a Need,
    pub(super) dialect: &'a Dialect,
}

/// How values of related rows to one are said where their table is not joined yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ToOne {
    /// It is joined.
    Join,
    /// A sub-select for each value.
    Nested,
}

/// A source whose rows are at hand.
struct Known {
    source: usize,
    alias: String,
    /// Whether there is a row for every row of the first table.
    there: bool,
}

pub(super) struct Frame<'a> {
    ground: Ground<'a>,
    known: Vec<Known>,
    taken: Vec<String>,
    /// Aggregates that are at hand already.
    values: Vec<(usize, Expr<Term>)>,
    /// What rows are grouped by, said once, so that it is the same wherever it stands.
    pub(super) keys: Vec<Expr<Term>>,
    /// The select so far.
    pub(super) select: Select,
    /// Joins made now are needed only by parts of the filter that may be left out.
    pub(super) optional: bool,
}

impl<'a> Frame<'a> {
    /// Rows of a source's table, whatever leads there.
    pub(super) fn new(ground: Ground<'a>, source: usize) -> Frame<'a> {
        let name = ground.schema.table(ground.need.sources[source].table).name.clone();
        let table = Table::Named { name: name.clone(), alias: name.clone() };
        Frame {
            ground,
            known: vec![Known { source, alias: name.clone(), there: true }],
            taken: vec![name.to_lowercase()],
            values: Vec::new(),
            keys: Vec::new(),
            select: Select::from(table),
            optional: false,
        }
    }

    /// Root rows that come from another select, under the root's name.
    pub(super) fn over(ground: Ground<'a>, inner: Select) -> Frame<'a> {
        let mut frame = Frame::new(ground, 0);
        let alias = frame.known[0].alias.clone();
        frame.select.from = Table::Derived { select: Box::new(inner), alias };
        frame
    }

    /// What the first table is called.
    pub(super) fn first_alias(&self) -> &str {
        &self.known[0].alias
    }

    fn alias_of(&self, source: usize) -> Option<&str> {
        self.known.iter().find(|known| known.source == source).map(|known| known.alias.as_str())
    }

    /// A name not yet taken in this statement.
    fn name(&mut self, wanted: &str) -> String {
        let mut alias = wanted.to_owned();
        let mut number = 1;
        while self.taken.contains(&alias.to_lowercase()) {
            number += 1;
            alias = format!("{wanted}_{number}");
        }
        self.taken.push(alias.to_lowercase());
        alias
    }

    fn table(&mut self, table: TableId) -> Table {
        let name = self.ground.schema.table(table).name.clone();
        let alias = self.name(&name);
        Table::Named { name, alias }
    }

    pub(super) fn column(&self, alias: &str, table: TableId, column: ColumnId) -> Expr<Term> {
        let column = &self.ground.schema.table(table).columns[column];
        Node::Leaf(Term::Column { table: Some(alias.to_owned()), name: column.name.clone(), kind: column.kind }).into()
    }

    /// That rows of a hop under two names belong together.
    fn meets(&self, hop: &Hop, near: &str, far: &str) -> Vec<Expr<Term>> {
        let columns = hop.to_columns.iter().zip(&hop.from_columns);
        let equal = |(&to, &from): (&ColumnId, &ColumnId)| {
            let (to, from) = (self.column(far, hop.to, to), self.column(near, hop.from, from));
            Node::Compare(Comparison::Equal, Box::new(to), Box::new(from)).into()
        };
        columns.map(equal).collect()
    }

    /// The name of a source's table, joined with what leads there where that is not done yet.
    pub(super) fn reach(&mut self, source: usize) -> String {
        if let Some(alias) = self.alias_of(source) {
            return alias.to_owned();
        }
        let from = self.ground.need.sources[source].clone();
        let Some(hop) = &from.hop else { return self.first_alias().to_owned() };
        let near = self.reach(from.parent);
        let near_is_there = self.known.iter().any(|known| known.source == from.parent && known.there);
        let columns = &self.ground.schema.table(hop.from).columns;
        let never_null = hop.from_columns.iter().all(|&column| !columns[column].nullable);
        let there = hop.kind == HopKind::One && near_is_there && never_null && from.filter.is_none();
        let table = self.table(hop.to);
        let alias = table.alias().to_owned();
        self.known.push(Known { source, alias: alias.clone(), there });
        let mut on = self.meets(hop, &near, &alias);
        if let Some(filter) = &from.filter {
            // Nothing more can be joined inside of a join's condition; what the engine cannot say is left to the application.
            let ground = self.ground;
            let said = filter.conjuncts().into_iter().filter(|part| unsaid(ground, part).is_none());
            on.extend(said.map(|part| self.say(part, ToOne::Nested)));
        }
        self.select.joins.push(Join { outer: !there, table, on, optional: self.optional });
        alias
    }

    /// Joins a select that stands for what a source's first step leads to.
    fn join_derived(&mut self, hop: &Hop, alias: &str, inner: Select) {
        let near = self.first_alias().to_owned();
        let on = self.meets(hop, &near, alias);
        let table = Table::Derived { select: Box::new(inner), alias: alias.to_owned() };
        self.select.joins.push(Join { outer: true, table, on, optional: false });
    }

    /// A value of the need, said of the rows at hand.
    pub(super) fn say(&mut self, value: &Expr<Leaf>, to_one: ToOne) -> Expr<Term> {
        value.map(&mut |leaf| self.leaf(leaf, to_one))
    }

    fn leaf(&mut self, leaf: &Leaf, to_one: ToOne) -> Expr<Term> {
        let Ground { schema, need, .. } = self.ground;
        let kind = need.kind(schema, leaf);
        match leaf {
            Leaf::Column { source, column } => {
                let table = need.sources[*source].table;
                match (self.alias_of(*source), to_one) {
                    (Some(alias), _) => self.column(alias, table, *column),
                    (None, ToOne::Join) => {
                        let alias = self.reach(*source);
                        self.column(&alias, table, *column)
                    }
                    (None, ToOne::Nested) => self.nested(*source, kind, |inner, alias| inner.column(alias, table, *column)),
                }
            }
            Leaf::Parameter(at) => Node::Leaf(Term::Parameter(*at, kind)).into(),
            Leaf::Aggregate(at) => match self.values.iter().find(|(known, _)| known == at) {
                Some((_, value)) => value.clone(),
                None => self.computed(*at),
            },
            Leaf::Key(at) => self.keys.get(*at).cloned().unwrap_or_else(|| Node::Literal(kampf_schema::Value::Null).into()),
            Leaf::Total(at) => match &need.group {
                Some(group) => {
                    let fold = &group.totals[*at];
                    let of = fold.of.as_ref().map(|of| self.say(of, to_one));
                    folded(fold, of)
                }
                None => Node::Literal(kampf_schema::Value::Null).into(),
            },
        }
    }

    /// The value of one related row by a sub-select.
    fn nested(&mut self, source: usize, kind: LogicalType, value: impl FnOnce(&Frame<'a>, &str) -> Expr<Term>) -> Expr<Term> {
        let mut near = source;
        while self.alias_of(near).is_none() && near != 0 {
            near = self.ground.need.sources[near].parent;
        }
        let mut inner = self.chain(near, source);
        let alias = inner.alias_of(source).unwrap_or_default().to_owned();
        let value = value(&inner, &alias);
        inner.select.columns = vec![vec![Selected { value, name: None }]];
        Node::Leaf(Term::Select(Box::new(inner.select), kind)).into()
    }

    /// An aggregate over the rows that hang on the row at hand, by a sub-select.
    fn computed(&mut self, at: usize) -> Expr<Term> {
        let aggregate = &self.ground.need.aggregates[at];
        let fold = &aggregate.fold;
        let mut inner = self.chain(aggregate.at, aggregate.over);
        if fold.function == Aggregate::Exists {
            inner.select.columns = vec![vec![Selected { value: Node::Leaf(Term::Constant(1)).into(), name: None }]];
            return Node::Leaf(Term::Exists(Box::new(inner.select))).into();
        }
        let of = fold.of.as_ref().map(|of| inner.say(of, ToOne::Join));
        inner.select.columns = vec![vec![Selected { value: folded(fold, of), name: None }]];
        Node::Leaf(Term::Select(Box::new(inner.select), fold.kind)).into()
    }

    /// The rows of all sources between two, for the row at hand at the first. Its names end with it: the next may use the same.
    fn chain(&self, from: usize, to: usize) -> Frame<'a> {
        let need = self.ground.need;
        let way = need.way(from, to);
        let outside = self.alias_of(from).unwrap_or_default().to_owned();
        let first = way.first().copied().unwrap_or(to);
        let mut inner = Frame { taken: self.taken.clone(), known: Vec::new(), ..Frame::new(self.ground, first) };
        let table = inner.table(need.sources[first].table);
        let mut near = table.alias().to_owned();
        inner.known.push(Known { source: first, alias: near.clone(), there: true });
        inner.select.from = table;
        let mut conditions = Vec::new();
        for &source in &way {
            let Some(hop) = &need.sources[source].hop else { continue };
            if source == first {
                conditions.extend(inner.meets(hop, &outside, &near));
                continue;
            }
            let table = inner.table(hop.to);
            let alias = table.alias().to_owned();
            let on = inner.meets(hop, &near, &alias);
            inner.known.push(Known { source, alias: alias.clone(), there: true });
            inner.select.joins.push(Join { outer: false, table, on, optional: false });
            near = alias;
        }
        for &source in &way {
            for part in need.sources[source].filter.iter().flat_map(Expr::conjuncts) {
                conditions.push(inner.say(part, ToOne::Join));
            }
        }
        inner.select.filter = conditions.into_iter().map(always).collect();
        inner
    }

    /// Makes aggregates at hand by joining and grouping. One branch of related rows is joined and grouped as it is, which asks for
    /// the statement to be grouped by what is given back; several would multiply each other's rows, so each is grouped in a table
    /// of its own first. `dependent` is what the statement is grouped by besides the root's key.
    pub(super) fn group(&mut self, aggregates: &[usize], dependent: &[(usize, ColumnId)], alone: bool) {
        let need = self.ground.need;
        let mut branches: Vec<usize> = Vec::new();
        for &at in aggregates {
            let branch = self.branch(need.aggregates[at].over);
            if !branches.contains(&branch) {
                branches.push(branch);
            }
        }
        let key = &self.ground.schema.table(need.root()).primary_key;
        if branches.len() == 1 && !key.is_empty() && alone {
            let root = self.first_alias().to_owned();
            let mut group: Vec<Expr<Term>> = key.iter().map(|&column| self.column(&root, need.root(), column)).collect();
            for &(source, column) in dependent {
                let alias = self.reach(source);
                let column = self.column(&alias, need.sources[source].table, column);
                if !group.contains(&column) {
                    group.push(column);
                }
            }
            self.select.group = group;
            for &at in aggregates {
                let value = self.joined(at, false);
                self.values.push((at, value));
            }
            return;
        }
        for branch in branches {
            let of_branch: Vec<usize> = aggregates.iter().copied().filter(|&at| self.branch(need.aggregates[at].over) == branch).collect();
            self.derive_branch(branch, &of_branch);
        }
    }

    /// The last source to many on the way to one: aggregates that share it do not multiply each other's rows.
    fn branch(&self, over: usize) -> usize {
        let need = self.ground.need;
        let is_many = |source: &usize| need.sources[*source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many);
        need.way(0, over).into_iter().rev().find(is_many).unwrap_or(over)
    }

    /// An aggregate over joined rows, of which some may be there only because nothing met. `whole` says that every joined row is one
    /// of the branch's own.
    fn joined(&mut self, at: usize, whole: bool) -> Expr<Term> {
        let need = self.ground.need;
        let aggregate = &need.aggregates[at];
        let alias = self.reach(aggregate.over);
        let Some(hop) = &need.sources[aggregate.over].hop else { return Node::Literal(kampf_schema::Value::Null).into() };
        let met = self.column(&alias, hop.to, hop.to_columns[0]);
        let fold = &aggregate.fold;
        let count = |of| {
            let count = Fold { function: Aggregate::Count, distinct: false, of: None, kind: LogicalType::Integer };
            folded(&count, of)
        };
        let own = whole && self.known[0].source == aggregate.over;
        match (&fold.of, fold.function) {
            (None, Aggregate::Exists) => at_least_one(count(if own { None } else { Some(met) })),
            (None, _) => count(if own { None } else { Some(met) }),
            (Some(of), _) => {
                let said = self.say(of, ToOne::Join);
                let is_column = matches!(of.as_leaf(), Some(Leaf::Column { .. }));
                let said = if is_column || own {
                    said
                } else {
                    let there = Node::Not(Box::new(Node::IsNull(Box::new(met)).into())).into();
                    Node::Case(vec![(there, said)], None).into()
                };
                folded(fold, Some(said))
            }
        }
    }

    fn derive_branch(&mut self, branch: usize, aggregates: &[usize]) {
        let need = self.ground.need;
        let way = need.way(0, branch);
        let Some(&first) = way.first() else { return };
        let Some(hop) = need.sources[first].hop.clone() else { return };
        let alias = self.name(&self.ground.schema.table(hop.to).name.clone());
        // Its own frame starts at the branch's first table; what lies behind is joined to that.
        let mut inner = Frame::new(self.ground, first);
        let own = inner.first_alias().to_owned();
        let keys: Vec<Expr<Term>> = hop.to_columns.iter().map(|&column| inner.column(&own, hop.to, column)).collect();
        for part in need.sources[first].filter.iter().flat_map(Expr::conjuncts) {
            let said = inner.say(part, ToOne::Join);
            inner.select.filter.push(always(said));
        }
        let mut columns: Vec<Selected> = keys.iter().map(|key| Selected { value: key.clone(), name: None }).collect();
        for (number, &at) in aggregates.iter().enumerate() {
            let fold = &need.aggregates[at].fold;
            let counts = fold.function == Aggregate::Exists;
            let name = format!("{}_{}", fold.function.word(), number + 1);
            let value = if counts { inner.counted(at) } else { inner.joined(at, true) };
            columns.push(Selected { value, name: Some(name.clone()) });
            let kind = if counts { LogicalType::Integer } else { fold.kind };
            let outer: Expr<Term> = Node::Leaf(Term::Column { table: Some(alias.clone()), name, kind }).into();
            let or_none = |outer| Node::Call(Function::Coalesce, vec![outer, Node::Leaf(Term::Constant(0)).into()]).into();
            let value = match fold.function {
                Aggregate::Count => or_none(outer),
                Aggregate::Exists => at_least_one(or_none(outer)),
                _ => outer,
            };
            self.values.push((at, value));
        }
        inner.select.columns = vec![columns];
        inner.select.group = keys;
        self.join_derived(&hop, &alias, inner.select);
    }

    /// How many rows an aggregate goes over.
    fn counted(&mut self, at: usize) -> Expr<Term> {
        match self.joined(at, true).node {
            Node::Compare(_, count, _) => *count,
            other => other.into(),
        }
    }
}

fn folded(fold: &Fold, of: Option<Expr<Term>>) -> Expr<Term> {
    Node::Leaf(Term::Aggregate { function: fold.function, distinct: fold.distinct, of: of.map(Box::new), kind: fold.kind }).into()
}

fn at_least_one(count: Expr<Term>) -> Expr<Term> {
    Node::Compare(Comparison::Greater, Box::new(count), Box::new(Node::Leaf(Term::Constant(0)).into())).into()
}

pub(super) fn always(condition: Expr<Term>) -> Condition {
    Condition { condition, only_if: None }
}
