//! Every mistake is answered by what, where and what to do, with the exit status for it.

use crate::common::{Folder, SQL, TOML};

/// The error of `kampf show calm` after one replacement in kampf.toml.
fn in_toml(from: &str, to: &str) -> String {
    assert!(TOML.contains(from), "{from} is not in the file");
    let folder = Folder::empty();
    folder.write("apiary.sql", SQL);
    folder.write("kampf.toml", TOML.replacen(from, to, 1));
    folder.error(&["show", "calm"], 2)
}

fn in_sql(from: &str, to: &str) -> String {
    assert!(SQL.contains(from), "{from} is not in the file");
    let folder = Folder::apiary("");
    folder.write("apiary.sql", SQL.replacen(from, to, 1));
    folder.error(&["show", "calm"], 2)
}

#[test]
fn a_wrong_name_in_a_need_is_shown_with_a_caret_and_the_right_name() {
    insta::assert_snapshot!(in_toml("\"label\"", "\"lable\""), @r#"
    `hive` has no column `lable`
      at kampf.toml:11:10
        give = ["lable", "strain.name", "avg(inspection.temper) as calm", "count(inspection) as visits"]
                 ^^^^^
      did you mean `label`?
    "#);
    insta::assert_snapshot!(in_toml("from = \"hive\"", "from = \"hives\""), @r#"
    there is no table `hives`
      at kampf.toml:10:9
        from = "hives"
                ^^^^^
      did you mean `hive`?
    "#);
    insta::assert_snapshot!(in_toml("\"label\"", "\"l\\u0061bel\", \"\\\"strain\\\".nmae as x\""), @r#"
    `strain` has no column `nmae`
      at kampf.toml:11:35
        give = ["l\u0061bel", "\"strain\".nmae as x", "strain.name", "avg(inspection.temper) as calm", "count(inspect…
                                          ^^^^
      did you mean `name`?
    "#);
    insta::assert_snapshot!(in_toml("order = [\"calm desc\"]", "where = \"\"\"\n  frames > 10\n  and nothing = 1\n\"\"\"\norder = [\"calm desc\"]"), @r#"
    `hive` has no column `nothing`
      at kampf.toml:14:7
          and nothing = 1
              ^^^^^^^
      there is `id`, `strain_id`, `label`, `frames`, `strain`, `inspection`; a text stands in single quotes: 'nothing'
    "#);
}

#[test]
fn needs_that_mean_nothing_are_refused_with_the_way_out() {
    insta::assert_snapshot!(in_toml("\"label\"", "\"inspection.temper\""), @r#"
    `inspection.temper` has many values for one row
      at kampf.toml:11:10
        give = ["inspection.temper", "strain.name", "avg(inspection.temper) as calm", "count(inspection) as visits"]
                 ^^^^^^^^^^^^^^^^^
      aggregate them, like `max(inspection.temper)`, take one, like `last(inspection order …).temper`, or list them, `inspection { temper }`
    "#);
    insta::assert_snapshot!(in_toml("\"label\"", "\"avg(strain.id)\""), @r#"
    `strain.id` has one value at most for each row, so there is nothing to aggregate
      at kampf.toml:11:14
        give = ["avg(strain.id)", "strain.name", "avg(inspection.temper) as calm", "count(inspection) as visits"]
                     ^^^^^^^^^
      give it as it is, aggregate over inspection, or group the rows with `group`
    "#);
    assert!(in_toml("\"label\"", "\"sum(inspection)\"").starts_with("`sum` needs a column of `inspection`"));
    assert!(in_toml("\"label\"", "\"strain\"").starts_with("`strain` is a relation, not a value"));
    assert!(in_toml("limit = 10", "where = \"label > 5\"").starts_with("this is compared with text(20), which it is not"));
    assert!(in_toml("limit = 10", "where = \"label = null\"").contains("write `is null` or `is not null`"));
    assert!(in_toml("limit = 10", "where = \"label\"").starts_with("a condition is needed here"));
    assert!(in_toml("limit = 10", "where = \"frames > :least\"").starts_with("the parameter `:least` has no value"));
    assert!(in_toml("limit = 10", "[contest.calm.parameters]\nleast = 5").starts_with("the parameter `least` is not used in this need"));
    assert!(in_toml("as visits", "as calm").starts_with("`calm` is given twice"));
    assert!(in_toml("give = ", "gave = ").starts_with("`gave` is not a key of [contest.calm]"));
    assert!(in_toml("from = \"hive\"\n", "").starts_with("`calm` does not say from which table"));
}

#[test]
fn the_project_file_is_checked_key_by_key() {
    insta::assert_snapshot!(in_toml("seed = 3", "sead = 3"), @r"
    `sead` is not a key of kampf.toml
      at kampf.toml:2:1
        sead = 3
        ^^^^
      did you mean `seed`?
    ");
    insta::assert_snapshot!(in_toml("limit = 10", "limit = \"ten\""), @r#"
    `limit` must be a whole number from 0 on, not a text
      at kampf.toml:13:9
        limit = "ten"
                ^^^^^
    "#);
    insta::assert_snapshot!(in_toml("seed = 3", "engine = \"sqlight\""), @r#"
    there is no engine `sqlight`
      at kampf.toml:2:10
        engine = "sqlight"
                 ^^^^^^^^^
      there is `sqlite`, `postgres`
    "#);
    insta::assert_snapshot!(in_toml("limit = 10", "[contest.calm.choices]\nloading = [\"lazzy\"]"), @r#"
    `lazzy` is not an option of loading
      at kampf.toml:14:12
        loading = ["lazzy"]
                   ^^^^^^^
      did you mean `lazy`?
    "#);
    assert!(in_toml("seed = 3", "seed = = 3").starts_with("this is not TOML:"));
    assert!(in_toml("seed = 3", "[engine.settings]\ncash_size = 5").contains("did you mean `cache_size`?"));
    assert!(in_toml("limit = 10", "[contest.calm.require]\np95 = \"fast\"").starts_with("`fast` does not begin with a number"));
    assert!(in_toml("limit = 10", "[contest.calm.contender.\"a.b\"]\nsql = \"x\"").starts_with("a contender's name is one word"));
    assert!(in_toml("limit = 10", "[contest.calm.contender.mine]").starts_with("`mine` says nothing to do"));
    assert!(in_toml("limit = 10", "[contest.calm.contender.mine]\nsql = \"select :x\"").starts_with("the parameter `:x` has no value"));
    assert!(in_toml("limit = 10", "[values]\nhive.label = \"name\"").contains("put the whole name in quotes"));
}

#[test]
fn rows_and_recipes_are_checked_with_their_places() {
    insta::assert_snapshot!(in_toml("hive = 40", "hive = \"4 per strian\""), @r#"
    there is no table `strian`
      at kampf.toml:6:15
        hive = "4 per strian"
                      ^^^^^^
      did you mean `strain`?
    "#);
    insta::assert_snapshot!(in_toml("[contest.calm]", "[values]\n\"hive.frames\" = \"normal(12, 4) in 8..\"\n[contest.calm]"), @r#"
    expected the upper end of the range, found the end
      at kampf.toml:10:38
        "hive.frames" = "normal(12, 4) in 8.."
                                             ^
    "#);
    insta::assert_snapshot!(in_toml("[contest.calm]", "[values]\n\"hive.strain_id\" = \"1..5\"\n[contest.calm]"), @r#"
    `hive.strain_id` refers to `strain`, so its values are keys from there
      at kampf.toml:10:20
        "hive.strain_id" = "1..5"
                           ^^^^^^
      say how parents are chosen: `uniform`, `zipf(1.1)`, `same(table)`, each with `or null 30%`; or remove this line
    "#);
    // Of what a recipe makes, the checks leave what they allow; where that is nothing, both are wrong together.
    let folder = Folder::apiary("[values]\n\"hive.frames\" = \"1..99\"\n");
    assert_eq!(folder.kampf(&["fill"]).status, 0);
    insta::assert_snapshot!(in_toml("[contest.calm]", "[values]\n\"hive.frames\" = \"60..99\"\n[contest.calm]"), @r#"
    nothing that this makes for `hive.frames` fulfils the check `frames BETWEEN 8 AND 24`
      at kampf.toml:10:17
        "hive.frames" = "60..99"
                        ^^^^^^^^
      let it make what the check allows, or leave the line out
    "#);
}

#[test]
fn the_schema_is_checked_with_its_places() {
    insta::assert_snapshot!(in_sql("REFERENCES strain (id)", "REFERENCES strain (no)"), @r"
    table `strain` has no column `no` to refer to
      at apiary.sql:4:49
          strain_id INTEGER NOT NULL REFERENCES strain (no),
                                                        ^^
      there is `id`, `name`
    ");
    // SQLite takes any name for a type; the others do not.
    let folder = Folder::apiary("");
    folder.write("kampf.toml", format!("dialect = \"postgres\"\n{TOML}"));
    folder.write("apiary.sql", SQL.replace("label VARCHAR(20)", "comb honeycomb, label character varying(20)"));
    insta::assert_snapshot!(folder.error(&["show", "calm"], 2), @r#"
    `hive.comb`: the type honeycomb is not known
      at apiary.sql:5:8
          comb honeycomb, label character varying(20) NOT NULL,
               ^^^^^^^^^
      say what it means, in kampf.toml: `[types]` and under it `honeycomb = "text"`
    "#);
    assert!(in_sql("CREATE TABLE hive (", "CREATE TABLE hive [").starts_with("this statement cannot be read: "));
    let folder = Folder::apiary("[types]\nhoneycomb = \"text\"\n");
    folder.write("apiary.sql", format!("{SQL}CREATE TABLE map (id INTEGER PRIMARY KEY, area HONEYCOMB);\nCREATE VIEW v AS SELECT 1;\n"));
    let shown = folder.kampf(&["show", "calm", "-v"]);
    assert_eq!(shown.status, 0, "{}", shown.stderr);
    assert_eq!(shown.stderr, "the schema is read as sqlite\napiary.sql:15: passed over: CREATE VIEW v AS SELECT 1\n");
}

#[test]
fn what_other_languages_write_is_answered_with_what_is_written_here() {
    let said = |line: &str| {
        let folder = Folder::apiary(&format!("[contest.own]\nfrom = \"hive\"\ngive = [\"label\"]\n{line}\n"));
        folder.error(&["check", "own"], 2)
    };
    let doubled = said("where = \"label == 'a'\"");
    assert!(doubled.contains("found `=`") && doubled.contains("one `=` compares two values"), "{doubled}");
    let list = said("where = \"label = :x\"\nparameters = { x = [\"a\", \"b\"] }");
    assert!(list.starts_with("the parameter `x` is said by one text") && list.contains("`some(hive.id, 20)` a list of twenty"), "{list}");
    let large = said("where = \"frames = 99999999999999999999\"");
    assert!(large.starts_with("this number is too large") && large.contains(&format!(" {}\n", "^".repeat(20))), "{large}");
    let folder = Folder::apiary("");
    folder.write("kampf.toml", TOML.replace("hive = 40", "hive = -5"));
    let negative = folder.error(&["fill"], 2);
    assert!(negative.contains("from 0 on, not -5") && negative.contains("\"12 per apiary\""), "{negative}");
}

#[test]
fn what_changes_the_rows_is_said_and_a_check_of_the_application_stops_nobody() {
    let folder = Folder::apiary("");
    let checked = SQL.replace("frames INTEGER NOT NULL CHECK (frames BETWEEN 8 AND 24)", "frames INTEGER CHECK (is_even(frames))");
    folder.write("apiary.sql", format!("{checked}CREATE TABLE IF NOT EXISTS hive (id INTEGER);\nCREATE VIEW v AS SELECT 1;\n"));
    let filled = folder.kampf(&["fill"]);
    assert_eq!(filled.status, 0, "{}", filled.stderr);
    insta::assert_snapshot!(filled.stderr.lines().filter(|line| line.contains("warning")).collect::<Vec<_>>().join("\n"), @r#"
    apiary.sql:14: warning: the table `hive` is there already: what counts is the statement that made it before, not this one (IF NOT EXISTS)
    apiary.sql:6: warning: the check `is_even(frames)` of `hive` is left out, since the function is_even is not known here; say under [values] how to meet it: "hive.frames" = "0..1000"
    "#);
    // The line that it gives is one that Kampf takes, and then there is nothing to warn of.
    let line = filled.stderr.lines().find_map(|line| line.split_once("how to meet it: ")).expect("a line is given").1;
    folder.write("kampf.toml", format!("{TOML}\n[values]\n{line}\n"));
    assert!(!folder.kampf(&["fill"]).stderr.contains("is_even"));
    assert_eq!(folder.kampf(&["fill", "-q"]).stderr, "");
}

#[test]
fn files_that_cannot_be_used_are_named() {
    let folder = Folder::empty();
    assert!(folder.error(&["race"], 2).starts_with("there is no kampf.toml\n  `kampf new DIR` makes a folder"));
    folder.write("kampf.toml", TOML);
    insta::assert_snapshot!(folder.error(&["race"], 2), @r#"
    cannot read the schema apiary.sql: it does not exist
      at kampf.toml:1:10
        schema = "apiary.sql"
                 ^^^^^^^^^^^^
    "#);
    folder.write("apiary.sql", b"CREATE TABLE a (\n b TEXT -- \xff\n)");
    assert!(folder.error(&["race"], 2).starts_with("apiary.sql is not UTF-8 text: byte 29 in line 2"));
    folder.write("apiary.sql", " \n");
    assert!(folder.error(&["race"], 2).starts_with("apiary.sql is empty"));
    folder.write("kampf.toml", "");
    assert!(folder.error(&["race"], 2).starts_with("kampf.toml names no schema"));
    folder.write("kampf.toml", "schema = \".\"\n");
    assert!(folder.error(&["race"], 2).starts_with(". is empty"), "a folder stands for the files in it");
    let folder = Folder::apiary("");
    std::fs::write(folder.path().join(".kampf"), "in the way").unwrap();
    assert!(folder.error(&["fill"], 3).starts_with("cannot make .kampf:"), "{}", folder.error(&["fill"], 3));
}

#[test]
fn the_command_line_is_checked() {
    let folder = Folder::apiary("");
    assert!(folder.error(&["rase"], 2).contains("similar subcommand"));
    assert!(folder.error(&["race", "--time", "soon"], 2).contains("`soon` does not begin with a number"));
    assert!(folder.error(&["race", "calmer"], 2).starts_with("kampf.toml has no contest `calmer`\n  did you mean `calm`?"));
    assert!(folder.error(&["show", "calm", "--only", "nobody*"], 2).starts_with("no contender of `calm` fits nobody*"));
    assert!(folder.error(&["trace", "calm", "lazy.databse.all.managed"], 2).contains("did you mean `lazy.database.all.managed`?"));
    assert!(folder.error(&["new", "."], 2).contains("kampf.toml is already there"));
    assert_eq!(folder.read("kampf.toml"), TOML);
    // Numbers beyond all bounds are refused in words.
    let nines = "9".repeat(40);
    let nines_of = |unit: &str| format!("{nines}{unit}");
    for (option, value, says) in [
        ("--timeout", "9999999999999999999s", "is too long; at most 1000 days can be waited for"),
        ("--timeout", "1e400s", "is not a unit of time"),
        ("--time", nines_of("s").as_str(), "is too long"),
        ("--memory-limit", "99999999999GiB", "is too large"),
        ("--memory-limit", nines_of("B").as_str(), "is too large"),
        ("--rounds", nines.as_str(), "number too large"),
        ("--seed", nines.as_str(), "number too large"),
        ("--margin", "1e999%", "not a share"),
        ("--margin", "999999999999999999999%", "is not between 0 % and 100 %"),
        ("--round-trip", "9999999999999999999s", "is too long"),
    ] {
        let text = folder.error(&["race", option, value], 2);
        assert!(text.contains(says), "{option} {value}: {text}");
    }
    // What is long and can be waited for is taken.
    folder.ok(&["race", "--timeout", "999h".replace('h', "min").as_str(), "--time", "1s", "--rounds", "1", "-q", "--only", "computed.*"]);
}

#[test]
fn numbers_beyond_all_bounds_in_the_project_file_are_refused_in_words() {
    let rows = |rows: &str| in_toml("hive = 40", &format!("hive = {rows}"));
    assert!(rows("9223372036854775807").starts_with("`hive` cannot have more than 1000000000000 rows"));
    assert!(rows("18446744073709551616").starts_with("`hive` is a number of more than 64 bits"), "{}", rows("18446744073709551616"));
    assert!(rows("\"9223372036854775807 per strain\"").starts_with("these would be more than four thousand million rows"));
    assert!(in_toml("seed = 3", "seed = 18446744073709551616").starts_with("`seed` is a number of more than 64 bits"));
    assert!(in_toml("seed = 3", "seed = -3").starts_with("`seed` must be a whole number from 0 on, not -3"));
    assert!(rows("-1").starts_with("`hive` must be a whole number from 0 on, not -1"));
    assert!(in_toml("limit = 10", "limit = 18446744073709551615").contains("is more than engines take"));
    assert!(
        in_toml("limit = 10", &format!("limit = 10\nwhere = \"{}id = 1{}\"", "(".repeat(9000), ")".repeat(9000)))
            .contains("nested deeper than 64 levels")
    );
    assert!(in_toml("seed = 3", &format!("seed = {}", "[".repeat(9000))).contains("this is not TOML"));
    assert!(in_toml("seed = 3", "[conditions]\nround_trip = \"9999999999999999999s\"").contains("is too long"));
    assert!(in_toml("limit = 10", "[contest.calm.require]\nmemory = \"99999999999999GiB\"").contains("is too large"));
    assert!(in_toml("limit = 10", "[contest.calm.require]\np95 = \"9999999999999999999s\"").contains("is too long"));
}

#[test]
fn what_is_nearly_right_is_answered_with_what_it_should_be() {
    insta::assert_snapshot!(in_toml("schema = ", "shema = "), @r#"
    `shema` is not a key of kampf.toml
      at kampf.toml:1:1
        shema = "apiary.sql"
        ^^^^^
      did you mean `schema`?
    "#);
    let error = in_toml("limit = 10\n", "limit = 10\n[contest.calm.require]\np95 = 20\n");
    assert!(error.contains("it has a unit, and stands in quotes: p95 = \"20ms\""), "{error}");
    for (line, said, hint) in [
        ("p95 = \"20\"", "`20` has no unit: 20ms, 20us or 20s?", "p95 = \"20ms\""),
        ("cold = \"5\"", "`5` has no unit: 5ms, 5us or 5s?", "cold = \"20ms\""),
        ("memory = \"20\"", "`20` has no unit: 20 KiB, 20 MiB or 20 GiB?", "memory = \"32 MiB\""),
    ] {
        let error = in_toml("limit = 10\n", &format!("limit = 10\n[contest.calm.require]\n{line}\n"));
        assert!(error.starts_with(said) && error.contains(&format!("it has a unit, and stands in quotes: {hint}")), "{error}");
    }
    let error = in_toml("limit = 10\n", "limit = 10\nwhere = \"label = :word\"\n[contest.calm.parameters]\nword = \"weak\"\n");
    assert!(error.contains("a fixed text is written in quotes within the quotes: \"'weak'\""), "{error}");
    let folder = Folder::apiary("");
    assert!(folder.error(&["check", "--round-trip", "0"], 2).contains("--round-trip"), "it is for races");
    assert!(folder.kampf(&["race", "--round-trip", "5"]).stderr.contains("`5` has no unit: 5ms, 5us or 5s?"));
    assert!(folder.kampf(&["race", "-q", "-v"]).stderr.contains("cannot be used with"));
    assert!(folder.error(&["results", "latest"], 2).contains("there is no result yet"));
}

#[test]
fn words_of_other_languages_are_answered_with_the_way_out() {
    let folder = Folder::apiary("");
    let base = folder.read("kampf.toml");
    for (contest, expected) in [
        ("give = [\"count(inspection.*)\"]", "columns are named one by one, and rows are counted by `count()`"),
        ("give = [\"*\"]", "columns are named one by one"),
        ("give = [\"label, frames\"]", "each value is a text of the list by itself"),
        ("give = [\"distinct label\"]", "`distinct = true` is a key of the contest"),
        ("give = [\"label\"]\nwhere = \"label ilike '%a%'\"", "`lower(name) contains 'bee'`"),
        ("give = [\"label\"]\nwhere = \"frames > 3 && frames < 9\"", "both: `and`"),
        ("give = [\"label\"]\nwhere = \"frames > 3 limit 4\"", "the key `limit` of the contest"),
        ("give = [\"label\"]\nwhere = \"label = honey\"", "a text stands in single quotes: 'honey'"),
        ("give = [\"label\"]\nwhere = 'label = \"honey\"'", "a text stands in single quotes: 'honey'"),
        ("give = [\"label\"]\norder = [\"label descending\"]", "the larger first: `desc`"),
        ("give = [\"label\"]\noffset = 10", "pages are read by `page`"),
        ("give = [\"label\"]\nhaving = \"count() > 3\"", "a condition over groups is SQL of your own"),
        ("give = [\"label\"]\ngroup_by = [\"label\"]", "the terms of groups stand in `group`"),
        ("give = [\"label\"]\norder_by = [\"label\"]", "what rows are sorted by stands in `order`"),
        ("give = [\"label\"]\nzebra = 1", "there is `about`, `from`, `insert`, `update`, `delete`"),
    ] {
        folder.write("kampf.toml", format!("{base}\n[contest.other]\nfrom = \"hive\"\n{contest}\n"));
        let said = folder.error(&["show", "other"], 2);
        assert!(said.contains(expected) && said.contains("at kampf.toml:"), "{contest}: {said}");
    }
    folder.write("kampf.toml", base.replace("6 per hive", "6 for hive"));
    assert!(folder.error(&["show"], 2).contains("so many for each row of a parent: `6 per hive`"));
    // As SQL has it.
    folder.write("kampf.toml", format!("{base}\n[contest.other]\nfrom = \"hive\"\ngive = [\"count(*) as all\"]\n"));
    assert!(folder.ok(&["check", "other", "--answer"]).contains("40"));
}
