//! What the commands say around a verdict: pairs, empty answers, shares of rows, times that are too short, words, strict comparisons.

use crate::common::{Folder, json};
use serde_json::Value as Json;

fn words(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn two_contenders_race_alone_until_their_difference_is_known() {
    let folder = Folder::apiary(
        "[contest.calm.contender.stack-1]\nsql = \"select label from hive order by id limit 10\"\n\
         [contest.calm.contender.stack-2]\nsql = \"select label from hive order by id limit 10\"\n",
    );
    // Of contests that were not named those that know both are raced; here a contest without a need knows only its own.
    let own = "[contest.own]\n[contest.own.contender.stack-1]\nsql = \"select sum(temper) from inspection\"\n\
               [contest.own.contender.stack-2]\nsql = \"select sum(temper) from inspection\"\n\
               [contest.other]\n[contest.other.contender.a]\nsql = \"select 1\"\n[contest.other.contender.b]\nsql = \"select 1\"\n";
    let toml = folder.read("kampf.toml");
    folder.write("kampf.toml", format!("{}{own}", toml.split("[contest.calm]").next().unwrap()));
    let ended = folder.kampf(&["race", "--pair", "stack-1,stack-2", "--rounds", "12", "--margin", "50%", "--time", "20s"]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    let text = words(&ended.stdout);
    assert!(text.starts_with("stack-2 against stack-1 contest stack-1 stack-2 difference"), "{text}");
    assert!(
        text.contains("own") && (text.contains("stack-2 is the same in 1 contest.") || text.contains("stack-2 is open in 1 contest.")),
        "{text}"
    );
    assert!(ended.stderr.contains("other: there is no contender `stack-1`, so it is left out"), "{}", ended.stderr);
    let saved = folder.ok(&["results", "--format", "json"]);
    let pair = &json(&saved)["results"][0]["contests"][0]["verdict"]["pair"];
    assert_eq!((&pair["old"], &pair["new"]), (&Json::from("stack-1"), &Json::from("stack-2")));
    let again = json(&saved)["results"][0]["file"].as_str().unwrap().to_owned();
    assert_eq!(folder.ok(&["results", &again]), ended.stdout, "a result is shown again as it was");
    for (arguments, says) in [
        (&["race", "--pair", "stack-1"][..], "--pair takes two contenders"),
        (&["race", "--pair", "stack-1,nobody"], "no contest has both"),
        (&["race", "--pair", "stack-1,stack-1"], "--pair takes two different contenders"),
        (&["race", "own", "--pair", "stack-1,stack-3"], "`own` has no contender `stack-3`"),
    ] {
        assert!(folder.error(arguments, 2).contains(says), "{says}");
    }
    // Any two of the derived ones, too, whatever is required of them.
    let derived = Folder::apiary("[contest.calm.require]\nstatements = 1\n");
    // A statement a row, each read anew, against one that is kept.
    let pair = "lazy.database.all.plain+built,computed.database.needed.raw";
    let document = json(&derived.ok(&["race", "--pair", pair, "--rounds", "48", "--time", "60s", "--format", "json", "-q"]));
    let contest = &document["contests"][0];
    assert_eq!(contest["contenders"].as_array().unwrap().len(), 2);
    assert_eq!(
        (&contest["verdict"]["pair"]["finding"], &contest["race"]["pair"][0]),
        (&Json::from("faster"), &Json::from("lazy.database.all.plain+built"))
    );
}

#[test]
fn an_answer_that_is_empty_is_pointed_out_with_where_its_columns_lie() {
    let folder = Folder::apiary("");
    let toml = folder.read("kampf.toml");
    folder.write("kampf.toml", toml.replace("limit = 10", "limit = 10\nwhere = \"frames > 500\""));
    let check = folder.ok(&["check", "-q"]);
    assert!(check.contains("! the answer is empty: frames goes from 8 to 24; nothing is above 500"), "{check}");
    assert!(check.contains("The condition takes 0 % of the rows of hive."), "{check}");
    let race = folder.ok(&["race", "-q", "--rounds", "1", "--only", "computed*"]);
    assert!(race.contains("! the answer is empty: frames goes from 8 to 24; nothing is above 500"), "{race}");
    let document = json(&folder.ok(&["check", "-q", "--format", "json"]));
    assert!(document["contests"][0]["warning"].as_str().is_some_and(|text| text.contains("nothing is above 500")));
    // With parameters: none of the drawn ones finds anything.
    let parameters = "limit = 10\nwhere = \"frames = :least and label <> 'x'\"\nparameters = { least = \"100..200\" }";
    folder.write("kampf.toml", toml.replace("limit = 10", parameters));
    let check = folder.ok(&["check", "-q"]);
    assert!(check.contains("the answer is empty with all 8 parameter sets: frames goes from 8 to 24; none is 1"), "{check}");
}

#[test]
fn check_and_show_say_which_share_of_rows_a_condition_takes() {
    let folder = Folder::apiary("");
    let toml = folder.read("kampf.toml");
    let with = |condition: &str| folder.write("kampf.toml", toml.replace("limit = 10", &format!("limit = 10\n{condition}")));
    with("where = \"frames <= 16\"");
    let shown = folder.ok(&["show", "calm"]);
    let share = shown.lines().find(|line| line.starts_with("The condition takes")).unwrap_or_else(|| panic!("{shown}")).to_owned();
    let percent: f64 = share.split(' ').nth(3).unwrap().parse().unwrap();
    // The real share, by the database.
    let rows = folder.ok(&["check", "calm", "--answer", "--format", "json", "-q"]);
    assert!(rows.lines().count() == 10 && (10.0..95.0).contains(&percent), "{share}");
    assert!(folder.ok(&["check", "-q"]).contains(&share));
    with("where = \"count(inspection) > :most\"\nparameters = { most = \"5..7\" }");
    let shown = folder.ok(&["show", "calm", "--format", "json"]);
    let takes = &json(&shown)["condition_takes"];
    assert!(takes["least"].as_f64() < takes["most"].as_f64(), "{takes}");
    assert!(!folder.ok(&["show", "calm", "--words"].map(|word| if word == "calm" { "--quiet" } else { word })).contains("The condition"));
}

#[test]
fn a_time_too_short_for_the_least_rounds_is_said_before_the_race() {
    let folder = Folder::apiary("");
    let ended = folder.kampf(&["race", "--time", "50ms"]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    let said = ended.stderr.find("the least rounds that can decide need about").unwrap_or_else(|| panic!("{}", ended.stderr));
    assert!(said < ended.stderr.find("round 1,").unwrap(), "{}", ended.stderr);
    assert!(!folder.kampf(&["race", "--time", "20s", "--only", "computed*"]).stderr.contains("the least rounds"));
}

#[test]
fn only_keeps_some_of_those_that_enter_and_with_all_of_all() {
    let folder = Folder::apiary("");
    let names = |arguments: &[&str]| {
        let shown = json(&folder.ok(&[&["show", "calm", "--format", "json"], arguments].concat()));
        shown["contenders"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(names(&["--only", "*.plain"]), ["computed.database.all.plain", "computed.database.needed.plain"]);
    assert_eq!(names(&["--all", "--only", "*.plain"]).len(), 20);
    let text = folder.ok(&["show", "calm", "--only", "*.raw", "--only", "lazy.app.all.plain"]);
    assert!(text.contains("--only lazy.app.all.plain fits none of those that enter; with --all it fits 1."), "{text}");
    let error = folder.error(&["show", "calm", "--only", "lazy.app.all.plain"], 2);
    assert!(error.contains("with --all of all"), "{error}");
}

#[test]
fn an_application_that_keeps_nothing_may_take_raw() {
    let folder = Folder::apiary("");
    let leads = |folder: &Folder| {
        let document = json(&folder.ok(&["race", "-q", "--rounds", "2", "--time", "3s", "--only", "*needed*", "--format", "json"]));
        let raw = document["contests"][0]["contenders"]
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["name"] == "computed.database.needed.raw")
            .unwrap()
            .clone();
        (raw["beside"].clone(), document["contests"][0]["verdict"]["leader"].clone())
    };
    let (beside, leader) = leads(&folder);
    assert_eq!(beside, "floor");
    assert_ne!(leader, "computed.database.needed.raw");
    folder.write("kampf.toml", folder.read("kampf.toml") + "keeps = \"nothing\"\n");
    assert_eq!(leads(&folder).0, Json::Null);
    folder.write("kampf.toml", folder.read("kampf.toml").replace("\"nothing\"", "\"everything\""));
    assert!(folder.error(&["show", "calm"], 2).contains("`keeps` is `nothing` or is left out"));
}

#[test]
fn the_words_of_the_ways_are_printed() {
    let folder = Folder::empty();
    let text = folder.ok(&["show", "--words"]);
    assert!(text.contains("\nlazy - a statement for each parent") && text.contains("\nraw - nothing"), "{text}");
    assert!(!["**", "<!--", "|", "](", "##"].iter().any(|mark| text.contains(mark)), "it is for people: {text}");
    assert_eq!(folder.kampf(&["show", "--words", "--relations"]).status, 2);
}

#[test]
fn a_comparison_without_a_verdict_says_so_and_is_strict_where_asked_to_be() {
    let folder = Folder::apiary("");
    for seed in ["1", "2"] {
        folder.ok(&["race", "-q", "--rounds", "1", "--seed", seed, "--only", "computed*"]);
    }
    let listed = json(&folder.ok(&["results", "--format", "json"]));
    let file = |at: usize| listed["results"][at]["file"].as_str().unwrap().to_owned();
    let (old, new) = (file(0), file(1));
    let text = words(&folder.ok(&["compare", &old, &new, "--allow", "100%"]));
    assert!(text.contains("No verdict: of all contenders no time could be told (7 compared; 100 % allowed)."), "{text}");
    assert_eq!(folder.kampf(&["compare", &old, &new, "--allow", "100%", "--strict"]).status, 1);
    let machine = folder.ok(&["compare", &old, &new, "--allow", "100%", "--format", "json"]);
    assert_eq!(json(&machine)["end"], "no verdict");
}
