//! Lists and picks through the real program: every contender, SQL and programs of the user's, and what is told of them.

use crate::common::{Folder, json, without_times};

const LISTS: &str = "\
[contest.worst]
from = \"hive\"
give = [\"label\", \"inspection order temper, id desc limit 2 { temper, hive.strain.name as strain } as worst\"]
order = [\"label\"]
limit = 5

[contest.strains]
from = \"strain\"
give = [\"name\", \"hive where frames > 10 { label, count(inspection) as visits, inspection { temper } as all } as large\"]

[contest.newest]
from = \"hive\"
give = [\"label\", \"last(inspection order temper).id as newest\", \"first(inspection where temper > 8 order id).temper as first\"]
order = [\"newest desc\"]
";

#[test]
fn all_ways_of_reaching_lists_and_picks_agree() {
    let folder = Folder::apiary(LISTS);
    let text = folder.ok(&["check", "--all", "-q"]);
    assert_eq!(text.matches("contenders give this answer").count(), 4, "{text}");
    let answer = folder.ok(&["check", "worst", "--answer", "--format", "json", "-q"]);
    let rows: Vec<serde_json::Value> = answer.lines().map(json).collect();
    assert_eq!(rows.len(), 5);
    for row in &rows {
        let list = row[1].as_array().unwrap();
        assert!(list.len() <= 2 && list.iter().all(|item| item[0].is_i64() && item[1].is_string()), "{row}");
        assert!(list.windows(2).all(|pair| pair[0][0].as_i64() <= pair[1][0].as_i64()), "{row}");
    }
    let shown = folder.ok(&["show", "worst"]).split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(shown.contains("the first 2 of its about 6.3 rows of inspection by temper, smallest first"), "{shown}");
    assert!(shown.contains("nested: worst · joined: worst.hive.strain"), "{shown}");
    let document = json(&folder.ok(&["show", "strains", "--all", "--format", "json"]));
    let nested = document["contenders"].as_array().unwrap().iter().find(|one| one["name"] == "nested.needed.record").unwrap();
    assert_eq!(nested["reached"][1]["what"], "large.count(inspection)");
    assert_eq!((nested["reached"][1]["loading"].as_str(), nested["reached"][2]["loading"].as_str()), (Some("computed"), Some("nested")));
}

#[test]
fn own_sql_gives_lists_as_json_and_programs_as_arrays() {
    let lists = "\
[contest.hives]
from = \"strain\"
give = [\"name\", \"hive order label { label, frames } as hives\", \"id\"]
order = [\"id\"]

[contest.hives.contender.by-hand]
hydration = \"HYDRATION\"
sql = \"\"\"SELECT name, (SELECT json_group_array(json_array(label, frames) ORDER BY label, id) FROM hive WHERE strain_id = strain.id), id
FROM strain ORDER BY id\"\"\"
";
    for hydration in ["record", "plain", "map", "raw"] {
        let folder = Folder::apiary(&lists.replace("HYDRATION", hydration));
        let text = folder.ok(&["check", "hives", "-q", "--only", "by-hand", "--only", "nested*", "--all"]);
        assert!(text.contains("contenders give this answer"), "{hydration}: {text}");
    }
    let program = |sql: &str| {
        let own = "[contest.hives.contender.other]\ncommand = [\"python3\", \"contender.py\"]\n";
        let folder = Folder::apiary(&format!("{}{own}", lists.split("[contest.hives.contender").next().unwrap()));
        let python = include_str!("../../../../docs/examples/contender.py");
        let from = python.find("SQL = \"\"\"").unwrap();
        let to = python.find("# From what SQLite").unwrap();
        folder.write(
            "contender.py",
            format!("{}SQL = \"\"\"{sql}\"\"\"\nKINDS = [\"text\", \"list\", \"integer\"]\n{}", &python[..from], &python[to..]),
        );
        folder.kampf(&["check", "hives", "-q", "--only", "other", "--only", "batched*record", "--all"])
    };
    let list = |condition: &str| {
        let hives = format!("SELECT label, frames FROM hive WHERE strain_id = strain.id{condition} ORDER BY label, id");
        format!("SELECT name, (SELECT json_group_array(json_array(label, frames)) FROM ({hives})), id FROM strain ORDER BY id")
    };
    let right = program(&list(""));
    assert!(right.stdout.contains("contenders give this answer"), "{}{}", right.stdout, right.stderr);
    // The first list that is not right is told row by row.
    let wrong = program(&list(" AND frames < 20"));
    assert_eq!(wrong.status, 1, "{}", wrong.stdout);
    assert!(wrong.stdout.contains("differs other") && wrong.stdout.contains("in its hives:"), "{}", wrong.stdout);
    assert!(wrong.stdout.contains("rows, where"), "{}", wrong.stdout);
    let flat = program("SELECT name, (SELECT json_group_array(label) FROM hive WHERE strain_id = strain.id), id FROM strain ORDER BY id");
    assert!(flat.stdout.contains("is not a row of a list, an array of 2 values"), "{}{}", flat.stdout, flat.stderr);
}

#[test]
fn a_text_that_is_no_list_is_told_with_the_list() {
    let lists = "[contest.hives]\nfrom = \"strain\"\ngive = [\"name\", \"hive { label } as hives\"]\n\
                 [contest.hives.contender.broken]\nsql = \"SELECT name, SQL FROM strain\"\n";
    for (sql, told) in [
        ("'[[1'", "the list `hives` is no JSON array of arrays as it is asked for"),
        ("'[[1, 2]]'", "no JSON array of arrays"),
        ("'7'", "an array of rows"),
        ("5", "column 2 holds 5, which is not text"),
    ] {
        let folder = Folder::apiary(&lists.replace("SQL", sql));
        let ended = folder.kampf(&["check", "hives", "-q", "--only", "broken", "--only", "lazy*", "--all"]);
        assert_eq!(ended.status, 1, "{sql}: {}{}", ended.stdout, ended.stderr);
        let text = ended.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(text.contains(told), "{sql}: {text}");
    }
}

#[test]
fn a_trace_tells_each_level_and_what_was_read_for_what_is_needed() {
    let folder = Folder::apiary(LISTS);
    let text = without_times(&folder.ok(&["trace", "strains", "lazy.needed.record", "-q"]));
    let line = |starts: &str| {
        text.lines().find(|line| line.trim_start().starts_with(starts)).unwrap_or_else(|| panic!("{starts}: {text}")).to_owned()
    };
    assert!(line("hive").contains("lazy, N+1") && line("inspection").contains("lazy, N+1"), "{text}");
    let document = json(&folder.ok(&["trace", "worst", "lazy.database.needed.record", "-q", "--format", "json"]));
    let relations = document["relations"].as_array().unwrap();
    assert_eq!((relations[0]["table"].as_str(), relations[0]["rows_needed"].as_u64()), (Some("hive"), Some(5)));
    let inspection = &relations[1];
    assert_eq!(
        (inspection["level"].as_u64(), inspection["statements"].as_u64(), inspection["reached"].as_str()),
        (Some(1), Some(5), Some("lazy"))
    );
    assert!(
        inspection["rows_read"].as_u64() > inspection["rows_needed"].as_u64() && inspection["rows_needed"].as_u64() == Some(10),
        "{inspection}"
    );
    let document = json(&folder.ok(&["trace", "worst", "ranked.database.needed.record", "-q", "--format", "json"]));
    let inspection = &document["relations"][1];
    assert_eq!((inspection["statements"].as_u64(), inspection["rows_read"].as_u64()), (Some(1), Some(10)), "{document}");
}

#[test]
fn habits_and_fixed_relations_are_read_from_the_file() {
    let habit = "[entities.inspection]\nalways = [\"hive\"]\n\n[contest.latest]\nfrom = \"inspection\"\ngive = [\"temper\"]\norder = [\"id desc\"]\nlimit = 20\n";
    let folder = Folder::apiary(habit);
    let text = folder.ok(&["show", "latest"]);
    assert!(text.contains("lazy.database.needed.plain+kept") && text.contains("\ndatabase.needed.record"), "{text}");
    let statements = |contender: &str| {
        json(&folder.ok(&["trace", "latest", contender, "-q", "--format", "json"]))["statements"].as_array().unwrap().len()
    };
    assert!(statements("lazy.database.all.managed+kept") > 2 && statements("database.all.managed") == 1);
    folder.ok(&["check", "latest", "--all", "-q"]);
    for (from, to, told) in [
        ("[entities.inspection]", "[entities.inspektion]", "there is no table `inspektion`"),
        ("[\"hive\"]", "[\"hives\"]", "`inspection` has no relation `hives`"),
        ("always", "allways", "`allways` is not a key of [entities.inspection]"),
        ("limit = 20\n", "limit = 20\n[contest.latest.loading]\nhive = \"batched\"\n", "nothing is asked of `hive` here"),
        ("give = [\"temper\"]\n", "give = [\"hive.label\"]\nloading = { hive = \"bached\" }\n", "`bached` is not an option of loading"),
    ] {
        let folder = Folder::apiary(&habit.replace(from, to));
        let error = folder.error(&["show", "latest"], 2);
        assert!(error.starts_with(told) && error.contains("at kampf.toml:"), "{to}: {error}");
    }
}

#[test]
fn lists_that_multiply_each_other_are_told_and_held_back_where_they_would_bring_too_much() {
    let two = "[contest.both]\nfrom = \"strain\"\ngive = [\"name\", \"hive { label } as hives\", \"hive where frames > 12 { frames } as large\"]\n";
    let folder = Folder::apiary(two);
    let text = folder.ok(&["show", "both"]).split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("lists multiply each other: each row of strain comes as about 8 x 8 = 64 rows, 320 in all"), "{text}");
    let tight = Folder::apiary(&format!("{two}[contest.both.require]\nmemory = \"1 KiB\"\n"));
    let text = tight.ok(&["show", "both"]).split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("`joined.all.managed` enters only with --all: lists multiply each other"), "{text}");
    assert!(tight.ok(&["show", "both", "--all"]).contains("\njoined.all.managed"));
}
