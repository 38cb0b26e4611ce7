//! kampf.toml as it is written: of each table one definition, from which its reading, its JSON Schema and the list of its keys follow.

mod choices;
mod conditions;
mod contender;
mod contest;
mod engine;
mod entities;
mod form;
mod index;
mod keep;
mod numbers;
mod reader;
mod require;
mod texts;
mod top;

pub(crate) use contender::{ContenderTable, OwnSql};
pub(crate) use contest::{BatchForm, ContestTable};
pub(crate) use engine::EngineForm;
pub(crate) use form::{Named, all, entries};
pub(crate) use index::{IndexKind, IndexTable};
pub(crate) use numbers::{Factor, Few, Many, Share, Size, Time};
pub(crate) use reader::{Reader, span};
pub(crate) use texts::PlainText;
pub(crate) use top::{KeyTypes, ProjectFile};

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
        for file in [include_str!("../../../templates/apiary.toml"), include_str!("../../../templates/starter.toml")] {
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
        conditions = { hit_rate = ["90 %"], round_trip = "1ms", pin = true, durable = false }
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
        [contest.z]
        insert = "a"
        count = 2
        set = ["b = :p"]
        also = ["c 2 each"]
        batch = [10]
        [contest.z.choices]
        path = ["direct"]
        batch = ["values:10"]
        commit = ["once"]
        back = ["asked"]
        hang = ["stepwise"]
        [contest.z.contender.own]
        sql.a = "insert"
        commit = "each"
        [contest.u]
        update = "a"
        [contest.d]
        delete = "a"
        [contest.y]
        ordered = true
        [contest.y.contender.a]
        sql = "select 1"
        [contest.y.contender.b]
        sql = "select 2"
    "#;

    #[test]
    fn every_key_of_the_form_is_one_that_is_read() {
        let source = crate::problem::TextFile { path: std::path::Path::new("kampf.toml").into(), text: EVERYTHING.into() };
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
