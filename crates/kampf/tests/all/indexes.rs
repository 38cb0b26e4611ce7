//! Variants: the same rows under other indexes, from kampf.toml to the verdict, and mistakes in saying what they are.

use crate::common::{Folder, installed, json};
use serde_json::Value as Json;

const SCHEMA: &str = "\
CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL, open BOOLEAN NOT NULL);
CREATE TABLE inspection (
  id INTEGER PRIMARY KEY,
  hive_id INTEGER NOT NULL REFERENCES hive (id),
  inspected_at TIMESTAMP NOT NULL,
  temper INTEGER,
  remarks TEXT NOT NULL
);
CREATE INDEX inspection_at ON inspection (inspected_at);
";

const PROJECT: &str = "\
schema = \"apiary.sql\"
seed = 3

[rows]
hive = 300
inspection = \"20 per hive\"

[index.by_hive]
on = \"inspection(hive_id, inspected_at desc)\"

[contest.last]
from = \"inspection\"
give = [\"inspected_at\", \"temper\"]
where = \"hive_id = :hive\"
order = [\"inspected_at desc\"]
limit = 5

[contest.last.parameters]
hive = \"any(hive.id)\"

[contest.open]
from = \"hive\"
give = [\"label\"]
where = \"open = :open\"

[contest.open.parameters]
open = true
";

fn apiary(more: &str) -> Folder {
    let folder = Folder::empty();
    folder.write("apiary.sql", SCHEMA);
    folder.write("kampf.toml", format!("{PROJECT}{more}"));
    folder
}

fn names(document: &Json) -> Vec<&str> {
    document["contests"][0]["contenders"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect()
}

/// The files of variants that lie in the dataset's folder.
fn variants(folder: &Folder) -> Vec<String> {
    let datasets = folder.datasets();
    assert_eq!(datasets.len(), 1, "{datasets:?}");
    let names = std::fs::read_dir(&datasets[0]).unwrap().flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
    names.filter(|name| name.ends_with(".sqlite") && name.matches('.').count() == 2).collect()
}

#[test]
fn an_index_is_raced_as_the_last_step_and_told_with_what_it_costs() {
    let folder = apiary("");
    let raced = json(&folder.ok(&["race", "last", "--index", "by_hive", "--format", "json", "-q", "--rounds", "4", "--time", "4s"]));
    let names = names(&raced);
    assert_eq!(names[0], "database.needed.plain@by_hive", "{names:?}");
    assert!(names.contains(&"app.all.managed@by_hive") && names.contains(&"app.all.managed"), "{names:?}");
    let contest = &raced["contests"][0];
    let last = &contest["mattered"]["ladder"].as_array().unwrap().last().unwrap()["changes"][0];
    assert_eq!((&last["choice"], &last["before"], &last["after"]), (&"index".into(), &"none".into(), &"by_hive".into()));
    let variant = &contest["variant"]["by_hive"];
    assert_eq!(variant["about"], "inspection(hive_id, inspected_at desc)");
    assert_eq!(variant["statements"][0], "CREATE INDEX \"by_hive\" ON \"inspection\" (\"hive_id\", \"inspected_at\" DESC)");
    assert!(variant["bytes"].as_u64().unwrap() > 4096 && variant["seconds"].as_f64().unwrap() > 0.0, "{variant}");
    assert!(variant["changes"][0]["after"].as_str().unwrap().starts_with("looks up in by_hive"), "{variant}");
    let index = contest["verdict"]["by_choice"].as_array().unwrap().iter().find(|one| one["choice"] == "index").unwrap();
    assert_eq!((&index["option"], &index["others"][0]["option"]), (&"by_hive".into(), &"none".into()));
    let shown = folder.ok(&["results", "latest"]);
    assert!(shown.contains("@by_hive  with an index on inspection(hive_id, inspected_at desc) the best takes"), "{shown}");
    assert!(shown.contains("index      none → by_hive"), "{shown}");
    let pair = ["race", "last", "--pair", "database.needed.plain,database.needed.plain@by_hive", "--format", "json", "-q", "--time", "40s"];
    let paired = json(&folder.ok(&pair));
    assert_eq!(paired["contests"][0]["verdict"]["pair"]["finding"], "faster", "{paired}");
    // Everybody on the variant, and nobody on the plain schema.
    folder.write("kampf.toml", folder.read("kampf.toml") + "\n[contest.last.choices]\nindex = [\"by_hive\"]\n");
    let shown = json(&folder.ok(&["show", "last", "--format", "json"]));
    let all = shown["contenders"].as_array().unwrap();
    assert!(all.len() > 4 && all.iter().all(|one| one["name"].as_str().unwrap().ends_with("@by_hive")), "{shown}");
    assert!(folder.ok(&["check", "last", "-q"]).contains("contenders give this answer"));
}

#[test]
fn indexes_are_worked_out_and_those_that_no_plan_uses_are_not_raced() {
    let folder = apiary("");
    let checked = folder.kampf(&["check", "last", "--index", "derived"]);
    assert_eq!(checked.status, 0, "{}", checked.stderr);
    // One of them the file describes already.
    let shown = folder.ok(&["show", "last", "--index", "derived"]);
    assert!(shown.contains("@by_hive  inspection(hive_id, inspected_at desc)"), "{shown}");
    assert!(shown.contains("database.needed.plain@by_hive_id_inspected_at_covering"), "{shown}");
    let other = apiary("");
    other.write("kampf.toml", other.read("kampf.toml").replace("inspected_at desc)", "temper)"));
    let shown = other.ok(&["show", "last", "--index", "derived"]);
    assert!(shown.contains("@by_hive_id_inspected_at  inspection(hive_id, inspected_at desc)"), "{shown}");
    // All hives are open: the whole of a table is read no faster by an index. The key serves what asks for it.
    folder.write(
        "kampf.toml",
        folder.read("kampf.toml").replace("[index.by_hive]", "[values]\n\"hive.open\" = \"pick(true)\"\n\n[index.by_hive]"),
    );
    let checked = folder.kampf(&["check", "open", "--index", "derived"]);
    assert!(checked.stderr.contains("open: not raced, as no plan uses it: an index on hive(open)"), "{}", checked.stderr);
    folder.write("kampf.toml", folder.read("kampf.toml").replace("open = :open", "id = 7 and open = :open"));
    let checked = folder.kampf(&["check", "open", "--index", "derived"]);
    assert!(checked.stdout.contains("contenders give this answer"), "{}", checked.stderr);
}

#[test]
fn plans_are_told_in_words_and_point_out_what_an_index_would_spare() {
    let folder = apiary("");
    let traced = folder.ok(&["trace", "last", "database.needed.plain"]);
    assert!(traced.contains("! an index on inspection(hive_id, inspected_at desc) would"), "{traced}");
    let traced = folder.ok(&["trace", "last", "database.needed.plain@by_hive"]);
    assert!(traced.contains("looks up in by_hive of inspection (hive_id=?)") && !traced.contains("! an index"), "{traced}");
    let own = folder.ok(&["trace", "last", "database.needed.plain@by_hive", "--plan", "engine"]);
    assert!(own.contains("plan: SEARCH inspection USING INDEX by_hive (hive_id=?)"), "{own}");
    // One that was worked out is found by its name.
    let traced = folder.ok(&["trace", "last", "database.needed.plain@by_hive_id_inspected_at_covering", "-q"]);
    assert!(traced.contains("alone (hive_id=?), and in inspection not"), "{traced}");
    let shown = folder.ok(&["show", "last", "--plan", "--only", "*plain*", "--index", "by_hive"]);
    assert!(shown.contains("reads inspection in the order of inspection_at"), "{shown}");
    assert!(shown.contains("looks up in by_hive of inspection"), "{shown}");
    let documents = json(&folder.ok(&["show", "last", "--plan", "--format", "json", "--only", "database.needed.plain"]));
    let plan = &documents["contenders"][0]["query_plans"][0]["plan"];
    let below = plan["steps"][0]["below"].as_array();
    let steps: Vec<&Json> = plan["steps"].as_array().unwrap().iter().chain(below.into_iter().flatten()).collect();
    assert!(steps.iter().any(|step| step["does"] == "read" && step["access"] == "whole-in-order"), "{plan}");
    assert!(plan["own"][0].as_str().unwrap().starts_with("SCAN inspection"), "{plan}");
    assert!(folder.ok(&["fill"]).contains("References without an index: inspection(hive_id)."));
    folder.write(
        "kampf.toml",
        folder.read("kampf.toml") + "\n[contest.visits]\nfrom = \"hive\"\ngive = [\"label\", \"count(inspection) as visits\"]\n",
    );
    let without = "Without an index: inspection(hive_id). `--index derived` tries some.";
    assert!(folder.ok(&["show", "visits"]).contains(without));
    let shown = json(&folder.ok(&["show", "visits", "--format", "json"]));
    let traced = folder.ok(&["trace", "visits", shown["contenders"][0]["name"].as_str().unwrap(), "-q"]);
    assert!(traced.contains(without), "{traced}");
}

#[test]
fn a_fill_lists_variants_and_they_make_room_for_each_other() {
    let folder = apiary("\n[index.bare]\nwithout = [\"inspection_at\"]\n\n[keep]\nvariants = 0\n");
    let filled = folder.ok(&["fill"]);
    assert!(filled.contains("by_hive  inspection(hive_id, inspected_at desc)"), "{filled}");
    assert!(filled.contains("without inspection(inspected_at)"), "{filled}");
    let known = json(&folder.ok(&["fill", "--format", "json"]));
    assert_eq!((&known["reused"], known["variants"].as_array().unwrap().len()), (&true.into(), 2));
    let tables = |of: &Json| -> Vec<String> { of["tables"].as_array().unwrap().iter().map(|table| table["digest"].to_string()).collect() };
    assert_eq!(tables(&known), tables(&known["variants"][0]), "the rows are the same");
    let before = variants(&folder);
    assert_eq!(before.len(), 2);
    // Other indexes are another variant; the dataset stays.
    folder.write("kampf.toml", folder.read("kampf.toml").replace("inspected_at desc)", "temper)"));
    let known = json(&folder.ok(&["fill", "--format", "json"]));
    assert_eq!((&known["reused"], known["variants"].as_array().unwrap().len()), (&true.into(), 2));
    let after = variants(&folder);
    assert_eq!((after.len(), after.iter().filter(|name| before.contains(name)).count()), (2, 1), "{before:?} {after:?}");
    // A variant that somebody has changed is made anew, and nothing else is.
    let file = folder.datasets()[0].join(&after[0]);
    let bytes = std::fs::read(&file).unwrap();
    std::fs::remove_file(&file).unwrap();
    std::fs::write(&file, &bytes[..bytes.len() / 2]).unwrap();
    assert!(folder.ok(&["check", "last", "-q", "--index", "by_hive,bare"]).contains("contenders give this answer"));
    assert_eq!(std::fs::metadata(&file).unwrap().len(), bytes.len() as u64);
    folder.ok(&["fill", "--remove", "-q"]);
    assert!(folder.datasets().is_empty());
}

#[test]
fn own_sql_runs_on_variants_where_all_do() {
    let folder = apiary(
        "\n[contest.last.contender.mine]\nsql = \"select inspected_at, temper from inspection where hive_id = :hive order by inspected_at desc, id desc limit 5\"\n",
    );
    let shown = |more: &[&str]| json(&folder.ok(&[&["show", "last", "--format", "json", "--index", "by_hive"], more].concat()));
    let is_own = |document: &Json, name: &str| document["contenders"].as_array().unwrap().iter().any(|one| one["name"] == name);
    assert!(is_own(&shown(&[]), "mine") && !is_own(&shown(&[]), "mine@by_hive"));
    assert!(is_own(&shown(&["--all"]), "mine@by_hive"));
    let checked = folder.ok(&["check", "last", "-q", "--all", "--index", "by_hive", "--only", "mine*", "--only", "*raw@by_hive"]);
    assert!(checked.contains("all 4 contenders give this answer"), "{checked}");
}

#[test]
fn mistakes_are_said_before_anything_is_loaded() {
    let cases = [
        ("on = \"inspction(hive_id)\"", "there is no table `inspction`", "did you mean `inspection`?"),
        ("on = \"inspection(hve_id)\"", "table `inspection` has no column `hve_id`", "did you mean `hive_id`?"),
        ("on = \"inspection\"", "expected the columns in parentheses", ""),
        ("on = \"inspection(hive_id\"", "lacks its other half", ""),
        ("on = \"inspection(risk(temper))\"", "the function risk is not known here", ""),
        ("on = \"inspection(hive_id)\"\nkind = \"hash\"", "sqlite has no hash indexes", ""),
        ("on = \"inspection(hive_id)\"\nkind = \"rtree\"", "`rtree` is not a kind of index", "\"hash\""),
        ("on = \"inspection(hive_id)\"\ninclude = [\"temper\"]", "holds no columns besides those that it is sorted by", ""),
        ("on = \"inspection(hive_id)\"\nwhere = \"temper >\"", "cannot be read", ""),
        ("on = \"inspection(temper nulls last)\"", "has nulls where they come in order", ""),
        ("without = [\"inspection_time\"]", "the schema declares no index `inspection_time`", "inspection_at"),
        ("unique = true", "neither adds an index nor takes one away", "without"),
        ("on = [\"hive(label)\", \"inspection(temper)\"]\nwhere = \"temper > 1\"", "are said of one index", ""),
    ];
    for (lines, message, hint) in cases {
        let folder = apiary(&format!("\n[index.odd]\n{lines}\n"));
        let error = folder.error(&["race", "last", "--index", "odd"], 2);
        assert!(error.contains(message) && error.contains(hint), "{lines}: {error}");
        assert!(error.contains("kampf.toml:") && folder.datasets().is_empty(), "{lines}: {error}");
    }
    for name in ["none", "derived", "by-hive", "1st"] {
        let error = apiary(&format!("\n[index.{name}]\non = \"hive(label)\"\n")).error(&["show", "last"], 2);
        assert!(error.contains("letters, digits and underscores"), "{name}: {error}");
    }
    let named = "\n[contest.last.contender.\"mine@home\"]\nsql = \"select 1\"\n";
    assert!(apiary(named).error(&["show", "last"], 2).contains("without points and at signs"));
    let folder = apiary("");
    let error = folder.error(&["race", "last", "--index", "by_hve"], 2);
    assert!(error.contains("there is no variant `by_hve`") && error.contains("did you mean `by_hive`?"), "{error}");
    folder.write("kampf.toml", folder.read("kampf.toml").replace("limit = 5", "limit = 5\nindex = [\"other\"]"));
    assert!(folder.error(&["race", "last"], 2).contains("at kampf.toml:"));
}

#[test]
fn a_unique_index_that_the_rows_do_not_keep_harms_nothing() {
    let folder = apiary("\n[index.odd]\non = \"inspection(temper)\"\nunique = true\n");
    folder.ok(&["check", "last", "-q", "--index", "by_hive"]);
    let before = variants(&folder);
    let error = folder.error(&["race", "last", "--index", "odd,by_hive"], 2);
    assert!(error.contains("leave out `unique` under [index.odd]"), "{error}");
    assert_eq!(variants(&folder), before);
    let known = json(&folder.ok(&["check", "last", "--index", "by_hive", "--format", "json"]));
    assert_eq!(known["contests"][0]["contenders"][0]["agrees"], true);
    assert_eq!(variants(&folder), before, "what was loaded before is used again");
}

#[test]
fn a_kampf_that_is_killed_while_it_loads_a_variant_leaves_nothing_that_is_taken_for_whole() {
    let folder = apiary("");
    folder.ok(&["check", "last", "-q"]);
    for point in ["tables-made", "rows-go-in", "indexes-begin", "committed"] {
        let killed = folder.command(&["check", "last", "-q", "--index", "by_hive"]).env("KAMPF_FAULT", format!("{point}=kill")).output();
        assert_eq!(killed.unwrap().status.code(), None, "{point}");
        assert_eq!(variants(&folder).len(), 1, "{point}: half of one lies there");
    }
    assert!(folder.ok(&["check", "last", "-q", "--index", "by_hive"]).contains("contenders give this answer"));
    let known = json(&folder.ok(&["fill", "--format", "json"]));
    assert_eq!((&known["reused"], known["variants"].as_array().unwrap().len()), (&true.into(), 1));
}

#[test]
fn an_index_that_the_engine_refuses_is_left_out_or_an_error_and_harms_nothing() {
    if !installed() {
        return;
    }
    // A number joined to a text may look otherwise in another session, so PostgreSQL sorts by no such thing; long texts fit no index.
    let folder = apiary("\n[index.joined]\non = \"inspection((temper || remarks))\"\n");
    folder.write("apiary.sql", format!("{SCHEMA}CREATE INDEX told ON inspection (id, (temper || remarks));"));
    let text =
        folder.read("kampf.toml").replace("[index.by_hive]", "[values]\n\"inspection.remarks\" = \"text(9000..9500)\"\n\n[index.by_hive]");
    folder.write("kampf.toml", text.replace("\"20 per hive\"", "1_200").replace("\"temper\"]", "\"remarks\"]"));
    let on = ["--engine", "postgres"];
    let checked = folder.kampf(&[&["check", "last"][..], &on].concat());
    assert!(checked.stderr.contains("the index `told` is left out: PostgreSQL says: "), "{}", checked.stderr);
    let error = folder.error(&[&["check", "last", "--index", "joined", "-q"][..], &on].concat(), 2);
    assert!(error.contains("[index.joined] cannot be made: PostgreSQL says: "), "{error}");
    let checked = folder.kampf(&[&["check", "last", "--index", "derived"][..], &on].concat());
    assert!(checked.stderr.contains("not raced: [index.by_hive_id_inspected_at_covering] cannot be made"), "{}", checked.stderr);
    assert!(checked.stdout.contains("contenders give this answer"), "{}", checked.stdout);
    folder.ok(&[&["fill", "--remove", "-q"][..], &on].concat());
}

#[test]
fn variants_are_databases_of_one_server_on_postgresql() {
    if !installed() {
        return;
    }
    let folder = apiary(
        "\n[index.by_hash]\non = \"inspection(hive_id)\"\nkind = \"hash\"\n\n[index.held]\non = \"inspection(hive_id)\"\ninclude = [\"temper\"]\nwhere = \"temper > 0\"\n",
    );
    let filled = folder.ok(&["fill", "--engine", "postgres"]);
    assert!(filled.contains("inspection(hive_id) by hash") && filled.contains("inspection(hive_id) with temper of some rows"), "{filled}");
    let again = json(&folder.ok(&["fill", "--engine", "postgres", "--format", "json"]));
    assert_eq!((&again["reused"], again["variants"].as_array().unwrap().len()), (&true.into(), 3));
    let raced = folder.ok(&[
        "race",
        "last",
        "--engine",
        "postgres",
        "--index",
        "by_hash,derived",
        "-q",
        "--rounds",
        "3",
        "--round-trip",
        "0,1ms",
        "--only",
        "*needed.plain*",
        "--format",
        "json",
    ]);
    let raced = json(&raced);
    let names = names(&raced);
    assert!(names.contains(&"database.needed.plain@by_hash") && names.contains(&"database.needed.plain"), "{names:?}");
    assert!(names.iter().any(|name| name.starts_with("database.needed.plain@by_hive")), "{names:?}");
    for contest in raced["contests"].as_array().unwrap() {
        let all = contest["contenders"].as_array().unwrap();
        assert!(all.iter().all(|one| !["failed", "disagrees"].contains(&one["outcome"].as_str().unwrap())), "{raced}");
        let hashed = &contest["variant"]["by_hash"];
        assert!(hashed["changes"][0]["after"].as_str().unwrap().starts_with("looks up in by_hash"), "{hashed}");
    }
    // A table of a few pages is read as fast as an index.
    let checked = folder.kampf(&["check", "open", "--index", "derived", "--engine", "postgres"]);
    assert!(checked.stderr.contains("open: not raced, as no plan uses it: an index on hive(open)"), "{}", checked.stderr);
    let traced = folder.ok(&["trace", "last", "database.needed.plain", "--engine", "postgres"]);
    assert!(traced.contains("! an index on inspection(hive_id, inspected_at desc) would"), "{traced}");
    // Of those of one server's datasets one that fails leaves the others.
    folder.write("kampf.toml", folder.read("kampf.toml") + "\n[index.odd]\non = \"inspection(temper)\"\nunique = true\n");
    let error = folder.error(&["check", "last", "--engine", "postgres", "--index", "odd"], 2);
    assert!(error.contains("leave out `unique` under [index.odd]"), "{error}");
    folder.write("kampf.toml", folder.read("kampf.toml").replace("unique = true", ""));
    let again = json(&folder.ok(&["check", "last", "--engine", "postgres", "--index", "by_hash", "--format", "json"]));
    assert_eq!(again["contests"][0]["contenders"][0]["agrees"], true);
    folder.ok(&["fill", "--remove", "-q", "--engine", "postgres"]);
}
