//! How rows are fetched, statements sent and answers kept: what the real program says of it, and of mistakes in saying so.

use crate::common::{Folder, json};
use serde_json::Value as Json;

const DIRECTORY: &str = "
[contest.directory]
from  = \"inspection\"
give  = [\"temper\", \"hive.label\"]
order = [\"temper\", \"id desc\"]
";

fn with(more: &str) -> Folder {
    Folder::apiary(&format!("{DIRECTORY}{more}"))
}

/// Names of the contenders that enter, behind the plus.
fn manners(folder: &Folder, contest: &str) -> Vec<String> {
    let shown = json(&folder.ok(&["show", contest, "--format", "json"]));
    let names = shown["contenders"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap());
    names.filter_map(|name| name.split_once('+').map(|(_, manner)| manner.to_owned())).collect()
}

fn named<'d>(document: &'d Json, name: &str) -> &'d Json {
    let contenders = document["contests"][0]["contenders"].as_array().unwrap();
    contenders.iter().find(|one| one["name"] == name).unwrap_or_else(|| panic!("{name} is not in the document"))
}

#[test]
fn pages_limit_every_answer_and_all_ways_of_fetching_them_agree() {
    let folder = with("page = 7\npages = 3\n");
    assert_eq!(manners(&folder, "directory"), ["pages:7", "stream:7", "built"], "both directions leave no key to go on behind");
    let checked = folder.ok(&["check", "directory", "-q"]);
    assert!(checked.starts_with("directory  21 rows") && checked.contains("contenders give this answer"), "{checked}");
    let shown = folder.ok(&["show", "directory", "--all", "--only", "*record+pages*"]);
    assert!(shown.contains("LIMIT 7 OFFSET ?"), "{shown}");
    let by_key = with("page = 7\n");
    by_key.write("kampf.toml", by_key.read("kampf.toml").replace("\"id desc\"", "\"id\""));
    assert_eq!(manners(&by_key, "directory"), ["pages:7", "chunks:7", "stream:7", "built"]);
    let shown = by_key.ok(&["show", "directory", "--all", "--only", "*needed.record+chunks:7"]);
    assert!(shown.contains("(\"inspection\".\"temper\", \"inspection\".\"id\") > (?1, ?2)"), "{shown}");
}

#[test]
fn sizes_are_raced_and_the_memory_over_the_rows_is_drawn() {
    let folder = with(
        "[contest.directory.choices]\nfetch = [\"whole\", \"stream:20\", \"stream:50\"]\n[contest.directory.require]\nmemory = \"16 KiB\"\n",
    );
    let arguments = ["race", "directory", "--rounds", "2", "-q", "--only", "joined.database.needed.plain*"];
    let text = folder.ok(&arguments);
    let line =
        |word: &str| text.lines().find(|line| line.starts_with(&format!("  {word}  "))).unwrap_or_else(|| panic!("no {word}: {text}"));
    assert!(line("whole").contains('█') && line("stream:20").contains('▁'), "{text}");
    assert!(text.replace("\n ", "").contains("rows fit the 16 KiB that are allowed"), "{text}");
    let document = json(&folder.ok(&[&arguments[..], &["--format", "json"]].concat()));
    let peak = |name: &str| named(&document, name)["heap_peak_bytes"].as_u64().unwrap();
    let [small, large, whole] = ["+stream:20", "+stream:50", ""].map(|manner| peak(&format!("joined.database.needed.plain{manner}")));
    assert!(small < large && large < whole, "{small} {large} {whole}");
    let held = named(&document, "joined.database.needed.plain")["held"].as_array().unwrap();
    assert!(held.len() > 30 && held[0][0] == 1 && held[held.len() - 1][1].as_u64() > held[0][1].as_u64(), "{held:?}");
    // What is no whole call's share is not there.
    let waiting = named(&document, "joined.database.needed.plain")["waiting"].as_u64().unwrap();
    assert!((1..=1000).contains(&waiting), "{waiting}");
}

const ONE: &str = "
[contest.one]
from   = \"hive\"
give   = [\"label\", \"strain.name\"]
where  = \"id = :id\"
expect = \"1\"
[contest.one.parameters]
id = \"any(hive.id)\"
";

#[test]
fn answers_that_are_kept_are_chosen_only_where_they_need_not_be_fresh() {
    let race = |folder: &Folder, more: &[&str]| {
        folder.ok(&[&["race", "one", "--rounds", "10", "-q", "--all", "--only", "joined.database.needed.plain*"], more].concat())
    };
    let fresh = with(ONE);
    assert_eq!(manners(&fresh, "one"), ["built"]);
    let document = json(&race(&fresh, &["--format", "json", "--only", "joined.database.needed.record+warm"]));
    let warm = named(&document, "joined.database.needed.plain+warm");
    assert_eq!((&warm["beside"], &document["contests"][0]["conditions"]["hit_rate"]), (&Json::from("stale"), &Json::from(0.9)));
    assert!(!document["contests"][0]["verdict"]["choose"].as_str().unwrap_or_default().ends_with("+warm"));
    let (hit, miss) = (warm["kept"]["hit_ns"].as_f64().unwrap(), warm["kept"]["miss_ns"].as_f64().unwrap());
    let call = warm["latency_ns"]["median"].as_f64().unwrap();
    assert!(hit > 0.0 && hit < call && call < miss, "{hit} {call} {miss}");
    assert!(warm["kept_bytes"].as_f64().unwrap() > 0.0);
    let stale = with(&format!("[conditions]\nhit_rate = \"0 %\"\n[cache]\nentries = 5\n{ONE}[contest.one.require]\nfresh = false\n"));
    assert_eq!(manners(&stale, "one"), ["built", "warm"]);
    let text = race(&stale, &[]).replace("\n    ", " ");
    assert!(text.contains("of calls with a cache 0 % find their answer kept"), "{text}");
    assert!(
        text.contains("a hit takes") && text.contains("5 such answers hold about") && text.contains("the best of the others"),
        "{text}"
    );
    assert!(!text.contains("not fresh"), "{text}");
}

#[test]
fn a_contender_in_any_manner_is_found_by_its_name() {
    let folder = with(&format!("chunk = 50\n{ONE}"));
    folder.write("kampf.toml", folder.read("kampf.toml").replace("\"temper\", \"id desc\"", "\"id desc\""));
    let traced = json(&folder.ok(&["trace", "directory", "batched.database.needed.plain+chunks:50+one", "-q", "--format", "json"]));
    let sent: Vec<&str> = traced["statements"].as_array().unwrap().iter().map(|one| one["sql"].as_str().unwrap()).collect();
    assert!(
        sent[0] == "BEGIN" && sent[sent.len() - 1] == "COMMIT" && sent.iter().filter(|sql| sql.contains("LIMIT 50")).count() > 1,
        "{sent:?}"
    );
    let all = folder.ok(&["show", "directory", "--all"]);
    assert!(all.contains("combinations in their usual manner, and "), "{all}");
    let pair = folder.ok(&[
        "race",
        "one",
        "--pair",
        "joined.database.needed.plain+parsed,joined.database.needed.plain+built",
        "--rounds",
        "3",
        "-q",
    ]);
    assert!(pair.contains("+parsed") && pair.contains("+built"), "{pair}");
}

#[test]
fn mistakes_in_manners_are_answered_with_the_way_out() {
    for (more, message) in [
        ("page = 0\n", "`page` is a number from 1 to 1000000, not 0"),
        ("pages = 3\n", "says how many pages there are, and not how many rows a page has"),
        ("chunk = [10, \"many\"]\n", "`chunk` must be a whole number from 1 on, not a text"),
        ("[contest.directory.choices]\nfetch = [\"chunk\"]\n", "did you mean `chunks`?"),
        ("[contest.directory.choices]\nfetch = [\"whole:5\"]\n", "`whole` has no size; leave the colon out"),
        ("[contest.directory.choices]\nfetch = [\"stream:0\"]\n", "behind the colon stand rows at a time, from 1 to 1000000, not `0`"),
        ("[contest.directory.require]\nfresh = \"no\"\n", "`fresh` must be true or false"),
        ("[conditions]\nhit_rate = \"ninety\"\n", "a share is a number from 0 to 100 with a percent sign, like \"90 %\", not `ninety`"),
        ("[cache]\nentries = 0\n", "`entries` is a number from 1 to"),
    ] {
        let error = with(more).error(&["show", "directory"], 2);
        assert!(error.contains(message) && error.contains("at kampf.toml:"), "{more}: {error}");
    }
    // What cannot be for any contender has its reason.
    let keyless = with("[contest.directory.choices]\nfetch = [\"chunks\"]\nwork = [\"database\"]\n");
    let error = keyless.error(&["show", "directory"], 2);
    assert!(error.contains("rows are sorted in both directions"), "{error}");
}
