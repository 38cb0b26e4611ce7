//! How rows hang together, as far as a schema's names and references tell: whom they belong to, what they tell the history of, what they answer.

use kampf_schema::{Column, ColumnId, LogicalType, Schema, TableId};

use crate::names::{Stage, happened, has, is_of_all, says_answer, says_state, stage, words};

/// So many tables belong to a tenant, at least.
const TABLES: usize = 3;

/// References are followed no further than this to a tenant.
const DEEPEST: usize = 4;

/// The tenants of a schema: tables to which at least three others always refer, that are no list that all use, and themselves belong to nothing.
pub fn tenants(schema: &Schema) -> Vec<TableId> {
    let mut belonging = vec![0_usize; schema.tables.len()];
    for id in schema.ids() {
        let mut parents: Vec<TableId> = always(schema, id).map(|(_, parent)| parent).filter(|parent| *parent != id).collect();
        parents.sort_unstable();
        parents.dedup();
        parents.into_iter().for_each(|parent| belonging[parent.0] += 1);
    }
    let is_tenant =
        |table: &TableId| belonging[table.0] >= TABLES && always(schema, *table).next().is_none() && !is_of_all(schema.table(*table));
    schema.ids().filter(is_tenant).collect()
}

/// The references of a table that are never null, with where they lead.
fn always(schema: &Schema, table: TableId) -> impl Iterator<Item = (usize, TableId)> + '_ {
    let model = schema.table(table);
    let is_always = |at: &usize| model.references[*at].columns.iter().all(|&column| !model.columns[column].nullable);
    (0..model.references.len()).filter(is_always).map(|at| (at, model.references[at].parent))
}

/// The way by which a row of a table belongs to one of another, its tenant: the shortest along references that are never null, and not through
/// people and lists, which say nothing of who owns a row. Of each table on the way the reference.
pub fn way(schema: &Schema, table: TableId, tenant: TableId) -> Option<Vec<usize>> {
    shortest(table, tenant, &|at| always(schema, at).collect(), &|parent| !is_of_all(schema.table(parent)))
}

/// The shortest way by any references.
pub(crate) fn any_way(schema: &Schema, table: TableId, to: TableId) -> Option<Vec<usize>> {
    let all = |at: TableId| schema.table(at).references.iter().enumerate().map(|(at, reference)| (at, reference.parent)).collect();
    shortest(table, to, &all, &|_| true)
}

fn shortest(
    table: TableId,
    tenant: TableId,
    references: &dyn Fn(TableId) -> Vec<(usize, TableId)>,
    leads_on: &dyn Fn(TableId) -> bool,
) -> Option<Vec<usize>> {
    let mut ways: Vec<(TableId, Vec<usize>)> = vec![(table, Vec::new())];
    for _ in 0..DEEPEST {
        let mut next = Vec::new();
        for (at, way) in &ways {
            for (reference, parent) in references(*at) {
                let further: Vec<usize> = way.iter().copied().chain([reference]).collect();
                if parent == tenant {
                    return Some(further);
                }
                if parent != table && !next.iter().any(|(known, _)| *known == parent) && leads_on(parent) {
                    next.push((parent, further));
                }
            }
        }
        ways = next;
    }
    None
}

/// What stands in the names of where a step begins, and where it ends.
const ENDS: [(&str, &str); 5] = [("from", "to"), ("old", "new"), ("previous", "next"), ("prev", "next"), ("before", "after")];

/// A table whose rows are the steps that rows of another one went through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct History {
    /// The state in which a step begins.
    pub from: ColumnId,
    /// The state in which it ends.
    pub to: ColumnId,
    /// The reference to the row that it is a step of.
    pub reference: usize,
    /// That row's own state.
    pub state: Option<ColumnId>,
    /// When the step was.
    pub at: Option<ColumnId>,
    /// Which of the steps it is.
    pub number: Option<ColumnId>,
}

/// The history that a table holds, if it does.
pub fn history(schema: &Schema, table: TableId) -> Option<History> {
    let model = schema.table(table);
    let columns = &model.columns;
    let is_reference = |at: ColumnId| model.references.iter().any(|reference| reference.columns.contains(&at));
    let is_of_states = |at: &ColumnId| {
        let is_value = matches!(columns[*at].kind, LogicalType::Text { .. } | LogicalType::Integer);
        is_value && says_state(&columns[*at]) && !is_reference(*at)
    };
    // Few are, in tables of however many columns.
    let states: Vec<ColumnId> = (0..columns.len()).filter(is_of_states).collect();
    let (from, to) = ENDS.iter().find_map(|(from, to)| {
        let of = |at: ColumnId, end: &str| {
            let words = words(&columns[at]);
            words.iter().any(|word| word == end).then(|| words.into_iter().filter(|word| word != end).collect::<Vec<_>>())
        };
        let is_step = |one: ColumnId, other: ColumnId| {
            let words = of(one, from).zip(of(other, to)).filter(|(one, other)| one == other);
            words.is_some() && columns[one].kind == columns[other].kind
        };
        let mut pairs = states.iter().flat_map(|&one| states.iter().map(move |&other| (one, other)));
        pairs.find(|&(one, other)| is_step(one, other))
    })?;
    // What is told of is what the first reference leads to that has a state, else the first that is always there.
    let with_state = model.references.iter().position(|reference| state_of(schema, reference.parent).is_some());
    let reference = with_state.or_else(|| always(schema, table).next().map(|(at, _)| at))?;
    let is_number = |column: &Column| {
        column.kind == LogicalType::Integer && has(column, &["seq", "sequence", "position", "step", "ordinal", "no", "number"])
    };
    Some(History {
        from,
        to,
        reference,
        state: state_of(schema, model.references[reference].parent),
        at: moment(schema, table),
        number: columns.iter().position(is_number),
    })
}

/// The column of a table that says in which state its rows are.
fn state_of(schema: &Schema, table: TableId) -> Option<ColumnId> {
    schema.table(table).columns.iter().position(|column| says_state(column) && matches!(column.kind, LogicalType::Text { .. }))
}

/// The column that says when a row came to be.
pub fn made(schema: &Schema, table: TableId) -> Option<ColumnId> {
    schema.table(table).columns.iter().position(|column| stage(column) == Some(Stage::Made))
}

/// The column that says when what a row tells happened.
pub fn moment(schema: &Schema, table: TableId) -> Option<ColumnId> {
    let columns = &schema.table(table).columns;
    let of = |wanted: Stage| columns.iter().position(|column| stage(column) == Some(wanted));
    let plain = || columns.iter().position(|column| stage(column).is_none() && happened(column));
    made(schema, table).or_else(plain).or_else(|| of(Stage::Changed)).or_else(|| of(Stage::Begun))
}

/// A reference by which rows answer others of their table, and the one to the thing that all of a thread hang on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Answer {
    /// The reference to what is answered.
    pub answers: usize,
    /// The reference to what the thread is about.
    pub on: usize,
}

/// What a reference says of answers, if it does.
pub fn answer(schema: &Schema, table: TableId, answers: usize) -> Option<Answer> {
    let model = schema.table(table);
    let reference = &model.references[answers];
    if reference.parent != table || !reference.columns.iter().any(|&column| says_answer(&model.columns[column])) {
        return None;
    }
    // The first that is always there, other than who wrote it.
    let is_thing =
        |at: usize, parent: TableId| parent != table && model.references[at].columns.len() == 1 && !is_of_all(schema.table(parent));
    let (on, _) = always(schema, table).find(|&(at, parent)| is_thing(at, parent))?;
    Some(Answer { answers, on })
}
