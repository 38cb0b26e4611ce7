//! Whatever recipe or row count is asked for, rows are made of it or it is refused with words. `KAMPF_CASES=1000000` tries as many.

use kampf_fill::{Blueprint, Order};
use kampf_mangle::{Mangler, cases, try_all};
use kampf_schema::expr::{read_recipe, read_row_count};
use kampf_schema::{TableId, ddl};

const SQL: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label VARCHAR(20) NOT NULL, frames INTEGER NOT NULL CHECK (frames >= 0),
      weight DECIMAL(8,2), ratio REAL, since DATE, seen TIMESTAMP, alive BOOLEAN, tag UUID, raw BLOB);";

/// A row count, and behind it recipes as `column: recipe` lines.
const ORDERS: [&str; 8] = [
    "12\nlabel: text(8)\nframes: 8..24",
    "3 per strain\nlabel: unique text(3..6)\nweight: normal(5.5, 1.2) in 0..10 or null 10%",
    "poisson(4) per strain\nlabel: pick(\"a\": 3, \"b\": 1)\nseen: 2020-01-01..2024-12-31",
    "2..5 per 70% of strain\nlabel: words(2)\nframes: zipf(1.2) in 1..20\nalive: share(30%)",
    "heavy(6) per strain\nlabel: like(\"[A-Z]{2}-[0-9]{3}\")\nframes: sequence(10)",
    "1\nlabel: title(3)\nratio: exponential(2)\ntag: pick(\"00000000-0000-0000-0000-000000000001\")",
    "9\nlabel: first_name\nsince: since + 3d\nframes: frames",
    "40\nlabel: concat(strain.name, \"-\", row)\nweight: lognormal(1, 0.5)\nstrain_id: zipf(1.1)",
];

#[test]
fn any_recipe_makes_values_or_is_refused() {
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let hive = TableId(1);
    let words = [
        "per strain",
        "poisson(",
        "heavy(",
        "unique ",
        "or null 100%",
        "or null 0%",
        "in 1..0",
        "9..1",
        "text(0)",
        "words(1000)",
        "like(\"(\")",
        "like(\"a{1000}\")",
        "zipf(0)",
        "normal(0, 0)",
        "normal(1, -1)",
        "sequence(-1)",
        "pick()",
        "list(1..1000, 1)",
        "2020-02-30",
        "1970-01-01..9999-12-31",
        "strain.name",
        "hive.label",
        "0.0001",
        "label: ",
        "frames: ",
        "seen: ",
        "\n",
    ];
    let taken = try_all(Mangler::new(&ORDERS, &words, 5).take(cases(2_000)), |text| {
        let mut lines = text.lines();
        let mut order = Order { seed: 7, ..Order::default() };
        order.rows.insert(TableId(0), read_row_count("6").expect("six"));
        let Ok(rows) = read_row_count(lines.next().unwrap_or_default()) else { return false };
        order.rows.insert(hive, rows);
        for line in lines {
            let Some((column, recipe)) = line.split_once(':') else { continue };
            let Some(column) = schema.table(hive).find(column.trim()) else { continue };
            let Ok(recipe) = read_recipe(recipe) else { return false };
            order.values.insert((hive, column), recipe);
        }
        match Blueprint::new(&schema, &order) {
            Ok(blueprint) => {
                let rows = blueprint.rows(hive);
                for row in (0..rows.min(3)).chain(rows.checked_sub(1)) {
                    (0..schema.table(hive).columns.len()).for_each(|column| drop(blueprint.value(hive, row, column)));
                }
                true
            }
            Err(error) => {
                assert!(!error.to_string().is_empty());
                false
            }
        }
    });
    assert!(taken > 0);
}
