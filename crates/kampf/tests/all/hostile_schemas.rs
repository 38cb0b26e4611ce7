//! Schemas that nobody writes by hand, and that must neither end the program nor keep it for long.

use crate::common::{Folder, json};

/// A table whose check is the one given.
fn checked(check: &str) -> String {
    format!("CREATE TABLE hive (id INTEGER PRIMARY KEY, x INTEGER NOT NULL, s TEXT, CHECK ({check}));\n")
}

fn chain(word: &str, count: usize, part: impl Fn(usize) -> String) -> String {
    (0..count).map(part).collect::<Vec<_>>().join(word)
}

fn folder(sql: &str, toml: &str) -> Folder {
    let folder = Folder::empty();
    folder.write("s.sql", sql);
    folder.write("kampf.toml", format!("schema = \"s.sql\"\n{toml}"));
    folder
}

/// The schema is read, and values are made for it.
fn works(sql: &str) {
    let folder = folder(sql, "");
    let ended = folder.kampf(&["fill", "--preview", first_table(sql), "--format", "json"]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    assert!(json(&ended.stdout)["columns"].is_array());
}

/// The schema is refused with an error that names its place and is read at a glance.
fn refused(sql: &str, expected: &str) {
    let folder = folder(sql, "");
    let error = folder.error(&["fill", "--preview", first_table(sql)], 2);
    assert!(error.contains(expected), "{error}");
    assert!(error.contains("at s.sql:"), "{error}");
    assert!(error.len() < 2_500 && error.lines().count() <= 6, "{} bytes: {error}", error.len());
}

/// The schema goes on without the check, which is said with its place and read at a glance.
fn left_out(sql: &str, expected: &str) {
    let ended = folder(sql, "").kampf(&["fill", "--preview", first_table(sql)]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    let words = ended.stderr.as_str();
    let is_warning = words.starts_with("s.sql:1: warning: ") && words.contains("is left out, since ") && words.lines().count() == 1;
    assert!(is_warning && words.contains(expected) && words.len() < 2_500, "{} bytes: {words}", words.len());
}

fn first_table(sql: &str) -> &str {
    sql.split_once("CREATE TABLE ").and_then(|(_, rest)| rest.split([' ', '(']).next()).unwrap_or("hive")
}

#[test]
fn long_chains_of_conditions_are_read() {
    works(&checked(&chain(" OR ", 5_000, |at| format!("x = {at}"))));
    works(&checked(&chain(" AND ", 5_000, |at| format!("x <> {at}"))));
    works(&checked(&chain(" AND ", 1_000, |at| format!("x <> {at}"))));
    works(&checked(&format!(
        "({}) AND ({})",
        chain(" OR ", 900, |at| format!("x = {at}")),
        chain(" AND ", 900, |at| format!("x <> {}", at + 1_000))
    )));
}

#[test]
fn what_is_nested_too_deeply_is_left_out_in_words() {
    let deep = "nested more than 100 levels deep";
    left_out(&checked(&format!("{} > 0", chain(" + ", 5_000, |_| "x".to_owned()))), deep);
    left_out(&checked(&format!("{} <> 'a'", chain(" || ", 5_000, |_| "s".to_owned()))), deep);
    left_out(&checked(&format!("x{} > 0", "::int".repeat(9_000))), deep);
    left_out(&checked(&format!("{}x{} > 0", "CAST(".repeat(10_000), " AS int)".repeat(10_000))), "");
    left_out(&checked(&format!("{}x > 0{}", "(".repeat(100_000), ")".repeat(100_000))), "");
    left_out(&checked(&format!("{}x > 0", "NOT ".repeat(5_000))), "");
    left_out(&checked(&format!("{}x > 0", "- ".repeat(5_000))), "");
    left_out(&checked(&format!("{}1{} > 0", "CASE WHEN x > 0 THEN ".repeat(2_000), " ELSE 2 END".repeat(2_000))), "");
    left_out(&checked(&chain(" OR ", 200_000, |at| format!("x = {at}"))), "more than 10000 operators");
    left_out(&checked(&format!("unknown({}) > 0", chain(",", 20_000, |_| "s".to_owned()))), "the function unknown");
}

#[test]
fn many_of_everything_are_taken_in_their_stride() {
    works(&format!(
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, x INTEGER NOT NULL, s TEXT);\n{}",
        chain("\n", 100_000, |at| format!("INSERT INTO hive VALUES ({at}, {at}, 'a');"))
    ));
    works(&checked(&format!("x IN ({})", chain(", ", 100_000, |at| at.to_string()))));
    works(&checked(&format!("s IN ({})", chain(", ", 100_000, |at| format!("'t{at}'")))));
    works(&format!(
        "CREATE TYPE kind AS ENUM ({});\nCREATE TABLE hive (id INTEGER PRIMARY KEY, k kind NOT NULL);",
        chain(", ", 100_000, |at| format!("'t{at}'"))
    ));
    works(
        &chain("\n", 20_000, |at| {
            format!("CREATE TABLE t{at} (id INTEGER PRIMARY KEY, p INTEGER NOT NULL REFERENCES t{});", at.saturating_sub(1))
        })
        .replacen("p INTEGER NOT NULL", "p INTEGER", 1),
    );
    let columns = chain(", ", 60, |at| format!("r{at} INTEGER"));
    let tables = chain("\n", 60, |at| format!("CREATE TABLE t{at} (id INTEGER PRIMARY KEY, {columns});"));
    let references = chain("\n", 3_600, |at| format!("ALTER TABLE t{} ADD FOREIGN KEY (r{1}) REFERENCES t{1} (id);", at / 60, at % 60));
    works(&format!("{tables}\n{references}"));
    let many = chain(", ", 30_000, |at| format!("c{at} INTEGER"));
    refused(&format!("CREATE TABLE hive (id INTEGER PRIMARY KEY, {many});"), "has more than 4096 columns, which no engine keeps");
    let long = "x".repeat(5_000_000);
    refused(
        &format!("CREATE TABLE hive (id INTEGER PRIMARY KEY, s TEXT DEFAULT '{long}');"),
        "the default of `hive.s` is longer than 64 KiB",
    );
}

#[test]
fn texts_that_are_too_long_to_try_are_said_and_long_lists_are_looked_at_once() {
    let long = folder(&checked("length(s) >= 20000000").replace("s TEXT", "s TEXT NOT NULL"), "");
    let error = long.error(&["fill", "--preview", "hive"], 2);
    assert!(error.contains("no values were found for `hive` that fulfil the check `length(s) >= 20000000`"), "{error}");
    let list = checked(&format!("x IN ({})", chain(", ", 20_000, |at| (at * 7).to_string())));
    let many = folder(&list, "[rows]\nhive = 300\n");
    let filled = json(&many.ok(&["fill", "--format", "json", "-q"]));
    assert_eq!(filled["tables"][0]["rows"], 300);
}

#[test]
fn marks_and_nuls_in_a_file_lose_no_table() {
    let two = "CREATE TABLE hive (id INTEGER PRIMARY KEY);\nCREATE TABLE bee (id INTEGER PRIMARY KEY);\n";
    let marked = folder(&format!("\u{feff}{two}"), "");
    marked.write("kampf.toml", "\u{feff}schema = \"s.sql\"\n");
    let filled = json(&marked.ok(&["fill", "--format", "json", "-q"]));
    assert_eq!(filled["tables"].as_array().unwrap().len(), 2);
    let nul = folder(&two.replace("\nCREATE", "\n\0CREATE"), "");
    insta::assert_snapshot!(nul.error(&["fill"], 2), @r"
    s.sql holds a NUL character
      at s.sql:2:1
         CREATE TABLE bee (id INTEGER PRIMARY KEY);
        ^
      save it as plain UTF-8 text
    ");
}

#[test]
fn numbers_that_no_engine_takes_are_refused_where_they_stand() {
    let two =
        "CREATE TABLE hive (id INTEGER PRIMARY KEY); CREATE TABLE bee (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive);";
    let error = |toml: &str| folder(two, toml).error(&["fill"], 2);
    insta::assert_snapshot!(error("[rows]\nhive = 9_000_000_000_000_000_000\n"), @r"
    `hive` cannot have more than 1000000000000 rows
      at kampf.toml:3:8
        hive = 9_000_000_000_000_000_000
               ^^^^^^^^^^^^^^^^^^^^^^^^^
      give fewer
    ");
    assert!(
        error("[rows]\nhive = 4_000_000_000\nbee = \"9_000_000_000 per hive\"\n")
            .starts_with("`hive` has 4000000000 rows; children can be counted")
    );
    assert!(error("[rows]\nhive = 100\nbee = \"9_000_000_000 per hive\"\n").contains("more than four thousand million rows"));
    insta::assert_snapshot!(error("[contest.a]\nfrom = \"hive\"\ngive = [\"id\"]\nlimit = 18_000_000_000_000_000_000\n"), @r"
    a limit of 18000000000000000000 is more than engines take
      at kampf.toml:5:9
        limit = 18_000_000_000_000_000_000
                ^^^^^^^^^^^^^^^^^^^^^^^^^^
      give at most 9223372036854775807, or leave the line out: all rows are given then
    ");
    let most = folder(two, "[rows]\nhive = 10\n[contest.a]\nfrom = \"hive\"\ngive = [\"id\"]\nlimit = 9_223_372_036_854_775_807\n");
    assert!(most.ok(&["check", "-q"]).contains("contenders give this answer"));
}

#[test]
fn a_result_that_was_edited_is_refused_at_once() {
    let folder = Folder::apiary("");
    let race = ["race", "--rounds", "1", "--time", "1s", "--format", "json", "-q", "--only", "computed.database.needed.*"];
    let text = folder.ok(&race);
    let edited = |edit: &dyn Fn(&mut serde_json::Value)| {
        let mut document = json(&text);
        edit(&mut document["contests"][0]);
        folder.write("edited.json", document.to_string());
        folder.kampf(&["results", "edited.json"])
    };
    assert_eq!(edited(&|_| {}).status, 0);
    let edits: [&dyn Fn(&mut serde_json::Value); 4] = [
        &|contest| contest["race"]["rounds"] = u64::MAX.into(),
        &|contest| contest["race"]["margin"] = 0.into(),
        &|contest| contest["contenders"][0]["rounds"][0] = (-1).into(),
        &|contest| contest["race"]["rounds"] = 0.into(),
    ];
    for edit in edits {
        let ended = edited(edit);
        assert!(ended.status == 2 && ended.stderr.contains("is damaged, or was edited"), "{}", ended.stderr);
    }
}
