//! The rows at hand in a select: what their tables are called, and how values of a need are said there.

mod groups;
mod json;
mod picks;

use kampf_schema::expr::{Comparison, Expr, Node};
use kampf_schema::{ColumnId, Hop, HopKind, LogicalType, Schema, TableId};

use super::split::unsaid;
use crate::dialect::Dialect;
use crate::need::{Aggregate, Fold, Leaf, Need, OrderBy};
use crate::statement::{Condition, Join, Select, Selected, SortKey, Table, Term};
pub(super) use json::{JsonList, JsonPart};

/// What all statements of a plan are made from.
#[derive(Clone, Copy)]
pub(super) struct PlanGround<'a> {
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
    ground: PlanGround<'a>,
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
    /// What columns of the first table are called, where that is a select which calls them something else.
    renamed: Vec<(ColumnId, String)>,
}

impl<'a> Frame<'a> {
    /// Rows of a source's table, whatever leads there.
    pub(super) fn new(ground: PlanGround<'a>, source: usize) -> Frame<'a> {
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
            renamed: Vec::new(),
        }
    }

    /// Root rows that come from another select, under the root's name; `renamed` says what their columns are called there.
    pub(super) fn over(ground: PlanGround<'a>, inner: Select, renamed: Vec<(ColumnId, String)>) -> Frame<'a> {
        let mut frame = Frame { renamed, ..Frame::new(ground, 0) };
        let alias = frame.known[0].alias.clone();
        frame.select.from = Table::Derived { select: Box::new(inner), alias, lateral: false };
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
        let model = &self.ground.schema.table(table).columns[column];
        let renamed = self.renamed.iter().find(|(known, _)| *known == column && alias == self.known[0].alias);
        let name = renamed.map_or_else(|| model.name.clone(), |(_, name)| name.clone());
        Node::Leaf(Term::Column { table: Some(alias.to_owned()), name, kind: model.kind }).into()
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

    /// Joins a select that stands for what the first step from a source leads to.
    fn join_derived(&mut self, at: usize, hop: &Hop, alias: &str, inner: Select, besides: Vec<Expr<Term>>) {
        let near = self.reach(at);
        let mut on = self.meets(hop, &near, alias);
        on.extend(besides);
        let table = Table::Derived { select: Box::new(inner), alias: alias.to_owned(), lateral: false };
        self.select.joins.push(Join { outer: true, table, on, optional: false });
    }

    /// A value of the need, said of the rows at hand.
    pub(super) fn say(&mut self, value: &Expr<Leaf>, to_one: ToOne) -> Expr<Term> {
        value.map(&mut |leaf| self.leaf(leaf, to_one))
    }

    fn leaf(&mut self, leaf: &Leaf, to_one: ToOne) -> Expr<Term> {
        let PlanGround { schema, need, .. } = self.ground;
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
            // Lists are said by themselves.
            Leaf::List(_) => Node::Literal(kampf_schema::Value::Null).into(),
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
        let mut inner = self.chain(near, source, true);
        let alias = inner.alias_of(source).unwrap_or_default().to_owned();
        let value = value(&inner, &alias);
        inner.select.columns = vec![vec![Selected { value, name: None }]];
        Node::Leaf(Term::Select(Box::new(inner.select), kind)).into()
    }

    /// An aggregate over the rows that hang on the row at hand, by a sub-select.
    fn computed(&mut self, at: usize) -> Expr<Term> {
        let aggregate = &self.ground.need.aggregates[at];
        let fold = &aggregate.fold;
        let mut inner = self.chain(aggregate.at, aggregate.over, true);
        if fold.function == Aggregate::Exists {
            inner.select.columns = vec![vec![Selected { value: Node::Leaf(Term::Constant(1)).into(), name: None }]];
            return Node::Leaf(Term::Exists(Box::new(inner.select))).into();
        }
        let of = fold.of.as_ref().map(|of| inner.say(of, ToOne::Join));
        let value = match of {
            Some(of) if fold.function == Aggregate::First => {
                inner.select.order = inner.sort_keys(aggregate.over, &fold.order);
                inner.select.limit = Some(1);
                of
            }
            of => folded(fold, of),
        };
        inner.select.columns = vec![vec![Selected { value, name: None }]];
        Node::Leaf(Term::Select(Box::new(inner.select), fold.kind)).into()
    }

    /// Terms to sort the rows at a source by, said of the rows at hand.
    pub(super) fn sort_keys(&mut self, at: usize, order: &[OrderBy<Leaf>]) -> Vec<SortKey> {
        let PlanGround { schema, need, .. } = self.ground;
        let one = |by: &OrderBy<Leaf>| {
            let value = self.say(&by.value, ToOne::Join);
            SortKey { value, descending: by.descending, nullable: need.can_be_null_at(schema, at, &by.value) }
        };
        order.iter().map(one).collect()
    }

    /// The rows of all sources between two; where it is `correlated`, for the row at hand at the first, and its names end with it: the
    /// next may use the same.
    pub(super) fn chain(&self, from: usize, to: usize, correlated: bool) -> Frame<'a> {
        let need = self.ground.need;
        let way = need.way(from, to);
        let outside = self.alias_of(from).unwrap_or_default().to_owned();
        let first = way.first().copied().unwrap_or(to);
        let taken = if correlated { self.taken.clone() } else { Vec::new() };
        let mut inner = Frame { taken, known: Vec::new(), ..Frame::new(self.ground, first) };
        let table = inner.table(need.sources[first].table);
        let mut near = table.alias().to_owned();
        inner.known.push(Known { source: first, alias: near.clone(), there: true });
        inner.select.from = table;
        let mut conditions = Vec::new();
        for &source in &way {
            let Some(hop) = &need.sources[source].hop else { continue };
            if source == first {
                if correlated {
                    conditions.extend(inner.meets(hop, &outside, &near));
                }
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
