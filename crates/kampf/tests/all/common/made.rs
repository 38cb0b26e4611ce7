//! Results of races that were made up by hand.

use serde_json::{Value as Json, json};

/// Noise between -1 and 1, another for each contender and round, without likeness between neighbours.
pub(crate) fn noise(contender: usize, round: usize) -> f64 {
    let mixed = (contender as u64 * 7919 + round as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) as f64 / u64::MAX as f64 * 2.0 - 1.0
}

/// One contender of a made-up race: its name, milliseconds of a call, statements, and what it leaves to write by hand.
#[derive(Clone, Copy)]
pub(crate) struct Made {
    pub(crate) name: &'static str,
    pub(crate) time: f64,
    pub(crate) statements: u64,
    pub(crate) sql: u64,
}

pub(crate) const fn made(name: &'static str, time: f64, statements: u64, sql: u64) -> Made {
    Made { name, time, statements, sql }
}

pub(crate) const FIELD: [Made; 9] = [
    made("lazy.app.all.managed", 300.0, 4_000, 0),
    made("lazy.database.all.managed", 40.0, 125, 0),
    made("batched.database.all.managed", 14.0, 3, 0),
    made("computed.database.all.managed", 10.9, 1, 1),
    made("computed.database.all.plain", 10.4, 1, 1),
    made("computed.database.needed.plain", 10.1, 1, 1),
    made("computed.database.needed.record", 10.0, 1, 1),
    made("computed.database.needed.raw", 8.6, 1, 1),
    made("two-steps", 12.0, 1, 1),
];

pub(crate) fn choices(name: &str) -> Json {
    let words: Vec<&str> = name.split('.').collect();
    match words.as_slice() {
        [loading, work, columns, hydration] => json!({"loading": loading, "work": work, "columns": columns, "hydration": hydration}),
        _ => Json::Null,
    }
}

/// Its statements: what rows are kept as makes no difference to them.
fn sql(name: &str) -> Json {
    json!([format!("SELECT '{}'", name.rsplit_once('.').map_or(name, |(way, _)| way))])
}

/// A contender that ran so many rounds with noise of a width.
pub(crate) fn contender(at: usize, one: Made, rounds: usize, width: f64) -> Json {
    let values: Vec<f64> = (0..rounds).map(|round| one.time * 1e6 * (width * noise(at, round)).exp()).collect();
    let p95: Vec<f64> = values.iter().map(|value| value * 1.2).collect();
    json!({
        "name": one.name, "choices": choices(one.name), "sql": sql(one.name), "outcome": "unresolved", "rounds": values, "p95_rounds": p95,
        "latency_ns": {"median": null, "low": null, "high": null, "p95": null, "cold": one.time * 1.4e6},
        "cpu_ns": null, "statements": one.statements, "round_trips": one.statements, "rows": one.statements * 27, "bytes": 4096,
        "objects": one.statements * 27, "heap_peak_bytes": one.statements * 2_000, "allocations": 200, "engine_bytes": null,
        "counted": {"round_trips": "modelled"}, "answer": {"rows": 100, "digest": "d"},
        "by_hand": {"statements": one.sql, "columns": one.sql * 4, "characters": one.sql * 380},
    })
}

/// A contest of contenders, raced for so many rounds.
pub(crate) fn contest(name: &str, contenders: impl Into<Json>, rounds: usize) -> Json {
    let contenders: Json = contenders.into();
    json!({
        "name": name, "about": "The 100 calmest hives, with their strain and how often each was inspected", "kind": "read", "need": {},
        "conditions": {"transaction": false}, "variant": {}, "engine": {"name": "sqlite", "version": "3.0", "settings": {}}, "dataset": "f",
        "require": {},
        "race": {
            "rounds": rounds, "seconds": 0.3 * rounds as f64, "measured_seconds": 0.2 * rounds as f64, "interrupted": false,
            "reference": "on all rows by plain evaluation", "margin": 0.05, "alpha": 0.05, "most_rounds": 400,
            "time_seconds": 30.0, "exact": false, "rests": true, "check_seconds": 1.4, "seed": 7, "round_seconds": 0.3, "noise": null,
            "reference_loop_ns": [100.0, 101.0, 102.0], "cpu_pressure": null,
        },
        "contenders": contenders, "verdict": {"decided": false, "leader": null, "choose": null},
    })
}

pub(crate) fn field(rounds: usize, width: f64) -> Vec<Json> {
    FIELD.iter().enumerate().map(|(at, one)| contender(at, *one, rounds, width)).collect()
}

pub(crate) fn some(names: &[&str], rounds: usize, width: f64) -> Vec<Json> {
    let picked = FIELD.iter().enumerate().filter(|(_, one)| names.contains(&one.name));
    picked.map(|(at, one)| contender(at, *one, rounds, width)).collect()
}

pub(crate) fn document(contests: impl Into<Json>) -> Json {
    let contests: Json = contests.into();
    json!({
        "format": "kampf-result", "version": 1, "kampf": "0.1.0",
        "machine": {"cpu": "made up", "cores": 4, "system": "made up", "load": [0.1, 0.2], "cpu_pressure": [0.0, 0.0]},
        "dataset": {"fingerprint": "f", "tables": []}, "contests": contests,
    })
}

pub(crate) fn with(mut contest: Json, pointer: &str, value: Json) -> Json {
    let (parent, key) = pointer.rsplit_once('/').expect("a pointer");
    contest.pointer_mut(parent).expect(pointer)[key] = value;
    contest
}
