//! Which columns change with a table's keys, and what keeps them as they are.

use kampf_schema::{KeyType, LogicalType, ddl};

const SCHEMA: &str = "
    CREATE TABLE keeper (id SERIAL PRIMARY KEY, teacher_id INTEGER REFERENCES keeper (id));
    CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL DEFAULT 1 REFERENCES keeper (id), label TEXT NOT NULL);
    CREATE TABLE care (hive_id INTEGER REFERENCES hive (id), keeper_id INTEGER REFERENCES keeper (id), PRIMARY KEY (hive_id, keeper_id));
    CREATE TABLE visit (hive_id INTEGER NOT NULL, keeper_id INTEGER NOT NULL, number INTEGER, PRIMARY KEY (hive_id, number),
      FOREIGN KEY (hive_id, keeper_id) REFERENCES care (hive_id, keeper_id), CHECK (hive_id IS NOT NULL AND number > 0));
    CREATE TABLE note (visit_hive INTEGER, visit_number INTEGER, FOREIGN KEY (visit_hive, visit_number) REFERENCES visit (hive_id, number));
    CREATE TABLE plan (hive_id INTEGER PRIMARY KEY REFERENCES hive (id));
    CREATE TABLE season (year DATE PRIMARY KEY);
    CREATE TABLE strain (code VARCHAR(8) PRIMARY KEY);
    CREATE TABLE scale (id VARCHAR(36) PRIMARY KEY);
    CREATE TABLE log (line TEXT);";

fn columns(text: &str, table: &str) -> Result<Vec<String>, String> {
    let schema = ddl::read(text).unwrap().schema;
    let keys = schema.key_columns(schema.find(table).unwrap())?;
    let mut names: Vec<String> = keys
        .columns
        .iter()
        .map(|&(table, column)| format!("{}.{}", schema.table(table).name, schema.table(table).columns[column].name))
        .collect();
    names.sort_unstable();
    Ok(names)
}

#[test]
fn all_that_refers_to_a_key_changes_with_it() {
    assert_eq!(columns(SCHEMA, "hive").unwrap(), ["care.hive_id", "hive.id", "note.visit_hive", "plan.hive_id", "visit.hive_id"]);
    assert_eq!(
        columns(SCHEMA, "keeper").unwrap(),
        ["care.keeper_id", "hive.keeper_id", "keeper.id", "keeper.teacher_id", "visit.keeper_id"]
    );
    assert_eq!(columns(SCHEMA, "scale").unwrap(), ["scale.id"]);
    let mut schema = ddl::read(SCHEMA).unwrap().schema;
    let keys = schema.key_columns(schema.find("keeper").unwrap()).unwrap();
    schema.rekey(&keys, KeyType::Uuid7.kind(LogicalType::Uuid));
    let hive = schema.table(schema.find("hive").unwrap());
    assert_eq!((hive.columns[1].kind, &hive.columns[1].default), (LogicalType::Uuid, &None), "a default is a key of another type");
    assert_eq!((hive.columns[0].kind, schema.tables[0].columns[0].numbered), (LogicalType::Integer, false));
}

#[test]
fn what_keeps_keys_as_they_are_is_said() {
    for (table, why) in [
        ("care", "is of several columns"),
        ("plan", "is that of the row of `hive` to which it refers, and changes with it"),
        ("season", "`year`, is a natural one: a number with a fraction, a date, a time or a truth"),
        ("strain", "`code`, is a natural one, going by its name"),
        ("log", "`log` has no primary key"),
    ] {
        let said = columns(SCHEMA, table).unwrap_err();
        assert!(said.contains(why), "{table}: {said}");
    }
    for (rule, why) in [
        ("CHECK (hive_id > 0)", "the check `hive_id > 0` of `t` asks which of two keys is the larger one"),
        ("CHECK (hive_id <> 7)", "compares a key with something that is none"),
        ("CHECK (is_known(hive_id))", "may ask for the value of a key"),
        ("CHECK (hive_id % 2 = 0)", "computes with a key"),
        ("CHECK (hive_id = keeper_id)", "compares a key with something that is none"),
        ("twice INTEGER GENERATED ALWAYS AS (hive_id * 2) STORED", "the computed column `t.twice` computes with a key"),
        ("FOREIGN KEY (hive_id) REFERENCES keeper (id)", "`t.hive_id` refers to `hive` and to `keeper`"),
    ] {
        let text = format!(
            "CREATE TABLE keeper (id INTEGER PRIMARY KEY); CREATE TABLE hive (id INTEGER PRIMARY KEY);
             CREATE TABLE t (hive_id INTEGER REFERENCES hive (id), keeper_id INTEGER REFERENCES keeper (id), {rule});"
        );
        let said = columns(&text, "hive").unwrap_err();
        assert!(said.contains(why), "{rule}: {said}");
    }
    for (rule, index) in [
        ("UNIQUE (id)", "CREATE UNIQUE INDEX once ON t (coalesce(hive_id, 0))"),
        ("UNIQUE (id)", "CREATE INDEX more ON t (id) WHERE hive_id = 3"),
    ] {
        let text = format!(
            "CREATE TABLE hive (id INTEGER PRIMARY KEY); CREATE TABLE t (id INTEGER, hive_id INTEGER REFERENCES hive (id), {rule}); {index};"
        );
        assert!(columns(&text, "hive").is_err(), "{index}");
    }
    // Whether one is there, and whether two are the same, is the same whatever they are.
    for rule in [
        "CHECK (hive_id IS NULL OR id > 3)",
        "CHECK (hive_id <> other_id)",
        "CHECK (coalesce(hive_id, other_id) IS NOT NULL)",
        "UNIQUE (hive_id, id)",
    ] {
        let text = format!(
            "CREATE TABLE hive (id INTEGER PRIMARY KEY);
             CREATE TABLE t (id INTEGER, hive_id INTEGER REFERENCES hive (id), other_id INTEGER REFERENCES hive (id), {rule});"
        );
        assert_eq!(columns(&text, "hive").unwrap(), ["hive.id", "t.hive_id", "t.other_id"], "{rule}");
    }
}
