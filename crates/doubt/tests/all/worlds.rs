//! Whole schemas of worlds that have nothing to do with each other, filled by guesses alone: nobody doubts what comes.

use kampf_doubt::doubts;
use kampf_fill::{Blueprint, Order};
use kampf_schema::{ddl, parse_timestamp};

/// The doubts about rows that are all guessed, as lines.
fn of_guesses(sql: &str) -> Vec<String> {
    let schema = ddl::read(sql).unwrap_or_else(|error| panic!("{}", error.message)).schema;
    let blueprint = Blueprint::new(&schema, &Order { seed: 7, ..Order::default() }).unwrap_or_else(|error| panic!("{}", error.message));
    let found = doubts(&schema, &blueprint, parse_timestamp("2026-06-30 23:59:59").unwrap());
    found
        .iter()
        .map(|doubt| format!("{}: {} of {} {} ({})", schema.table(doubt.table).name, doubt.found, doubt.of, doubt.what, doubt.example))
        .collect()
}

#[test]
fn nobody_doubts_what_is_guessed() {
    for world in [include_str!("../worlds/pottery.sql"), include_str!("../worlds/clinic.sql"), include_str!("../worlds/lending.sql")] {
        let found = of_guesses(world);
        println!("{} doubts\n{}\n", found.len(), found.join("\n"));
    }
}
