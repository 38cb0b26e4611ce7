//! Whole schemas of worlds that have nothing to do with each other, filled by guesses alone: nobody doubts what comes.

use kampf_doubt::{DoubtKind, doubts};
use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::read_recipe;
use kampf_schema::{Schema, ddl, parse_timestamp};

const POTTERY: &str = include_str!("../worlds/pottery.sql");
const CLINIC: &str = include_str!("../worlds/clinic.sql");
const LENDING: &str = include_str!("../worlds/lending.sql");

fn schema(sql: &str) -> Schema {
    ddl::read(sql).unwrap_or_else(|error| panic!("{}", error.message)).schema
}

/// The doubts about rows that are guessed but for what is said of some columns: their kinds, and lines for people.
fn doubts_of(schema: &Schema, seed: u64, scale: f64, values: &[(&str, &str, &str)]) -> (Vec<DoubtKind>, Vec<String>) {
    let mut order = Order { seed, scale, ..Order::default() };
    for (table, column, recipe) in values {
        let id = schema.find(table).unwrap();
        order.values.insert((id, schema.table(id).find(column).unwrap()), read_recipe(recipe).unwrap());
    }
    let blueprint = Blueprint::new(schema, &order).unwrap_or_else(|error| panic!("{}", error.message));
    let found = doubts(schema, &blueprint, parse_timestamp("2026-06-30 23:59:59").unwrap());
    let line = |doubt: &kampf_doubt::Doubt| {
        format!("{}: {} of {} {} ({})", schema.table(doubt.table).name, doubt.found, doubt.of, doubt.what, doubt.example)
    };
    (found.iter().map(|doubt| doubt.kind).collect(), found.iter().map(line).collect())
}

#[test]
fn nobody_doubts_what_is_guessed() {
    for world in [POTTERY, CLINIC, LENDING] {
        let schema = schema(world);
        assert_eq!(schema.tables.len(), 15);
        for (seed, scale) in [(7, 1.0), (1_234, 0.1)] {
            assert_eq!(doubts_of(&schema, seed, scale, &[]).1, [] as [String; 0], "with the seed {seed}");
        }
    }
}

#[test]
fn nobody_doubts_the_schemas_that_come_with_the_program() {
    for sql in [include_str!("../../../kampf/templates/apiary.sql"), include_str!("../../../kampf/templates/starter.sql")] {
        assert_eq!(doubts_of(&schema(sql), 7, 1.0, &[]).1, [] as [String; 0]);
    }
}

#[test]
fn a_line_turns_a_guess_off() {
    use DoubtKind::{AcrossTenants, AnswerElsewhere, Future, LastStep, Night, StepContinues, TimesOfRow};

    let schema = schema(POTTERY);
    for (line, doubted) in [
        (("firing", "operator_id", "uniform"), &[AcrossTenants][..]),
        (("comment", "parent_id", "uniform or null 40%"), &[AnswerElsewhere]),
        (("piece_step", "to_state", "pick('draft', 'glazed', 'broken')"), &[LastStep]),
        (("piece_step", "from_state", "pick('draft', 'glazed', 'broken')"), &[StepContinues]),
        (("firing", "finished_at", "2019-01-01..2027-06-30"), &[TimesOfRow, Future, Night]),
    ] {
        let (kinds, lines) = doubts_of(&schema, 7, 0.1, &[line]);
        assert!(doubted.iter().all(|kind| kinds.contains(kind)), "{line:?}: {lines:?}");
    }
}
