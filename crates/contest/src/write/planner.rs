//! From a write and its choices to what is sent.

use kampf_schema::expr::{Expr, Node};
use kampf_schema::{ColumnId, Schema, TableId, Value};

use super::effect::NewRow;
use super::plan::{BatchPlan, Change, InsertStep, NewColumn, RowsOf, WritePlan, WriteStep};
use super::{Act, OnDelete, Write, generated_key, on_delete};
use crate::choice::{Back, Batch, Choice, Choices, Columns, Commit, Hang, Hydration, Loading, Opt, Statement, Work};
use crate::dialect::{Dialect, KeyList};
use crate::need::{Leaf, Need};
use crate::plan::{Body, Plan};
use crate::planner::derive;
use crate::sql::{OwnSqlError, own_body};
use crate::statement::{Keys, Select, Selected, Table, Term};

/// Bytes of one message, about, up to which rows or statements go together where nobody says how many.
const MESSAGE: u64 = 64 * 1024;
/// What a statement takes in a message besides its values.
const STATEMENT: u64 = 64;
/// What a value takes in a message besides itself.
const VALUE: u64 = 8;

/// The plan of a derived contender. The choices must be a valid combination for the write ([`crate::Field::of_write`] gives those). `bytes` is what a new row
/// of each table holds, about.
///
/// # Errors
/// What the engine cannot say of it, in words that follow on its name.
pub fn derive_write(schema: &Schema, write: &Write, dialect: &Dialect, choices: &Choices, bytes: &[u64]) -> Result<WritePlan, String> {
    let steps = match &write.act {
        Act::Insert { .. } => inserts(schema, write, dialect, choices, bytes),
        Act::Update { set } => vec![WriteStep::Once { change: update(schema, write, dialect, set)?, is_own: true }],
        Act::Delete { also } => deletes(schema, write, dialect, also, choices.get() == Some(Hang::Cascade))?,
    };
    Ok(WritePlan {
        steps,
        commit: choices.get(),
        statement: choices.get().unwrap_or(Statement::Prepared),
        parameters: write.rows.parameters.len(),
    })
}

/// A select of what is given of the rows, all of it said by the engine.
fn selected(schema: &Schema, need: &Need, dialect: &Dialect) -> Result<Select, String> {
    let choices = Choices::default().with(Loading::Computed).with(Work::Database).with(Columns::Needed).with(Hydration::Record);
    let Plan { root, left, .. } = derive(schema, need, dialect, &choices);
    if let Some(left) = left.first() {
        return Err(left.why.clone());
    }
    match root.body {
        Body::Select(mut select) => {
            for (at, column) in select.columns.iter_mut().flatten().enumerate() {
                column.name = Some(format!("v{}", at + 1));
            }
            Ok(*select)
        }
        Body::Written(..) => Err("has no select for it".to_owned()),
    }
}

/// The same need with other values.
fn giving(need: &Need, give: Vec<crate::need::Given>) -> Need {
    Need { give, ..need.clone() }
}

/// Columns of a select without their names.
fn bare(select: Select) -> Select {
    let columns =
        select.columns.into_iter().map(|group| group.into_iter().map(|column| Selected { name: None, ..column }).collect()).collect();
    Select { columns, ..select }
}

fn names(schema: &Schema, table: TableId, columns: &[ColumnId]) -> Vec<String> {
    columns.iter().map(|&column| schema.table(table).columns[column].name.clone()).collect()
}

/// Which rows a write is done to: by their own columns, where that is enough, else by their keys.
fn which(schema: &Schema, write: &Write, dialect: &Dialect, columns: &[ColumnId]) -> Result<RowsOf, String> {
    let table = schema.table(write.table());
    let given = |&column: &ColumnId| crate::need::Given {
        name: table.columns[column].name.clone(),
        value: Node::Leaf(Leaf::Column { source: 0, column }).into(),
        form: crate::form::Form::Value(table.columns[column].kind),
    };
    let need = giving(&write.rows, columns.iter().map(given).collect());
    let select = selected(schema, &need, dialect)?;
    let is_plain = matches!(select.from, Table::Named { .. }) && select.joins.is_empty() && !need.has_relations();
    Ok(match is_plain {
        true => RowsOf::Where(select.filter),
        false => RowsOf::Among(names(schema, write.table(), columns), Box::new(bare(select))),
    })
}

fn update(schema: &Schema, write: &Write, dialect: &Dialect, set: &[ColumnId]) -> Result<Change, String> {
    let root = write.table();
    let key = schema.table(root).primary_key.clone();
    let values = giving(&write.rows, write.rows.give[key.len()..].to_vec());
    let alone = only_own(&values);
    let columns = names(schema, root, set);
    if let Some(alone) = alone {
        let select = selected(schema, &alone, dialect)?;
        let values = select.columns.into_iter().flatten().map(|column| column.value);
        let of = which(schema, write, dialect, &key)?;
        return Ok(Change::Update { table: schema.table(root).name.clone(), set: columns.into_iter().zip(values).collect(), of });
    }
    let select = selected(schema, &write.rows, dialect)?;
    let called = "taken".to_owned();
    let all: Vec<Term> = select
        .columns
        .iter()
        .flatten()
        .zip(&write.rows.give)
        .map(|(column, given)| Term::Column {
            table: Some(called.clone()),
            name: column.name.clone().unwrap_or_default(),
            kind: given.kind(),
        })
        .collect();
    let set = columns.into_iter().zip(all.into_iter().skip(key.len()).map(|term| Expr::from(Node::Leaf(term)))).collect();
    let of = RowsOf::With(names(schema, root, &key), Box::new(select), called);
    Ok(Change::Update { table: schema.table(root).name.clone(), set, of })
}

/// The same need without its condition, where all that is given is of the own row.
fn only_own(need: &Need) -> Option<Need> {
    let leaves = need.give.iter().flat_map(|given| given.value.leaves());
    let is_own = leaves.into_iter().all(|leaf| matches!(leaf, Leaf::Column { source: 0, .. } | Leaf::Parameter(_)));
    is_own.then(|| Need {
        filter: Vec::new(),
        sources: need.sources[..1].to_vec(),
        aggregates: Vec::new(),
        lists: Vec::new(),
        ..need.clone()
    })
}

/// The statements of a delete: what hangs on the rows first.
fn deletes(schema: &Schema, write: &Write, dialect: &Dialect, also: &[TableId], cascades: bool) -> Result<Vec<WriteStep>, String> {
    let root = write.table();
    let own: Vec<TableId> =
        also.iter().copied().filter(|&table| table != root && !(cascades && follows(schema, write, also, table))).collect();
    let mut steps = Vec::new();
    let key = schema.table(root).primary_key.clone();
    // What is deleted first must not decide which rows follow.
    let touched = write.touched(schema);
    let is_set = |reference: &kampf_schema::Reference| {
        reference.parent != root && touched.contains(&reference.parent) && on_delete(&reference.manner) != OnDelete::Refuse
    };
    let loses_its_parent = schema.table(root).references.iter().any(is_set);
    let changes = |table: &TableId| if *table == root { loses_its_parent } else { touched.contains(table) };
    let looks_at_them = !own.is_empty() && write.rows.tables().iter().any(changes);
    let mut of_root = which(schema, write, dialect, &key)?;
    if looks_at_them {
        let keys = giving(&write.rows, write.rows.give[..key.len()].to_vec());
        let select = bare(selected(schema, &keys, dialect)?);
        let kinds = key.iter().map(|&column| schema.table(root).columns[column].kind).collect();
        steps.push(WriteStep::Keys { select: Box::new(select), kinds });
        of_root = RowsOf::Keys(keys_of(schema, root, &key, dialect));
    }
    // Children before their parents.
    let mut order: Vec<TableId> = schema.parents_first().into_iter().filter(|table| own.contains(table)).collect();
    order.reverse();
    for table in order {
        let mut of = hanging(schema, write, dialect, table, looks_at_them, also)?;
        // Rows of one table may hang on each other, whichever way they hang on what goes.
        let is_said = |of: &RowsOf| matches!(of, RowsOf::Where(conditions) if !conditions.is_empty()) || matches!(of, RowsOf::Among(..));
        if of.len() > 1 && of.iter().all(is_said) {
            of = vec![RowsOf::Any(of)];
        }
        for of in of {
            steps.push(WriteStep::Once { change: Change::Delete { table: schema.table(table).name.clone(), of }, is_own: false });
        }
    }
    steps.push(WriteStep::Once { change: Change::Delete { table: schema.table(root).name.clone(), of: of_root }, is_own: true });
    Ok(steps)
}

/// Whether the rows of a table that hang on what goes all go by cascades of the schema.
pub(crate) fn follows(schema: &Schema, write: &Write, also: &[TableId], table: TableId) -> bool {
    let is_gone = |parent: TableId| parent == write.table() || also.contains(&parent);
    let mut hanging = schema.table(table).references.iter().filter(|reference| is_gone(reference.parent)).peekable();
    hanging.peek().is_some() && hanging.all(|reference| on_delete(&reference.manner) == OnDelete::Cascade)
}

fn keys_of(schema: &Schema, table: TableId, columns: &[ColumnId], dialect: &Dialect) -> Keys {
    let model = schema.table(table);
    let term =
        |&column: &ColumnId| Term::Column { table: None, name: model.columns[column].name.clone(), kind: model.columns[column].kind };
    let is_list = columns.len() == 1 && dialect.key_list == KeyList::Array;
    // A statement for each length of the list would else be made again and again.
    let most = if is_list { 10_000 } else { (dialect.max_parameters / columns.len().max(1)).min(500) };
    Keys { columns: columns.iter().map(term).collect(), most: most.max(2), is_list }
}

/// Which rows of a table hang on what goes: one of these for each of its references to that.
fn hanging(
    schema: &Schema,
    write: &Write,
    dialect: &Dialect,
    table: TableId,
    by_key: bool,
    also: &[TableId],
) -> Result<Vec<RowsOf>, String> {
    let root = write.table();
    let mut all = Vec::new();
    for reference in &schema.table(table).references {
        if reference.parent == root {
            if by_key && reference.parent_columns == schema.table(root).primary_key {
                all.push(RowsOf::Keys(keys_of(schema, table, &reference.columns, dialect)));
                continue;
            }
            let own = names(schema, table, &reference.columns);
            all.push(match which(schema, write, dialect, &reference.parent_columns)? {
                RowsOf::Where(conditions) => {
                    // What a key must be equal to, what refers to it must be equal to as well.
                    match same_for_child(schema, write, table, reference, &conditions) {
                        Some(conditions) => RowsOf::Where(conditions),
                        None => RowsOf::Among(own, Box::new(select_of(schema, root, &reference.parent_columns, conditions))),
                    }
                }
                RowsOf::Among(_, select) => RowsOf::Among(own, select),
                other => other,
            });
        } else if also.contains(&reference.parent) && reference.parent != table {
            // Rows of a table between hang on what goes by a select of their own.
            for between in hanging(schema, write, dialect, reference.parent, by_key, also)? {
                let select = match between {
                    RowsOf::Where(conditions) => select_of(schema, reference.parent, &reference.parent_columns, conditions),
                    RowsOf::Among(columns, select) => among(schema, reference.parent, &reference.parent_columns, &columns, *select),
                    RowsOf::Keys(keys) => {
                        let select = select_of(schema, reference.parent, &reference.parent_columns, Vec::new());
                        Select { keys: Some(keys), ..select }
                    }
                    RowsOf::With(..) | RowsOf::Any(_) => return Err("is not asked for keys of rows between".to_owned()),
                };
                all.push(RowsOf::Among(names(schema, table, &reference.columns), Box::new(select)));
            }
        }
    }
    Ok(all)
}

/// Columns of a table's rows under conditions on them.
fn select_of(schema: &Schema, table: TableId, columns: &[ColumnId], filter: Vec<crate::statement::Condition>) -> Select {
    let model = schema.table(table);
    let column = |&column: &ColumnId| Selected {
        value: Node::Leaf(Term::Column { table: None, name: model.columns[column].name.clone(), kind: model.columns[column].kind }).into(),
        name: None,
    };
    let from = Table::Named { name: model.name.clone(), alias: model.name.clone() };
    Select { columns: vec![columns.iter().map(column).collect()], filter, ..Select::from(from) }
}

/// Columns of a table's rows whose columns are among what a select gives.
fn among(schema: &Schema, table: TableId, columns: &[ColumnId], own: &[String], inner: Select) -> Select {
    let model = schema.table(table);
    let alias = "inner_rows".to_owned();
    let mut named = inner;
    let mut outputs = Vec::new();
    for (at, column) in named.columns.iter_mut().flatten().enumerate() {
        let name = format!("k{}", at + 1);
        column.name = Some(name.clone());
        outputs.push((name, column.value.kind(&|term: &Term| Some(term.kind()))));
    }
    let qualified = |name: &str, kind| Term::Column { table: Some(model.name.clone()), name: name.to_owned(), kind };
    let on = own.iter().zip(&outputs).map(|(own, (output, kind))| {
        let kind = kind.unwrap_or(kampf_schema::LogicalType::TEXT);
        let theirs = Term::Column { table: Some(alias.clone()), name: output.clone(), kind };
        let pair = [qualified(own, kind), theirs].map(|term| Box::new(Expr::from(Node::Leaf(term))));
        let [left, right] = pair;
        Expr::from(Node::Compare(kampf_schema::expr::Comparison::Equal, left, right))
    });
    let on: Vec<Expr<Term>> = on.collect();
    let column = |&column: &ColumnId| Selected {
        value: Node::Leaf(qualified(&model.columns[column].name, model.columns[column].kind)).into(),
        name: None,
    };
    let join = crate::statement::Join {
        outer: false,
        table: Table::Derived { select: Box::new(named), alias: alias.clone(), lateral: false },
        on,
        optional: false,
    };
    let from = Table::Named { name: model.name.clone(), alias: model.name.clone() };
    Select { columns: vec![columns.iter().map(column).collect()], joins: vec![join], ..Select::from(from) }
}

/// The condition on a child, where that on its parent says no more than what the parent's key is equal to.
fn same_for_child(
    schema: &Schema,
    write: &Write,
    table: TableId,
    reference: &kampf_schema::Reference,
    conditions: &[crate::statement::Condition],
) -> Option<Vec<crate::statement::Condition>> {
    let ([own], [theirs], [condition]) = (&reference.columns[..], &reference.parent_columns[..], conditions) else { return None };
    let (parent, child) = (schema.table(write.table()), schema.table(table));
    let Node::Compare(kampf_schema::expr::Comparison::Equal, left, right) = &condition.condition.node else { return None };
    let is_key = |expr: &Expr<Term>| matches!(expr.as_leaf(), Some(Term::Column { name, .. }) if *name == parent.columns[*theirs].name);
    if !is_key(left) || !right.leaves().iter().all(|term| matches!(term, Term::Parameter(..))) {
        return None;
    }
    let column = Term::Column { table: None, name: child.columns[*own].name.clone(), kind: child.columns[*own].kind };
    let node = Node::Compare(kampf_schema::expr::Comparison::Equal, Box::new(Expr::from(Node::Leaf(column))), right.clone());
    Some(vec![crate::statement::Condition { condition: node.into(), only_if: None }])
}

/// The steps of an insert, parents first.
fn inserts(schema: &Schema, write: &Write, dialect: &Dialect, choices: &Choices, bytes: &[u64]) -> Vec<WriteStep> {
    let tables = write.new_tables();
    let step = |(place, &(_, rows)): (usize, &(TableId, u64))| {
        let mut step = insert_step(schema, write, place);
        let is_parent = has_children(write, place);
        let back = choices.get::<Back>();
        step.back = step.key.as_ref().and(back).filter(|back| *back != Back::Unasked);
        // Keys that nobody has a use for are not asked for, but by who asks for all.
        if !is_parent && back == Some(Back::Unasked) {
            step.back = None;
        }
        step.batch = batch(dialect, choices, &step, rows, bytes.get(place).copied().unwrap_or(0));
        WriteStep::Insert(step)
    };
    tables.iter().enumerate().map(step).collect()
}

/// Whether other new rows hang on those of the table at a place.
pub(crate) fn has_children(write: &Write, place: usize) -> bool {
    matches!(&write.act, Act::Insert { also, .. } if also.iter().any(|more| more.under == place))
}

/// How new rows of the table at a place go in, one by one.
fn insert_step(schema: &Schema, write: &Write, place: usize) -> InsertStep {
    let (table, _) = write.new_tables()[place];
    let model = schema.table(table);
    let generated = generated_key(schema, table);
    let hung = super::effect::hung_columns(schema, write, place);
    let is_written = |column: &ColumnId| Some(*column) != generated;
    let column = |column: ColumnId| NewColumn {
        name: model.columns[column].name.clone(),
        kind: model.columns[column].kind,
        column,
        is_parents: hung.contains(&column),
    };
    let under = match &write.act {
        Act::Insert { also, .. } => place.checked_sub(1).and_then(|at| also.get(at)).map(|more| more.under),
        _ => None,
    };
    InsertStep {
        table: model.name.clone(),
        place,
        columns: (0..model.columns.len()).filter(is_written).map(column).collect(),
        key: generated.map(|column| (model.columns[column].name.clone(), model.columns[column].kind)),
        under,
        back: None,
        batch: BatchPlan::Single,
        written: None,
    }
}

/// How much goes together, within what the engine takes.
fn batch(dialect: &Dialect, choices: &Choices, step: &InsertStep, rows: u64, bytes: u64) -> BatchPlan {
    let width = step.columns.len().max(1) as u64;
    let asked = choices.of(Choice::Batch).and_then(Opt::size).filter(|size| *size != Opt::AUTO).map(u64::from);
    let of_a_row = bytes + VALUE * width;
    let within = |most: u64| u32::try_from(most.clamp(1, rows.max(1))).unwrap_or(u32::MAX);
    match choices.get().unwrap_or(Batch::Single) {
        Batch::Single => BatchPlan::Single,
        Batch::Sent => BatchPlan::Sent(within(asked.unwrap_or(MESSAGE / (of_a_row + STATEMENT)))),
        Batch::Values => {
            let most = (dialect.max_parameters as u64 / width).max(1);
            BatchPlan::Values(within(asked.unwrap_or(MESSAGE / of_a_row).min(most)))
        }
        Batch::Bulk => BatchPlan::Bulk,
    }
}

/// SQL of a developer's own that writes: one text after the other, or one for each table with new rows, by its name.
#[derive(Clone, Debug, PartialEq)]
pub enum OwnWrite<'a> {
    /// In order.
    InOrder(Vec<&'a str>),
    /// For new rows of each table.
    ByTable(Vec<(&'a str, &'a str)>),
}

/// The plan for a developer's SQL; an error says in which text it is.
///
/// # Errors
/// A parameter that nothing is bound to.
pub fn own_write(
    schema: &Schema,
    write: &Write,
    own: &OwnWrite<'_>,
    commit: Commit,
    parameters: &[String],
) -> Result<WritePlan, (usize, OwnSqlError)> {
    let mut steps = Vec::new();
    let tables = write.new_tables();
    let texts: Vec<(usize, &str)> = match own {
        OwnWrite::InOrder(texts) => texts.iter().map(|text| (0, *text)).collect(),
        OwnWrite::ByTable(texts) => {
            let place = |name: &str| tables.iter().position(|(table, _)| schema.table(*table).name == name).unwrap_or(0);
            texts.iter().map(|(name, text)| (place(name), *text)).collect()
        }
    };
    for (at, (place, text)) in texts.into_iter().enumerate() {
        let by_row = !tables.is_empty() && !text.contains(":rows");
        let mut names = parameters.to_vec();
        if !by_row {
            names.push("rows".to_owned());
            let body = own_body(text, &names).map_err(|error| (at, error))?;
            steps.push(WriteStep::Once { change: Change::Written(body), is_own: true });
            continue;
        }
        let mut step = insert_step(schema, write, place);
        let model = schema.table(tables[place].0);
        names.extend(model.columns.iter().map(|column| column.name.clone()));
        // The key of the row that it hangs on: `:hive.id`.
        let parent = step.under.map(|under| schema.table(tables[under].0).name.clone());
        let key = step.under.and_then(|under| generated_key(schema, tables[under].0).map(|column| (under, column)));
        let said =
            key.map(|(under, column)| format!(":{}.{}", parent.unwrap_or_default(), schema.table(tables[under].0).columns[column].name));
        names.push("kampf_parent".to_owned());
        let text = said.map_or_else(|| text.to_owned(), |said| text.replace(&said, ":kampf_parent"));
        step.written = Some(own_body(&text, &names).map_err(|error| (at, error))?);
        if has_children(write, place) && step.key.is_some() {
            step.back = Some(Back::Asked);
        }
        steps.push(WriteStep::Insert(step));
    }
    let is_single = steps.len() == 1 && matches!(steps[0], WriteStep::Once { .. });
    Ok(WritePlan { steps, commit: (!is_single).then_some(commit), statement: Statement::Prepared, parameters: parameters.len() })
}

/// All new rows as one text, an array of an object for each row of the first table.
pub(super) fn rows_as_json(new: &[Vec<NewRow>]) -> Value {
    let row =
        |row: &NewRow| serde_json::Value::Array(row.values.iter().map(|value| crate::answer::value_to_json(value.as_ref())).collect());
    let all: Vec<serde_json::Value> = new.first().into_iter().flatten().map(row).collect();
    Value::from(serde_json::Value::Array(all).to_string().as_str())
}
