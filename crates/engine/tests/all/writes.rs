//! Every way of random writes on random schemas leaves the tables as the meaning of the write says, in as many statements as are told before, and what was written is
//! taken back to the last bit.

use std::cell::Cell;
use std::collections::BTreeMap;

use kampf_contest::{
    Act, Commit, Effect, Effects, Field, NewRow, Restriction, Write, WriteError, WriteExecution, WritePlan, WriteStep, WriteText,
    derive_write, generated_key, resolve_write,
};
use kampf_engine::{Engine, GeneratedRows, Ground, ScratchOrder, TouchedTables, engine};
use kampf_fill::{Blueprint, MoreRows, NewNumbers, Order};
use kampf_mangle::often;
use kampf_schema::ddl::{self, SqlDialect};
use kampf_schema::{Relations, Schema, TableId, Value};

use crate::common::schemas::random_schema;
use crate::common::{Dice, mixed};

/// What was tried, so that a property that tries nothing is seen.
#[derive(Debug, Default)]
struct Tried {
    ways: usize,
    by_word: BTreeMap<&'static str, usize>,
    children: usize,
    hung: usize,
    set_null: usize,
    refused: usize,
    no_room: usize,
}

/// A schema whose references say otherwise what becomes of them.
fn with_manners(dice: &mut Dice, schema: &mut Schema) {
    if dice.roll(2) == 0 {
        schema.dialect = SqlDialect::Standard;
    }
    for table in &mut schema.tables {
        let nullable: Vec<bool> = table.columns.iter().map(|column| column.nullable).collect();
        for reference in &mut table.references {
            let may_be_null = reference.columns.iter().all(|&column| nullable[column]);
            match dice.roll(5) {
                0 => reference.manner = " ON DELETE CASCADE".to_owned(),
                1..=4 if may_be_null => reference.manner = " ON DELETE SET NULL".to_owned(),
                _ => {}
            }
        }
    }
}

/// A value of a column as the language writes it; none of a type that is not written here.
fn literal(value: &Value) -> Option<String> {
    match value {
        Value::Integer(number) => Some(number.to_string()),
        Value::Text(text) => Some(format!("'{}'", text.replace('\'', "''"))),
        Value::Boolean(truth) => Some(truth.to_string()),
        Value::Date(_) | Value::Uuid(_) => Some(format!("'{value}'")),
        _ => None,
    }
}

/// The texts of a random write.
fn random_write(dice: &mut Dice, schema: &Schema, blueprint: &Blueprint) -> Option<WriteText> {
    let with_key: Vec<TableId> = schema.ids().filter(|id| !schema.table(*id).primary_key.is_empty() && blueprint.rows(*id) > 0).collect();
    let word = ["insert", "update", "delete"][dice.roll(3)];
    // What nothing hangs on says little.
    let is_parent = |id: &TableId| schema.tables.iter().any(|table| table.references.iter().any(|reference| reference.parent == *id));
    let parents: Vec<TableId> = with_key.iter().copied().filter(is_parent).collect();
    let from = if word != "update" && !parents.is_empty() && dice.roll(4) > 0 { &parents } else { &with_key };
    let root = *from.get(dice.roll(from.len().max(1)))?;
    let table = schema.table(root);
    let mut text = WriteText { word: word.to_owned(), table: table.name.clone(), ..WriteText::default() };
    let row = dice.roll(blueprint.rows(root) as usize) as u64;
    let some_of_a_row = |dice: &mut Dice| {
        let column = dice.roll(table.columns.len());
        let value = literal(&blueprint.value(root, row, column))?;
        Some((column, value))
    };
    let refers =
        |child: TableId, parents: &[TableId]| schema.table(child).references.iter().any(|reference| parents.contains(&reference.parent));
    if word == "insert" {
        text.count = Some([1, 2, 7, 23][dice.roll(4)]);
        let mut new = vec![root];
        for child in schema.ids().filter(|id| !schema.table(*id).primary_key.is_empty()) {
            if !new.contains(&child) && refers(child, &new) && dice.roll(4) > 0 {
                let references = schema.table(child).references.iter().filter(|reference| new.contains(&reference.parent));
                let references: Vec<_> = references.collect();
                let column = references[dice.roll(references.len())].columns[0];
                let (model, each) = (schema.table(child), 1 + dice.roll(3));
                text.also.push(format!("{}.{} {each} each", model.name, model.columns[column].name));
                new.push(child);
            }
        }
    } else {
        let by_key = table
            .primary_key
            .iter()
            .map(|&column| Some(format!("{} = {}", table.columns[column].name, literal(&blueprint.value(root, row, column))?)));
        let by_key: Option<Vec<String>> = by_key.collect();
        let by_parent = table.references.first().filter(|reference| reference.parent != root).map(|reference| {
            let parent = schema.table(reference.parent);
            let relations = Relations::of(schema);
            let name = relations
                .from(root)
                .find(|relation| relation.hops.len() == 1 && relation.hops[0].from_columns == reference.columns)
                .map(|relation| relation.name.clone());
            name.map(|name| format!("{name}.{} is not null", parent.columns[dice.roll(parent.columns.len())].name))
        });
        text.filter = match dice.roll(5) {
            0 => by_parent.flatten(),
            1 => some_of_a_row(dice).map(|(column, value)| format!("{} = {value}", table.columns[column].name)),
            2 | 3 => some_of_a_row(dice).map(|(column, value)| format!("not {} = {value}", table.columns[column].name)),
            _ => by_key.map(|all| all.join(" and ")),
        };
        // Names of the generator are plain, but a condition over everything is a write too.
    }
    if word != "delete" {
        for _ in 0..1 + dice.roll(2) {
            let Some((column, value)) = some_of_a_row(dice) else { continue };
            let name = &table.columns[column].name;
            let is_number = table.columns[column].kind == kampf_schema::LogicalType::Integer;
            let value = match dice.roll(4) {
                0 if is_number => format!("{name} + 1"),
                1 if table.columns[column].nullable => "null".to_owned(),
                _ => value,
            };
            if !text.set.iter().any(|set| set.starts_with(&format!("{name} ="))) {
                text.set.push(format!("{name} = {value}"));
            }
        }
        if word == "update" && text.set.is_empty() {
            return None;
        }
    }
    if word == "delete" {
        // Everything that hangs on it, or not all: then it is refused where rows do.
        let mut gone = vec![root];
        while let Some(child) =
            schema.ids().find(|id| !gone.contains(id) && refers(*id, &gone) && !schema.table(*id).primary_key.is_empty())
        {
            gone.push(child);
        }
        let is_own = schema.table(root).references.iter().any(|reference| reference.parent == root);
        text.also = gone[1..].iter().filter(|_| dice.roll(3) > 0).map(|table| schema.table(*table).name.clone()).collect();
        if is_own && dice.roll(2) == 0 {
            text.also.push(table.name.clone());
        }
    }
    Some(text)
}

/// The rows of a write that gets new ones.
fn more_rows(schema: &Schema, blueprint: &Blueprint, write: &Write) -> Option<(Blueprint, Vec<NewNumbers>)> {
    let Act::Insert { count, also, .. } = &write.act else { return Some((blueprint.clone(), Vec::new())) };
    let own = MoreRows { table: write.table(), count: *count, under: None, made: generated_key(schema, write.table()) };
    let others = also.iter().map(|more| MoreRows {
        table: more.table,
        count: more.each,
        under: Some((more.under, more.reference)),
        made: generated_key(schema, more.table),
    });
    blueprint.with_more(schema, &std::iter::once(own).chain(others).collect::<Vec<_>>()).ok()
}

/// How many statements a way sends; none where that depends on the rows that it finds.
fn statements(plan: &WritePlan, write: &Write) -> Option<u64> {
    let new: Vec<u64> = write.new_tables().iter().map(|(_, rows)| *rows).collect();
    let finds = plan.steps.iter().any(|step| matches!(step, WriteStep::Keys { .. }));
    let around = if plan.commit == Some(Commit::Once) { 2 } else { 0 };
    (!finds).then(|| around + plan.steps.iter().map(|step| step.statements(&new)).sum::<u64>())
}

/// Carries out all ways of some random writes over one schema.
fn ways_of(engine: &'static dyn Engine, server: Option<&str>, dice: &mut Dice, tried: &mut Tried) {
    let (text, mut schema, order) = random_schema(dice);
    with_manners(dice, &mut schema);
    if server.is_some() {
        schema.fold_names();
    }
    let Ok(blueprint) = Blueprint::new(&schema, &order) else { return };
    let folder = tempfile::tempdir().unwrap();
    let place = Ground { folder: folder.path(), server, name: "random", owner: "test", variant: None };
    let settings = engine.settings();
    engine.load(&place, &schema, &blueprint, &settings, &mut |_| {}).unwrap_or_else(|error| panic!("{error} {:?}\n{text}", error.sql));
    let served = engine.serve(&place, &settings).unwrap();
    let stamp = served.stamp().unwrap();
    for number in 0..3 {
        let Some(asked) = random_write(dice, &schema, &blueprint) else { continue };
        let shown = format!("{asked:?}\n{text}");
        let write = match resolve_write(&schema, &Relations::of(&schema), &asked) {
            Ok(write) => write,
            Err(error) => {
                assert!(!error.message.is_empty(), "{shown}");
                tried.refused += 1;
                continue;
            }
        };
        let Some((rows, new)) = more_rows(&schema, &blueprint, &write) else {
            tried.no_room += 1;
            continue;
        };
        let source = GeneratedRows(&rows);
        let effects = Effects::of(&schema, &write, &source, &new);
        let effect = match effects.with(&[]) {
            Ok(effect) => effect,
            Err(WriteError::Hangs { .. } | WriteError::Breaks(_)) => {
                tried.refused += 1;
                continue;
            }
            Err(error) => panic!("{error}\n{shown}"),
        };
        let touched = write.touched(&schema);
        if touched.iter().any(|table| schema.table(*table).primary_key.is_empty()) {
            continue;
        }
        tried.set_null += usize::from(effect.tables.iter().any(|(table, of)| *table != write.table() && !of.changed.is_empty()));
        tried.hung += usize::from(effect.tables.iter().any(|(table, of)| *table != write.table() && !of.gone.is_empty()));
        tried.children += usize::from(effect.tables.iter().any(|(table, of)| *table != write.table() && !of.new.is_empty()));
        let made: Vec<(TableId, usize, i64)> = touched
            .iter()
            .filter_map(|&table| {
                let column = generated_key(&schema, table)?;
                let largest = (0..blueprint.rows(table)).filter_map(|row| match blueprint.value(table, row, column) {
                    Value::Integer(number) => Some(number),
                    _ => None,
                });
                Some((table, column, largest.max().unwrap_or(0) + 1))
            })
            .collect();
        let word = format!("5c4a7c{number:02}");
        let order = ScratchOrder {
            schema: &schema,
            blueprint: &blueprint,
            settings: &settings,
            touched: &touched,
            made: &made,
            durable: false,
            word: &word,
        };
        let scratch = engine.scratch(&place, served.as_ref(), &order).unwrap_or_else(|error| panic!("{error} {:?}\n{shown}", error.sql));
        let tables = TouchedTables::open(engine, &settings, &schema, scratch.as_ref(), &source, &touched).unwrap();
        let names: Vec<String> = touched.iter().map(|&table| schema.table(table).name.clone()).collect();
        let connection = engine.connect_scratch(scratch.url(), &settings, false, Some(&names)).unwrap();
        let field = Field::of_write(&schema, &write, engine.dialect(), &Restriction::default());
        assert!(!field.entered.is_empty(), "{shown}");
        for choices in field.all() {
            let said = format!("{choices} of {shown}");
            let bytes: Vec<u64> = new.iter().map(|_| 50).collect();
            let plan = derive_write(&schema, &write, engine.dialect(), &choices, &bytes).unwrap_or_else(|why| panic!("{why}: {said}"));
            let expected = statements(&plan, &write);
            let mut session = connection.session();
            session.count();
            let written = WriteExecution::new(plan, engine.dialect()).call(session.as_mut(), &[], &new_rows(&write, &effect));
            let counted = session.counted();
            drop(session);
            let written = written.unwrap_or_else(|error| panic!("{error} {:?}\n{said}", error.sql));
            let found = tables.after(&effects, &effect).unwrap();
            let difference = effect.difference(&schema, &write, &effects, tables.before(), &found);
            assert_eq!(difference, None, "{said}");
            assert_eq!(written.own_rows, effect.own_rows, "{said}");
            assert!(
                expected.is_none_or(|expected| expected == counted.statements),
                "{} statements, not {expected:?}: {said}",
                counted.statements
            );
            tables.take_back(&effect).unwrap_or_else(|error| panic!("{error} {:?}\n{said}", error.sql));
            assert!(tables.are_as_before().unwrap(), "what was written is not taken back: {said}");
            tried.ways += 1;
        }
        *tried.by_word.entry(write.word()).or_default() += 1;
        drop(scratch);
    }
    assert_eq!(served.stamp().unwrap(), stamp, "the dataset was written to\n{text}");
    drop(served);
    engine.remove(&place).unwrap();
}

fn new_rows(write: &Write, effect: &Effect) -> Vec<Vec<NewRow>> {
    write.new_tables().iter().map(|(table, _)| effect.tables[table].new.clone()).collect()
}

/// Whether enough of every kind was tried.
fn is_enough(tried: &Tried, least: usize) {
    crate::common::needs::told(&format!("{tried:?}"));
    // So few schemas of another seed may have next to nothing of a kind.
    if kampf_mangle::seed() != 0 {
        return;
    }
    let words = ["insert", "update", "delete"].map(|word| tried.by_word.get(word).copied().unwrap_or(0));
    assert!(tried.ways > 10 * least && words.iter().all(|many| *many >= least), "{tried:?}");
    assert!(tried.children >= least / 2 && tried.hung >= least / 2 && tried.set_null > 0 && tried.refused > 0, "{tried:?}");
}

#[test]
fn every_way_of_random_writes_leaves_what_the_write_means_and_is_taken_back() {
    let mut tried = Tried::default();
    for number in 0..often(60) {
        let mut dice = Dice((0..600).map(|roll| mixed(number * 7_919 + roll)).collect(), 0);
        ways_of(engine("sqlite").unwrap(), None, &mut dice, &mut tried);
    }
    is_enough(&tried, 10);
}

#[test]
fn every_way_of_random_writes_leaves_what_the_write_means_and_is_taken_back_on_postgresql_too() {
    let postgres = engine("postgres").unwrap();
    if !crate::common::is_here(postgres) {
        return;
    }
    let server = crate::common::servers::Database::new();
    let mut tried = Tried::default();
    for number in 0..often(24) {
        let mut dice = Dice((0..600).map(|roll| mixed(number * 7_919 + roll)).collect(), 0);
        ways_of(postgres, Some(&server.0), &mut dice, &mut tried);
    }
    is_enough(&tried, 4);
}

thread_local! {
    static SEEN: Cell<u64> = const { Cell::new(0) };
}

#[expect(clippy::needless_pass_by_value, reason = "the driver asks for this form")]
fn seen_by_sqlite(event: rusqlite::trace::TraceEvent<'_>) {
    if let rusqlite::trace::TraceEvent::Profile(..) = event {
        SEEN.set(SEEN.get() + 1);
    }
}

/// A thousand rows of a table that nothing hangs on, one by one in a transaction.
#[test]
fn a_thousand_single_inserts_in_a_transaction_are_1_002_statements_and_trips() {
    let schema =
        ddl::read("CREATE TABLE visit (id INTEGER PRIMARY KEY, place VARCHAR(30) NOT NULL, at TIMESTAMP NOT NULL);").unwrap().schema;
    let mut order = Order::default();
    order.rows.insert(TableId(0), kampf_schema::expr::read_row_count("50").unwrap());
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let text = WriteText { word: "insert".to_owned(), table: "visit".to_owned(), count: Some(1_000), ..WriteText::default() };
    let write = resolve_write(&schema, &Relations::of(&schema), &text).unwrap();
    let (rows, new) = more_rows(&schema, &blueprint, &write).unwrap();
    let source = GeneratedRows(&rows);
    let effect = Effects::of(&schema, &write, &source, &new).with(&[]).unwrap();
    let mut engines = vec![(engine("sqlite").unwrap(), None)];
    let database = crate::common::is_here(engine("postgres").unwrap()).then(crate::common::servers::Database::new);
    engines.extend(database.as_ref().map(|database| (engine("postgres").unwrap(), Some(database.0.as_str()))));
    for (engine, server) in engines {
        let folder = tempfile::tempdir().unwrap();
        let place = Ground { folder: folder.path(), server, name: "visits", owner: "test", variant: None };
        engine.load(&place, &schema, &blueprint, &engine.settings(), &mut |_| {}).unwrap();
        let served = engine.serve(&place, &engine.settings()).unwrap();
        let settings = engine.settings();
        let order = ScratchOrder {
            schema: &schema,
            blueprint: &blueprint,
            settings: &settings,
            touched: &[TableId(0)],
            made: &[(TableId(0), 0, 51)],
            durable: false,
            word: "5c4a7c00",
        };
        let scratch = engine.scratch(&place, served.as_ref(), &order).unwrap();
        let connection = engine.connect_scratch(scratch.url(), &settings, false, None).unwrap();
        let field = Field::of_write(&schema, &write, engine.dialect(), &Restriction::default());
        for (name, statements) in
            [("direct.single.once+unasked", 1_002), ("direct.single.once", 2_002), ("direct.single.each+unasked", 1_000)]
        {
            let choices = field.all().find(|choices| choices.to_string() == name).unwrap_or_else(|| panic!("{name}"));
            let plan = derive_write(&schema, &write, engine.dialect(), &choices, &[30]).unwrap();
            let mut session = connection.session();
            let mut execution = WriteExecution::new(plan.clone(), engine.dialect());
            // The first call prepares.
            execution.call(session.as_mut(), &[], &new_rows(&write, &effect)).unwrap();
            session.count();
            execution.call(session.as_mut(), &[], &new_rows(&write, &effect)).unwrap();
            let counted = session.counted();
            assert_eq!((counted.statements, counted.round_trips), (statements, statements), "{name} on {}", engine.name());
            if server.is_none() {
                let mut raw = rusqlite::Connection::open(scratch.url()).unwrap();
                let _: i64 = raw.query_row("SELECT count(*) FROM visit", [], |row| row.get(0)).unwrap();
                raw.trace_v2(rusqlite::trace::TraceEventCodes::SQLITE_TRACE_PROFILE, Some(seen_by_sqlite)).unwrap();
                SEEN.set(0);
                let mut session = kampf_engine::sqlite_session(&raw);
                WriteExecution::new(plan, engine.dialect()).call(session.as_mut(), &[], &new_rows(&write, &effect)).unwrap();
                assert_eq!(SEEN.get(), statements, "{name} as SQLite sees it");
            }
        }
        drop((scratch, served));
        engine.remove(&place).unwrap();
    }
}
