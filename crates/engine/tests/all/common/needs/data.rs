//! Random schemas, and rows that hold nulls, ties, doubles, extremes and letters beyond ASCII.

use kampf_fill::{Blueprint, Order};
use kampf_schema::{Schema, ddl, expr};

use super::one_of;
use crate::common::Dice;

/// A random schema with rows that hold nulls, ties, doubles, extremes and letters beyond ASCII.
pub(crate) fn random_data(dice: &mut Dice) -> (String, Schema, Blueprint) {
    random_data_of(dice, ["7", "25", "40"])
}

/// The same with one of so many rows in each table.
pub(crate) fn random_data_of(dice: &mut Dice, rows: [&str; 3]) -> (String, Schema, Blueprint) {
    let tables = 1 + dice.roll(4);
    let mut text = String::new();
    let mut keys: Vec<Vec<(String, &str)>> = Vec::new();
    let mut values: Vec<(String, String)> = Vec::new();
    for table in 0..tables {
        let mut parts = Vec::new();
        let key: Vec<(String, &str)> = match dice.roll(9) {
            0 => vec![("code".to_owned(), "VARCHAR(40)")],
            1 => vec![("id".to_owned(), "UUID")],
            2 => vec![("k1".to_owned(), "INTEGER"), ("k2".to_owned(), "VARCHAR(20)")],
            3 => vec![("raw".to_owned(), "BLOB")],
            4 if table > 0 => Vec::new(),
            _ => vec![("id".to_owned(), "INTEGER")],
        };
        parts.extend(key.iter().map(|(name, kind)| format!("{name} {kind} NOT NULL")));
        let names = |key: &[(String, &str)]| key.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
        let refer = |parts: &mut Vec<String>, to: usize, prefix: &str, key: &[(String, &str)], null: &str| {
            let own: Vec<String> = names(key).iter().map(|name| format!("{prefix}_{name}")).collect();
            parts.extend(own.iter().zip(key).map(|(own, (_, kind))| format!("{own} {kind}{null}")));
            format!("FOREIGN KEY ({}) REFERENCES t{to} ({})", own.join(", "), names(key).join(", "))
        };
        let mut rules = Vec::new();
        for (parent, key) in keys.iter().enumerate() {
            if !key.is_empty() && dice.roll(4) != 0 {
                let null = one_of(dice, &["", " NOT NULL"]);
                rules.push(refer(&mut parts, parent, &format!("p{parent}"), key, null));
            }
        }
        if !key.is_empty() && dice.roll(5) == 0 {
            rules.push(refer(&mut parts, table, "up", &key, ""));
        }
        // Whether there is a date, and whether that may be null.
        let mut date = None;
        for (column, kind) in [
            "INTEGER",
            "DECIMAL(9, 2)",
            "REAL",
            "VARCHAR(80)",
            "BOOLEAN",
            "DATE",
            "TIMESTAMP",
            "INTEGER",
            "DECIMAL(6, 1)",
            "DECIMAL(18, 3)",
        ]
        .iter()
        .enumerate()
        {
            if dice.roll(2) != 0 {
                continue;
            }
            let null = dice.roll(2) == 0;
            date = if column == 5 { Some(null) } else { date };
            parts.push(format!("c{column} {kind}{}", if null { "" } else { " NOT NULL" }));
            let recipe = match (column, dice.roll(4)) {
                (0 | 7, 0) => "pick(0 3, 1, -1, 7, 9223372036854775807, -9223372036854775807)".to_owned(),
                (0 | 7, _) => "-3..9".to_owned(),
                (1, 0) => "-9999999.99..9999999.99".to_owned(),
                (1, _) => "pick(0.00, 1.25, 1.35, -0.05, 10.00, 99.99)".to_owned(),
                (8, _) => "-2.5..2.5".to_owned(),
                // As many digits as every engine keeps.
                (9, 0) => "pick(123456789012.345, -999999999999.999, 0.001, 1.000)".to_owned(),
                (9, _) => "-99.999..99.999".to_owned(),
                (6, 1) if date.is_some_and(|may_be_null| null || !may_be_null) => "after(c5, '1 hour'..'30 hours')".to_owned(),
                (3, 0) => "pick('a', 'ä', 'Ä', ' A b ', 'Straße', 'aB', '', '%_', 'hive 7')".to_owned(),
                (5, 0) => "2023-12-28..2024-03-02".to_owned(),
                (6, 0) => "2024-02-28T22:00:00..2024-03-01T03:00:00".to_owned(),
                _ => continue,
            };
            values.push((format!("t{table}.c{column}"), format!("{recipe}{}", if null { " or null 25%" } else { "" })));
        }
        if parts.is_empty() {
            parts.push("c0 INTEGER".to_owned());
        }
        if !key.is_empty() {
            rules.push(format!("PRIMARY KEY ({})", names(&key).join(", ")));
        }
        parts.extend(rules);
        text += &format!("CREATE TABLE t{table} ({});\n", parts.join(", "));
        keys.push(key);
    }
    let schema = ddl::read(&text).unwrap_or_else(|error| panic!("{error}\n{text}")).schema;
    let mut order = Order { seed: dice.roll(1000) as u64, ..Order::default() };
    order.rows = schema.ids().map(|id| (id, expr::read_row_count(rows[dice.roll(3)]).unwrap())).collect();
    for (name, recipe) in &values {
        let (table, column) = name.split_once('.').unwrap();
        let table = schema.find(table).unwrap();
        let column = schema.table(table).find(column).unwrap();
        let recipe = expr::read_recipe(recipe).unwrap_or_else(|error| panic!("{error:?} {recipe}"));
        order.values.insert((table, column), recipe);
    }
    let blueprint = Blueprint::new(&schema, &order).unwrap_or_else(|error| panic!("{error}\n{text}"));
    (text, schema, blueprint)
}
