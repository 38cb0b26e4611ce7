//! Contests with too many rows to work all of them out: proven on few rows, compared with each other on all.

use crate::common::{Folder, SQL, installed, json};
use serde_json::Value as Json;

/// Seventy thousand inspections: with eight parameter sets more than all are worked out of.
fn many(contests: &str) -> Folder {
    let folder = Folder::empty();
    folder.write("apiary.sql", SQL);
    let head = "schema = \"apiary.sql\"\nseed = 3\n[rows]\nstrain = 5\nhive = 1000\ninspection = \"70 per hive\"\n";
    folder.write("kampf.toml", format!("{head}{contests}"));
    folder
}

const ONE: &str = "[contest.one]\nfrom = \"hive\"\ngive = [\"label\", \"avg(inspection.temper) as calm\"]\nwhere = \"id = :hive\"\n\
    parameters = { hive = \"any(hive.id)\" }\n";

/// An answer by hand that is right for some hives alone.
fn by_hand(condition: &str) -> String {
    format!(
        "[contest.one.contender.mine]\nsql = \"select label, (select avg(temper * 1.0) from inspection where hive_id = hive.id) \
         from hive where id = :hive {condition}\"\n"
    )
}

fn checked(folder: &Folder, more: &[&str]) -> (Json, i32) {
    let ended = folder.kampf(&[&["check", "--format", "json", "-q"], more].concat());
    (json(&ended.stdout)["contests"][0].clone(), ended.status)
}

fn entry<'a>(contest: &'a Json, name: &str) -> &'a Json {
    contest["contenders"].as_array().unwrap().iter().find(|entry| entry["name"] == name).expect("it takes part")
}

#[test]
fn ways_are_proven_on_a_twin_and_by_sampled_rows_and_the_check_says_so() {
    let folder = many(ONE);
    let (contest, status) = checked(&folder, &[]);
    assert_eq!(status, 0, "{contest}");
    let how = contest["checked"].as_str().unwrap();
    assert!(how.starts_with("on a twin of ") && how.ends_with(" sampled rows here"), "{how}");
    let rows: u64 = how.split(' ').nth(4).unwrap().replace(',', "").parse().unwrap();
    assert!((10_000..=25_000).contains(&rows), "{how}");
    assert_eq!((&contest["contradiction"], &contest["not_proven"]), (&Json::Null, &serde_json::json!([])));
    // It lies beside the dataset, is made once, and goes with it.
    let data = || folder.read_dir(&format!(".kampf/data/{}", folder.read_dir(".kampf/data")[0]));
    assert_eq!(data().iter().filter(|name| name.ends_with(".sqlite")).count(), 2, "{:?}", data());
    let stamped = |name: &str| {
        std::fs::metadata(folder.path().join(".kampf/data").join(&folder.read_dir(".kampf/data")[0]).join(name))
            .unwrap()
            .modified()
            .unwrap()
    };
    let twin = data().into_iter().find(|name| name.ends_with(".sqlite") && name != "dataset.sqlite").unwrap();
    let made = stamped(&twin);
    let text = folder.kampf(&["check"]);
    assert!(text.stdout.contains("checked on a twin of ") && !text.stderr.contains("filled"), "{}\n{}", text.stdout, text.stderr);
    assert_eq!(stamped(&twin), made);
    folder.ok(&["fill", "--remove", "-q"]);
    assert!(folder.read_dir(".kampf/data").is_empty());
    // What is raced says it too.
    let raced = json(&folder.ok(&["race", "--rounds", "1", "--time", "1s", "--only", "computed.database.*", "--format", "json", "-q"]));
    assert_eq!(raced["contests"][0]["race"]["reference"].as_str(), Some(how));
}

#[test]
fn few_rows_are_all_worked_out_and_have_no_twin() {
    let folder = many("[contest.strains]\nfrom = \"strain\"\ngive = [\"name\"]\n");
    let (contest, status) = checked(&folder, &[]);
    assert_eq!((status, contest["checked"].as_str()), (0, Some("on all rows by plain evaluation")));
    let data = folder.read_dir(&format!(".kampf/data/{}", folder.read_dir(".kampf/data")[0]));
    assert_eq!(data.iter().filter(|name| name.ends_with(".sqlite")).count(), 1, "{data:?}");
}

#[test]
fn what_is_wrong_on_few_rows_differs_there_and_what_is_wrong_on_many_differs_here() {
    let (contest, status) = checked(&many(&format!("{ONE}{}", by_hand("and false"))), &[]);
    let mine = entry(&contest, "mine");
    assert_eq!((status, &mine["agrees"], &mine["on_twin"]), (1, &Json::from(false), &Json::from(true)), "{contest}");
    // The twin has no such hives.
    let (contest, status) = checked(&many(&format!("{ONE}{}", by_hand("and id < 700"))), &[]);
    let mine = entry(&contest, "mine");
    assert_eq!((status, &mine["agrees"], &mine["on_twin"]), (1, &Json::from(false), &Json::from(false)), "{contest}");
    assert!(contest["contenders"].as_array().unwrap().iter().all(|entry| entry["name"] == "mine" || entry["agrees"] == true));
    let (contest, status) = checked(&many(&format!("{ONE}{}", by_hand(""))), &[]);
    assert_eq!((status, &entry(&contest, "mine")["agrees"]), (0, &Json::from(true)), "{contest}");
}

#[test]
fn an_answer_that_takes_long_and_was_proven_on_few_rows_is_not_waited_for() {
    // So many pairs of rows that no machine is through with them in a second; on the twin there are a twelfth of them.
    let pairs = "and (select count(*) from inspection a, inspection b where a.id % 20 = 0 and b.temper >= a.temper) >= 0";
    let folder = many(&format!("{ONE}{}", by_hand(pairs)));
    let only = ["--only", "mine", "--only", "computed.database.needed.record"];
    let (contest, status) = checked(&folder, &only);
    let mine = entry(&contest, "mine");
    assert_eq!((status, &mine["agrees"], &mine["stopped_after_seconds"]), (0, &Json::from(true), &Json::from(1.0)), "{contest}");
    assert_eq!(entry(&contest, "computed.database.needed.record")["stopped_after_seconds"], Json::Null);
    let text = folder.ok(&[&["check", "-q"][..], &only].concat()).split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("1 of them proven on few rows, and stopped here after 1 s: mine; --whole waits for them"), "{text}");
    // Whoever is to wait for all does, as long as a run may take.
    let (contest, _) = checked(&folder, &[&["--whole", "--timeout", "2s"][..], &only].concat());
    assert_eq!(entry(&contest, "mine")["reason"], "no answer within 2 s (--timeout)", "{contest}");
}

#[test]
fn what_few_rows_cannot_show_is_said() {
    let folder = many(
        "[contest.late]\nfrom = \"inspection\"\ngive = [\"id\"]\nwhere = \"id > :least and id < 70000\"\norder = [\"id\"]\nlimit = 50000\n\
         parameters = { least = \"60000..65000\" }\n",
    );
    let (contest, status) = checked(&folder, &[]);
    assert_eq!(status, 0, "{contest}");
    assert_eq!(contest["not_proven"], serde_json::json!(["its answers are empty there", "its limit cuts nothing off there"]));
    let text = folder.ok(&["check", "-q"]);
    let said = text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(said.contains("Not proven on the twin: its answers are empty there, and its limit cuts nothing off there."), "{text}");
}

#[test]
fn a_program_that_goes_to_the_data_by_an_address_of_its_own_is_found() {
    let folder = many(&format!("{ONE}[contest.one.contender.python]\ncommand = [\"python3\", \"contender.py\"]\n"));
    let place = json(&folder.ok(&["fill", "--format", "json", "-q"]))["place"].as_str().unwrap().to_owned();
    let program = |path: &str| {
        format!(
            "import json, sqlite3, sys\nfor line in sys.stdin:\n    told = json.loads(line)\n    if 'hello' in told:\n        \
             db = sqlite3.connect({path})\n        print(json.dumps({{'kampf': 1, 'ready': {{'can': ['answer']}}}}), flush=True)\n    \
             elif 'run' in told:\n        run = told['run']\n        for at, set in enumerate(run['parameters']):\n            \
             rows = db.execute('select label, (select avg(temper) from inspection where hive_id = hive.id) from hive where id = ?', set)\n            \
             print(json.dumps({{'kampf': 1, 'rows': {{'id': run['id'], 'set': at, 'rows': [list(row) for row in rows]}}}}), flush=True)\n        \
             print(json.dumps({{'kampf': 1, 'ran': {{'id': run['id'], 'rows': 0}}}}), flush=True)\n"
        )
    };
    folder.write("contender.py", program(&format!("{place:?}")));
    let (contest, status) = checked(&folder, &["--only", "python", "--only", "computed.database.*"]);
    let python = entry(&contest, "python");
    assert_eq!(status, 1);
    assert!(python["reason"].as_str().is_some_and(|why| why == "it does not use the address it was given"), "{python}");
    folder.write("contender.py", program("told['hello']['url'].removeprefix('sqlite://')"));
    let (contest, status) = checked(&folder, &["--only", "python", "--only", "computed.database.*"]);
    assert_eq!((status, &entry(&contest, "python")["agrees"]), (0, &Json::from(true)), "{contest}");
}

#[test]
fn other_keys_and_indexes_have_twins_on_both_engines() {
    let folder = many(&format!("{ONE}[index.by_label]\non = \"hive(label)\"\n"));
    let engines: &[&str] = if installed() { &["sqlite", "postgres"] } else { &["sqlite"] };
    for engine in engines {
        let more = [
            "--engine",
            engine,
            "--keys",
            "hive:uuid7",
            "--index",
            "by_label",
            "--all",
            "--only",
            "computed.database.needed.record",
            "--only",
            "computed.database.needed.record@*",
        ];
        let (contest, status) = checked(&folder, &more);
        assert_eq!(status, 0, "{contest}");
        for variant in ["@hive:uuid7", "@by_label"] {
            let is_of = |entry: &Json| entry["name"].as_str().unwrap().ends_with(variant) && entry["agrees"] == true;
            assert!(contest["contenders"].as_array().unwrap().iter().any(is_of), "{variant}: {contest}");
        }
        assert!(contest["checked"].as_str().unwrap().starts_with("on a twin of "), "{contest}");
    }
    folder.ok(&["fill", "--remove", "-q"]);
}
