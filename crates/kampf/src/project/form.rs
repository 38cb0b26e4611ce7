//! The form of kampf.toml, as editors want to know it. What is read is in `config`; a test holds the two together.

#![allow(dead_code, reason = "only the form of these is of use, as a JSON Schema")]

use std::collections::BTreeMap;

use schemars::JsonSchema;

/// Kampf's project file: what to fill, what to answer, what to race.
#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct ProjectFile {
    /// The file with the statements that make the tables, seen from this file; or a list of files, or a folder of .sql files.
    schema: OneOrMore<String>,
    /// What it is written in; by default it says so itself.
    dialect: Option<Dialect>,
    /// What types mean that the schema does not explain.
    types: Option<BTreeMap<String, String>>,
    /// The engine: "sqlite", "postgres", or the URL of a server.
    engine: Option<Engine>,
    /// The same seed gives the same rows, on every machine.
    seed: Option<u64>,
    /// How many times as many rows as guessed.
    scale: Option<f64>,
    /// Rows of tables: a number, or like "12 per apiary", "20..60 per hive", "heavy(12) per 70% of hive".
    rows: Option<BTreeMap<String, CountOrText>>,
    /// How values of columns are made: "table.column" = "normal(6, 2) in 1..10 or null 30%".
    values: Option<BTreeMap<String, String>>,
    /// References that the schema does not declare: "booking.room_code" = "room.code".
    references: Option<BTreeMap<String, String>>,
    /// Other names for relations: "keeper.approved" = "inspection.approved_by".
    relations: Option<BTreeMap<String, String>>,
    /// What a mapper does with the entities of tables.
    entities: Option<BTreeMap<String, Habits>>,
    /// The same rows under other indexes, each variant by its name.
    index: Option<BTreeMap<String, IndexVariant>>,
    /// The same rows with other primary keys: of a table, or of all by "*", the types.
    keys: Option<BTreeMap<String, Vec<KeyKind>>>,
    /// What is kept of what was loaded.
    keep: Option<Keep>,
    /// Answers that are kept.
    cache: Option<Cache>,
    /// What all contenders are given.
    conditions: Option<Conditions>,
    /// Needs, each with what may answer it.
    contest: Option<BTreeMap<String, Contest>>,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
enum OneOrMore<T> {
    One(T),
    More(Vec<T>),
}

/// What primary keys are made of.
#[derive(JsonSchema)]
#[schemars(rename_all = "lowercase")]
enum KeyKind {
    Integer,
    Uuid4,
    Uuid7,
    Text,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
enum CountOrText {
    Count(u64),
    Text(String),
}

#[derive(JsonSchema)]
#[schemars(rename_all = "lowercase")]
enum Dialect {
    Sqlite,
    Postgres,
    Mysql,
    Mariadb,
    Standard,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
enum Engine {
    Name(String),
    WithSettings(EngineTable),
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct EngineTable {
    /// The engine's name, or the URL of a server.
    name: Option<String>,
    /// Settings of the engine by their own names.
    settings: Option<BTreeMap<String, Setting>>,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
enum Setting {
    Number(i64),
    Text(String),
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Habits {
    /// Relations that are loaded whenever an entity of the table is.
    always: Vec<String>,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Cache {
    /// Answers that a contender keeps at most.
    #[schemars(range(min = 1))]
    entries: Option<u64>,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Conditions {
    /// The share of calls that find their answer kept, "90 %"; a list is a race for each.
    hit_rate: Option<OneOrMore<String>>,
    /// How much longer a trip to the server takes, "0.5ms"; a list is a race for each.
    round_trip: Option<OneOrMore<String>>,
    /// Keep contenders and a throwaway server on one core.
    pin: Option<bool>,
}

/// A need, and what may answer it.
#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Contest {
    /// A sentence.
    about: Option<String>,
    /// The table whose rows are asked for.
    from: Option<String>,
    /// The values of each row, and lists of related rows.
    give: Option<Vec<String>>,
    /// A condition.
    r#where: Option<String>,
    /// Terms to group by.
    group: Option<Vec<String>>,
    /// Each different row once.
    distinct: Option<bool>,
    /// Terms to sort by: "temper", "inspected_at desc".
    order: Option<Vec<String>>,
    /// At most how many rows.
    limit: Option<u64>,
    /// Rows of a page, where the answer is read page after page.
    #[schemars(range(min = 1))]
    page: Option<u64>,
    /// How many pages are read.
    #[schemars(range(min = 1))]
    pages: Option<u64>,
    /// Rows that are read at a time, or several such numbers.
    chunk: Option<OneOrMore<u64>>,
    /// Variants that contenders run on besides the plain schema, by their names; "derived" works some out.
    index: Option<Vec<String>>,
    /// Tables that are raced with other keys too, "hive", or with keys of one type, "hive:uuid7"; "*" stands for all.
    keys: Option<Vec<String>>,
    /// How many rows must come.
    expect: Option<Expect>,
    /// Values of parameters, drawn anew for each call: "any(hive.id)", "some(hive.id, 20)", a recipe, or a fixed value.
    parameters: Option<BTreeMap<String, Parameter>>,
    /// Without a need: whether the order of rows counts.
    ordered: Option<bool>,
    /// The options that enter, by choice.
    choices: Option<Choices>,
    /// How single relations are loaded.
    loading: Option<BTreeMap<String, String>>,
    /// "nothing": the application uses each row in place.
    keeps: Option<Keeps>,
    /// Upper bounds that a contender must keep to be chosen.
    require: Option<Require>,
    /// Contenders of your own.
    contender: Option<BTreeMap<String, Contender>>,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct IndexVariant {
    /// Table and terms: "inspection(hive_id, inspected_at desc)".
    on: Option<OneOrMore<String>>,
    /// Whether no two rows agree in it.
    unique: Option<bool>,
    /// "tree", which is sorted, or "hash".
    kind: Option<IndexKind>,
    /// The rows that it holds, where it holds not all.
    r#where: Option<String>,
    /// Columns that it holds besides.
    include: Option<Vec<String>>,
    /// Indexes of the schema that are left out.
    without: Option<Vec<String>>,
}

#[derive(JsonSchema)]
#[schemars(rename_all = "lowercase")]
enum IndexKind {
    Tree,
    Hash,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Keep {
    /// Datasets besides the current one.
    #[schemars(range(max = 1000))]
    datasets: Option<u64>,
    /// Variants of a dataset besides those that are asked for.
    #[schemars(range(max = 1000))]
    variants: Option<u64>,
    /// How much of the disk all that is not asked for may take together.
    disk: Option<String>,
}

#[derive(JsonSchema)]
enum Expect {
    #[schemars(rename = "many")]
    Many,
    #[schemars(rename = "1")]
    One,
    #[schemars(rename = "0..1")]
    OneOrNone,
    #[schemars(rename = "1 of many")]
    OneOfMany,
    #[schemars(rename = "0..1 of many")]
    OneOrNoneOfMany,
}

#[derive(JsonSchema)]
#[schemars(rename_all = "lowercase")]
enum Keeps {
    Nothing,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
enum Parameter {
    Text(String),
    Number(f64),
    Truth(bool),
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Choices {
    loading: Option<Vec<String>>,
    work: Option<Vec<String>>,
    columns: Option<Vec<String>>,
    hydration: Option<Vec<String>>,
    filters: Option<Vec<String>>,
    habit: Option<Vec<String>>,
    /// With sizes behind a colon: "chunks:100".
    fetch: Option<Vec<String>>,
    statement: Option<Vec<String>>,
    unit: Option<Vec<String>>,
    cache: Option<Vec<String>>,
    /// Names of variants, and "none" for the plain schema.
    index: Option<Vec<String>>,
    /// Types of keys, "hive:uuid7", and "own" for those of the schema.
    keys: Option<Vec<String>>,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Require {
    /// "20ms"
    p95: Option<String>,
    /// "5ms"
    median: Option<String>,
    /// The first call on a new connection: "50ms".
    cold: Option<String>,
    /// "32 MiB"
    memory: Option<String>,
    statements: Option<u64>,
    round_trips: Option<u64>,
    rows: Option<u64>,
    /// With false an answer that was kept may be chosen.
    fresh: Option<bool>,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
struct Contender {
    /// SQL of your own, for any engine or for each.
    sql: Option<OwnSql>,
    /// What its rows become.
    hydration: Option<Hydration>,
    /// A program of your own, and its arguments.
    command: Option<Vec<String>>,
    /// Environment variables that the program gets besides the usual ones.
    environment: Option<Vec<String>>,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
enum OwnSql {
    Any(String),
    ByEngine(BTreeMap<String, String>),
}

#[derive(JsonSchema)]
#[schemars(rename_all = "lowercase")]
enum Hydration {
    Raw,
    Record,
    Map,
    Plain,
}

/// The JSON Schema of kampf.toml (draft 2020-12), as a text.
pub(crate) fn file_schema() -> String {
    let schema = schemars::schema_for!(ProjectFile);
    serde_json::to_string_pretty(&schema).map(|text| text + "\n").unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn real_files_fit_and_what_is_no_key_does_not() {
        let schema: serde_json::Value = serde_json::from_str(&file_schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).expect("it is a schema");
        let fits = |text: &str| {
            let value: toml::Value = toml::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"));
            validator
                .iter_errors(&serde_json::to_value(value).unwrap())
                .map(|error| format!("{}: {error}", error.instance_path()))
                .collect::<Vec<_>>()
        };
        for file in [include_str!("../../templates/apiary.toml"), include_str!("../../templates/starter.toml")] {
            assert_eq!(fits(file), [""; 0]);
        }
        for wrong in [
            "schema = \"a.sql\"\nshema = 1",
            "seed = 1",
            "schema = \"a.sql\"\nrows = 5",
            "schema = \"a.sql\"\n[contest.a]\nfrom = \"b\"\ngve = []",
            "schema = \"a.sql\"\n[contest.a]\nexpect = \"2\"",
            "schema = \"a.sql\"\n[contest.a.require]\np95 = 20",
        ] {
            assert!(!fits(wrong).is_empty(), "{wrong}");
        }
    }

    /// A file with every key that there is, each of a value that it may have.
    const EVERYTHING: &str = r#"
        schema = ["a.sql"]
        dialect = "sqlite"
        seed = 1
        scale = 2
        engine = { name = "sqlite", settings = { cache_size = 1 } }
        types = { odd = "text" }
        rows = { a = 1, b = "2 per a" }
        values = { "a.b" = "1..2" }
        references = { "a.b" = "b.c" }
        relations = { "a.b" = "b.c" }
        entities = { a = { always = ["b"] } }
        cache = { entries = 1 }
        index.bare = { on = "a(b)", unique = true, kind = "hash", where = "b > 1", include = ["c"], without = ["a"] }
        keys = { a = ["integer", "uuid4", "uuid7", "text"], "*" = ["uuid7"] }
        keep = { datasets = 1, variants = 2, disk = "1 GiB" }
        conditions = { hit_rate = ["90 %"], round_trip = "1ms", pin = true }
        [contest.x]
        about = "a"
        from = "a"
        give = ["b"]
        where = "b = :p and c = :q"
        group = ["b"]
        distinct = true
        order = ["b"]
        limit = 1
        page = 1
        pages = 1
        chunk = [1, 2]
        index = ["derived"]
        keys = ["a", "*:uuid7"]
        expect = "0..1 of many"
        parameters = { p = "any(a.b)", q = "1" }
        loading = { b = "batched" }
        keeps = "nothing"
        [contest.x.choices]
        loading = ["lazy"]
        work = ["app"]
        columns = ["all"]
        hydration = ["raw"]
        filters = ["given"]
        habit = ["kept"]
        fetch = ["chunks:5"]
        statement = ["built"]
        unit = ["one"]
        cache = ["warm"]
        index = ["none"]
        keys = ["own", "a:uuid7"]
        [contest.x.require]
        p95 = "1ms"
        median = "1ms"
        cold = "1ms"
        memory = "1 MiB"
        statements = 1
        round_trips = 1
        rows = 1
        fresh = false
        [contest.x.contender.own]
        sql = { any = "select 1", sqlite = "select 2" }
        hydration = "record"
        [contest.x.contender.program]
        command = ["a"]
        environment = ["B"]
        [contest.y]
        ordered = true
        [contest.y.contender.a]
        sql = "select 1"
        [contest.y.contender.b]
        sql = "select 2"
    "#;

    #[test]
    fn every_key_of_the_form_is_one_that_is_read() {
        let source = crate::problem::Source { path: "kampf.toml".into(), text: EVERYTHING.into() };
        if let Err(problem) = super::super::Config::read(&source) {
            panic!("{problem}");
        }
        let value: serde_json::Value = serde_json::to_value(toml::from_str::<toml::Value>(EVERYTHING).unwrap()).unwrap();
        let schema: serde_json::Value = serde_json::from_str(&file_schema()).unwrap();
        assert!(jsonschema::is_valid(&schema, &value));
        let written = EVERYTHING.to_owned();
        let mut missing = Vec::new();
        let definitions = schema["$defs"].as_object().unwrap().values().chain([&schema]);
        for name in definitions.filter_map(|definition| definition["properties"].as_object()).flat_map(|properties| properties.keys()) {
            if !written.contains(&format!("{name} =")) && !written.contains(&format!("[{name}.")) && !written.contains(&format!(".{name}"))
            {
                missing.push(name.clone());
            }
        }
        assert_eq!(missing, [""; 0], "keys that the example does not try");
    }
}
