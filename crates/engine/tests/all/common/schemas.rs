//! Random schemas with rules of every kind.

use kampf_engine::{Ground, engine};
use kampf_fill::{Blueprint, Order};
use kampf_schema::expr::read_row_count;
use kampf_schema::{Schema, ddl};

use super::Dice;

/// What can be referred to of a table: columns and their types.
struct Keys {
    unique: Vec<Vec<(String, &'static str)>>,
}

fn choose<T: Copy>(dice: &mut Dice, from: &[T]) -> T {
    from[dice.roll(from.len())]
}

/// A table that may refer to those before it and to itself.
fn table(dice: &mut Dice, at: usize, before: &[Keys]) -> (String, Keys) {
    let mut parts: Vec<String> = Vec::new();
    let mut keys = Keys { unique: Vec::new() };
    match dice.roll(6) {
        0 => {
            parts.push("id VARCHAR(20) PRIMARY KEY".to_owned());
            keys.unique.push(vec![("id".to_owned(), "VARCHAR(20)")]);
        }
        1 => {
            parts.push("id UUID PRIMARY KEY".to_owned());
            keys.unique.push(vec![("id".to_owned(), "UUID")]);
        }
        2 => {
            parts.extend(["k INTEGER NOT NULL".to_owned(), "l VARCHAR(8) NOT NULL".to_owned(), "PRIMARY KEY (k, l)".to_owned()]);
            keys.unique.push(vec![("k".to_owned(), "INTEGER"), ("l".to_owned(), "VARCHAR(8)")]);
        }
        _ => {
            parts.push("id INTEGER PRIMARY KEY".to_owned());
            keys.unique.push(vec![("id".to_owned(), "INTEGER")]);
        }
    }
    let mut references = Vec::new();
    for (parent, known) in before.iter().enumerate() {
        if dice.roll(3) == 0 || known.unique.is_empty() {
            continue;
        }
        let key = &known.unique[dice.roll(known.unique.len())];
        let optional = dice.roll(2) == 0;
        let own: Vec<String> = key.iter().map(|(name, _)| format!("p{parent}_{name}")).collect();
        for (name, (_, kind)) in own.iter().zip(key) {
            parts.push(format!("{name} {kind}{}", if optional { "" } else { " NOT NULL" }));
        }
        let theirs: Vec<&str> = key.iter().map(|(name, _)| name.as_str()).collect();
        parts.push(format!("FOREIGN KEY ({}) REFERENCES t{parent} ({})", own.join(", "), theirs.join(", ")));
        if dice.roll(6) == 0 && key.len() == 1 {
            // A second one to the same parent.
            parts.push(format!("q{parent} {} REFERENCES t{parent} ({})", key[0].1, theirs[0]));
        }
        references.push((own, optional));
    }
    if dice.roll(4) == 0 && keys.unique[0].len() == 1 {
        let (name, kind) = &keys.unique[0][0];
        parts.push(format!("up_id {kind}{} REFERENCES t{at} ({name})", choose(dice, &["", "", " NOT NULL"])));
    }
    let columns = [
        ("a", "INTEGER", ["CHECK (a BETWEEN 3 AND 9)", "CHECK (a > 0)", "CHECK (a IN (1, 2, 5))", "CHECK (a < 40)", ""]),
        ("n", "INTEGER", ["DEFAULT 0 CHECK (n >= 0)", "CHECK (n < 9000)", "", "", "CHECK (n < 100 AND n >= -5)"]),
        ("m", "INTEGER", ["CHECK (m <> 3)", "CHECK (m % 2 = 0)", "CHECK (m * m < 50)", "CHECK (abs(m) IN (1, 4))", ""]),
        ("b", "VARCHAR(12)", ["CHECK (b = lower(b))", "CHECK (length(b) >= 4)", "CHECK (b <> '')", "", "CHECK (length(trim(b)) > 0)"]),
        ("s", "VARCHAR(9)", ["DEFAULT 'calm'", "CHECK (s IN ('calm', 'lively'))", "CHECK (s LIKE 'x%')", "CHECK (upper(s) = s)", ""]),
        ("d", "DECIMAL(7, 2)", ["CHECK (d > 0)", "CHECK (d BETWEEN 0 AND 1)", "CHECK (d >= 0 AND d <= 99.5)", "", ""]),
        ("c", "DATE", ["CHECK (c >= '2020-01-01')", "", "CHECK (c < '2030-01-01')", "", ""]),
        ("f", "DATE", ["", "", "", "", "DEFAULT '2024-02-29'"]),
        ("e", "BOOLEAN", ["DEFAULT true", "", "", "", ""]),
        ("g", "TIMESTAMP", ["", "", "", "", ""]),
        ("j", "TEXT", ["", "", "CHECK (length(j) BETWEEN 10 AND 30)", "", ""]),
    ];
    let mut had = Vec::new();
    for (name, kind, rules) in columns {
        if dice.roll(2) == 0 {
            let not_null = if dice.roll(2) == 0 { " NOT NULL" } else { "" };
            parts.push(format!("{name} {kind}{not_null} {}", choose(dice, &rules)));
            had.push(name);
        }
    }
    let has = |names: &[&str]| names.iter().all(|name| had.contains(name));
    for (needs, rule) in [
        (&["a", "n"][..], "CHECK (a <> n)"),
        (&["m", "d"], "CHECK (m > d - 100)"),
        (&["a", "n"], "CHECK ((a IS NULL) = (n IS NULL))"),
        (&["c", "f"], "CHECK (f IS NULL OR f >= c)"),
        (&["e", "b"], "CHECK (e = false OR b IS NOT NULL)"),
        (&["d", "a"], "CHECK (d <= a * 20)"),
        (&["b", "s"], "CHECK (coalesce(b, s) IS NOT NULL)"),
        (&["a", "b"], "UNIQUE (a, b)"),
        (&["b"], "UNIQUE (b)"),
        (&["c", "s"], "UNIQUE (c, s)"),
        (&["j"], "UNIQUE (j)"),
        (&["a"], "UNIQUE (a)"),
        (&["a", "n", "s"], "UNIQUE (a, n, s)"),
        (&["g"], "UNIQUE (g)"),
        (&["c", "e"], "UNIQUE (c, e)"),
    ] {
        if has(needs) && dice.roll(4) == 0 {
            parts.push(rule.to_owned());
            if rule == "UNIQUE (b)" {
                keys.unique.push(vec![("b".to_owned(), "VARCHAR(12)")]);
            }
        }
    }
    if let [(own, _), ..] = references.as_slice() {
        match dice.roll(8) {
            0 => parts.push(format!("UNIQUE ({})", own.join(", "))),
            1 if has(&["a"]) => parts.push(format!("UNIQUE ({}, a)", own.join(", "))),
            2 if has(&["c"]) => parts.push(format!("UNIQUE (c, {})", own.join(", "))),
            _ => {}
        }
    }
    match references.as_slice() {
        [(one, true), (other, true), ..] if dice.roll(3) == 0 => {
            parts.push(format!("CHECK (({} IS NULL) <> ({} IS NULL))", one[0], other[0]));
        }
        [(one, false), (other, false), ..] if dice.roll(3) == 0 => {
            parts.push(format!("UNIQUE ({}, {})", one.join(", "), other.join(", ")));
        }
        [.., (one, false), (other, _)] if dice.roll(3) == 0 && has(&["s"]) => {
            parts.push(format!("UNIQUE ({}, {}, s)", one.join(", "), other.join(", ")));
        }
        _ => {}
    }
    let mut sql = format!("CREATE TABLE t{at} (\n  {}\n);\n", parts.join(",\n  "));
    for (needs, index) in [
        (&["b", "e"][..], "CREATE UNIQUE INDEX u@ ON t@ (b) WHERE e;\n"),
        (&["b"], "CREATE UNIQUE INDEX v@ ON t@ (lower(b));\n"),
        (&["a", "s"], "CREATE UNIQUE INDEX w@ ON t@ (a, s) WHERE a IS NOT NULL AND s = 'calm';\n"),
        (&["c"], "CREATE INDEX x@ ON t@ (c DESC);\n"),
    ] {
        if has(needs) && dice.roll(5) == 0 {
            sql += &index.replace('@', &at.to_string());
        }
    }
    (sql, keys)
}

/// A random schema with rules of every kind, and how many rows are asked for.
pub(crate) fn random_schema(dice: &mut Dice) -> (String, Schema, Order) {
    let mut text = String::new();
    let mut known: Vec<Keys> = Vec::new();
    for at in 0..1 + dice.roll(5) {
        let (sql, keys) = table(dice, at, &known);
        text += &sql;
        known.push(keys);
    }
    // Rows of the schema's own.
    if text.starts_with("CREATE TABLE t0 (\n  id INTEGER") && dice.roll(3) == 0 {
        text += "INSERT INTO t0 (id) VALUES (1), (2), (40);\n";
    }
    // A table at the top that refers to one below: a circle.
    if known.len() > 1 && dice.roll(3) == 0 {
        let last = known.len() - 1;
        if let [(name, kind)] = known[last].unique[0].as_slice() {
            text +=
                &format!("ALTER TABLE t0 ADD COLUMN back {kind};\nALTER TABLE t0 ADD FOREIGN KEY (back) REFERENCES t{last} ({name});\n");
        }
    }
    let schema = ddl::read_with(&text, Some(ddl::SqlDialect::Postgres), &[]).unwrap_or_else(|error| panic!("{error}\n{text}")).schema;
    let mut order = Order { seed: dice.roll(1000) as u64, ..Order::default() };
    for id in schema.ids() {
        let parent = schema.table(id).references.iter().map(|reference| reference.parent).find(|parent| *parent != id && parent.0 < id.0);
        let per = parent.map(|parent| schema.table(parent).name.clone());
        let rows = match (dice.roll(6), per) {
            (0, _) => "1".to_owned(),
            (1, _) => "13".to_owned(),
            (2, _) => "70".to_owned(),
            (3, Some(parent)) => format!("2 per {parent}"),
            (4, Some(parent)) => format!("poisson(3) per {parent}"),
            // The guess.
            _ => continue,
        };
        order.rows.insert(id, read_row_count(&rows).unwrap());
    }
    (text, schema, order)
}

/// Loads and has SQLite look at it: not null, unique and checks while rows go in, references and indexes afterwards.
pub(crate) fn verified(schema: &Schema, blueprint: &Blueprint) -> Result<(), String> {
    let folder = tempfile::tempdir().unwrap();
    let place = Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None };
    let loaded = engine("sqlite").unwrap().load(&place, schema, blueprint, &[], &mut |_| {});
    loaded.map_err(|error| format!("{error} {:?}", error.sql))?;
    let file = rusqlite::Connection::open(folder.path().join("dataset.sqlite")).unwrap();
    let broken: i64 = file.query_row("SELECT count(*) FROM pragma_foreign_key_check", [], |row| row.get(0)).unwrap();
    let whole: String = file.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
    match (broken, whole.as_str()) {
        (0, "ok") => Ok(()),
        (broken, whole) => Err(format!("{broken} references lead nowhere, {whole}")),
    }
}
