//! The JSON Schema of results: what registries know is written by them. `KAMPF_UPDATE=1 cargo test -p kampf-result` writes it anew.

use kampf_contest::{Choice, How, Measure, Opt};
use kampf_verdict::{End, Outcome, Required};
use serde_json::{Map, Value as Json, json};

const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/result.schema.json");

fn choices() -> Json {
    let of = |choice: Choice| {
        let (named, options): (Vec<Opt>, Vec<Opt>) = choice.options().partition(|option| option.entry().is_named);
        let (sized, plain): (Vec<Opt>, Vec<Opt>) = options.into_iter().partition(|option| option.entry().has_size);
        if !named.is_empty() {
            let what = format!("{}, by what the user calls it", choice.entry().about);
            let word = "[A-Za-z][A-Za-z0-9_]{0,39}";
            let types = kampf_schema::KeyType::ALL.map(kampf_schema::KeyType::word).join("|");
            let pattern = if choice == Choice::Keys { format!("^(own|{word}:({types}))$") } else { format!("^{word}$") };
            return json!({"type": "string", "pattern": pattern, "description": what});
        }
        let plain: Vec<&str> = plain.into_iter().map(Opt::word).collect();
        let sized: Vec<&str> = sized.into_iter().map(Opt::word).collect();
        if sized.is_empty() {
            return json!({"enum": plain, "description": choice.entry().about});
        }
        let pattern = format!("^({}):[0-9]+$", sized.join("|"));
        json!({"anyOf": [{"enum": plain}, {"type": "string", "pattern": pattern}], "description": choice.entry().about})
    };
    let properties: Map<String, Json> = Choice::ALL.into_iter().map(|choice| (choice.word().to_owned(), of(choice))).collect();
    json!({"type": "object", "properties": properties, "required": [], "additionalProperties": false})
}

fn require() -> Json {
    let properties: Map<String, Json> =
        Required::all().map(|required| (required.name(), json!({"type": "number", "minimum": 0}))).collect();
    json!({
        "type": "object", "properties": properties, "required": [], "additionalProperties": false,
        "description": "Upper bounds that a contender must keep to be chosen",
    })
}

/// Puts what the registries know into a schema.
fn completed(mut schema: Json) -> Json {
    let defs = &mut schema["$defs"];
    defs["contest"]["properties"]["require"] = require();
    let contender = &mut defs["contender"];
    contender["properties"]["choices"] = json!({"oneOf": [{"type": "null"}, choices()], "description": "The options of a derived contender; null for SQL and programs of the user's"});
    contender["properties"]["outcome"] = json!({"enum": Outcome::ALL.map(Outcome::word)});
    for measure in Measure::ALL {
        contender["properties"][measure.entry().name] =
            json!({"type": ["number", "null"], "minimum": 0, "description": measure.entry().about});
    }
    let how = [How::Inside, How::Wire, How::Reported, How::Resident, How::Modelled].map(|how| json!(how));
    let counted: Map<String, Json> =
        Measure::ALL.into_iter().map(|measure| (measure.entry().name.to_owned(), json!({"enum": how}))).collect();
    contender["properties"]["counted"] = json!({"type": "object", "properties": counted, "required": [], "additionalProperties": false, "description": "Where each count was taken"});
    let range = json!({"type": "object", "properties": {"least": {"type": "integer", "minimum": 0}, "most": {"type": "integer", "minimum": 0}}, "required": ["least", "most"], "additionalProperties": false});
    let ranges: Map<String, Json> = Measure::ALL.into_iter().map(|measure| (measure.entry().name.to_owned(), range.clone())).collect();
    contender["properties"]["counted_range"] = json!({"type": "object", "properties": ranges, "required": [], "additionalProperties": false, "description": "The least and the most of each count over calls with each parameter set, where they differ"});
    let words: Vec<&str> = Choice::ALL.into_iter().map(Choice::word).collect();
    let mattered = &mut defs["mattered"]["properties"];
    mattered["effects"]["items"]["properties"]["choice"] = json!({"enum": words});
    mattered["ladder"]["items"]["properties"]["changes"]["items"]["properties"]["choice"] = json!({"enum": words});
    defs["verdict"]["properties"]["end"] = json!({"enum": End::ALL.map(End::word), "description": "How the race ended"});
    schema
}

#[test]
fn the_schema_says_what_the_registries_know() {
    let text = std::fs::read_to_string(FILE).expect("the schema is there");
    let schema: Json = serde_json::from_str(&text).expect("it is JSON");
    let completed = completed(schema.clone());
    if std::env::var_os("KAMPF_UPDATE").is_some() {
        let mut out = Vec::new();
        let mut writer = serde_json::Serializer::with_formatter(&mut out, serde_json::ser::PrettyFormatter::with_indent(b" "));
        serde::Serialize::serialize(&completed, &mut writer).expect("it can be written");
        out.push(b'\n');
        std::fs::write(FILE, out).expect("it can be written");
        return;
    }
    assert_eq!(super::json_schema(), schema);
    assert_eq!(schema, completed, "run KAMPF_UPDATE=1 cargo test -p kampf-result");
}
