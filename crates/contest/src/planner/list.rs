//! Rows that carry values: what is selected, how it is called, and the root's statement around it.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, HopKind};

use super::forms::Forms;
use super::frame::{Frame, PlanGround, ToOne};
use super::split::unsaid;
use super::{Split, has_aggregate};
use crate::choice::Ways;
use crate::choice::{Columns, Fetch, Filters, Hydration, Loading};
use crate::manner::Manner;
use crate::need::{Leaf, Need};
use crate::plan::{Body, Plan};
use crate::statement::{Condition, OnlyIf, Selected, SortKey, Term, Window};

/// One value that is selected.
pub(super) struct Listed {
    pub(super) value: Expr<Leaf>,
    pub(super) name: String,
    /// Whether the name was given by us or the user, and differs from what the column would be called anyway.
    pub(super) named: bool,
}

impl Listed {
    /// A column of the root's own.
    pub(super) fn own(value: Expr<Leaf>, name: &str) -> Listed {
        Listed { value, name: name.to_owned(), named: false }
    }
}

/// What is asked of each row at a source.
pub(super) struct Level<'n> {
    pub(super) source: usize,
    /// What is given, or groups are made of, with what it is called.
    pub(super) wanted: Vec<(&'n Expr<Leaf>, &'n str)>,
    /// What the application filters and sorts by.
    pub(super) selecting: Vec<&'n Expr<Leaf>>,
    /// Whether rows to many come as rows, so that those to one do, too.
    pub(super) beside_rows: bool,
}

impl<'n> Level<'n> {
    /// All that is asked.
    pub(super) fn values(&self) -> impl Iterator<Item = &'n Expr<Leaf>> + use<'n, '_> {
        self.wanted.iter().map(|(value, _)| *value).chain(self.selecting.iter().copied())
    }

    /// Whether what stands at a leaf comes with the row itself.
    pub(super) fn is_value(&self, forms: Forms<'_>, leaf: &Leaf) -> bool {
        match leaf {
            Leaf::Column { source, .. } => *source == self.source || forms.joins_values(self.source, *source, self.beside_rows),
            Leaf::Aggregate(at) => forms.is_computed(*at),
            Leaf::List(_) => false,
            Leaf::Parameter(_) | Leaf::Key(_) | Leaf::Total(_) => true,
        }
    }
}

/// What is selected of each row: all columns of its table (joined: of every table to one) or only what is given, then what else the
/// application needs.
pub(super) fn listed(forms: Forms<'_>, level: &Level<'_>) -> Vec<Listed> {
    let Forms { ground, ways } = forms;
    let PlanGround { schema, need, .. } = ground;
    let table = need.sources[level.source].table;
    let mut list: Vec<Listed> = Vec::new();
    let mut add = |value: &Expr<Leaf>, name: &str, named: bool| {
        if list.iter().any(|listed| listed.value == *value) {
            return;
        }
        let mut unique = name.to_owned();
        let mut number = 1;
        while list.iter().any(|listed| listed.name == unique) {
            number += 1;
            unique = format!("{name}_{number}");
        }
        let named = named || unique != name;
        list.push(Listed { value: value.clone(), name: unique, named });
    };
    let own = |column: ColumnId| -> Expr<Leaf> { Node::Leaf(Leaf::Column { source: level.source, column }).into() };
    let own_name = |value: &Expr<Leaf>| match value.as_leaf() {
        Some(Leaf::Column { source, column }) if *source == level.source => Some(schema.table(table).columns[*column].name.as_str()),
        _ => None,
    };
    if ways.columns == Columns::All {
        for (column, model) in schema.table(table).columns.iter().enumerate() {
            add(&own(column), &model.name, false);
        }
        if ways.loading == Loading::Joined {
            for source in
                to_one(need, level.source, level.values().filter(|value| value.leaves().iter().all(|leaf| level.is_value(forms, leaf))))
            {
                let table = schema.table(need.sources[source].table);
                for (column, model) in table.columns.iter().enumerate() {
                    add(&Node::Leaf(Leaf::Column { source, column }).into(), &format!("{}.{}", table.name, model.name), true);
                }
            }
        }
    }
    let is_there = |leaf: &Leaf| level.is_value(forms, leaf);
    for &(value, called) in &level.wanted {
        if is_made_by_statement(forms, level, value) {
            // A column asked for by its own name, in whatever letters, is called as the schema calls it.
            let own = own_name(value).filter(|name| name.eq_ignore_ascii_case(called));
            add(value, own.unwrap_or(called), own.is_none());
        } else {
            for leaf in value.leaves().into_iter().filter(|leaf| is_there(leaf)) {
                add_leaf(ground, leaf, "part", &own_name, &mut add);
            }
        }
    }
    for leaf in level.selecting.iter().flat_map(|value| value.leaves()).filter(|leaf| is_there(leaf)) {
        add_leaf(ground, leaf, "key", &own_name, &mut add);
    }
    // Rows that are only counted are told by one of their columns.
    if list.is_empty() {
        let table = schema.table(table);
        let column = table.primary_key.first().copied().unwrap_or(0);
        list.push(Listed::own(own(column), &table.columns[column].name));
    }
    list
}

/// Whether what is selected in a select of its own cannot be called so outside of it: SQLite gives such a column another name.
pub(super) fn is_lost(name: &str) -> bool {
    ["true", "false"].iter().any(|word| name.eq_ignore_ascii_case(word))
}

/// Adds what a value in the application is made from; what the engine cannot say comes as rows.
fn add_leaf<'n>(
    ground: PlanGround<'_>,
    leaf: &Leaf,
    otherwise: &str,
    own_name: &dyn Fn(&Expr<Leaf>) -> Option<&'n str>,
    add: &mut dyn FnMut(&Expr<Leaf>, &str, bool),
) {
    let value: Expr<Leaf> = Node::Leaf(leaf.clone()).into();
    if matches!(leaf, Leaf::Parameter(_)) || unsaid(ground, &value).is_some() {
        return;
    }
    match own_name(&value) {
        Some(name) => add(&value, name, false),
        None => add(&value, otherwise, true),
    }
}

/// Whether the root's statement makes a value as a whole. An entity's own columns are put together by the application.
fn is_made_by_statement(forms: Forms<'_>, level: &Level<'_>, value: &Expr<Leaf>) -> bool {
    let is_own = |leaf: &&Leaf| match leaf {
        Leaf::Column { source, .. } => *source == level.source,
        Leaf::Parameter(_) => true,
        _ => false,
    };
    let entity = matches!(forms.ways.hydration, Hydration::Managed | Hydration::Plain);
    let from_entity = entity && value.as_leaf().is_none() && value.leaves().iter().all(is_own);
    let is_there = value.leaves().into_iter().all(|leaf| level.is_value(forms, leaf));
    !from_entity && is_there && unsaid(forms.ground, value).is_none()
}

/// The sources to one that values come from, with those on the way.
fn to_one<'n>(need: &Need, from: usize, values: impl Iterator<Item = &'n Expr<Leaf>>) -> Vec<usize> {
    let mut sources = Vec::new();
    for leaf in values.flat_map(|value| value.leaves()) {
        if let Leaf::Column { source, .. } = leaf {
            for at in need.way(from, *source) {
                let is_one = need.sources[at].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::One);
                if is_one && !sources.contains(&at) {
                    sources.push(at);
                }
            }
        }
    }
    sources
}

/// Selects listed values of the rows at a source, which are at hand. `alone` says that nothing else is selected.
pub(super) fn columns(
    frame: &mut Frame<'_>,
    forms: Forms<'_>,
    level: usize,
    list: &[Listed],
    besides: &[&Expr<Leaf>],
    alone: bool,
) -> Vec<Vec<Selected>> {
    let values: Vec<&Expr<Leaf>> = list.iter().map(|listed| &listed.value).chain(besides.iter().copied()).collect();
    let mut dependent = Vec::new();
    for leaf in values.iter().flat_map(|value| value.leaves()) {
        if let Leaf::Column { source, column } = leaf
            && *source != level
            && !dependent.contains(&(*source, *column))
        {
            dependent.push((*source, *column));
        }
    }
    frame.compute(forms, level, &values, &dependent, alone);
    let mut columns = Vec::new();
    for listed in list {
        let far = listed.value.leaves().into_iter().find_map(|leaf| match leaf {
            Leaf::Column { source, .. } if *source != level => Some(forms.one(level, *source)),
            _ => None,
        });
        let to_one = if far == Some(Loading::Computed) { ToOne::Nested } else { ToOne::Join };
        columns.push(vec![Selected { value: frame.say(&listed.value, to_one), name: listed.named.then(|| listed.name.clone()) }]);
    }
    columns
}

/// The statement for a list of values of the root's rows; `alone` says that nothing else is selected.
pub(super) fn statement<'a>(forms: Forms<'a>, split: &Split, list: &[Listed], alone: bool) -> Frame<'a> {
    let Forms { ground, ways } = forms;
    let need = ground.need;
    let mut frame = Frame::new(ground, 0);
    let selection: Vec<&Expr<Leaf>> = selection(need, split).collect();
    frame.select.columns = columns(&mut frame, forms, 0, list, &selection, alone);
    if split.order {
        for by in &need.order {
            let named = list.iter().find(|listed| listed.named && listed.value == by.value);
            let value = match named {
                Some(listed) => Node::Leaf(Term::Output(listed.name.clone(), need.kind_of(ground.schema, &by.value))).into(),
                None => frame.say(&by.value, ToOne::Join),
            };
            frame.select.order.push(SortKey { value, descending: by.descending, nullable: need.can_be_null(ground.schema, &by.value) });
        }
    }
    put_filter(&mut frame, need, ways, split);
    put_limit(&mut frame, need, ways, split.limit);
    frame
}

/// The columns that chunks are sorted by, which are the root's own.
pub(super) fn order_columns(need: &Need) -> Vec<ColumnId> {
    let own = |by: &crate::need::OrderBy<Leaf>| match by.value.as_leaf() {
        Some(Leaf::Column { source: 0, column }) => Some(*column),
        _ => None,
    };
    need.order.iter().filter_map(own).collect()
}

/// LIMIT where the database cuts; where rows are read by a statement for each portion what stands in its place.
pub(super) fn put_limit(frame: &mut Frame<'_>, need: &Need, ways: Ways, cuts: bool) {
    if !cuts {
        return;
    }
    match ways.fetch {
        Fetch::Whole | Fetch::Stream => frame.select.limit = need.most(),
        Fetch::Pages => frame.select.window = Some(Window::From),
        Fetch::Chunks => {
            let columns = need.order.iter().filter_map(|by| frame.say(&by.value, ToOne::Join).as_leaf().cloned()).collect();
            let descending = need.order.first().is_some_and(|by| by.descending);
            frame.select.window = Some(Window::Behind { columns, descending });
        }
    }
}

fn selection<'n>(need: &'n Need, split: &'n Split) -> impl Iterator<Item = &'n Expr<Leaf>> {
    let filter = need.filter.iter().zip(&split.filter).filter(|(_, in_database)| **in_database).map(|(part, _)| &part.condition);
    filter.chain(need.order.iter().filter(|_| split.order).map(|by| &by.value))
}

/// WHERE, and HAVING for parts with aggregates where the statement is grouped. Parts that may be left out come last, so that a join
/// that others need too is theirs.
pub(super) fn put_filter(frame: &mut Frame<'_>, need: &Need, ways: Ways, split: &Split) {
    let grouped = !frame.select.group.is_empty();
    let mut said: Vec<Option<Condition>> = vec![None; need.filter.len()];
    for optional in [false, true] {
        frame.optional = optional;
        for (at, part) in need.filter.iter().enumerate() {
            if split.filter[at] && part.only_if.is_some() == optional {
                let only_if = part.only_if.map(|parameter| {
                    let of = &need.parameters[parameter];
                    OnlyIf { parameter, kind: of.kind, is_list: of.is_list }
                });
                said[at] = Some(Condition { condition: frame.say(&part.condition, ToOne::Join), only_if });
            }
        }
    }
    frame.optional = false;
    for (part, condition) in need.filter.iter().zip(said) {
        let Some(condition) = condition else { continue };
        if grouped && has_aggregate(&part.condition) {
            frame.select.having.push(condition);
        } else {
            frame.select.filter.push(condition);
        }
    }
    frame.select.only_given = ways.filters == Filters::Given;
}

/// The plan of a need whose groups the database makes.
pub(super) fn grouped(ground: PlanGround<'_>, ways: Ways, split: Split) -> Plan {
    let PlanGround { schema, need, .. } = ground;
    let mut frame = Frame::new(ground, 0);
    let keys = need.group.as_ref().map(|group| group.keys.as_slice()).unwrap_or_default();
    frame.compute(Forms { ground, ways }, 0, &need.per_row(), &[], false);
    let to_one = ToOne::Join;
    frame.keys = keys.iter().map(|key| frame.say(&key.value, to_one)).collect();
    let own_name = |value: &Expr<Leaf>| {
        let value = match value.as_leaf() {
            Some(Leaf::Key(at)) => &keys[*at].value,
            _ => value,
        };
        match value.as_leaf() {
            Some(Leaf::Column { source: 0, column }) => Some(schema.table(need.root()).columns[*column].name.as_str()),
            _ => None,
        }
    };
    let mut columns = Vec::new();
    for given in &need.give {
        let name = Some(given.name.clone()).filter(|name| own_name(&given.value) != Some(name));
        columns.push(vec![Selected { value: frame.say(&given.value, to_one), name }]);
    }
    frame.select.columns = columns;
    frame.select.distinct = need.distinct;
    let group = if need.distinct { Vec::new() } else { frame.keys.clone() };
    for by in &need.order {
        let given = need.give.iter().zip(&frame.select.columns).find(|(given, _)| given.value == by.value);
        let value = match given.and_then(|(given, column)| column[0].name.as_ref().map(|name| (given, name))) {
            Some((given, name)) => Node::Leaf(Term::Output(name.clone(), given.kind())).into(),
            None => frame.say(&by.value, to_one),
        };
        frame.select.order.push(SortKey { value, descending: by.descending, nullable: need.can_be_null(schema, &by.value) });
    }
    // The condition is looked at before rows are grouped, so it is put there first.
    put_filter(&mut frame, need, ways, &split);
    frame.select.group = group;
    put_limit(&mut frame, need, ways, true);
    let left = split.left;
    let manner = Manner::of(ways, need);
    Plan { left, manner, ..Plan::as_it_comes(ways.hydration, Body::Select(Box::new(frame.select)), "group", &need.give, need.expect) }
}
