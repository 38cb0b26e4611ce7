//! The race tested by itself, and the options that steer it.

use crate::common::Folder;
use serde_json::{Value as Json, json};

fn large() -> Folder {
    let folder = Folder::apiary("");
    folder.write("kampf.toml", folder.read("kampf.toml").replace("\"6 per hive\"", "8_000"));
    folder
}

#[test]
fn equals_and_planted_differences_are_raced_and_told() {
    let folder = large();
    let ended = folder.kampf(&["race", "--self-test", "--races", "1", "--time", "2s", "--rounds", "20", "--format", "json"]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    let report: Json = serde_json::from_str(&ended.stdout).unwrap();
    assert_eq!(
        (&report["format"], &report["equals"]["names"], &report["equals"]["races"]),
        (&json!("kampf-self-test"), &json!(12), &json!(1))
    );
    assert!(report["equals"]["rounds"][0].as_u64().unwrap() >= 1);
    assert_eq!(report["planted"]["table"], "inspection");
    let differences = report["planted"]["differences"].as_array().unwrap();
    assert_eq!(differences.len(), 3);
    for (difference, rows) in differences.iter().zip([1.05, 1.1, 1.3]) {
        // The database's own counter says what was planted.
        let work = difference["work"].as_f64().unwrap();
        assert!((work / rows - 1.0).abs() < 0.01, "{difference}");
        assert!(difference["found"].as_u64().unwrap() <= 1);
    }
    assert!(ended.stderr.contains("equals, race 1 of 1:") && ended.stderr.contains("planted, race 1 of 1:"), "{}", ended.stderr);
    let text = folder.ok(&["race", "--self-test", "--races", "1", "--time", "1s", "--rounds", "2", "-q"]);
    for says in [
        "Are equals told apart?",
        "computed.database.needed.raw of calm was entered under 12 names",
        "Are differences found?",
        "virtual machine",
    ] {
        assert!(text.contains(says), "{says}: {text}");
    }
    // So it does while a load comes and goes, which ends with it.
    let disturbed = folder.ok(&["race", "--self-test", "--disturbed", "--races", "1", "--time", "1s", "--rounds", "2", "-q"]);
    assert!(disturbed.contains("Are differences found?"), "{disturbed}");
    assert_eq!(folder.kampf(&["race", "--disturbed"]).status, 2, "it is a part of the self-test");
    // It saves nothing: there is no result.
    assert!(!folder.path().join(".kampf/results").exists());
}

#[test]
fn a_table_with_too_few_rows_has_nothing_planted_and_wrong_uses_are_refused() {
    let folder = Folder::apiary("");
    let text = folder.ok(&["race", "--self-test", "--races", "1", "--time", "1s", "--rounds", "1", "-q"]);
    assert!(text.contains("No differences were planted"), "{text}");
    assert!(folder.error(&["race", "--self-test", "--engine", "all"], 2).contains("runs on one engine"));
    assert_eq!(folder.kampf(&["race", "--races", "3"]).status, 2);
    assert_eq!(folder.kampf(&["race", "--self-test", "--exact"]).status, 2);
}

/// A race of two of the user's, one of which reads a hundred times as much.
fn two(more: &[&str]) -> Json {
    let folder = large();
    let toml = folder.read("kampf.toml");
    let toml = toml.split("[contest.").next().unwrap();
    folder.write(
        "kampf.toml",
        format!(
            "{toml}[contest.sums.contender.few]\nsql = \"select sum(temper) * 0 from (select temper from inspection limit 80) as some\"\n\
             [contest.sums.contender.many]\nsql = \"select sum(temper) * 0 from inspection\"\n"
        ),
    );
    let arguments: Vec<&str> = ["race", "--format", "json", "-q"].iter().chain(more).copied().collect();
    let ended = folder.kampf(&arguments);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    serde_json::from_str(&ended.stdout).unwrap()
}

#[test]
fn a_race_ends_when_it_is_decided() {
    let document = two(&["--exact", "--seed", "77", "--margin", "3%", "--time", "10s"]);
    let contest = &document["contests"][0];
    let race = &contest["race"];
    assert_eq!((&race["exact"], &race["seed"], &race["margin"]), (&json!(true), &json!(77), &json!(0.03)));
    assert_eq!((&contest["verdict"]["decided"], &contest["verdict"]["choose"]), (&json!(true), &json!("few")));
    // Nobody was dropped.
    let rounds = race["rounds"].as_u64().unwrap();
    assert!((8..=400).contains(&rounds), "{rounds}");
    for contender in contest["contenders"].as_array().unwrap() {
        assert_eq!(contender["rounds"].as_array().unwrap().len() as u64, rounds);
    }
    assert_eq!(race["reference_loop_ns"].as_array().unwrap().len() as u64, rounds + 1);
    // Without --exact the slow one does not run to the end: it is outclassed, in the check or soon after, or told to be slower.
    let document = two(&["--time", "60s"]);
    let many = &document["contests"][0]["contenders"][1];
    assert_eq!(document["contests"][0]["verdict"]["choose"], "few", "a few characters less are no reason to be many times as slow");
    assert_eq!(many["name"], "many");
    assert!(many["outcome"] == "outclassed" || many["outcome"] == "slower", "{many}");
    assert_eq!(many["left"]["leader"], "few");
    assert_eq!(many["in_check_ns"].is_f64(), many["left"]["round"] == 0, "{many}");
}
