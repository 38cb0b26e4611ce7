//! The rows at hand in a select: what their tables are called, and how values of a need are said there.

use kampf_schema::expr::{Comparison, Expr, Function, Node};
use kampf_schema::{ColumnId, Hop, HopKind, LogicalType, Schema, TableId};

use super::forms::{Forms, aggregates_of};
use super::split::unsaid;
use crate::choice::Loading;
use crate::dialect::Dialect;
use crate::need::{Aggregate, Fold, Leaf, Need, OrderBy};
use crate::statement::{Condition, Join, JsonItem, Select, Selected, SortKey, Table, Term};

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
    /// What columns of the first table are called, where that is a select which calls them something else.
    renamed: Vec<(ColumnId, String)>,
}

/// A list as a JSON text of the row at hand: what each row holds, in order.
pub(super) struct JsonList {
    /// Its place among the need's.
    pub(super) list: usize,
    pub(super) items: Vec<JsonPart>,
}

/// One item of a row in a JSON text.
pub(super) enum JsonPart {
    Value(Expr<Leaf>),
    List(JsonList),
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
            renamed: Vec::new(),
        }
    }

    /// Root rows that come from another select, under the root's name; `renamed` says what their columns are called there.
    pub(super) fn over(ground: Ground<'a>, inner: Select, renamed: Vec<(ColumnId, String)>) -> Frame<'a> {
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
        let Ground { schema, need, .. } = self.ground;
        let one = |by: &OrderBy<Leaf>| {
            let value = self.say(&by.value, ToOne::Join);
            SortKey { value, descending: by.descending, nullable: need.can_be_null_at(schema, at, &by.value) }
        };
        order.iter().map(one).collect()
    }

    /// A list as a JSON array of arrays, by a sub-select.
    pub(super) fn json(&mut self, json: &JsonList) -> Select {
        let list = &self.ground.need.lists[json.list];
        let mut inner = self.chain(list.at, list.over, true);
        let values = json.items.iter().filter_map(|item| if let JsonPart::Value(value) = item { Some(value) } else { None });
        let values: Vec<&Expr<Leaf>> = values.collect();
        inner.pick_laterally(&aggregates_of(self.ground.need, list.over, values));
        let mut items = Vec::new();
        for item in &json.items {
            items.push(match item {
                JsonPart::Value(value) => JsonItem { value: inner.say(value, ToOne::Join), is_json: false },
                JsonPart::List(json) => {
                    let select = Box::new(inner.json(json));
                    JsonItem { value: Node::Leaf(Term::Select(select, LogicalType::TEXT)).into(), is_json: true }
                }
            });
        }
        let mut order = inner.sort_keys(list.over, &list.order);
        let mut select = match list.limit {
            None => inner.select,
            Some(limit) => {
                // Rows are cut in a select of their own, and then put together.
                let alias = inner.alias_of(list.over).unwrap_or_default().to_owned();
                let mut cut = inner.select;
                (cut.order, cut.limit) = (order.clone(), Some(limit));
                let kind = |value: &Expr<Term>| value.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
                let mut output = |value: &mut Expr<Term>, name: String| {
                    let known = cut.columns.iter().flatten().find(|column| column.value == *value);
                    let name = known.and_then(|column| column.name.clone()).unwrap_or(name);
                    let outside = Node::Leaf(Term::Column { table: Some(alias.clone()), name: name.clone(), kind: kind(value) }).into();
                    let value = std::mem::replace(value, outside);
                    if !cut.columns.iter().flatten().any(|column| column.name.as_ref() == Some(&name)) {
                        cut.columns.push(vec![Selected { value, name: Some(name) }]);
                    }
                };
                (1..).zip(&mut items).for_each(|(number, item)| output(&mut item.value, format!("item_{number}")));
                (1..).zip(&mut order).for_each(|(number, key)| output(&mut key.value, format!("sort_{number}")));
                Select::from(Table::Derived { select: Box::new(cut), alias, lateral: false })
            }
        };
        select.columns = vec![vec![Selected { value: Node::Leaf(Term::JsonRows { items, order }).into(), name: None }]];
        select
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

    /// Makes what the database computes of a level's related rows at hand: aggregates by joining and grouping, picks by their
    /// extremes, ranks or lateral selects. `alone` says that nothing else but the level's own rows is selected; `dependent` is what the
    /// statement is grouped by besides the level's key then.
    pub(super) fn compute(&mut self, forms: Forms<'_>, level: usize, values: &[&Expr<Leaf>], dependent: &[(usize, ColumnId)], alone: bool) {
        let need = self.ground.need;
        let all = aggregates_of(need, level, values.iter().copied());
        let is_pick = |at: &usize| need.aggregates[*at].fold.function == Aggregate::First;
        let got = |form: Loading, picks: bool| {
            let those = all.iter().copied().filter(|at| is_pick(at) == picks && forms.aggregate(*at) == form);
            those.collect::<Vec<usize>>()
        };
        let (extremes, ranked) = (got(Loading::Grouped, true), got(Loading::Ranked, true));
        let alone = alone && extremes.is_empty() && ranked.is_empty();
        self.group(level, &got(Loading::Grouped, false), dependent, alone);
        for picks in self.by_rows(&extremes) {
            self.pick_by_extremes(&picks);
        }
        for picks in self.by_rows(&ranked) {
            self.pick_by_rank(&picks);
        }
        self.pick_laterally(&got(Loading::Computed, true));
    }

    /// Picks that go over the same rows in the same order, together.
    fn by_rows(&self, picks: &[usize]) -> Vec<Vec<usize>> {
        let need = self.ground.need;
        let mut all: Vec<Vec<usize>> = Vec::new();
        for &pick in picks {
            let same = |other: &Vec<usize>| {
                let (one, other) = (&need.aggregates[pick], &need.aggregates[other[0]]);
                one.over == other.over && one.fold.order == other.fold.order
            };
            match all.iter_mut().find(|known| same(known)) {
                Some(known) => known.push(pick),
                None => all.push(vec![pick]),
            }
        }
        all
    }

    /// The values of picks as columns that are called something.
    fn picked(&mut self, picks: &[usize], alias: &str, outer: &mut Vec<(usize, Expr<Term>)>) -> Vec<Selected> {
        let mut columns = Vec::new();
        for (number, &pick) in (1..).zip(picks) {
            let fold = &self.ground.need.aggregates[pick].fold;
            let Some(of) = &fold.of else { continue };
            let name = format!("first_{number}");
            columns.push(Selected { value: self.say(of, ToOne::Join), name: Some(name.clone()) });
            outer.push((pick, Node::Leaf(Term::Column { table: Some(alias.to_owned()), name, kind: fold.kind }).into()));
        }
        columns
    }

    /// Several picks over the same rows by one select that sees the row at hand, where the engine has such; a single one is as well a
    /// sub-select.
    fn pick_laterally(&mut self, picks: &[usize]) {
        let need = self.ground.need;
        for picks in self.by_rows(picks) {
            let aggregate = &need.aggregates[picks[0]];
            if picks.len() < 2 || !self.ground.dialect.has_lateral {
                continue;
            }
            self.reach(aggregate.at);
            let alias = self.name(&self.ground.schema.table(need.sources[aggregate.over].table).name.clone());
            let mut inner = self.chain(aggregate.at, aggregate.over, true);
            let mut values = Vec::new();
            inner.select.columns = vec![inner.picked(&picks, &alias, &mut values)];
            inner.select.order = inner.sort_keys(aggregate.over, &aggregate.fold.order);
            inner.select.limit = Some(1);
            let table = Table::Derived { select: Box::new(inner.select), alias, lateral: true };
            self.select.joins.push(Join { outer: true, table, on: Vec::new(), optional: false });
            self.values.extend(values);
        }
    }

    /// Picks by numbering the related rows of each key: the first of them is joined.
    fn pick_by_rank(&mut self, picks: &[usize]) {
        let need = self.ground.need;
        let aggregate = &need.aggregates[picks[0]];
        let Some((hop, alias)) = self.derived(aggregate.at, aggregate.over) else { return };
        let mut inner = self.chain(aggregate.at, aggregate.over, false);
        let keys = inner.keys_of(&hop);
        let mut values = Vec::new();
        let picked = inner.picked(picks, &alias, &mut values);
        let order = inner.sort_keys(aggregate.over, &aggregate.fold.order);
        let place: Expr<Term> = Node::Leaf(Term::Place { part: keys.clone(), order }).into();
        let mut columns: Vec<Selected> = keys.into_iter().map(|value| Selected { value, name: None }).collect();
        columns.extend(picked);
        columns.push(Selected { value: place, name: Some("place".to_owned()) });
        inner.select.columns = vec![columns];
        let place = Node::Leaf(Term::Column { table: Some(alias.clone()), name: "place".to_owned(), kind: LogicalType::Integer });
        let first = Node::Compare(Comparison::Equal, Box::new(place.into()), Box::new(Node::Leaf(Term::Constant(1)).into())).into();
        self.join_derived(aggregate.at, &hop, &alias, inner.select, vec![first]);
        self.values.extend(values);
    }

    /// Picks by the extremes of the order's terms, one after the other, each among the rows that have those before it.
    fn pick_by_extremes(&mut self, picks: &[usize]) {
        let need = self.ground.need;
        let aggregate = &need.aggregates[picks[0]];
        let Some((hop, alias)) = self.derived(aggregate.at, aggregate.over) else { return };
        let order = &aggregate.fold.order;
        let mut below: Option<Select> = None;
        let mut values = Vec::new();
        for level in 0..=order.len() {
            let mut inner = self.chain(aggregate.at, aggregate.over, false);
            let keys = inner.keys_of(&hop);
            let mut columns: Vec<Selected> = keys.iter().map(|key| Selected { value: key.clone(), name: None }).collect();
            let mut group = keys.clone();
            if let Some(select) = below.take() {
                let extremes = inner.name("extremes");
                let mut on = Vec::new();
                for (key, column) in keys.iter().zip(&hop.to_columns) {
                    let met = inner.column(&extremes, hop.to, *column);
                    on.push(Node::Compare(Comparison::Equal, Box::new(met), Box::new(key.clone())).into());
                }
                for (number, by) in order.iter().enumerate().take(level) {
                    let said = inner.say(&by.value, ToOne::Join);
                    let kind = said.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
                    let name = format!("extreme_{}", number + 1);
                    let met: Expr<Term> = Node::Leaf(Term::Column { table: Some(extremes.clone()), name: name.clone(), kind }).into();
                    on.push(Node::Compare(Comparison::Equal, Box::new(met.clone()), Box::new(said)).into());
                    if level < order.len() {
                        columns.push(Selected { value: met.clone(), name: Some(name) });
                        group.push(met);
                    }
                }
                let table = Table::Derived { select: Box::new(select), alias: extremes, lateral: false };
                inner.select.joins.push(Join { outer: false, table, on, optional: false });
            }
            match order.get(level) {
                Some(by) => {
                    let of = inner.say(&by.value, ToOne::Join);
                    let function = if by.descending { Aggregate::Max } else { Aggregate::Min };
                    let kind = of.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
                    let extreme = Node::Leaf(Term::Aggregate { function, distinct: false, of: Some(Box::new(of)), kind }).into();
                    columns.push(Selected { value: extreme, name: Some(format!("extreme_{}", level + 1)) });
                    inner.select.group = group;
                }
                None => {
                    columns.extend(inner.picked(picks, &alias, &mut values));
                    // The same row may be reached in several ways.
                    inner.select.distinct = need.way(aggregate.at, aggregate.over).len() > 1;
                }
            }
            inner.select.columns = vec![columns];
            below = Some(inner.select);
        }
        if let Some(select) = below {
            self.join_derived(aggregate.at, &hop, &alias, select, Vec::new());
            self.values.extend(values);
        }
    }

    /// The first step to a source, and a name for a table that stands for its rows.
    fn derived(&mut self, at: usize, over: usize) -> Option<(Hop, String)> {
        let need = self.ground.need;
        let hop = need.sources[*need.way(at, over).first()?].hop.clone()?;
        let alias = self.name(&self.ground.schema.table(need.sources[over].table).name.clone());
        Some((hop, alias))
    }

    /// The columns of the first table that a step leads to.
    pub(super) fn keys_of(&self, hop: &Hop) -> Vec<Expr<Term>> {
        let own = self.first_alias();
        hop.to_columns.iter().map(|&column| self.column(own, hop.to, column)).collect()
    }

    /// Makes aggregates at hand by joining and grouping. One branch of related rows is joined and grouped as it is, which asks for
    /// the statement to be grouped by what is given back; several would multiply each other's rows, so each is grouped in a table
    /// of its own first. `dependent` is what the statement is grouped by besides the root's key.
    fn group(&mut self, level: usize, aggregates: &[usize], dependent: &[(usize, ColumnId)], alone: bool) {
        let need = self.ground.need;
        let mut branches: Vec<usize> = Vec::new();
        for &at in aggregates {
            let branch = self.branch(level, need.aggregates[at].over);
            if !branches.contains(&branch) {
                branches.push(branch);
            }
        }
        let table = need.sources[level].table;
        let key = &self.ground.schema.table(table).primary_key;
        if branches.len() == 1 && !key.is_empty() && alone {
            let root = self.first_alias().to_owned();
            let mut group: Vec<Expr<Term>> = key.iter().map(|&column| self.column(&root, table, column)).collect();
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
            let of_branch: Vec<usize> =
                aggregates.iter().copied().filter(|&at| self.branch(level, need.aggregates[at].over) == branch).collect();
            self.derive_branch(level, branch, &of_branch);
        }
    }

    /// The last source to many on the way to one: aggregates that share it do not multiply each other's rows.
    fn branch(&self, level: usize, over: usize) -> usize {
        let need = self.ground.need;
        let is_many = |source: &usize| need.sources[*source].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many);
        need.way(level, over).into_iter().rev().find(is_many).unwrap_or(over)
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
            let count = Fold { function: Aggregate::Count, distinct: false, of: None, order: Vec::new(), kind: LogicalType::Integer };
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

    fn derive_branch(&mut self, level: usize, branch: usize, aggregates: &[usize]) {
        let need = self.ground.need;
        let way = need.way(level, branch);
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
        self.join_derived(level, &hop, &alias, inner.select, Vec::new());
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
