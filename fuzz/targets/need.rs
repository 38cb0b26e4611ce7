//! A need's condition against a small schema.
#![no_main]

use std::sync::LazyLock;

use kampf_contest::{NeedText, resolve};
use kampf_schema::{Relations, Schema, ddl};

static WORLD: LazyLock<(Schema, Relations)> = LazyLock::new(|| {
    let sql = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
        CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label TEXT, weight DECIMAL(8,2), seen TIMESTAMP);
        CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER);";
    let schema = ddl::read(sql).expect("the schema is right").schema;
    let relations = Relations::of(&schema);
    (schema, relations)
});

libfuzzer_sys::fuzz_target!(|text: &str| {
    let (give, filter) = text.split_once('\n').unwrap_or((text, ""));
    let filter = Some(filter.to_owned()).filter(|filter| !filter.is_empty());
    let need = NeedText { from: "hive".into(), give: vec![give.to_owned()], filter, ..NeedText::default() };
    let _ = resolve(&WORLD.0, &WORLD.1, &need);
});
