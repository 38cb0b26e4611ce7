//! Keys of other types: from kampf.toml to the verdict, and mistakes in saying which.

use crate::common::{Folder, installed, json};
use serde_json::Value as Json;

/// A self reference, a junction whose key is of two references, one that has a column of another key in it, rows of the file's own, a natural key.
const SCHEMA: &str = "\
CREATE TABLE strain (code VARCHAR(8) PRIMARY KEY, name VARCHAR(20) NOT NULL);
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, teacher_id INTEGER REFERENCES keeper (id));
INSERT INTO keeper (id, name) VALUES (40, 'the first'), (7, 'the second');
CREATE TABLE hive (
  id INTEGER PRIMARY KEY,
  strain_code VARCHAR(8) NOT NULL REFERENCES strain (code),
  label VARCHAR(20) NOT NULL,
  state VARCHAR(10) NOT NULL CHECK (state IN ('weak', 'strong'))
);
CREATE TABLE care (
  hive_id INTEGER NOT NULL REFERENCES hive (id),
  keeper_id INTEGER NOT NULL REFERENCES keeper (id),
  PRIMARY KEY (hive_id, keeper_id)
);
CREATE TABLE visit (
  hive_id INTEGER NOT NULL,
  keeper_id INTEGER NOT NULL,
  number INTEGER NOT NULL,
  minutes INTEGER NOT NULL CHECK (minutes > 0),
  PRIMARY KEY (hive_id, number),
  FOREIGN KEY (hive_id, keeper_id) REFERENCES care (hive_id, keeper_id)
);
CREATE INDEX care_keeper ON care (keeper_id);
";

const PROJECT: &str = "\
schema = \"apiary.sql\"
seed = 3

[rows]
strain = 5
keeper = 30
hive = 400
care = \"2 per hive\"
visit = \"3 per care\"

[keys]
hive = [\"uuid4\", \"uuid7\"]

[contest.one]
about = \"A hive by its key\"
from = \"hive\"
give = [\"id\", \"label\", \"count(care) as keepers\"]
where = \"id = :hive\"
expect = \"0..1\"

[contest.one.parameters]
hive = \"any(hive.id)\"

[contest.some]
from = \"hive\"
give = [\"label\", \"care { keeper_id, keeper.name } as keepers\"]
where = \"id in :hives\"

[contest.some.parameters]
hives = \"some(hive.id, 20)\"

[contest.missing]
from = \"hive\"
give = [\"label\"]
where = \"id = :hive\"

[contest.missing.parameters]
hive = \"missing(hive.id)\"

[contest.all]
from = \"hive\"
give = [\"id\", \"label\", \"last(care.visit order minutes, number).minutes as newest\"]
chunk = 70

[contest.all.choices]
fetch = [\"whole\", \"chunks\"]

[contest.states]
from = \"hive\"
give = [\"state\", \"id\", \"label\"]
order = [\"state\", \"id\"]
limit = 30
";

fn apiary(more: &str) -> Folder {
    let folder = Folder::empty();
    folder.write("apiary.sql", SCHEMA);
    folder.write("kampf.toml", format!("{PROJECT}{more}"));
    folder
}

fn names(document: &Json, contest: usize) -> Vec<String> {
    let all = document["contests"][contest]["contenders"].as_array().unwrap();
    all.iter().map(|one| one["name"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn reads_race_over_types_of_keys_and_give_the_same_rows() {
    let folder = apiary("");
    let raced = json(&folder.ok(&["race", "one", "--keys", "hive", "--format", "json", "-q", "--rounds", "2", "--time", "2s"]));
    let all = names(&raced, 0);
    for name in
        ["computed.database.needed.plain@hive:uuid4", "computed.database.needed.plain@hive:uuid7", "lazy.app.all.managed@hive:uuid4"]
    {
        assert!(all.iter().any(|one| one == name), "{name}: {all:?}");
    }
    assert!(!all.iter().any(|name| name.contains("hive:text") || name.contains("hive:integer")), "the file names two: {all:?}");
    let contest = &raced["contests"][0];
    let uuid = &contest["variant"]["hive:uuid7"];
    assert_eq!(uuid["keys"]["type"], "uuid7");
    assert!(uuid["about"].as_str().unwrap().contains("keys of hive are uuids of version 7"), "{uuid}");
    let size = |of: &str| uuid["keys"][of].as_u64().unwrap();
    assert!(size("bytes") > size("own_bytes") && size("index_bytes") > size("own_index_bytes"), "{uuid}");
    assert!(uuid["keys"]["seconds"].as_f64().unwrap() > 0.0 && uuid["keys"]["own_seconds"].as_f64().unwrap() > 0.0, "{uuid}");
    let keys = contest["verdict"]["by_choice"].as_array().unwrap().iter().find(|one| one["choice"] == "keys").unwrap();
    let mut told: Vec<&str> = keys["others"].as_array().unwrap().iter().map(|one| one["option"].as_str().unwrap()).collect();
    told.push(keys["option"].as_str().unwrap());
    told.sort_unstable();
    assert_eq!(told, ["hive:uuid4", "hive:uuid7", "own"]);
    let shown = folder.ok(&["results", "latest"]).split_whitespace().collect::<Vec<_>>().join(" ");
    for part in
        [" Keys, told by computed.database.needed.plain", " @hive:uuid7 ", " as declared ", " on disk ", " loaded in ", "On sqlite "]
    {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    // Everything else that a need may do, over every type; answers are compared row by row.
    for contest in ["one", "some", "missing", "all", "states"] {
        let checked = folder.kampf(&["check", contest, "--keys", "hive:text,*:uuid4,*:uuid7,keeper:uuid4"]);
        assert_eq!(checked.status, 0, "{} {}", checked.stdout, checked.stderr);
        let shown = folder.ok(&["show", contest, "--keys", "hive:text,*:uuid4,*:uuid7,keeper:uuid4", "--format", "json"]);
        let count = |word: &str| shown.matches(&format!("{word}\"")).count();
        assert!(count("@all:uuid4") >= 2 && count("@hive:text") >= 2 && checked.stdout.contains("contenders give this answer"), "{shown}");
    }
    // Every combination there is.
    folder.ok(&[
        "check",
        "one",
        "some",
        "all",
        "--all",
        "--only",
        "*+built@hive:uuid4",
        "--only",
        "*+chunks:70@hive:uuid4",
        "--keys",
        "hive:uuid4",
        "-q",
    ]);
}

#[test]
fn the_example_of_the_docs_is_one() {
    let folder = Folder::empty();
    folder.write("apiary.sql", include_str!("../../../../docs/examples/keys/apiary.sql"));
    folder.write("kampf.toml", include_str!("../../../../docs/examples/keys/kampf.toml").replace("hive = 100_000", "hive = 40"));
    let checked = folder.ok(&["check", "-q"]);
    assert_eq!(checked.matches("contenders give this answer").count(), 3, "{checked}");
}

#[test]
fn a_pair_and_a_trace_are_told_of_other_keys() {
    let folder = apiary("");
    let pair = "computed.database.needed.plain,computed.database.needed.plain@keeper:text";
    let paired = json(&folder.ok(&[
        "race",
        "some",
        "--pair",
        "lazy.database.all.plain,lazy.database.all.plain@keeper:text",
        "--format",
        "json",
        "-q",
        "--time",
        "3s",
    ]));
    assert_eq!(names(&paired, 0).len(), 2, "{paired}");
    assert!(folder.error(&["race", "missing", "--pair", pair, "--time", "2s"], 2).contains("no contender"));
    let traced = folder.ok(&["trace", "one", "computed.database.needed.plain@hive:uuid7"]);
    assert!(traced.contains("WHERE \"hive\".\"id\" = ?1") && traced.contains("sqlite_autoindex_hive_1"), "{traced}");
    let plans = folder.ok(&["show", "one", "--plan", "--keys", "hive:uuid7", "--only", "computed.database.needed.plain*"]);
    assert!(plans.contains("computed.database.needed.plain@hive:uuid7") && plans.contains("sqlite_autoindex_hive_1"), "{plans}");
}

#[test]
fn tables_of_odd_names_are_found_by_their_words() {
    let folder = Folder::empty();
    folder.write(
        "odd.sql",
        "CREATE TABLE \"guest list\" (\"the id\" INTEGER PRIMARY KEY, \"e-mail\" TEXT NOT NULL);
         CREATE TABLE \"1st\" (id INTEGER PRIMARY KEY, \"guest of\" INTEGER NOT NULL REFERENCES \"guest list\" (\"the id\"));
         CREATE TABLE guest_list (id INTEGER PRIMARY KEY);",
    );
    folder.write(
        "kampf.toml",
        "schema = \"odd.sql\"\n[contest.guests]\nfrom = \"1st\"\ngive = [\"id\", '\"guest of\"']\nwhere = '\"guest of\" = :guest'\n\
         keys = [\"guest list:text\", \"1st:uuid7\"]\n[contest.guests.parameters]\nguest = 'any(\"guest list\".\"the id\")'\n",
    );
    let shown = folder.ok(&["show", "guests"]);
    assert!(shown.contains("@guest_list_2:text") && shown.contains("@t1st:uuid7"), "{shown}");
    let traced = folder.ok(&["trace", "guests", "database.needed.plain@guest_list_2:text"]);
    assert!(traced.contains("\"guest of\""), "{traced}");
    assert!(folder.ok(&["check", "-q"]).contains("contenders give this answer"));
    assert!(folder.ok(&["fill", "--keys", "guest_list"]).contains("@guest_list:uuid7"), "a whole name comes first");
}

#[test]
fn each_type_is_filled_and_shown_with_what_it_takes() {
    let folder = apiary("");
    let filled = folder.kampf(&["fill", "--keys", "hive"]);
    assert_eq!(filled.status, 0, "{}", filled.stderr);
    for part in ["as declared: integer", "@hive:uuid4", "@hive:uuid7", "loaded in", "table and indexes", "visit"] {
        assert!(filled.stdout.contains(part), "{part}: {}", filled.stdout);
    }
    assert!(!filled.stdout.contains("strain"), "nothing of that table changes: {}", filled.stdout);
    let record = json(&folder.ok(&["fill", "--keys", "keeper", "--format", "json", "-q"]));
    let variants = record["variants"].as_array().unwrap();
    let named: Vec<&str> = variants.iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(named, ["keeper:uuid4", "keeper:uuid7", "keeper:text"]);
    // Tables without such keys hold the same content.
    let digest = |record: &Json, table: &str| {
        let found = record["tables"].as_array().unwrap().iter().find(|one| one["name"] == table).unwrap();
        found["digest"].clone()
    };
    for variant in variants {
        assert_eq!(digest(variant, "hive"), digest(&record, "hive"));
        assert_ne!(digest(variant, "care"), digest(&record, "care"));
    }
    let again = folder.kampf(&["fill", "--keys", "keeper,hive"]);
    assert!(!again.stderr.contains("filled"), "all is there: {}", again.stderr);
    // Loads that were not timed together are not compared: it is said when each was.
    assert!(filled.stdout.lines().any(|line| line.starts_with("@hive:uuid4") && !line.contains("ago")), "{}", filled.stdout);
    let file = folder.datasets().remove(0).join("dataset.json");
    let mut record = json(&std::fs::read_to_string(&file).unwrap());
    let of_hive = |one: &&mut Json| one["name"].as_str().is_some_and(|name| name.starts_with("hive:"));
    for one in record["variants"].as_array_mut().unwrap().iter_mut().filter(|one| of_hive(one)) {
        one["timed"] = (one["timed"].as_u64().unwrap() - 7_200).into();
    }
    std::fs::write(&file, record.to_string()).unwrap();
    let later = folder.ok(&["fill", "--keys", "keeper,hive"]);
    let of = |name: &str| later.lines().find(|line| line.starts_with(name)).map(|line| line.trim_end().to_owned()).unwrap();
    assert!(of("@hive:uuid4").ends_with(" 2 h ago") && of("@keeper:text").ends_with(" just now"), "{later}");
    // Those of all tables that can change; the others are said.
    let all = folder.kampf(&["fill", "--keys", "*:uuid7"]);
    assert!(all.stdout.contains("keys of keeper and hive are uuids of version 7"), "{}", all.stdout);
    assert!(all.stderr.contains("the primary key of `strain`, `code`, is a natural one"), "{}", all.stderr);
    assert!(all.stderr.contains("the primary key of `care` is of several columns"), "{}", all.stderr);
    let plain = folder.ok(&["fill"]);
    assert!(!plain.contains("uuid"), "{plain}");
}

#[test]
fn the_statements_of_a_variant_are_shown_and_the_database_takes_them() {
    let folder = apiary("");
    let plain = folder.ok(&["show", "--ddl"]);
    assert!(plain.contains("CREATE TABLE \"hive\" (\n  \"id\" INTEGER NOT NULL"), "{plain}");
    let keyed = folder.ok(&["show", "--ddl", "@hive:uuid7"]);
    assert!(keyed.contains("CREATE TABLE \"hive\" (\n  \"id\" BLOB NOT NULL") && keyed.contains("CREATE INDEX \"care_keeper\""), "{keyed}");
    assert_eq!(keyed.matches("\"hive_id\" BLOB NOT NULL").count(), 2, "{keyed}");
    let text = folder.ok(&["show", "--ddl", "@hive:text", "--engine", "postgres"]);
    assert!(text.contains("\"hive_id\" varchar(36) COLLATE \"C\" NOT NULL"), "{text}");
    let uuid = folder.ok(&["show", "--ddl", "hive:uuid4", "--engine", "postgres"]);
    assert!(uuid.contains("\"id\" uuid NOT NULL"), "{uuid}");
    let file = rusqlite::Connection::open_in_memory().unwrap();
    file.execute_batch(&keyed).unwrap();
    assert!(folder.error(&["show", "--ddl", "@hive:guid"], 2).contains("`guid` is not a type that keys can be made of"));
    assert!(folder.error(&["show", "--ddl", "@by_hive"], 2).contains("there is no variant `by_hive`"));
}

#[test]
fn what_cannot_be_raced_over_other_keys_is_said_before_anything_is_filled() {
    let folder = apiary("");
    for (arguments, expected) in [
        (&["race", "one", "--keys", "care"][..], "the primary key of `care` is of several columns"),
        (&["race", "one", "--keys", "strain"], "the primary key of `strain`, `code`, is a natural one"),
        (&["fill", "--keys", "hyve"], "there is no table `hyve`\n  did you mean `hive`?"),
        (&["check", "--keys", "hive:uuid5"], "`uuid5` is not a type that keys can be made of\n  did you mean `uuid4`?"),
        (&["fill", "--keys", "hive", "--preview", "hive"], "cannot be used with"),
    ] {
        let said = folder.error(arguments, 2);
        assert!(said.contains(expected), "{arguments:?}: {said}");
    }
    for (line, place, expected) in [
        ("[keys]\ncare = [\"text\"]", "kampf.toml:", "the primary key of `care` is of several columns"),
        ("[keys]\nhive = [\"guid\"]", "kampf.toml:", "`guid` is not a type that keys can be made of"),
        ("[keys]\nhive = \"text\"", "kampf.toml:", "a list of texts"),
    ] {
        let own = apiary("");
        own.write("kampf.toml", PROJECT.replace("[keys]\nhive = [\"uuid4\", \"uuid7\"]", line));
        let said = own.error(&["show"], 2);
        assert!(said.contains(place) && said.contains(expected), "{line}: {said}");
    }
    // A rule in which the value of a key counts.
    let own = apiary("");
    own.write("apiary.sql", SCHEMA.replace("minutes > 0", "minutes > 0 AND hive_id < 1000000"));
    let said = own.error(&["fill", "--keys", "hive:text"], 2);
    assert!(said.contains("of `visit` asks which of two keys is the larger one, so that the keys stay as they are"), "{said}");
    assert!(own.datasets().is_empty() && folder.datasets().is_empty(), "nothing was filled");
    // Needs in which it counts are raced on the plain schema alone, and it is said why.
    for (need, why) in [
        ("give = [\"label\"]\norder = [\"id desc\"]", "`id` sorts by a key"),
        ("give = [\"label\"]\nwhere = \"id > 7\"", "`id > 7` asks which of two keys is the larger one"),
        ("give = [\"label\"]\nwhere = \"id = 7\"", "`id = 7` compares a key with something that is none"),
        ("give = [\"id * 2 as twice\"]", "computes with a key"),
        ("give = [\"max(care.keeper_id) as last\"]", "`max(care.keeper_id)` computes with a key"),
    ] {
        let own = apiary(&format!("\n[contest.value]\nfrom = \"hive\"\n{need}\n"));
        let shown = own.ok(&["show", "value", "--keys", "*:uuid7"]);
        let said = shown.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains("not raced over @all:uuid7: ") && said.contains(why), "{why}: {shown}");
        assert!(!shown.contains("plain@all:uuid7"), "{shown}");
    }
    let shown = folder.ok(&["show", "one", "--keys", "hive:integer"]);
    assert!(shown.contains("keys of hive are integer as the schema has them"), "{shown}");
    let own = apiary("\n[contest.names]\nfrom = \"strain\"\ngive = [\"name\"]\nkeys = [\"keeper:uuid4\"]\n");
    let shown = own.ok(&["show", "names"]);
    assert!(shown.contains("not raced over @keeper:uuid4: no such key is in the tables that it reads"), "{shown}");
}

#[test]
fn a_program_that_answers_with_other_keys_is_found_out() {
    // What somebody wrote for numbers runs on the other keys as well, where it is asked to.
    let own = "\n[contest.one.contender.mine]\nsql = \"SELECT id, label, (SELECT count(*) FROM care WHERE hive_id = hive.id) FROM hive WHERE id = :hive\"\n\
               [contest.one.contender.wrong]\nsql = \"SELECT (SELECT min(id) FROM hive), label, (SELECT count(*) FROM care WHERE hive_id = hive.id) FROM hive WHERE id = :hive\"\n";
    let folder = apiary(own);
    let arguments = ["check", "one", "--all", "--only", "mine*", "--only", "wrong*", "--keys", "hive:uuid7", "--format", "json"];
    let ended = folder.kampf(&arguments);
    let checked = json(&ended.stdout);
    let outcome = |name: &str| {
        let contest = &checked["contests"][0];
        let all = contest["contenders"].as_array().unwrap_or_else(|| panic!("{checked}"));
        all.iter().find(|one| one["name"] == name).unwrap_or_else(|| panic!("{name}: {checked}"))["agrees"].as_bool()
    };
    assert_eq!((outcome("mine"), outcome("mine@hive:uuid7")), (Some(true), Some(true)), "{checked}");
    assert_eq!(outcome("wrong@hive:uuid7"), Some(false), "{checked}");
}

#[test]
fn keys_of_other_types_are_raced_on_postgresql_too() {
    if !installed() {
        return;
    }
    let folder = apiary("");
    let checked = folder.kampf(&["check", "--keys", "*", "--engine", "postgres", "-q"]);
    assert_eq!(checked.status, 0, "{} {}", checked.stdout, checked.stderr);
    let raced = folder.ok(&["race", "one", "--keys", "hive", "--engine", "all", "-q", "--rounds", "2", "--time", "2s"]);
    let said = raced.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(said.contains("one side by side") && said.contains("On sqlite ") && said.contains("On postgres "), "{raced}");
    // A schema that has uuids already is raced with numbers, on both engines.
    folder.write(
        "apiary.sql",
        SCHEMA.replace("id INTEGER PRIMARY KEY,\n  strain", "id UUID PRIMARY KEY,\n  strain").replace("hive_id INTEGER", "hive_id UUID"),
    );
    let filled = folder.ok(&["fill", "--keys", "hive:integer,hive:uuid7,hive:text", "--engine", "postgres", "-q"]);
    assert!(filled.contains("as declared: uuid") && filled.contains("@hive:integer") && filled.contains("@hive:text"), "{filled}");
    folder.ok(&["check", "one", "some", "--keys", "hive:integer,hive:uuid7", "--engine", "all", "-q"]);
    folder.ok(&["fill", "--remove", "-q"]);
}
