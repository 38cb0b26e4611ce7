//! Results: what is saved, shown again, listed and compared.

use std::path::PathBuf;

use crate::common::{Folder, TOML};
use serde_json::{Value as Json, json};

fn read(text: &str) -> Json {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}\n{text}"))
}

/// The files of saved results, oldest first.
fn saved(folder: &Folder) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder.path().join(".kampf/results")).expect("results");
    let mut files: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    files.sort();
    files
}

fn race(folder: &Folder, more: &[&str]) -> Json {
    let arguments: Vec<&str> = ["race", "--format", "json", "-q", "--time", "4s"].iter().chain(more).copied().collect();
    let ended = folder.kampf(&arguments);
    assert!([0, 1].contains(&ended.status), "{}", ended.stderr);
    read(&ended.stdout)
}

const CONTENDERS: [&str; 6] =
    ["--only", "computed.database.needed.record", "--only", "lazy.database.all.managed", "--only", "lazy.app.all.managed"];

/// A race of three, once for all tests that only read its result.
fn raced() -> (Folder, Json) {
    let folder = Folder::apiary("[contest.calm.require]\nstatements = 1\ncold = \"10s\"\n");
    let document = race(&folder, &CONTENDERS);
    (folder, document)
}

#[test]
fn a_result_is_as_its_schema_says() {
    let schema = include_str!("../../../../docs/result.schema.json");
    let validator = jsonschema::validator_for(&read(schema)).expect("a schema");
    let (folder, document) = raced();
    let errors: Vec<String> = validator.iter_errors(&document).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert_eq!(errors, Vec::<String>::new());
    // The schema would notice: a field of another name, a missing one, another outcome.
    for (pointer, wrong) in
        [("/contests/0/race/margin", Json::Null), ("/contests/0/contenders/0/outcome", json!("fine")), ("/version", json!(2))]
    {
        let mut changed = document.clone();
        *changed.pointer_mut(pointer).expect(pointer) = wrong;
        assert!(!validator.is_valid(&changed), "{pointer}");
    }
    let mut more = document;
    more["contests"][0]["race"]["speed"] = json!(1);
    assert!(!validator.is_valid(&more));
    // With a contender that disagrees, an undecided race and no requirement it is still valid.
    folder
        .write("kampf.toml", format!("{TOML}[contest.calm.contender.wrong]\nsql = \"select label, 'none', 1.0, 0 from hive limit 10\"\n"));
    let undecided = race(&folder, &["--rounds", "2", "--only", "computed*", "--only", "wrong"]);
    let errors: Vec<String> = validator.iter_errors(&undecided).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert_eq!(errors, Vec::<String>::new());
    assert_eq!(undecided["contests"][0]["verdict"]["choose"], Json::Null);
}

#[test]
fn a_saved_result_fed_back_gives_the_same_verdict() {
    let (folder, document) = raced();
    let file = saved(&folder).remove(0);
    let stem = file.file_stem().unwrap().to_str().unwrap();
    let again = read(&folder.ok(&["results", stem, "--format", "json"]));
    assert_eq!(read(&folder.ok(&["results", "latest", "--format", "json"])), again);
    assert_eq!(again, document);
    // What follows from the rounds follows from them alone: without it, it is worked out again.
    let mut bare = document.clone();
    let contest = &mut bare["contests"][0];
    contest["verdict"] = json!({"decided": false, "leader": null, "choose": null});
    contest["mattered"] = json!({"ladder": [], "effects": []});
    contest["race"]["noise"] = Json::Null;
    contest["contenders"].as_array_mut().unwrap().reverse();
    for contender in contest["contenders"].as_array_mut().unwrap() {
        contender["outcome"] = json!("unresolved");
        let fields = contender.as_object_mut().unwrap();
        ["against", "left", "reason", "required", "beside"].iter().for_each(|field| drop(fields.remove(*field)));
        contender["trade_off"] = json!(false);
        let cold = contender["latency_ns"]["cold"].clone();
        contender["latency_ns"] = json!({"median": null, "low": null, "high": null, "p95": null, "cold": cold});
    }
    folder.write("bare.json", bare.to_string());
    assert_eq!(read(&folder.ok(&["results", "bare.json", "--format", "json"])), document);
    // The text is the one that was shown after the race.
    let text = folder.ok(&["results", stem]);
    assert!(
        text.contains("calm") && text.contains("Take computed.database.needed.record: only it surely meets the requirements"),
        "{text}"
    );
}

#[test]
fn results_are_listed_with_contest_and_verdict_and_damaged_ones_named() {
    let folder = Folder::apiary("");
    assert_eq!(folder.ok(&["results"]), "no results yet; `kampf race` makes one\n");
    race(&folder, &["--only", "computed.database.needed.record"]);
    race(&folder, &["--rounds", "1", "--only", "computed*", "--seed", "9"]);
    let files = saved(&folder);
    assert_eq!(files.len(), 2);
    std::fs::write(folder.path().join(".kampf/results/2000-torn.json"), "{\"format\": \"kampf-re").unwrap();
    let output = folder.command(&["results"]).env("COLUMNS", "160").output().expect("kampf runs");
    let list = String::from_utf8(output.stdout).expect("text");
    let lines: Vec<&str> = list.lines().collect();
    assert_eq!(lines.len(), 4, "{list}");
    assert!(lines[1].starts_with("2000-torn") && lines[1].contains("unreadable"), "{list}");
    assert!(lines[2].contains("calm") && lines[2].contains("computed.database.needed.record"), "{list}");
    assert!(lines[3].contains("not decided"), "{list}");
    // Where there is less room, the verdict wraps under itself.
    assert!(folder.ok(&["results"]).lines().count() > 4);
    let machine = read(&folder.ok(&["results", "--format", "json"]));
    assert_eq!(machine["results"].as_array().unwrap().len(), 3);
    assert_eq!(machine["results"][1]["contests"][0]["verdict"]["choose"], "computed.database.needed.record");
    for (name, text, says) in [
        ("no.json", "[1]", "is not a result of kampf"),
        ("later.json", "{\"format\": \"kampf-result\", \"version\": 7}", "has version 7 of the format"),
        (
            "kind.json",
            "{\"format\": \"kampf-result\", \"version\": 1, \"contests\": [{\"name\": \"a\", \"kind\": \"saga\"}]}",
            "has in `a` a contest of kind `saga`, and this kampf knows `read` and `write`",
        ),
        ("part.json", "{\"format\": \"kampf-result\", \"version\": 1}", "is damaged"),
        ("torn.json", "{", "is not JSON"),
        (
            "long.json",
            &format!("{{\"format\": \"kampf-result\", \"version\": 1, \"a\": \"{}\"}}", "\\\"".repeat(600_000)),
            "a text in it is longer than 1.0 MiB",
        ),
    ] {
        folder.write(name, text);
        assert!(folder.error(&["results", name], 2).contains(says), "{name}");
    }
    assert!(folder.error(&["results", "nowhere"], 2).contains("`kampf results` lists"));
}

/// A result with other rounds, counts or circumstances.
fn changed(document: &Json, change: impl FnOnce(&mut Json)) -> String {
    let mut other = document.clone();
    change(&mut other);
    other.to_string()
}

/// Rounds without much noise around a time.
fn rounds(nanos: f64) -> Json {
    (0..40).map(|at| nanos * (1.0 + 0.001 * f64::from(at * 7 % 11))).collect::<Vec<f64>>().into()
}

#[test]
fn two_results_are_compared_contender_by_contender() {
    let (folder, mut document) = raced();
    let place = |document: &Json, name: &str| {
        let contenders = document["contests"][0]["contenders"].as_array().unwrap();
        contenders.iter().position(|contender| contender["name"].as_str().unwrap().starts_with(name)).unwrap()
    };
    // A result whose times are known.
    document["contests"][0]["race"]["rounds"] = json!(40);
    document["contests"][0]["race"]["exact"] = json!(true);
    for (name, nanos) in [("computed", 1e6), ("lazy.database", 2e6), ("lazy.app", 4e6)] {
        let at = place(&document, name);
        document["contests"][0]["contenders"][at]["rounds"] = rounds(nanos);
    }
    document["contests"][0]["race"]["reference_loop_ns"] = json!([100.0, 101.0, 99.0]);
    folder.write("old.json", document.to_string());
    let set = |name: &str, field: &str, value: Json| {
        let at = place(&document, name);
        changed(&document, |other| other["contests"][0]["contenders"][at][field] = value)
    };
    let compare = |folder: &Folder, text: &str, more: &[&str]| {
        folder.write("new.json", text);
        let arguments: Vec<&str> = ["compare", "old.json", "new.json"].iter().chain(more).copied().collect();
        let ended = folder.kampf(&arguments);
        (ended.status, ended.stdout.split_whitespace().collect::<Vec<_>>().join(" "), ended.stderr)
    };
    let (status, text, _) = compare(&folder, &document.to_string(), &[]);
    assert_eq!(status, 0, "{text}");
    assert_eq!(text.matches("stood still the same").count(), 3, "{text}");
    assert!(
        text.contains("Both choose computed.database.needed.record")
            && text.contains("No regression in all contenders (3 compared, 3 told by their time; 3 % allowed).")
    );
    // Slower than allowed, and within what is allowed.
    let slower = set("computed", "rounds", rounds(1.1e6));
    let (status, text, _) = compare(&folder, &slower, &[]);
    assert_eq!(status, 1, "{text}");
    assert!(text.contains("moved, slower the same") && text.contains("worse computed.database.needed.record: it is slower"), "{text}");
    assert_eq!(compare(&folder, &slower, &["--allow", "20%"]).0, 0);
    // Only what was chosen counts, if asked for.
    let elsewhere = set("lazy.database", "rounds", rounds(3e6));
    assert_eq!((compare(&folder, &elsewhere, &[]).0, compare(&folder, &elsewhere, &["--chosen"]).0), (1, 0));
    assert_eq!(compare(&folder, &slower, &["--chosen"]).0, 1);
    // Faster is no regression; few rounds tell nothing.
    let (status, text, _) = compare(&folder, &set("lazy.app", "rounds", rounds(3e6)), &[]);
    assert!(status == 0 && text.contains("moved, faster"), "{text}");
    // Counts are exact: one statement more is a regression, one less is not.
    let at = place(&document, "computed");
    let statements = document["contests"][0]["contenders"][at]["statements"].as_u64().unwrap();
    let (status, text, _) = compare(&folder, &set("computed", "statements", json!(statements + 1)), &[]);
    assert!(status == 1 && text.contains("statements 1 → 2"), "{text}");
    // Of calls with different parameters the worst is compared, whatever the mean.
    let worst = changed(&document, |other| {
        let contender = &mut other["contests"][0]["contenders"][at];
        contender["counted_range"] = json!({"statements": {"least": 0, "most": statements + 1}});
    });
    let (status, text, _) = compare(&folder, &worst, &[]);
    assert!(status == 1 && text.contains("statements 1 → 2"), "{text}");
    let lazy = place(&document, "lazy.app");
    let more = document["contests"][0]["contenders"][lazy]["allocations"].as_u64().unwrap() + 1;
    let (status, text, _) = compare(&folder, &set("lazy.app", "allocations", json!(more)), &["--allow", "10%"]);
    assert!(status == 0 && text.contains("allocations"), "{text}");
    // One that fails now.
    let broken = changed(&document, |other| {
        let contender = &mut other["contests"][0]["contenders"][at];
        (contender["outcome"], contender["reason"], contender["rounds"]) = (json!("failed"), json!("no such table"), json!([]));
    });
    let (status, text, _) = compare(&folder, &broken, &[]);
    assert!(status == 1 && text.contains("it fails now: no such table"), "{text}");
    // For programs.
    folder.write("new.json", &slower);
    let ended = folder.kampf(&["compare", "old.json", "new.json", "--format", "json"]);
    let machine = read(&ended.stdout);
    assert_eq!((ended.status, &machine["regressions"]), (1, &json!(1)));
    let contender = &machine["contests"][0]["contenders"][0];
    assert_eq!((&contender["time"], contender["low"].as_f64().unwrap() > 1.05), (&json!("moved"), true));
}

#[test]
fn what_else_differs_between_two_results_is_said() {
    let (folder, document) = raced();
    folder.write("old.json", document.to_string());
    let compare = |text: String| {
        folder.write("new.json", text);
        let ended = folder.kampf(&["compare", "old.json", "new.json"]);
        (ended.status, ended.stdout.split_whitespace().collect::<Vec<_>>().join(" "), ended.stderr)
    };
    let (status, text, _) = compare(changed(&document, |other| other["machine"]["cpu"] = json!("another one")));
    assert!(status == 0 && text.contains("another machine") && !text.contains("stood still"), "{text}");
    let (_, text, _) = compare(changed(&document, |other| {
        other["dataset"]["fingerprint"] = json!("other");
        other["dataset"]["tables"][1]["rows"] = json!(41);
        other["dataset"]["tables"][2]["digest"] = json!("other");
    }));
    assert!(text.contains("the data differs: hive 40 → 41 rows, inspection has other values"), "{text}");
    let (_, text, _) = compare(changed(&document, |other| {
        other["contests"][0]["engine"]["version"] = json!("9.9");
        other["contests"][0]["engine"]["settings"]["cache_size"] = json!("-1");
        other["contests"][0]["conditions"]["pinned_to_core"] = json!(1);
        other["kampf"] = json!("9.9.9");
        for time in other["contests"][0]["race"]["reference_loop_ns"].as_array_mut().unwrap() {
            *time = json!(time.as_f64().unwrap() * 2.0);
        }
    }));
    for says in
        ["/ 9.9", "setting cache_size:", "conditions differ: pinned", "/ 9.9.9", "the machine itself took +100 % by the reference loop"]
    {
        assert!(text.contains(says), "{says}: {text}");
    }
    let (status, _, stderr) = compare(changed(&document, |other| other["contests"][0]["need"]["limit"] = json!(11)));
    assert!(status == 2 && stderr.contains("asks for something else") && stderr.contains("no contest in common"), "{stderr}");
    let (_, text, _) = compare(changed(&document, |other| other["contests"][0]["contenders"][0]["name"] = json!("new-name")));
    assert!(text.contains("only in the old result") && text.contains("only in the new result"), "{text}");
}

#[test]
fn parts_of_results_meet_by_all_their_circumstances() {
    let (folder, document) = raced();
    // One contest under two shares of kept answers, in either order.
    let two = |first: f64, second: f64, slower: f64| {
        changed(&document, |other| {
            let mut contest = other["contests"][0].clone();
            let set = |contest: &mut Json, rate: f64, times: f64| {
                contest["conditions"]["hit_rate"] = json!(rate);
                contest["race"]["rounds"] = json!(40);
                let contender = &mut contest["contenders"][0];
                contender["rounds"] = rounds(1e6 * times * if rate == 0.5 { 3.0 } else { 1.0 });
            };
            set(&mut other["contests"][0], first, slower);
            set(&mut contest, second, slower);
            other["contests"].as_array_mut().unwrap().push(contest);
        })
    };
    let compare = |old: &str, new: &str| {
        folder.write("old.json", old);
        folder.write("new.json", new);
        let ended = folder.kampf(&["compare", "old.json", "new.json"]);
        (ended.status, ended.stdout.split_whitespace().collect::<Vec<_>>().join(" "), ended.stderr)
    };
    let (old, turned) = (two(0.5, 0.99, 1.0), two(0.99, 0.5, 1.0));
    for new in [&old, &turned] {
        let (status, text, _) = compare(&old, new);
        assert!(status == 0 && !text.contains("worse"), "{text}");
        assert!(text.contains("50 % of calls from what is kept") && text.contains("99 % of calls from what is kept"), "{text}");
    }
    assert_eq!(compare(&old, &two(0.99, 0.5, 1.5)).0, 1);
    // One that met nobody is told from either side.
    let (_, _, told) = compare(&two(0.5, 0.99, 1.0), &two(0.5, 0.9, 1.0));
    assert!(!told.contains("only in"), "{told}");
    let one = changed(&document, |other| other["contests"][0]["conditions"]["hit_rate"] = json!(0.5));
    assert!(compare(&old, &one).2.contains("(99 % of calls from what is kept) is only in the old result"));
    assert!(compare(&one, &old).2.contains("(99 % of calls from what is kept) is only in the new result"));
}

#[test]
fn a_comparison_without_what_was_chosen_is_no_verdict_and_advises_what_was_not_done() {
    let (folder, mut document) = raced();
    document["contests"][0]["race"]["rounds"] = json!(40);
    document["contests"][0]["race"]["exact"] = json!(true);
    for contender in document["contests"][0]["contenders"].as_array_mut().unwrap() {
        contender["rounds"] = rounds(if contender["name"].as_str().unwrap().starts_with("computed") { 1e6 } else { 4e6 });
    }
    folder.write("old.json", document.to_string());
    let chosen = document["contests"][0]["contenders"]
        .as_array()
        .unwrap()
        .iter()
        .position(|one| one["name"].as_str().unwrap().starts_with("computed"));
    folder.write("new.json", changed(&document, |other| other["contests"][0]["contenders"][chosen.unwrap()]["name"] = json!("else")));
    for (more, status) in [(&[][..], 0), (&["--strict"], 1), (&["--chosen"], 0), (&["--chosen", "--strict"], 1)] {
        let ended = folder.kampf(&[&["compare", "old.json", "new.json"], more].concat());
        assert!(
            ended.status == status && ended.stdout.contains("No verdict: what the old result chose is not in the new one"),
            "{more:?} {}",
            ended.stdout
        );
    }
    // A race to the end that was too short is not told to be one to the end.
    let short = changed(&document, |other| {
        let contender = &mut other["contests"][0]["contenders"][0];
        contender["rounds"] = json!([1e6, 3e6]);
        contender["ran"] = json!([[1, 2]]);
    });
    let advice = |text: &str| {
        folder.write("new.json", text);
        folder.ok(&["compare", "old.json", "new.json"]).split_whitespace().collect::<Vec<_>>().join(" ")
    };
    assert!(advice(&short).contains("(--exact) and ran out of time or rounds: --time and --rounds"), "{}", advice(&short));
    let mut usual: Json = read(&short);
    usual["contests"][0]["race"]["exact"] = json!(false);
    assert!(advice(&usual.to_string()).contains("with --exact, or with one contender alone"), "{}", advice(&usual.to_string()));
}
