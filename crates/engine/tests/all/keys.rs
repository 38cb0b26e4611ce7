//! The same rows with keys of other types: all that is no key stays value by value, the databases verify the rules, and whoever answers a need
//! over them gives the rows that are given over the plain schema.

use crate::common::files::sqlite;
use crate::common::needs::data::random_data;
use crate::common::needs::random_need;
use crate::common::schemas::{random_schema, verified};
use crate::common::{Dice, mixed, servers};
use kampf_contest::{
    Agreement, Collect, Execution, Field, Flow, KeyedNeed, PlainEvaluation, Restriction, compare, derive, evaluate, resolve,
};
use kampf_engine::{Connection, Engine, GeneratedRows};
use kampf_fill::Blueprint;
use kampf_mangle::often;
use kampf_schema::{KeyColumns, KeyType, LogicalType, Relations, Schema, TableId, Value, ValueRef};
use proptest::prelude::*;

/// The same schema and rows with keys of random types in random tables.
struct Keyed {
    keys: Vec<(KeyColumns, KeyType)>,
    schema: Schema,
    blueprint: Blueprint,
}

fn keyed(dice: &mut Dice, schema: &Schema, blueprint: &Blueprint, uuid: LogicalType) -> Keyed {
    let mut keys = Vec::new();
    let mut changed = schema.clone();
    for table in schema.ids().filter(|_| dice.roll(4) > 0).collect::<Vec<_>>() {
        let Ok(columns) = schema.key_columns(table) else { continue };
        let key_type = KeyType::ALL[dice.roll(4)];
        changed.rekey(&columns, key_type.kind(uuid));
        keys.push((columns, key_type));
    }
    Keyed { blueprint: blueprint.with_keys(&keys, uuid, 7), schema: changed, keys }
}

impl Keyed {
    /// Whose keys a column holds.
    fn whose(&self, table: TableId, column: usize) -> Option<(TableId, KeyType)> {
        let held = self.keys.iter().find(|(columns, _)| columns.hold(table, column));
        held.map(|(columns, key_type)| (columns.table, *key_type))
    }

    /// A row that was loaded is the plain one, but for its keys, which stand for the same rows.
    fn is_row(&self, plain: &Blueprint, table: TableId, row: u64, values: &[Value]) -> Result<(), String> {
        for (column, value) in values.iter().enumerate() {
            let expected = plain.value(table, row, column);
            let found = match self.whose(table, column) {
                Some((whose, _)) if *value != Value::Null => self.blueprint.old_key(whose, value).ok_or("a key of no row")?,
                _ => value.clone(),
            };
            if found.as_ref().order(expected.as_ref()).is_ne() {
                return Err(format!("row {row}, column {column}: {value} stands for {found}, not for {expected}"));
            }
            if let Some((whose, _)) = self.whose(table, column)
                && self.blueprint.new_key(whose, &expected) != *value
            {
                return Err(format!("row {row}, column {column}: {expected} does not become {value}"));
            }
        }
        Ok(())
    }

    /// All rows are the plain ones, as they are made and one by one, and keys in order ascend.
    fn is_sound(&self, plain: &Blueprint) -> Result<(), String> {
        for table in self.schema.ids() {
            let width = self.schema.table(table).columns.len();
            let rows = self.blueprint.rows(table);
            if rows != plain.rows(table) {
                return Err("another number of rows".to_owned());
            }
            let all: Vec<Vec<Value>> =
                (0..rows).map(|row| (0..width).map(|column| self.blueprint.value(table, row, column)).collect()).collect();
            all.iter().zip(0..).try_for_each(|(values, row)| self.is_row(plain, table, row, values))?;
            for (columns, key_type) in self.keys.iter().filter(|(columns, _)| columns.table == table) {
                let in_order = matches!(key_type, KeyType::Integer | KeyType::Uuid7);
                let ascend = all.windows(2).all(|pair| pair[0][columns.own()].as_ref().order(pair[1][columns.own()].as_ref()).is_lt());
                if in_order && !ascend {
                    return Err(format!("keys of {key_type:?} do not ascend with the rows"));
                }
            }
        }
        Ok(())
    }
}

/// All rows of a table as a database gives them.
fn rows_of(engine: &dyn Engine, connection: &dyn Connection, schema: &Schema, table: TableId) -> Vec<Vec<Value>> {
    let (model, quote) = (schema.table(table), engine.dialect().quote);
    let names: Vec<String> = model.columns.iter().map(|column| quote(&column.name)).collect();
    let kinds: Vec<_> = model.columns.iter().map(|column| Some(column.kind)).collect();
    let mut session = connection.session();
    let sql = format!("SELECT {} FROM {}", names.join(", "), quote(&model.name));
    let statement = session.prepare(&sql, &kinds).unwrap();
    let mut rows = Vec::new();
    session
        .run(statement, &[], &mut |row: &[ValueRef<'_>]| {
            rows.push(row.iter().map(|value| value.to_value()).collect());
            Flow::More
        })
        .unwrap();
    rows
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 200, ..kampf_mangle::property(80) })]
    #[test]
    fn random_schemas_under_random_keys_hold_the_same_rows(rolls in prop::collection::vec(any::<u32>(), 150..350)) {
        let mut dice = Dice(rolls, 0);
        let (text, schema, order) = random_schema(&mut dice);
        let Ok(blueprint) = Blueprint::new(&schema, &order) else { return Ok(()) };
        let keyed = keyed(&mut dice, &schema, &blueprint, sqlite().dialect().uuid_key);
        let sound = keyed.is_sound(&blueprint).and_then(|()| verified(&keyed.schema, &keyed.blueprint));
        prop_assert!(sound.is_ok(), "{sound:?}\n{:?}\n{text}", keyed.keys);
    }
}

#[test]
fn random_schemas_under_random_keys_hold_the_same_rows_on_postgresql_too() {
    if !servers::installed() {
        return;
    }
    let (postgres, server) = (servers::postgres(), servers::Database::new());
    let mut compared = 0;
    for number in 0..40 {
        let mut dice = Dice((0..350).map(|roll| mixed(number * 613 + roll)).collect(), 0);
        let (text, mut schema, order) = random_schema(&mut dice);
        schema.fold_names();
        let Ok(blueprint) = Blueprint::new(&schema, &order) else { continue };
        let keyed = keyed(&mut dice, &schema, &blueprint, postgres.dialect().uuid_key);
        keyed.is_sound(&blueprint).unwrap_or_else(|error| panic!("{error}\n{:?}\n{text}", keyed.keys));
        server.beside(&keyed.schema, &keyed.blueprint, &text, |connection| {
            for table in schema.ids() {
                // Rows were copied in order, and nothing has moved them.
                for (row, values) in rows_of(postgres, connection, &keyed.schema, table).iter().enumerate() {
                    keyed.is_row(&blueprint, table, row as u64, values).unwrap_or_else(|error| panic!("{error}\n{:?}\n{text}", keyed.keys));
                }
            }
        });
        compared += usize::from(!keyed.keys.is_empty());
    }
    assert!(compared > 25, "only {compared} had keys to change");
}

/// What came of needs over other keys.
#[derive(Debug, Default)]
struct Tally {
    answered: usize,
    contenders: usize,
    refused: usize,
    /// Answers that differ where keys break ties, which is free.
    loosened: usize,
}

/// Asks random needs over the rows with other keys: contenders answer like the plain evaluation there, and that gives the rows which are
/// given over the plain schema.
fn ask(
    engine: &'static dyn Engine,
    connection: &dyn Connection,
    dice: &mut Dice,
    (ddl, schema, blueprint): (&str, &Schema, &Blueprint),
    keyed: &Keyed,
    tally: &mut Tally,
) {
    let relations = Relations::of(schema);
    let columns: Vec<KeyColumns> = keyed.keys.iter().map(|(columns, _)| columns.clone()).collect();
    for _ in 0..8 {
        let (text, sets) = random_need(dice, schema, &relations);
        let Ok(need) = resolve(schema, &relations, &text) else { continue };
        let shown = format!("{ddl}\n{text:?}\n{sets:?}\n{:?}", keyed.keys);
        let over = match KeyedNeed::of(&need, &columns, &|value| need.said(schema, value)) {
            Ok(over) => over,
            Err(why) => {
                assert!(why.contains("key"), "{why}\n{shown}");
                tally.refused += 1;
                continue;
            }
        };
        let there = resolve(&keyed.schema, &relations, &text).unwrap_or_else(|error| panic!("{error}\n{shown}"));
        let (plain_rows, rows) = (GeneratedRows(blueprint), GeneratedRows(&keyed.blueprint));
        if PlainEvaluation::of(schema, &need, &plain_rows).overflows().is_err() {
            continue;
        }
        for set in &sets {
            let given = |(value, table): (&Value, &Option<TableId>)| match table {
                Some(table) => keyed.blueprint.new_key(*table, value),
                None => value.clone(),
            };
            let own: Vec<Value> = set.iter().zip(&over.parameters).map(given).collect();
            let (Ok(plain), Ok(right)) = (evaluate(schema, &need, &plain_rows, set), evaluate(&keyed.schema, &there, &rows, &own)) else {
                continue;
            };
            let answer = kampf_contest::Answer { rows: right.answer(need.limit).to_vec(), came: right.came(need.limit) };
            let old_key = |table, value: &Value| keyed.blueprint.old_key(table, value);
            let agrees = over.agrees(&plain, need.limit, &answer, &old_key);
            // What lies at the edge of a condition by a real's last digits is nobody's matter here.
            assert!(!matches!(agrees, Agreement::Differs(_)), "{agrees:?}\n{shown}");
            let restored: Vec<Vec<Value>> = answer.rows.clone();
            tally.loosened += usize::from(compare(&plain, need.limit, &kampf_contest::Answer::from(restored)) != Agreement::Same);
            tally.answered += 1;
            let field = Field::of(&keyed.schema, &there, engine.dialect(), &Restriction::default());
            for choices in field.entered.iter().take(8) {
                let plan = derive(&keyed.schema, &there, engine.dialect(), choices);
                let mut collect = Collect::default();
                let mut session = connection.session();
                let called = Execution::new(plan, engine.dialect()).call(session.as_mut(), &own, &mut collect);
                called.unwrap_or_else(|error| panic!("{choices}: {error} {:?}\n{shown}", error.sql));
                let agreement = compare(&right, need.limit, &collect.answer);
                assert!(!matches!(agreement, Agreement::Differs(_)), "{choices}: {agreement:?}\n{shown}");
                tally.contenders += 1;
            }
        }
    }
}

#[test]
fn needs_over_other_keys_are_answered_with_the_same_rows() {
    let mut tally = Tally::default();
    for number in 0..often(30) {
        let mut dice = Dice((0..1500).map(|roll| mixed(number * 4001 + roll)).collect(), 0);
        let (ddl, schema, blueprint) = random_data(&mut dice);
        let keyed = keyed(&mut dice, &schema, &blueprint, sqlite().dialect().uuid_key);
        let loaded = crate::common::files::Loaded::new(&keyed.schema, &keyed.blueprint);
        ask(sqlite(), loaded.connect().as_ref(), &mut dice, (&ddl, &schema, &blueprint), &keyed, &mut tally);
    }
    assert!(tally.answered > 100 && tally.contenders > 400 && tally.refused > 10 && tally.loosened > 2, "{tally:?}");
}

#[test]
fn needs_over_other_keys_are_answered_with_the_same_rows_on_postgresql_too() {
    if !servers::installed() {
        return;
    }
    let (postgres, server) = (servers::postgres(), servers::Database::new());
    let mut tally = Tally::default();
    for number in 0..often(8) {
        let mut dice = Dice((0..1500).map(|roll| mixed(number * 7001 + roll)).collect(), 0);
        let (ddl, mut schema, blueprint) = random_data(&mut dice);
        schema.fold_names();
        let keyed = keyed(&mut dice, &schema, &blueprint, postgres.dialect().uuid_key);
        server.beside(&keyed.schema, &keyed.blueprint, &ddl, |connection| {
            ask(postgres, connection, &mut dice, (&ddl, &schema, &blueprint), &keyed, &mut tally);
        });
    }
    assert!(tally.answered > 25 && tally.contenders > 100, "{tally:?}");
}
