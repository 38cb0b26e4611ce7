//! What conditions of schemas mean, told by the databases themselves: random ones, on random rows.

use crate::common::Dice;
use kampf_contest::rule_sql;
use kampf_engine::{Engine, Ground, engine};
use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{Rule, Schema, TableId, Value, ddl};
use proptest::prelude::*;

/// Columns of every type, and recipes of few values, so that comparisons often hold.
const COLUMNS: [(&str, &str, &str); 9] = [
    ("a", "INTEGER", "-3..3 or null 20%"),
    ("n", "INTEGER", "0..5 or null 20%"),
    ("b", "VARCHAR(20)", "pick('', 'x', 'Xy', 'xyx', ' y ', 'it''s', 'zz_%') or null 20%"),
    ("u", "VARCHAR(20)", "pick('x', 'xy', 'XY', 'flö', 'z') or null 20%"),
    ("d", "DECIMAL(8, 2)", "-1.50..2.50 or null 20%"),
    ("k", "DECIMAL(8, 2)", "pick(0.25, 1.50, 2.00) or null 20%"),
    ("c", "DATE", "2024-02-27..2024-03-02 or null 20%"),
    ("f", "DATE", "2024-02-27..2024-03-02 or null 20%"),
    ("e", "BOOLEAN", "share(50) or null 20%"),
];

fn pick<'a>(dice: &mut Dice, from: &[&'a str]) -> &'a str {
    from[dice.roll(from.len())]
}

fn whole(dice: &mut Dice, depth: usize) -> String {
    let leaf = |dice: &mut Dice| pick(dice, &["a", "n", "0", "1", "2", "-1"]).to_owned();
    if depth == 0 {
        return leaf(dice);
    }
    match dice.roll(14) {
        0 => format!("{} + {}", whole(dice, depth - 1), leaf(dice)),
        1 => format!("({} - {}) * 2", whole(dice, depth - 1), leaf(dice)),
        2 => format!("{} / {}", whole(dice, depth - 1).replace(" + ", " - "), pick(dice, &["2", "3", "-2"])),
        3 => format!("({}) % {}", whole(dice, depth - 1), pick(dice, &["2", "3", "-2"])),
        4 => format!("abs({})", whole(dice, depth - 1)),
        5 => format!("length({})", words(dice, depth - 1)),
        6 => format!("coalesce({}, 7)", whole(dice, depth - 1)),
        7 => format!("nullif({}, {})", whole(dice, depth - 1), leaf(dice)),
        8 => format!("CASE WHEN {} THEN {} ELSE {} END", condition(dice, depth - 1), leaf(dice), whole(dice, depth - 1)),
        9 => format!("CASE WHEN {} THEN {} END", condition(dice, depth - 1), leaf(dice)),
        10 => format!("num_nonnulls({}, {})", words(dice, depth - 1), pick(dice, &["a", "c", "e"])),
        11 => format!("num_nulls({}, {})", whole(dice, depth - 1), pick(dice, &["b", "d"])),
        _ => leaf(dice),
    }
}

fn words(dice: &mut Dice, depth: usize) -> String {
    let leaf = |dice: &mut Dice| pick(dice, &["b", "u", "'x'", "'xy'", "''", "'it''s'"]).to_owned();
    if depth == 0 {
        return leaf(dice);
    }
    match dice.roll(10) {
        0 => format!("lower({})", words(dice, depth - 1)),
        1 => format!("upper({})", pick(dice, &["b", "'xy'"])),
        2 => format!("trim({})", words(dice, depth - 1)),
        3 => format!("({} || {})", words(dice, depth - 1), leaf(dice)),
        4 => format!("substr({}, {}, {})", words(dice, depth - 1), pick(dice, &["1", "2", "3", "0"]), pick(dice, &["0", "1", "2", "9"])),
        5 => format!("replace({}, 'x', {})", words(dice, depth - 1), leaf(dice)),
        6 => format!("coalesce({}, {})", words(dice, depth - 1), leaf(dice)),
        7 => format!("nullif({}, {})", words(dice, depth - 1), leaf(dice)),
        _ => leaf(dice),
    }
}

fn condition(dice: &mut Dice, depth: usize) -> String {
    let compared = |dice: &mut Dice| pick(dice, &["=", "<>", "<", "<=", ">", ">=", "IS DISTINCT FROM", "IS NOT DISTINCT FROM"]);
    let deeper = depth.saturating_sub(1);
    match dice.roll(if depth == 0 { 9 } else { 14 }) {
        0 | 1 => format!("{} {} {}", whole(dice, deeper), compared(dice), whole(dice, deeper)),
        2 => format!("{} {} {}", words(dice, deeper), pick(dice, &["=", "<>", "<", ">="]), words(dice, deeper)),
        3 => format!(
            "{} {} {}",
            pick(dice, &["d", "k", "abs(d)", "coalesce(d, k)"]),
            compared(dice),
            pick(dice, &["k", "d", "1.5", "-1", "0.25"])
        ),
        4 => format!("{} {} {}", pick(dice, &["c", "f"]), compared(dice), pick(dice, &["f", "c", "'2024-02-29'", "'2024-03-01'"])),
        5 => format!("{} {}BETWEEN {} AND {}", whole(dice, deeper), pick(dice, &["", "NOT "]), whole(dice, 0), whole(dice, 0)),
        6 => format!(
            "{} {}IN ({}, {}{})",
            whole(dice, deeper),
            pick(dice, &["", "NOT "]),
            whole(dice, 0),
            whole(dice, 0),
            pick(dice, &["", ", NULL"])
        ),
        7 => format!("{} IS {}NULL", pick(dice, &["a", "b", "c", "d", "e", "a + n", "b || u"]), pick(dice, &["", "NOT "])),
        8 => pick(dice, &["e", "e = true", "NOT e", "e IS NULL", "e <> false"]).to_owned(),
        9 | 10 => format!("({}) {} ({})", condition(dice, deeper), pick(dice, &["AND", "OR"]), condition(dice, deeper)),
        11 => format!("NOT ({})", condition(dice, deeper)),
        12 => format!("({}) = ({})", condition(dice, deeper), condition(dice, deeper)),
        _ => format!("{} {}IN ('x', {})", words(dice, deeper), pick(dice, &["", "NOT "]), words(dice, 0)),
    }
}

/// The table with some conditions as its checks, and what its rows are.
fn checked(conditions: &[String]) -> (Schema, Vec<Vec<Value>>, Blueprint) {
    let columns: Vec<String> = COLUMNS.iter().map(|(name, kind, _)| format!("{name} {kind}")).collect();
    let plain = format!("CREATE TABLE t (id INTEGER PRIMARY KEY, {})", columns.join(", "));
    let read =
        |text: &str| ddl::read_with(text, Some(ddl::SqlDialect::Postgres), &[]).unwrap_or_else(|error| panic!("{error}\n{text}")).schema;
    let schema = read(&plain);
    let table = TableId(0);
    let values = COLUMNS.iter().enumerate().map(|(at, (_, _, recipe))| ((table, at + 1), read_recipe(recipe).unwrap())).collect();
    let order = Order { rows: [(table, read_row_count("200").unwrap())].into(), values, seed: 7, ..Order::default() };
    let blueprint = Blueprint::new(&schema, &order).unwrap();
    let mut batch = kampf_fill::Batch::default();
    blueprint.batch(table, 0, &mut batch);
    let rows = (0..batch.rows()).map(|row| batch.row(row).map(kampf_schema::ValueRef::to_value).collect()).collect();
    let checks: Vec<String> = conditions.iter().map(|condition| format!(", CHECK ({condition})")).collect();
    (read(&format!("{}{})", plain.trim_end_matches(')'), checks.concat())), rows, blueprint)
}

fn rules(schema: &Schema) -> Vec<&Rule> {
    schema.tables[0].checks.iter().map(|check| check.rule.as_ref().unwrap_or_else(|unknown| panic!("{}: {unknown}", check.sql))).collect()
}

/// Each condition in the engine's words; those that it cannot say are left out.
fn said(engine: &dyn Engine, schema: &Schema) -> Vec<(usize, String)> {
    let table = &schema.tables[0];
    let each = rules(schema).into_iter().enumerate();
    each.filter_map(|(at, rule)| Some((at, rule_sql(engine.dialect(), rule, table)?))).collect()
}

/// Holds what the database found, a row of answers a row, against the evaluation here.
fn agree(schema: &Schema, rows: &[Vec<Value>], asked: &[(usize, String)], found: &[Vec<Option<bool>>]) {
    let rules = rules(schema);
    assert_eq!(found.len(), rows.len());
    for (row, answers) in rows.iter().zip(found) {
        for ((at, sql), answer) in asked.iter().zip(answers) {
            let own = rules[*at].holds(&|column: usize| row[column].clone());
            assert_eq!(own, *answer, "{}\nas {sql}\non {row:?}", schema.tables[0].checks[*at].sql);
        }
    }
}

fn by_sqlite(schema: &Schema, rows: &[Vec<Value>], blueprint: &Blueprint) {
    let engine = engine("sqlite").unwrap();
    let folder = tempfile::tempdir().unwrap();
    let plain = Schema { tables: vec![kampf_schema::Table { checks: Vec::new(), ..schema.tables[0].clone() }], ..schema.clone() };
    engine
        .load(
            &Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None },
            &plain,
            blueprint,
            &[],
            &mut |_| {},
        )
        .unwrap();
    let file = rusqlite::Connection::open(folder.path().join("dataset.sqlite")).unwrap();
    let asked = said(engine, schema);
    let columns: Vec<&str> = asked.iter().map(|(_, sql)| sql.as_str()).collect();
    let sql = format!("SELECT {} FROM t ORDER BY id", columns.join(", "));
    let mut statement = file.prepare(&sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
    let answers = |row: &rusqlite::Row<'_>| (0..asked.len()).map(|at| row.get::<_, Option<bool>>(at)).collect();
    let found: Vec<Vec<Option<bool>>> = statement.query_map([], answers).unwrap().map(Result::unwrap).collect();
    agree(schema, rows, &asked, &found);
}

proptest! {
    #![proptest_config(kampf_mangle::property(300))]
    #[test]
    fn conditions_mean_what_sqlite_says_they_mean(rolls in prop::collection::vec(any::<u32>(), 8..60)) {
        let mut dice = Dice(rolls, 0);
        let (schema, rows, blueprint) = checked(&[condition(&mut dice, 3)]);
        by_sqlite(&schema, &rows, &blueprint);
    }
}

/// As many conditions as fit into one query.
const CONDITIONS: u64 = 400;

#[test]
fn conditions_mean_what_postgresql_says_they_mean() {
    let engine = engine("postgres").unwrap();
    if !crate::common::is_here(engine) {
        return;
    }
    let conditions: Vec<String> =
        (0..CONDITIONS).map(|at| condition(&mut Dice((0..60).map(|roll| crate::common::mixed(at * 97 + roll)).collect(), 0), 3)).collect();
    let (schema, rows, blueprint) = checked(&conditions);
    let plain = Schema { tables: vec![kampf_schema::Table { checks: Vec::new(), ..schema.tables[0].clone() }], ..schema.clone() };
    let loaded = crate::common::servers::Loaded::shared(&plain, &blueprint);
    let asked = said(engine, &schema);
    assert!(asked.len() as u64 > CONDITIONS * 9 / 10, "nearly all can be said");
    let columns: Vec<String> = asked.iter().map(|(_, sql)| format!("({sql})::boolean")).collect();
    let sql = format!("SELECT ARRAY[{}] FROM t ORDER BY id", columns.join(",\n"));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let found = runtime.block_on(async {
        let (client, connection) = tokio_postgres::connect(loaded.served().url(), tokio_postgres::NoTls).await.unwrap();
        tokio::spawn(connection);
        let rows = client.query(&sql, &[]).await.unwrap_or_else(|error| panic!("{error:?}\n{sql}"));
        rows.iter().map(|row| row.get::<_, Vec<Option<bool>>>(0)).collect::<Vec<_>>()
    });
    agree(&schema, &rows, &asked, &found);
}
