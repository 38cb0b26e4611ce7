//! Random schemas with rules of every kind: each is filled whole, and the database itself looks after the rules; or it is
//! said which rule cannot be met.

use crate::common::Dice;
use crate::common::schemas::{random_schema, verified};
use kampf_contest::{EngineError, EngineErrorKind, Flow};
use kampf_engine::{Engine, Ground, LoadEvent, Served, create_index, engine};
use kampf_fill::{Batch, Blueprint, Order};
use kampf_schema::expr::{Node, read_row_count};
use kampf_schema::{Index, IndexTerm, Rule, Schema, ValueRef, ddl};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 400, ..kampf_mangle::property(150) })]
    #[test]
    fn random_schemas_are_filled_whole_or_the_rule_is_named(rolls in prop::collection::vec(any::<u32>(), 100..300)) {
        let mut dice = Dice(rolls, 0);
        let (text, schema, order) = random_schema(&mut dice);
        let blueprint = match Blueprint::new(&schema, &order) {
            Ok(blueprint) => blueprint,
            Err(error) => {
                // Numbers of rows that were asked for can be too many for a rule; guessed ones never are.
                prop_assert!(!order.rows.is_empty(), "{error} {:?}\n{text}", error.hint);
                prop_assert!(schema.tables.iter().any(|table| error.message.contains(&table.name)), "{error}");
                return Ok(());
            }
        };
        let result = verified(&schema, &blueprint);
        prop_assert!(result.is_ok(), "{:?}\n{:?}\n{text}", result, order.rows);
        for id in schema.ids().filter(|id| blueprint.rows(*id) > 1) {
            let (mut all, mut one) = (Batch::default(), Batch::default());
            blueprint.batch(id, 0, &mut all);
            let at = dice.roll(all.rows());
            blueprint.batch(id, at as u64, &mut one);
            prop_assert!(all.row(at).eq(one.row(0)), "row {at} of {} differs when it is made alone\n{text}", schema.table(id).name);
        }
    }
}

/// PostgreSQL looks after more than SQLite: the lengths of texts, the digits of numbers, keys and references of every kind.
#[test]
fn random_schemas_are_filled_on_postgresql_too() {
    let postgres = engine("postgres").unwrap();
    if !crate::common::is_here(postgres) {
        return;
    }
    let server = crate::common::servers::Database::new();
    let mut filled = 0;
    for number in 0..60 {
        let mut dice = Dice((0..300).map(|roll| crate::common::mixed(number * 331 + roll)).collect(), 0);
        let (text, mut schema, order) = random_schema(&mut dice);
        schema.fold_names();
        let Ok(blueprint) = Blueprint::new(&schema, &order) else { continue };
        let folder = tempfile::tempdir().unwrap();
        let place = Ground { folder: folder.path(), server: Some(&server.0), name: "random", owner: "test", variant: None };
        let loaded = postgres.load(&place, &schema, &blueprint, &[], &mut |_| {});
        assert!(loaded.is_ok(), "{} {:?}\n{text}", loaded.as_ref().unwrap_err(), loaded.as_ref().unwrap_err().sql);
        postgres.remove(&place).unwrap();
        filled += 1;
    }
    assert!(filled > 50, "only {filled} could be filled");
}

/// The schema with some more indexes, of every kind that an engine has: the same rows fit.
fn with_indexes(dice: &mut Dice, schema: &Schema, engine: &dyn Engine) -> Schema {
    let mut varied = schema.clone();
    for number in 0..1 + dice.roll(3) {
        let at = dice.roll(schema.tables.len());
        let table = &schema.tables[at];
        let mut terms: Vec<IndexTerm> = Vec::new();
        for _ in 0..1 + dice.roll(3) {
            let column = dice.roll(table.columns.len());
            if !terms.iter().any(|term| term.column() == Some(column)) {
                let nulls_first = [None, None, Some(true), Some(false)][dice.roll(4)];
                terms.push(IndexTerm { descending: dice.roll(2) == 0, nulls_first, ..IndexTerm::of(column) });
            }
        }
        let other = dice.roll(table.columns.len());
        let is_there: Rule = Node::Not(Box::new(Node::IsNull(Box::new(Node::Leaf(other).into())).into())).into();
        let index = Index {
            name: Some(format!("more_{number}")),
            terms,
            unique: false,
            hashed: dice.roll(5) == 0,
            include: if dice.roll(4) == 0 { vec![other] } else { Vec::new() },
            among: (dice.roll(4) == 0).then_some(is_there),
        };
        if create_index(engine.dialect(), table, &index, "more").is_ok() {
            varied.tables[at].indexes.push(index);
        }
    }
    varied
}

/// All rows of all tables, sorted as the first of the added indexes is.
fn rows_of(engine: &dyn Engine, served: &dyn Served, schema: &Schema) -> Vec<String> {
    let connection = engine.connect(served.url(), &[]).unwrap();
    let mut session = connection.session();
    let quote = engine.dialect().quote;
    let mut rows = Vec::new();
    for table in &schema.tables {
        let names: Vec<String> = table.columns.iter().map(|column| quote(&column.name)).collect();
        let kinds: Vec<_> = table.columns.iter().map(|column| Some(column.kind)).collect();
        let added = table.indexes.iter().find(|index| index.name.as_ref().is_some_and(|name| name.starts_with("more_")));
        let first: Vec<String> = added.iter().flat_map(|index| index.leading_columns()).map(|column| names[column].clone()).collect();
        let order = first.iter().chain(&names).cloned().collect::<Vec<_>>().join(", ");
        let sql = format!("SELECT {} FROM {} ORDER BY {order}", names.join(", "), quote(&table.name));
        let statement = session.prepare(&sql, &kinds).unwrap_or_else(|error| panic!("{error}: {sql}"));
        let mut take = |row: &[ValueRef<'_>]| {
            rows.push(row.iter().map(|value| value.to_string()).collect::<Vec<_>>().join(" | "));
            Flow::More
        };
        session.run(statement, &[], &mut take).unwrap();
    }
    rows
}

/// A variant has the same rows: the same digests, whatever the database verifies of them, and the same answers.
fn is_the_same(engine: &dyn Engine, place: &Ground<'_>, schema: &Schema, varied: &Schema, blueprint: &Blueprint) -> Result<(), String> {
    let said = |error: EngineError| format!("{error} {:?}", error.sql);
    let beside = Ground { variant: Some("0a1b2c3d"), ..*place };
    let plain = engine.load(place, schema, blueprint, &engine.settings(), &mut |_| {}).map_err(said)?;
    let mut made = Vec::new();
    let mut heard = |event: LoadEvent<'_>| {
        if let LoadEvent::Indexed(name, _) = event {
            made.push(name.to_owned());
        }
    };
    let other = engine.load(&beside, varied, blueprint, &engine.settings(), &mut heard).map_err(said)?;
    if plain != other {
        return Err("the rows have other digests".to_owned());
    }
    let served = engine.serve(place, &engine.settings()).map_err(said)?;
    let variant = served.beside("0a1b2c3d").map_err(said)?;
    // In the order of the added index on both.
    if rows_of(engine, served.as_ref(), varied) != rows_of(engine, variant.as_ref(), varied) {
        return Err("the answers differ".to_owned());
    }
    let sizes = engine.connect(variant.url(), &[]).and_then(|connection| connection.index_sizes()).map_err(said)?;
    let is_there = |name: &String| made.contains(name) && sizes.iter().any(|size| size.name == *name);
    let added = varied.tables.iter().flat_map(|table| &table.indexes).filter_map(|index| index.name.clone());
    let missing: Vec<String> = added.filter(|name| name.starts_with("more_") && !is_there(name)).collect();
    if !missing.is_empty() {
        return Err(format!("there is no index {}", missing.join(", ")));
    }
    drop((variant, served));
    engine.remove(&beside).map_err(said)?;
    let again = engine.serve(place, &engine.settings()).map_err(said)?;
    match again.beside("0a1b2c3d") {
        Err(error) if error.kind == EngineErrorKind::Gone => Ok(()),
        _ => Err("a variant that was removed is still there".to_owned()),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 200, ..kampf_mangle::property(60) })]
    #[test]
    fn random_schemas_under_random_indexes_have_the_same_rows(rolls in prop::collection::vec(any::<u32>(), 100..300)) {
        let mut dice = Dice(rolls, 0);
        let (text, schema, order) = random_schema(&mut dice);
        let Ok(blueprint) = Blueprint::new(&schema, &order) else { return Ok(()) };
        let sqlite = engine("sqlite").unwrap();
        let varied = with_indexes(&mut dice, &schema, sqlite);
        let folder = tempfile::tempdir().unwrap();
        let place = Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None };
        let same = is_the_same(sqlite, &place, &schema, &varied, &blueprint);
        prop_assert!(same.is_ok(), "{same:?}\n{text}");
    }
}

#[test]
fn random_schemas_under_random_indexes_have_the_same_rows_on_postgresql_too() {
    let postgres = engine("postgres").unwrap();
    if !crate::common::is_here(postgres) {
        return;
    }
    let server = crate::common::servers::Database::new();
    let url = server.0;
    let mut compared = 0;
    for number in 0..kampf_mangle::often(12) {
        let mut dice = Dice((0..300).map(|roll| crate::common::mixed(number * 977 + roll)).collect(), 0);
        let (text, mut schema, order) = random_schema(&mut dice);
        schema.fold_names();
        let Ok(blueprint) = Blueprint::new(&schema, &order) else { continue };
        let varied = with_indexes(&mut dice, &schema, postgres);
        let folder = tempfile::tempdir().unwrap();
        let place = Ground { folder: folder.path(), server: Some(&url), name: "varied", owner: "test", variant: None };
        let same = is_the_same(postgres, &place, &schema, &varied, &blueprint);
        assert!(same.is_ok(), "{same:?}\n{text}");
        postgres.remove(&place).unwrap();
        compared += 1;
    }
    // On a server of its own each variant is a database.
    let mut dice = Dice((0..300).map(|roll| crate::common::mixed(roll + 5)).collect(), 0);
    let (text, mut schema, order) = random_schema(&mut dice);
    schema.fold_names();
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let varied = with_indexes(&mut dice, &schema, postgres);
    let folder = tempfile::tempdir().unwrap();
    let place = Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None };
    let same = is_the_same(postgres, &place, &schema, &varied, &blueprint);
    let _ = postgres.remove(&place);
    assert!(same.is_ok(), "{same:?}\n{text}");
    assert!(compared > 8, "only {compared} could be compared");
}

/// What needs more than one step of thought.
#[test]
fn rules_that_lean_on_each_other_are_met_together() {
    for (about, text) in [
        (
            "a reference that cannot be null, to a unique column that can",
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, code VARCHAR(12) UNIQUE);
             CREATE TABLE visit (id INTEGER PRIMARY KEY, hive_code VARCHAR(12) NOT NULL REFERENCES hive (code));",
        ),
        (
            "few allowed values, different within each parent",
            "CREATE TABLE hive (id INTEGER PRIMARY KEY);
             CREATE TABLE box (hive_id INTEGER NOT NULL REFERENCES hive, slot INTEGER NOT NULL CHECK (slot IN (1, 2, 5)), UNIQUE (hive_id, slot));",
        ),
        (
            "one of two references, one of them of two columns",
            "CREATE TABLE hive (row INTEGER NOT NULL, place VARCHAR(8) NOT NULL, PRIMARY KEY (row, place));
             CREATE TABLE keeper (id INTEGER PRIMARY KEY);
             CREATE TABLE note (hive_row INTEGER, hive_place VARCHAR(8), keeper_id INTEGER REFERENCES keeper,
               FOREIGN KEY (hive_row, hive_place) REFERENCES hive (row, place), CHECK ((hive_row IS NULL) <> (keeper_id IS NULL)));",
        ),
        (
            "an end not before a beginning that differs in each row",
            "CREATE TABLE season (id INTEGER PRIMARY KEY, one DATE UNIQUE, two DATE NOT NULL DEFAULT '2024-02-29', CHECK (two >= one));",
        ),
        (
            "what given rows leave out",
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, frames INTEGER NOT NULL CHECK (frames IN (1, 2, 5)),
               weight DECIMAL(7, 2) NOT NULL CHECK (weight > 0), mark INTEGER UNIQUE CHECK (mark BETWEEN 1 AND 8), CHECK (weight <= frames * 20));
             INSERT INTO hive (id) VALUES (1), (2), (40);",
        ),
        (
            "a unique rule inside another, and one over a part",
            "CREATE TABLE frame (id INTEGER PRIMARY KEY, a INTEGER CHECK (a BETWEEN 3 AND 9), n INTEGER NOT NULL CHECK (n < 100 AND n >= -5),
               state VARCHAR(9) NOT NULL CHECK (state IN ('calm', 'lively')), UNIQUE (a, n, state), CHECK (a <> n));
             CREATE UNIQUE INDEX calm_ones ON frame (a, state) WHERE a IS NOT NULL AND state = 'calm';",
        ),
        (
            "both or neither, where one is never null and the other differs in each row",
            "CREATE TABLE queen (id INTEGER PRIMARY KEY, mark INTEGER UNIQUE CHECK (mark BETWEEN 3 AND 9), year INTEGER NOT NULL,
               CHECK ((mark IS NULL) = (year IS NULL)));",
        ),
        (
            "numbers within bounds, some of them given",
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, rank INTEGER NOT NULL UNIQUE CHECK (rank BETWEEN 1 AND 9));
             INSERT INTO hive VALUES (1, 3), (2, 7), (3, 1);
             CREATE TABLE mark (id INTEGER PRIMARY KEY, rank INTEGER NOT NULL UNIQUE CHECK (rank BETWEEN 1 AND 9));",
        ),
        (
            "arithmetic",
            "CREATE TABLE scale (id INTEGER PRIMARY KEY, shift INTEGER NOT NULL CHECK (abs(shift) IN (1, 4)), step INTEGER NOT NULL CHECK (step * step < 50),
               load DECIMAL(7, 2) NOT NULL CHECK (load > 0), CHECK (shift > load - 100));",
        ),
    ] {
        let schema = ddl::read_with(text, Some(ddl::SqlDialect::Postgres), &[]).unwrap_or_else(|error| panic!("{about}: {error}")).schema;
        let blueprint = Blueprint::new(&schema, &Order::default()).unwrap_or_else(|error| panic!("{about}: {error}"));
        assert!(schema.ids().all(|id| blueprint.rows(id) > 2), "{about}: hardly any rows");
        verified(&schema, &blueprint).unwrap_or_else(|error| panic!("{about}: {error}"));
        // And with more rows than the schema gives by itself, as far as the rules leave room.
        for id in schema.ids().filter(|id| !schema.table(*id).seeds.is_empty()) {
            let order = Order { rows: [(id, read_row_count("8").unwrap())].into(), ..Order::default() };
            let blueprint = Blueprint::new(&schema, &order).unwrap_or_else(|error| panic!("{about}, eight rows: {error}"));
            verified(&schema, &blueprint).unwrap_or_else(|error| panic!("{about}, eight rows: {error}"));
        }
    }
}
