//! Every kind of end of a race, as the real program shows it again from a result made up by hand, in four widths.

use crate::common::Folder;
use crate::common::made::{contender, contest, document, field, made, some, with};
use serde_json::{Value as Json, json};
use unicode_width::UnicodeWidthStr;

const WIDTHS: [usize; 4] = [60, 80, 100, 160];

/// What the program shows of a result in all widths; no line is wider than asked for.
fn shown(document: &Json) -> String {
    let folder = Folder::empty();
    folder.write("result.json", document.to_string());
    let mut all = String::new();
    for width in WIDTHS {
        let output = folder.command(&["results", "result.json"]).env("COLUMNS", width.to_string()).output().expect("kampf runs");
        let text = String::from_utf8(output.stdout).expect("text");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        for line in text.lines() {
            assert!(line.width() <= width, "{} columns, where there are {width}: {line}\n{text}", line.width());
        }
        all += &format!("=== {width} columns\n{text}");
    }
    all
}

#[test]
fn decided() {
    insta::assert_snapshot!(shown(&document(vec![contest("calmest-hives", field(40, 0.02), 40)])));
}

#[test]
fn time_up_with_all_choices_known() {
    let contest = with(contest("calmest-hives", field(36, 0.04), 36), "/race/margin", json!(0.004));
    insta::assert_snapshot!(shown(&document(vec![contest])));
}

#[test]
fn time_up_without_a_decision() {
    insta::assert_snapshot!(shown(&document(vec![contest("calmest-hives", field(13, 0.3), 13)])));
}

#[test]
fn interrupted_early() {
    let contest = with(contest("calmest-hives", field(3, 0.05), 3), "/race/interrupted", json!(true));
    insta::assert_snapshot!(shown(&document(vec![contest])));
}

#[test]
fn requirement_met() {
    let contest = with(contest("calmest-hives", field(30, 0.02), 30), "/require", json!({"p95_ns": 20e6, "statements": 100}));
    insta::assert_snapshot!(shown(&document(vec![contest])));
}

#[test]
fn requirement_missed() {
    let contest = with(contest("calmest-hives", field(30, 0.02), 30), "/require", json!({"p95_ns": 2e6, "memory_bytes": 100}));
    insta::assert_snapshot!(shown(&document(vec![contest])));
}

#[test]
fn requirement_provisional() {
    let names = ["computed.database.all.plain", "computed.database.needed.record", "batched.database.all.managed"];
    let contest = with(contest("calmest-hives", some(&names, 12, 0.1), 12), "/require", json!({"p95_ns": 12.1e6}));
    insta::assert_snapshot!(shown(&document(vec![contest])));
}

#[test]
fn a_tie() {
    let names = ["computed.database.all.plain", "computed.database.needed.plain", "computed.database.needed.record"];
    insta::assert_snapshot!(shown(&document(vec![contest("calmest-hives", some(&names, 60, 0.01), 60)])));
}

#[test]
fn all_failed() {
    let fail = |mut one: Json| {
        (one["outcome"], one["reason"], one["rounds"], one["p95_rounds"]) =
            (json!("failed"), json!("no such table: hive"), json!([]), json!([]));
        one["answer"] = Json::Null;
        one
    };
    let contenders = field(2, 0.1).into_iter().take(3).map(fail).collect::<Vec<Json>>();
    insta::assert_snapshot!(shown(&document(vec![contest("calmest-hives", contenders, 0)])));
}

#[test]
fn one_contender() {
    insta::assert_snapshot!(shown(&document(vec![contest("calmest-hives", some(&["two-steps"], 20, 0.02), 20)])));
}

#[test]
fn several_contests() {
    let names = ["computed.database.needed.plain", "computed.database.needed.record", "lazy.database.all.managed"];
    let open = contest("sizes", some(&names, 12, 0.4), 12);
    let missed = with(contest("a-contest-with-a-long-name", some(&names, 12, 0.02), 12), "/require", json!({"rows": 3}));
    let empty = with(
        contest("calmest-hives", some(&names, 30, 0.02), 30),
        "/warnings",
        json!(["the answer is empty: capacity goes from 12 to 1,180; nothing is above 1,500"]),
    );
    insta::assert_snapshot!(shown(&document(vec![empty, open, missed])));
}

#[test]
fn a_pair() {
    let pair = |name: &str, new: f64, rounds: usize| {
        let contenders =
            vec![contender(0, made("stack-1", 10.0, 3, 0), rounds, 0.02), contender(1, made("stack-2", new, 4, 0), rounds, 0.02)];
        with(contest(name, contenders, rounds), "/race/pair", json!(["stack-1", "stack-2"]))
    };
    let contests =
        vec![pair("calmest-hives", 11.0, 30), pair("hive-directory", 9.0, 30), pair("apiary-sizes", 10.02, 30), pair("open", 10.1, 4)];
    insta::assert_snapshot!(shown(&document(contests)));
}

/// Programs: one whose counts are its word, one that is not believed; counts that differ between parameters; and survivors that were
/// not asked once more.
#[test]
fn programs_and_parameters() {
    let names = ["computed.database.needed.plain", "computed.database.needed.record", "lazy.database.all.managed"];
    let mut contenders = some(&names, 30, 0.02);
    contenders[0]["counted_range"] = json!({"statements": {"least": 12, "most": 311}, "rows": {"least": 900, "most": 1204},
        "heap_peak_bytes": {"least": 180_000, "most": 191_000}});
    let mut program = contender(7, made("stack", 13.0, 2, 0), 30, 0.02);
    (program["counted"], program["by_hand"]) =
        (json!({"statements": "reported", "rows": "reported", "heap_peak_bytes": "resident"}), Json::Null);
    program["counted_range"] = json!({"heap_peak_bytes": {"least": 4096, "most": 409_600}});
    let mut liar = contender(8, made("liar", 1.0, 1, 0), 0, 0.02);
    (liar["outcome"], liar["by_hand"], liar["answer"]) = (json!("not_believed"), Json::Null, Json::Null);
    liar["reason"] = json!("it says that a call takes 12.1 us, and by the runner's clock it takes 12.1 ms");
    contenders.extend([program, liar]);
    let contest = with(contest("calmest-hives", contenders, 30), "/race/not_confirmed", json!("the server went away"));
    insta::assert_snapshot!(shown(&document(vec![contest])));
}

#[test]
fn a_result_of_before_is_read_with_its_words_and_a_damaged_one_is_refused() {
    let folder = Folder::empty();
    let old = document(vec![contest("calmest-hives", some(&["lazy.database.all.managed", "computed.database.all.managed"], 20, 0.02), 20)]);
    folder.write("old.json", old.to_string().replace("\"managed\"", "\"tracked\"").replace(".managed\"", ".tracked\""));
    let text = folder.ok(&["results", "old.json"]);
    assert!(text.contains("computed.database.all.tracked") && text.contains("computed, decided: lazy costs at least"), "{text}");
    let json = folder.ok(&["results", "old.json", "--format", "json"]);
    assert!(json.contains("\"hydration\": \"managed\""), "{json}");
    for (pointer, value, says) in [
        ("/contests/0/contenders/0/ran", json!([[1, 5], [4, 18]]), "cannot be right"),
        ("/contests/0/contenders/0/ran", json!([[1, 30]]), "cannot be right"),
        ("/contests/0/contenders/0/choices", json!({"loading": "sideways"}), "is not an option of loading"),
        ("/contests/0/require", json!({"honey": 1}), "`honey` cannot be required"),
    ] {
        folder.write("bad.json", with(old.clone(), pointer, value).to_string());
        assert!(folder.error(&["results", "bad.json"], 2).contains(says), "{says}");
    }
}

/// A result of any end gives the same verdict and the same document when it is read back.
#[test]
fn a_result_that_is_read_back_is_the_same() {
    let resting = {
        let mut contenders = field(40, 0.03);
        let rests = &mut contenders[4];
        let values: Vec<Json> = rests["rounds"].as_array().unwrap().iter().take(25).cloned().collect();
        (rests["rounds"], rests["p95_rounds"], rests["ran"]) = (json!(values), json!(values), json!([[1, 20], [36, 40]]));
        contenders
    };
    let contests = [
        contest("resting", resting, 40),
        contest("open", field(13, 0.3), 13),
        with(contest("required", field(30, 0.02), 30), "/require", json!({"p95_ns": 12.1e6, "statements": 100})),
    ];
    let folder = Folder::empty();
    for contest in contests {
        folder.write("one.json", document(vec![contest]).to_string());
        let once = folder.ok(&["results", "one.json", "--format", "json"]);
        folder.write("two.json", &once);
        assert_eq!(folder.ok(&["results", "two.json", "--format", "json"]), once);
    }
}
