//! Every recipe and every drawing in docs/filling.md is tried.

use std::collections::HashMap;

use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{TableId, Value, ddl};

const GUIDE: &str = include_str!("../../../../docs/filling.md");

/// The types of the column that a recipe is tried on, by the words of the guide.
fn column_type(word: &str) -> &str {
    match word {
        "decimal" => "DECIMAL(9, 2)",
        "reference" => "INTEGER REFERENCES keeper",
        other => other,
    }
}

/// A table with the columns that the guide's recipes name, and `x` of a type.
fn tried(kind: &str, recipe: &str, rows: u64) -> Vec<Value> {
    let ddl = format!(
        "CREATE TABLE apiary (id INTEGER PRIMARY KEY, opened DATE NOT NULL);
         CREATE TABLE keeper (id INTEGER PRIMARY KEY, name TEXT NOT NULL, apiary_id INTEGER NOT NULL REFERENCES apiary);
         CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, since DATE NOT NULL, weight REAL NOT NULL,
           state TEXT NOT NULL CHECK (state IN ('dead', 'weak', 'strong')), title TEXT NOT NULL, first_name TEXT NOT NULL, last_name TEXT NOT NULL,
           x {});
         CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive);",
        column_type(kind)
    );
    let schema = ddl::read(&ddl).unwrap().schema;
    let hive = TableId(2);
    let x = schema.table(hive).find("x").unwrap();
    let counts =
        [("apiary", "40"), ("keeper", "1..2 per apiary")].map(|(table, rows)| (schema.find(table).unwrap(), read_row_count(rows).unwrap()));
    let mut order = Order { rows: counts.into(), values: HashMap::new(), seed: 7, ..Order::default() };
    order.rows.insert(hive, read_row_count(&rows.to_string()).unwrap());
    order.rows.insert(TableId(3), read_row_count("2..5 per hive").unwrap());
    order.values.insert((hive, x), read_recipe(recipe).unwrap_or_else(|error| panic!("{recipe}: {}", error.message)));
    let blueprint = Blueprint::new(&schema, &order).unwrap_or_else(|error| panic!("{recipe}: {error} {:?}", error.hint));
    (0..rows).map(|row| blueprint.value(hive, row, x)).collect()
}

/// The rows of the guide's tables with that head, cell by cell.
fn table(head: &str) -> Vec<Vec<String>> {
    let mut inside = false;
    let mut rows = Vec::new();
    for line in GUIDE.lines() {
        match line.starts_with('|') {
            true if line == head => inside = true,
            true if inside && !line.starts_with("|---") => {
                rows.push(line.trim_matches('|').split(" | ").map(|cell| cell.trim().to_owned()).collect());
            }
            true => {}
            false => inside = false,
        }
    }
    rows
}

#[test]
fn every_recipe_of_the_guide_makes_values() {
    let recipes = table("| recipe | for | makes |");
    assert!(recipes.len() > 55, "{}", recipes.len());
    for row in &recipes {
        let recipe = row[0].trim_matches('`');
        let values = tried(&row[1], recipe, 400);
        let nulls = values.iter().filter(|value| **value == Value::Null).count();
        let expected = match () {
            () if recipe.contains("or null") && !recipe.starts_with('{') => 40..160,
            () if recipe.contains("null") && !recipe.starts_with('{') => 60..250,
            () => 0..1,
        };
        assert!(expected.contains(&nulls), "{recipe} gives {nulls} nulls of 400");
        let mut texts: Vec<String> = values.iter().map(Value::to_string).collect();
        texts.sort();
        texts.dedup();
        let is_fixed = ["5", "'fixed'", "true"].contains(&recipe);
        assert!(is_fixed == (texts.len() == 1), "{recipe} gives {} different values", texts.len());
        if recipe.starts_with("unique") {
            assert_eq!(texts.len(), 400);
        }
    }
}

#[test]
fn every_row_count_of_the_guide_can_be_asked_for() {
    for row in table("| count | rows |") {
        let counts = row[0].split('`').nth(1).unwrap().trim_matches('"');
        read_row_count(counts).unwrap_or_else(|error| panic!("{counts}: {}", error.message));
    }
}

/// A histogram in one line.
fn drawing(numbers: &[f64], low: f64, high: f64, bins: usize) -> String {
    let mut counts = vec![0_usize; bins];
    for number in numbers {
        let at = (number - low) / (high - low) * bins as f64;
        if (0.0..=bins as f64).contains(&at) {
            counts[(at as usize).min(bins - 1)] += 1;
        }
    }
    let most = counts.iter().max().copied().unwrap_or(1).max(1);
    let bar = |count: usize| match count * 200 / most {
        0..=3 => ' ',
        share => ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'][(share * 8 / 201).min(7)],
    };
    counts.into_iter().map(bar).collect::<String>().trim_end().to_owned()
}

#[test]
fn the_guide_s_drawings_are_of_what_is_made() {
    let mut seen = 0;
    let mut wrong = Vec::new();
    for line in GUIDE.lines().filter(|line| line.contains(" … ") && line.contains('█')) {
        let blocks: Vec<char> = " ▁▂▃▄▅▆▇█".chars().collect();
        let start = line.char_indices().find(|(_, c)| blocks[1..].contains(c)).map_or(0, |(at, _)| at);
        let what = line[..start].trim_end();
        let expected = match what.split_once(" per ") {
            Some(_) => {
                let schema = ddl::read("CREATE TABLE apiary (id INTEGER PRIMARY KEY); CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary);").unwrap().schema;
                let rows = [(TableId(0), read_row_count("20_000").unwrap()), (TableId(1), read_row_count(what).unwrap())];
                let blueprint =
                    Blueprint::new(&schema, &Order { rows: rows.into(), values: HashMap::new(), seed: 7, ..Order::default() }).unwrap();
                let mut children = vec![0_u32; 20_000];
                for row in 0..blueprint.rows(TableId(1)) {
                    if let Value::Integer(apiary) = blueprint.value(TableId(1), row, 1) {
                        children[apiary as usize - 1] += 1;
                    }
                }
                drawing(&children.into_iter().map(f64::from).collect::<Vec<_>>(), 0.0, 31.0, 31)
            }
            None => {
                let kind = if what.contains('-') { "date" } else { "integer" };
                let number = |value: &Value| match value {
                    Value::Date(days) => f64::from(*days),
                    other => other.as_ref().as_real().unwrap(),
                };
                let numbers: Vec<f64> = tried(kind, what, 20_000).iter().map(number).collect();
                let (low, high) = if kind == "date" { (18_262.0, 20_454.0) } else { (1.0, 101.0) };
                drawing(&numbers, low, high, 24)
            }
        };
        seen += 1;
        if !line.contains(&format!("{} ", expected.trim_start())) {
            wrong.push(format!("{what:<32}{expected}"));
        }
    }
    assert_eq!(seen, 9);
    assert!(wrong.is_empty(), "these are drawn otherwise:\n{}", wrong.join("\n"));
}
