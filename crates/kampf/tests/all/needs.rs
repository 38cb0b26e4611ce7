//! The language of needs, from kampf.toml to the answer.

use std::fmt::Write as _;
use std::path::Path;

use crate::common::{Folder, installed, json, without_times};

/// An example of docs/needs.md: the contest, and the lines of its answer as far as they are shown.
struct Example {
    contest: String,
    name: String,
    shown: Vec<String>,
    /// Where the shown lines stand in the document.
    lines: std::ops::Range<usize>,
}

/// Lines of an answer that are shown.
const SHOWN: usize = 4;

fn examples(document: &str) -> Vec<Example> {
    let lines: Vec<&str> = document.lines().collect();
    let mut examples = Vec::new();
    let mut at = 0;
    while at < lines.len() {
        if lines[at] == "```toml" && lines[at + 1].starts_with("[contest.") {
            let end = (at..).find(|&end| lines[end] == "```").unwrap();
            assert_eq!(lines[end + 1], "```json", "the answer stands behind {}", lines[at + 1]);
            let close = (end + 2..).find(|&close| lines[close] == "```").unwrap();
            examples.push(Example {
                contest: lines[at + 1..end].join("\n"),
                name: lines[at + 1].trim_start_matches("[contest.").trim_end_matches(']').to_owned(),
                shown: lines[end + 2..close].iter().map(|&line| line.to_owned()).collect(),
                lines: end + 2..close,
            });
            at = close;
        }
        at += 1;
    }
    examples
}

/// The demo without its contests, with others in their place.
fn demo_with(contests: &str) -> Folder {
    let folder = Folder::empty();
    let templates = Path::new(env!("CARGO_MANIFEST_DIR")).join("templates");
    folder.write("apiary.sql", std::fs::read(templates.join("apiary.sql")).unwrap());
    let toml = std::fs::read_to_string(templates.join("apiary.toml")).unwrap();
    let head = toml.split("[contest.").next().unwrap_or_default();
    folder.write("kampf.toml", format!("{head}\n{contests}\n"));
    folder
}

#[test]
fn every_example_of_the_documents_has_the_answer_that_stands_behind_it() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/needs.md");
    let document = std::fs::read_to_string(&path).unwrap();
    let examples = examples(&document);
    assert!(examples.len() >= 15, "only {} examples were found", examples.len());
    let folder = demo_with(&examples.iter().map(|example| example.contest.as_str()).collect::<Vec<_>>().join("\n"));
    let mut lines: Vec<String> = document.lines().map(str::to_owned).collect();
    let mut wrong = String::new();
    for example in examples.iter().rev() {
        let answer = folder.ok(&["check", &example.name, "--answer", "--format", "json", "-q"]);
        let mut expected: Vec<String> = answer.lines().take(SHOWN).map(str::to_owned).collect();
        if answer.lines().count() > SHOWN {
            expected.push("…".to_owned());
        }
        if example.shown != expected {
            let _ = writeln!(wrong, "{}:\n{}", example.name, expected.join("\n"));
        }
        lines.splice(example.lines.clone(), expected);
    }
    if std::env::var_os("KAMPF_UPDATE").is_some() {
        std::fs::write(&path, lines.join("\n") + "\n").unwrap();
        return;
    }
    assert!(wrong.is_empty(), "run KAMPF_UPDATE=1 cargo test -p kampf needs; the answers are\n{wrong}");
}

#[test]
fn what_an_engine_cannot_say_is_told_with_what_it_costs() {
    let folder = Folder::apiary(
        "[contest.pattern]\nfrom = \"hive\"\ngive = [\"label\"]\nwhere = \"frames > 12 and label matches '[aeiou]'\"\nlimit = 3\n",
    );
    let text = folder.ok(&["show", "pattern"]);
    let told = text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(told.contains("`label matches '[aeiou]'` is left to the application: sqlite has no regular expressions; about"), "{text}");
    assert!(text.contains("\"hive\".\"frames\" > 12") && !text.contains("LIMIT"), "{text}");
    let shown = json(&folder.ok(&["show", "pattern", "--all", "--format", "json"]));
    assert_eq!(shown["left_to_the_application"].as_array().map(Vec::len), Some(1));
    let reasons: Vec<&str> = shown["not_derived"].as_array().unwrap().iter().filter_map(|not| not["reason"].as_str()).collect();
    assert!(reasons.iter().any(|reason| reason.contains("what the engine cannot say")), "{reasons:?}");
    folder.ok(&["check", "pattern", "-q"]);
}

#[test]
fn what_groups_and_aggregates_cost_where_they_are_left_is_told_too() {
    let folder = Folder::apiary(
        "[contest.grouped]\nfrom = \"hive\"\ngroup = [\"frames\"]\ngive = [\"frames\", \"sum(case when label matches '[aeiou]' then 1 else 0 end) as odd\"]\n\
         [contest.counted]\nfrom = \"hive\"\ngive = [\"label\", \"count(inspection where hive.label matches '[aeiou]') as odd\"]\n",
    );
    let told = |contest: &str| folder.ok(&["show", contest]).split_whitespace().collect::<Vec<_>>().join(" ");
    let text = told("grouped");
    assert!(text.contains("grouping is left to the application: sqlite has no regular expressions; about"), "{text}");
    assert!(text.contains("rows of hive are fetched for it, to be grouped there."), "{text}");
    let text = told("counted");
    assert!(text.contains("`count(inspection where hive.label matches '[aeiou]')` is left to the application"), "{text}");
    assert!(text.contains("up to") && text.contains("rows of inspection are fetched for it."), "{text}");
    folder.ok(&["check", "grouped", "counted", "-q"]);
}

#[test]
fn a_need_is_said_in_words() {
    let folder = Folder::apiary(
        "[contest.busy]\nfrom = \"hive\"\ngive = [\"label\", \"count(inspection where temper > 5) as fierce\"]\norder = [\"fierce desc\"]\n\
         [contest.sizes]\nfrom = \"hive\"\ngroup = [\"frames\"]\ngive = [\"frames\", \"count() as many\"]\nwhere = \"strain.name <> 'x'\"\n\
         [contest.one]\nfrom = \"hive\"\ngive = [\"count()\"]\n",
    );
    let words = |name: &str| json(&folder.ok(&["show", name, "--format", "json"]))["in_words"].as_str().unwrap().to_owned();
    assert_eq!(
        words("busy"),
        "Each of 40 rows of hive gives label and how many of its about 6.3 rows of inspection meet temper > 5; by fierce, largest first."
    );
    assert_eq!(
        words("sizes"),
        "Of 40 rows of hive, those where strain.name <> 'x', in groups, one for each frames, give frames and how many rows there are."
    );
    assert_eq!(words("one"), "40 rows of hive together give how many rows there are.");
    assert!(words("calm").contains("the mean temper of its about 6.3 rows of inspection"), "{}", words("calm"));
}

#[test]
fn optional_filters_are_one_text_or_what_is_given() {
    let more = "[contest.form]\nfrom = \"hive\"\ngive = [\"label\"]\nwhere = \"if(:frames, frames > :frames) and if(:strain, strain.name = :strain)\"\n\
                [contest.form.parameters]\nframes = \"8..20 or null 50%\"\nstrain = \"any(strain.name) or null 50%\"\n";
    let folder = Folder::apiary(more);
    let shown = json(&folder.ok(&["show", "form", "--format", "json"]));
    let sql = |name: &str| {
        let found = shown["contenders"].as_array().unwrap().iter().find(|contender| contender["name"] == name);
        found.unwrap_or_else(|| panic!("{name} is not there: {shown}"))["sql"][0].as_str().unwrap().to_owned()
    };
    assert!(sql("database.needed.plain").contains("?1 IS NULL OR"));
    assert!(sql("database.needed.plain+given").contains("WHERE \"hive\".\"frames\" > ?1 AND \"strain\".\"name\" = ?2"));
    let answer = folder.ok(&["check", "form", "--all", "--answer", "--format", "json", "-q"]);
    assert!(!answer.is_empty());
    // What is not given is not in the text, and neither is the table that only it needs.
    folder
        .write("kampf.toml", folder.read("kampf.toml").replace("any(strain.name) or null 50%", "null").replace("8..20 or null 50%", "12"));
    let traced = folder.ok(&["trace", "form", "database.needed.plain+given"]);
    assert!(traced.contains("frames\" > ?1") && !traced.contains("JOIN"), "{}", without_times(&traced));
    let traced = folder.ok(&["trace", "form", "database.needed.plain"]);
    assert!(traced.contains("JOIN \"strain\""), "{}", without_times(&traced));
}

#[test]
fn how_many_rows_came_is_the_answer_where_it_is_not_as_expected() {
    let more = "[contest.one]\nfrom = \"hive\"\ngive = [\"label\"]\nwhere = \"id = :id\"\nexpect = \"1\"\n\
                [contest.one.parameters]\nid = \"missing(hive.id)\"\n\
                [contest.first]\nfrom = \"hive\"\ngive = [\"id\"]\norder = [\"id\"]\nexpect = \"1 of many\"\n\
                [contest.two]\nfrom = \"hive\"\ngive = [\"id\"]\nexpect = \"0..1\"\n\
                [contest.two.contender.blind]\nsql = \"SELECT id FROM hive ORDER BY id LIMIT 1\"\n";
    let folder = Folder::apiary(more);
    assert_eq!(folder.ok(&["check", "one", "--all", "--answer", "--format", "json", "-q"]), "{\"came\":0}\n".repeat(8));
    assert!(folder.ok(&["check", "one"]).contains("expected exactly one, none came for 8 of 8 parameter sets"));
    assert_eq!(folder.ok(&["check", "first", "--all", "--answer", "--format", "json", "-q"]), "[1]\n");
    let ended = folder.kampf(&["check", "two"]);
    assert_eq!(ended.status, 1, "{}", ended.stdout);
    assert!(ended.stdout.contains("right is: expected one at most, 2 came"), "{}", ended.stdout);
    assert!(ended.stdout.contains("this one: 1 row as expected"), "{}", ended.stdout);
    assert!(folder.error(&["check", "calm", "-f", &wrong(&folder, "expect = \"2\"")], 2).contains("\"of many\" takes the first"));
}

#[test]
fn what_is_missing_is_in_no_row_whatever_its_kind() {
    let kinds = [("label", "label"), ("frames", "frames"), ("day", "day"), ("remark", "remark")];
    let contests: String = kinds
        .iter()
        .map(|(name, column)| {
            format!(
                "[contest.{name}]\nfrom = \"hive\"\ngive = [\"id\"]\nwhere = \"{column} = :{column}\"\n\
                 [contest.{name}.parameters]\n{column} = \"missing(hive.{column})\"\n"
            )
        })
        .collect();
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL, frames INTEGER NOT NULL, day DATE NOT NULL, remark TEXT NOT NULL);",
    );
    folder.write("kampf.toml", format!("schema = \"s.sql\"\n[rows]\nhive = 300\n{contests}"));
    let engines: &[&str] = if installed() { &["sqlite", "postgres"] } else { &["sqlite"] };
    for engine in engines {
        for (name, _) in kinds {
            let answer = folder.ok(&["check", name, "--engine", engine, "--answer", "--format", "json", "-q"]);
            assert_eq!(answer.trim(), "", "{engine} {name}");
        }
    }
}

/// Another kampf.toml with a line in its contest.
fn wrong(folder: &Folder, line: &str) -> String {
    folder.write("wrong.toml", format!("{}{line}\n", crate::common::TOML));
    "wrong.toml".to_owned()
}

#[test]
fn drawn_parameters_are_of_their_kinds() {
    let more = "[contest.drawn]\nfrom = \"hive\"\ngive = [\"id\"]\nwhere = \"id in :some and strain.id = :often\"\norder = [\"id\"]\n\
                [contest.drawn.parameters]\nsome = \"some(hive.id, 30)\"\noften = \"any(strain.id, zipf 1.5)\"\n";
    let folder = Folder::apiary(more);
    assert!(folder.ok(&["check", "drawn", "--all", "--answer", "--format", "json", "-q"]).lines().count() > 8);
    let traced = json(&folder.ok(&["trace", "drawn", "database.needed.record", "--format", "json"]));
    let parameters = traced["statements"][0]["parameters"].as_array().unwrap();
    assert_eq!(parameters.len(), 31, "the list is bound value by value: {parameters:?}");
    for (line, message) in [
        ("some = \"any(hive.id)\"", "`:some` is a list in this need, and this is one value"),
        ("often = \"some(strain.id, 3)\"", "`:often` is one value in this need, and this is a list"),
        ("often = \"any(strain.id, zipf 99)\"", "the exponent of `zipf` lies above 0 and is 10 at most"),
        ("often = \"missing(strain.nam)\"", "`strain` has no column `nam`"),
        ("often = \"any(strain.name)\"", "`name` is text(80), which cannot stand for `:often`"),
    ] {
        let key = line.split_once(' ').unwrap().0;
        let toml = folder.read("kampf.toml");
        let old = toml.lines().find(|old| old.starts_with(&format!("{key} = \""))).unwrap().to_owned();
        folder.write("other.toml", toml.replace(&old, line));
        let error = folder.error(&["check", "drawn", "-f", "other.toml"], 2);
        assert!(error.starts_with(message), "{error}");
    }
}

#[test]
fn mistakes_in_a_need_are_told_with_the_way_out() {
    let folder = Folder::apiary("");
    for (give, filter, message, hint) in [
        ("lable", "", "`hive` has no column `lable`", "did you mean `label`?"),
        ("uper(label)", "", "`uper` is not a function", "did you mean `upper`?"),
        ("inspection.temper", "", "`inspection.temper` has many values for one row", "list them, `inspection { temper }`"),
        ("strain { name, origin }", "", "`strain` leads to one row at most", "give `strain.name`, `strain.origin`"),
        ("first(strain order id).name", "", "`strain` leads to one row at most", "give `strain.name`"),
        ("last(inspection).temper", "", "it is not said which of these rows is the last one", "last(inspection order …).temper"),
        ("last(inspection order temper)", "", "it is not said which column of that row is wanted", "last(inspection order temper).…"),
        ("inspection order temper", "", "it is not said what is wanted of each of these rows", "inspection order temper { … }"),
        ("inspection { tempr }", "", "`inspection` has no column `tempr`", "did you mean `temper`?"),
        ("inspection { temper as a, id as a }", "", "`a` is given twice", "another name"),
        ("count(), inspection { temper }", "", "`,` is not expected here", ""),
        ("inspection { temper } as i\", \"count() as n", "", "`count()` counts the rows themselves", "name a relation"),
        ("max(inspection { temper })", "", "expected", ""),
        ("inspection order 5 { temper }", "", "this is the same for all rows", "sort by something of the row"),
        ("frames + label", "", "`+` needs numbers, and this is text(20)", "texts are joined by `||`"),
        ("label + 1", "", "`+` needs numbers, and this is text(20)", "texts are joined by `||`"),
        ("upper(label) as big", "big = 'X'", "`big` is a name of the answer, and `where` looks at rows before", "say the value itself"),
        ("count() as n", "n > 3", "`n` is a name of the answer", "a need has no condition on groups; or write it as SQL"),
        ("label", "frames > (select avg(frames) from hive)", "expected `)`", "a need has no sub-selects"),
        ("label || frames", "", "`||` needs a text, and this is integer", ""),
        ("round(frames, 1)", "", "`round` takes decimals, and this is integer", ""),
        ("count()", "frames > 'x'", "this is compared with integer, which it is not", ""),
        ("count(), label", "", "`,` is not expected here", ""),
        ("label", "frames", "a condition is needed here", "compare it with something"),
        ("label", "label = null", "nothing is equal to null", "is null"),
        ("label", "id in :ids", "the parameter `:ids` has no value", "give it one under"),
        ("label", "frames > 8 or if(:x, frames > 9)", "`if(…)` stands only as a part that `and` joins", ""),
        ("sum(label from inspection)", "", "`inspection` has no column `label`", ""),
        (
            "max(frames) as most\", \"label",
            "",
            "`frames` has one value at most for each row, so there is nothing to aggregate",
            "group the rows",
        ),
        ("avg(temper from inspection where hive.label = 5)", "", "this is compared with text(20), which it is not", ""),
        ("extract(hour from frames)", "", "`extract` needs a date or a time, and this is integer", ""),
        ("rank() over (order by frames)", "", "`rank` is not a function", "SQL of your own"),
        ("label", "label matches '\\\\d+'", "`\\d` means different things to different engines", "Patterns"),
    ] {
        let filter = if filter.is_empty() { String::new() } else { format!("where = \"{filter}\"\n") };
        folder.write("wrong.toml", format!("{}[contest.wrong]\nfrom = \"hive\"\ngive = [\"{give}\"]\n{filter}", crate::common::TOML));
        let error = folder.error(&["check", "wrong", "-f", "wrong.toml"], 2);
        assert!(error.starts_with(message), "{give}: {error}");
        assert!(error.contains(hint), "{give}: {error}");
        assert!(error.contains("at wrong.toml:"), "{give}: {error}");
    }
}

#[test]
fn numbers_that_become_too_large_end_a_contest_before_it_begins() {
    let folder = Folder::apiary(
        "[contest.large]\nfrom = \"hive\"\ngive = [\"label\", \"frames * 9_000_000_000_000_000_000 as much\"]\nwhere = \"frames > 100\"\n",
    );
    let ended = folder.kampf(&["check", "large"]);
    assert_eq!(ended.status, 2, "it is a matter of the file");
    assert!(
        format!("{}{}", ended.stdout, ended.stderr).contains("`frames * 9000000000000000000` becomes too large for its type"),
        "{}",
        ended.stderr
    );
}

#[test]
fn a_value_is_of_one_kind_however_it_is_reckoned() {
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, n INTEGER NOT NULL, m DECIMAL(6,2) NOT NULL, r REAL NOT NULL, age INTEGER NOT NULL);
         CREATE TABLE comb (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, m DECIMAL(6,2) NOT NULL);",
    );
    let engines: &[&str] = if installed() { &["sqlite", "postgres"] } else { &["sqlite"] };
    let answers = |give: &str, more: &str| {
        let head = "schema = \"s.sql\"\n[rows]\nhive = 3\ncomb = \"2..2 per hive\"\n[values]\n\"hive.n\" = \"3\"\n\"hive.m\" = \"2.40\"\n\"hive.r\" = \"0.5\"\n\
            \"hive.age\" = \"pick(5, 4, 9)\"\n\"comb.m\" = \"1.60\"\n";
        folder.write("kampf.toml", format!("{head}[contest.one]\nfrom = \"hive\"\ngive = [{give}]\n{more}\nlimit = 1\n"));
        let all = engines.iter().map(|engine| {
            folder.ok(&["check", "--all", "--engine", engine, "-q"]);
            folder.ok(&["check", "--answer", "--format", "json", "--engine", engine, "-q"]).trim().to_owned()
        });
        let all: Vec<String> = all.collect();
        assert!(all.iter().all(|one| *one == all[0]), "{give}: {all:?}");
        all[0].clone()
    };
    let order = "order = [\"id\"]";
    // Rounded to none, a decimal is still one, and so is the sum of such.
    assert_eq!(answers("\"round(m, 0)\", \"sum(round(m, 0) from comb)\", \"max(round(m, 0) from comb)\"", order), "[\"2\",\"4\",\"2\"]");
    assert_eq!(answers("\"n * (n * 1.5)\", \"n * n * 1.5\", \"(1.5 * n) * n\"", order), "[\"13.5\",\"13.5\",\"13.5\"]");
    assert_eq!(answers("\"r * round(3.0, 2)\", \"r * 3.0\"", order), "[1.5,1.5]");
    // A column that is called just so comes before what is given under its name in other letters; else letters are alike.
    assert_eq!(
        answers("\"-age as Age\", \"age as same\"", "order = [\"age\", \"id\"]"),
        answers("\"-age as other\", \"age as same\"", "order = [\"age\", \"id\"]")
    );
    assert_eq!(
        answers("\"-n as Less\", \"id\"", "order = [\"less\", \"id\"]"),
        answers("\"-n as Less\", \"id\"", "order = [\"-n\", \"id\"]")
    );
    // What is not of the row says nothing.
    for condition in ["1 = 1", "true", "not false and n > 0"] {
        folder
            .write("kampf.toml", format!("schema = \"s.sql\"\n[contest.one]\nfrom = \"hive\"\ngive = [\"id\"]\nwhere = \"{condition}\"\n"));
        let said = folder.error(&["check", "-q"], 2);
        assert!(said.contains("a condition is needed here") || said.contains("compares nothing of the row"), "{said}");
    }
    folder.write("kampf.toml", "schema = \"s.sql\"\n");
    folder.ok(&["fill", "--remove", "-q"]);
}
