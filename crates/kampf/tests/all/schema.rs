//! The JSON Schema of results: what registries know is written by them. `KAMPF_UPDATE=1 cargo test -p kampf schema` writes it anew.

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
    assert_eq!(schema, completed, "run KAMPF_UPDATE=1 cargo test -p kampf schema");
}

/// The choices and their options as a table.
fn table() -> String {
    let mut table = "\n| choice | option | in the name | what it is |\n|---|---|---|---|\n".to_owned();
    for choice in Choice::ALL {
        for (at, option) in choice.options().enumerate() {
            let first = if at == 0 { format!("**{}**: {}", choice.word(), choice.entry().about) } else { String::new() };
            let size = if option.entry().has_size { ":N" } else { "" };
            let name = match choice.entry().usual {
                None => format!("`{}`", option.word()),
                Some(usual) if usual == option.rank() => "not named".to_owned(),
                Some(_) if option.entry().is_named => format!("`@{}`", option.word()),
                Some(_) => format!("`+{}{size}`", option.word()),
            };
            table += &format!("| {first} | {} | {name} | {} |\n", option.word(), option.entry().about);
        }
    }
    table
}

#[test]
fn the_table_of_choices_is_that_of_the_registry() {
    const MARKS: (&str, &str) = ("cargo test -p kampf schema -->\n", "<!-- /registry -->");
    let file = format!("{}/../../docs/words.md", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&file).expect("it is there");
    let begins = text.find(MARKS.0).expect("the table has a place") + MARKS.0.len();
    let ends = text.find(MARKS.1).expect("it has an end");
    if std::env::var_os("KAMPF_UPDATE").is_some() {
        std::fs::write(&file, format!("{}{}\n{}", &text[..begins], table(), &text[ends..])).expect("it can be written");
        return;
    }
    assert_eq!(text[begins..ends], format!("{}\n", table()), "run KAMPF_UPDATE=1 cargo test -p kampf schema");
}

/// docs/words.md explains every option, docs/protocol.md every count, docs/file-reference.md every requirement.
#[test]
fn every_word_of_the_registries_is_documented() {
    let docs = |name: &str| std::fs::read_to_string(format!("{}/../../docs/{name}", env!("CARGO_MANIFEST_DIR"))).expect(name);
    let (words, protocol, file) = (docs("words.md"), docs("protocol.md"), docs("file-reference.md"));
    for choice in Choice::ALL {
        assert!(words.contains(&format!("## {}: ", choice.word())), "{}", choice.word());
        choice.options().for_each(|option| assert!(words.contains(&format!("**{}** - ", option.word())), "{}", option.word()));
    }
    Measure::ALL.iter().for_each(|measure| assert!(protocol.contains(&format!("`{}`", measure.entry().name)), "{}", measure.entry().name));
    Required::all().for_each(|required| assert!(file.contains(&format!("`{}`", required.key())), "{}", required.key()));
}
