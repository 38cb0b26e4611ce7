//! Races whose field grows: those that enter differ in one choice from the one that would be taken.

use crate::common::{Folder, json};
use serde_json::Value as Json;

fn names(list: &Json) -> Vec<String> {
    list.as_array().unwrap().iter().map(|name| name.as_str().unwrap().to_owned()).collect()
}

/// The options of a contender by their choices.
fn choices<'a>(contest: &'a Json, name: &str) -> &'a serde_json::Map<String, Json> {
    let contenders = contest["contenders"].as_array().unwrap();
    contenders.iter().find(|one| one["name"] == name).unwrap_or_else(|| panic!("{name} took part"))["choices"].as_object().unwrap()
}

fn differences(contest: &Json, one: &str, other: &str) -> usize {
    let (one, other) = (choices(contest, one), choices(contest, other));
    one.iter().filter(|(choice, option)| other.get(*choice).is_some_and(|other| other != *option)).count()
}

#[test]
fn those_that_differ_in_one_choice_from_the_one_to_take_enter_and_all_is_told_around_it() {
    let folder = Folder::apiary("");
    let ended = folder.kampf(&["race", "calm", "--time", "12s"]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    assert!(ended.stderr.contains("calm: another heat, around "), "{}", ended.stderr);
    let file = folder.read_dir(".kampf/results").remove(0);
    assert_eq!(folder.ok(&["results", &file]), ended.stdout, "a result of several heats is shown again as it was");
    let document = json(&folder.read(&format!(".kampf/results/{file}")));
    let contest = &document["contests"][0];
    assert_eq!(contest["race"]["entrants"], 24);
    let heats = contest["race"]["heats"].as_array().unwrap();
    assert!((1..=2).contains(&heats.len()), "{heats:?}");
    let first = folder.ok(&["show", "calm", "--format", "json"]);
    let first: Vec<String> =
        json(&first)["contenders"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap().to_owned()).collect();
    let mut there = first.clone();
    for heat in heats {
        let anchor = heat["anchor"].as_str().unwrap();
        assert!(there.iter().any(|name| name == anchor), "{anchor} was there before");
        let (members, entered) = (names(&heat["members"]), names(&heat["entered"]));
        assert!((1..=12).contains(&entered.len()) || heat["after"] != heats[0]["after"], "{heat}");
        for name in &entered {
            assert!(!there.contains(name) && members.contains(name), "{name} is new");
        }
        for name in &members {
            assert_eq!(differences(contest, name, anchor), 1, "{name} and {anchor}");
        }
        there.extend(entered);
    }
    // Whoever took part was there in the first heat or entered for one.
    for one in contest["contenders"].as_array().unwrap() {
        assert!(there.iter().any(|name| one["name"] == name.as_str()), "{}", one["name"]);
    }
    // Around the last anchor, or who takes its place when there is no time for another heat.
    let anchor = contest["verdict"]["choose"].as_str().unwrap_or_else(|| heats.last().unwrap()["anchor"].as_str().unwrap());
    for choice in contest["verdict"]["by_choice"].as_array().unwrap() {
        assert_eq!(choice["contender"], anchor);
        for other in choice["others"].as_array().unwrap() {
            let also = other["also"].as_array().map_or(0, Vec::len);
            assert_eq!(differences(contest, other["contender"].as_str().unwrap(), anchor), 1 + also, "{other}");
        }
    }
}

#[test]
fn who_asks_for_certain_contenders_or_for_all_has_one_heat() {
    let folder = Folder::apiary("");
    let race = |more: &[&str]| {
        let arguments = ["race", "calm", "--time", "3s", "--rounds", "12", "--format", "json", "-q"];
        json(&folder.ok(&[&arguments[..], more].concat()))["contests"][0]["race"].clone()
    };
    for more in [&["--only", "*.needed.*"][..], &["--all", "--only", "*.needed.plain"], &["--exact"]] {
        let race = race(more);
        assert!(race["entrants"].is_null() && race["heats"].is_null(), "{more:?}: {race}");
    }
    // A result whose heats cannot be is no result.
    let file = folder.read_dir(".kampf/results").remove(0);
    let document = json(&folder.read(&format!(".kampf/results/{file}")));
    let names: Vec<&str> =
        document["contests"][0]["contenders"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    let heat = |after: usize, anchor: &str, members: &[&str], entered: &[&str]| serde_json::json!({"after": after, "anchor": anchor, "members": members, "entered": entered});
    let [first, second, late] = names[..3] else { panic!("{names:?}") };
    for heats in [
        vec![heat(3, "nobody", &[], &[])],
        vec![heat(3, first, &["nobody"], &[])],
        vec![heat(1_000, first, &[], &[])],
        vec![heat(3, first, &[late], &[late]), heat(4, first, &[late], &[late])],
        vec![heat(4, first, &[], &[]), heat(3, first, &[], &[])],
        // One that enters later can neither be run around nor run before.
        vec![heat(3, late, &[second], &[]), heat(4, first, &[late], &[late])],
        vec![heat(3, first, &[late], &[]), heat(4, first, &[late], &[late])],
    ] {
        let mut odd = document.clone();
        odd["contests"][0]["race"]["heats"] = Json::from(heats);
        folder.write("odd.json", odd.to_string());
        let says = folder.error(&["results", "odd.json"], 2);
        assert!(says.contains("the heats of `calm` cannot be right"), "{odd}: {says}");
    }
}
