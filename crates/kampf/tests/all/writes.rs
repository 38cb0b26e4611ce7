//! Contests that write, by the real program.

use std::process::Stdio;
use std::time::Duration;

use crate::common::{Dice, Folder, installed, json};

/// Every kind of write over the small apiary.
const WRITES: &str = "\
[contest.more]
insert = \"hive\"
count = 4
also = [\"inspection 2 each\"]

[contest.log]
insert = \"inspection\"
count = 30
set = [\"temper = :temper\"]
[contest.log.parameters]
temper = \"1..10\"

[contest.grow]
update = \"hive\"
where = \"frames < :most and strain.name <> 'nobody'\"
set = [\"frames = frames + 1\"]
[contest.grow.parameters]
most = \"9..20\"

[contest.close]
delete = \"hive\"
where = \"id = :hive\"
also = [\"inspection\"]
[contest.close.parameters]
hive = \"any(hive.id)\"
";

const ALL: [&str; 4] = ["more", "log", "grow", "close"];

/// The bytes of the dataset of SQLite.
fn bytes(folder: &Folder) -> Vec<u8> {
    let datasets = folder.datasets();
    let [dataset] = &datasets[..] else { panic!("{datasets:?}") };
    std::fs::read(dataset.join("dataset.sqlite")).unwrap()
}

/// Sees to it that the dataset of an engine is the one that was filled, unchanged by its stamp, and that what is read of it is right.
fn untouched(folder: &Folder, engine: &str, after: &str) {
    let filled = json(&folder.ok(&["fill", "--engine", engine, "--format", "json", "-q"]));
    assert_eq!(filled["reused"], true, "after {after}: {filled}");
    folder.ok(&["check", "calm", "--engine", engine, "-q"]);
}

/// With a contender of one contest more.
fn with(contest: &str, sql: &str) -> Folder {
    Folder::apiary(&format!("{WRITES}\n[contest.{contest}.contender.mine]\n{sql}\n"))
}

#[test]
fn what_is_written_is_said_in_a_sentence_with_the_sql_of_each() {
    let folder = Folder::apiary(WRITES);
    for (contest, sentence) in [
        ("more", "4 new rows of hive, each with 2 of inspection."),
        ("log", "30 new rows of inspection; temper = :temper."),
        ("grow", "Of 40 rows of hive, those where frames < :most and strain.name <> 'nobody' are changed: frames = frames + 1."),
        ("close", "Of 40 rows of hive, those where id = :hive are deleted, with the rows of inspection that hang on them."),
    ] {
        let shown = folder.ok(&["show", contest, "-q"]);
        let said = shown.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.starts_with(&format!("{contest} {sentence}")), "{shown}");
    }
    let shown = folder.ok(&["show", "more", "-q"]);
    assert!(shown.contains("direct.single.each") && shown.contains("24 statements, each a transaction by itself"), "{shown}");
    assert!(shown.contains("direct.values:auto.once+returned") && shown.contains("RETURNING \"id\""), "{shown}");
    let every = folder.ok(&["show", "close", "--all", "-q"]);
    assert!(every.contains("direct.once+built") && !every.contains("not derived"), "{every}");
    let every = folder.ok(&["show", "log", "--all", "-q"]);
    assert!(every.contains("the last key can only be asked for after each row") && every.contains("no trips to save"), "{every}");
}

#[test]
fn the_ways_leave_the_tables_alike_and_the_dataset_as_it_was() {
    let folder = Folder::apiary(WRITES);
    for engine in ["sqlite", "postgres"] {
        if engine == "postgres" && !installed() {
            continue;
        }
        folder.ok(&["fill", "--engine", engine, "-q"]);
        let said = json(&folder.ok(&["check", "--all", "--engine", engine, "--format", "json", "-q", "more", "log", "grow", "close"]));
        let contests = said["contests"].as_array().unwrap();
        assert_eq!(contests.len(), 4);
        for contest in contests {
            let contenders = contest["contenders"].as_array().unwrap();
            assert!(contenders.len() >= 2 && contenders.iter().all(|one| one["agrees"] == true), "{contest}");
            assert_eq!(contest["checked"], "on all rows by plain evaluation");
        }
        untouched(&folder, engine, "a check");
        folder.ok(&["fill", "--remove", "-q", "--engine", engine]);
    }
}

#[test]
fn a_race_of_writes_says_what_was_written_and_how_durably() {
    let folder = Folder::apiary(WRITES);
    let run = |more: &[&str]| {
        json(&folder.ok(&[&["race", "more", "close", "--time", "1s", "--rounds", "1", "--format", "json", "-q"], more].concat()))
    };
    folder.ok(&["fill", "-q"]);
    let before = bytes(&folder);
    let document = run(&[]);
    let contest = &document["contests"][0];
    assert_eq!((contest["kind"].as_str(), contest["conditions"]["durable"].as_bool()), (Some("write"), Some(true)), "{contest}");
    assert!(contest["conditions"]["commit_ns"].as_u64().unwrap() > 0);
    let named = |name: &str| {
        contest["contenders"].as_array().unwrap().iter().find(|one| one["name"] == name).unwrap_or_else(|| panic!("{name}: {contest}"))
    };
    // Four hives with two inspections each, row by row: a statement for each row and one for its key; a transaction is two statements more.
    let each = named("direct.single.each");
    assert_eq!((each["statements"].as_u64(), each["rows_written"].as_u64()), (Some(24), Some(12)), "{each}");
    assert_eq!(named("direct.single.once")["statements"], 26);
    assert_eq!(named("direct.single.once+returned")["statements"], 14);
    // A statement for each table, between BEGIN and COMMIT.
    let values = named("direct.values:auto.once+returned");
    assert_eq!((values["statements"].as_u64(), values["rows_written"].as_u64()), (Some(4), Some(12)), "{values}");
    assert!(values["log_bytes"].as_u64().is_some_and(|bytes| bytes >= 4096), "{values}");
    assert!(bytes(&folder) == before, "a race changed the dataset");
    folder.write("kampf.toml", folder.read("kampf.toml") + "\n[conditions]\ndurable = false\n");
    let conditions = &run(&[])["contests"][0]["conditions"];
    assert_eq!(conditions["durable"], false);
    // A saved result is shown and compared.
    assert!(folder.ok(&["results"]).contains("more"));
    let told = folder.ok(&["race", "close", "--time", "1s", "-q"]);
    assert!(told.contains("commits do not wait until they are on the disk"), "{told}");
    let saved = folder.read_dir(".kampf/results");
    let compared = folder.kampf(&["compare", &saved[0], &saved[1]]).stdout;
    assert!(compared.contains("conditions differ: durable"), "{compared}");
}

/// The copy is reached over the same longer way as the data would be: no call takes less than its trips are held.
#[test]
fn trips_of_calls_that_write_are_held_too() {
    let held = |engine: &str| {
        let folder = Folder::apiary(WRITES);
        let race = ["race", "more", "--round-trip", "4ms", "--rounds", "1", "--time", "1s", "--format", "json", "-q", "--engine", engine];
        let raced =
            json(&folder.ok(&[&race[..], &["--only", "direct.values:auto.once+returned", "--only", "direct.single.once"]].concat()));
        for contender in raced["contests"][0]["contenders"].as_array().unwrap() {
            let (took, statements) = (contender["latency_ns"]["median"].as_f64().unwrap(), contender["statements"].as_f64().unwrap());
            assert!(took >= statements * 4e6, "{engine}: {contender}");
        }
        folder.ok(&["fill", "--remove", "-q", "--engine", engine]);
    };
    held("sqlite");
    if installed() {
        held("postgres");
    }
}

#[test]
fn a_call_that_writes_is_traced() {
    let folder = Folder::apiary(WRITES);
    let traced = folder.ok(&["trace", "close", "direct.once", "-q"]);
    assert!(traced.contains("4 statements, ") && traced.contains("rows written as they say"), "{traced}");
    assert!(traced.contains("DELETE FROM \"inspection\"") && traced.contains("COMMIT"), "{traced}");
    let machine = json(&folder.ok(&["trace", "log", "direct.single.each", "--format", "json", "-q"]));
    assert!(machine.to_string().contains("INSERT INTO"), "{machine}");
}

/// A contender that leaves something else is found, with the first difference, and wins nothing.
#[test]
fn what_leaves_the_tables_otherwise_differs_and_is_shown() {
    // (the contest, the SQL, what is said of it)
    for (contest, sql, says) in [
        ("grow", "sql = \"UPDATE hive SET frames = frames + 2 WHERE frames < :most\"", "this one"),
        ("grow", "sql = \"UPDATE hive SET frames = frames + 1, label = 'x' WHERE frames < :most\"", "this one"),
        ("grow", "sql = \"UPDATE hive SET frames = frames + 1 WHERE frames < :most - 1\"", "differs mine"),
        ("close", "sql = [\"DELETE FROM inspection WHERE hive_id = :hive\"]", "differs mine"),
        ("close", "sql = [\"DELETE FROM inspection WHERE hive_id >= :hive\", \"DELETE FROM hive WHERE id = :hive\"]", "differs mine"),
        (
            "close",
            "sql = [\"DELETE FROM inspection WHERE hive_id = :hive\", \"DELETE FROM hive WHERE id = :hive\", \
             \"UPDATE inspection SET temper = temper + 1 WHERE id = (SELECT min(id) FROM inspection)\"]",
            "among the other rows of inspection some are not as they were",
        ),
        ("log", "sql = \"INSERT INTO inspection (hive_id, temper) VALUES (1, :temper)\"", "differs mine"),
        ("log", "sql = \"INSERT INTO inspection (hive_id, temper) SELECT :hive_id, :temper WHERE :hive_id <> 7 OR 1\"", "agree"),
        (
            "log",
            "sql = \"INSERT INTO inspection (hive_id, temper) SELECT :hive_id, :temper UNION ALL SELECT :hive_id, :temper\"",
            "differs mine",
        ),
        // Children that hang on another one of the new parents.
        (
            "more",
            "sql.hive = \"INSERT INTO hive (strain_id, label, frames) VALUES (:strain_id, :label, :frames) RETURNING id\"\n\
             sql.inspection = \"INSERT INTO inspection (hive_id, temper) VALUES (:hive.id - :hive.id % 2, :temper)\"",
            "differs mine",
        ),
    ] {
        let ended = with(contest, sql).kampf(&["check", contest, "-q"]);
        let agrees = says == "agree";
        assert_eq!(ended.status, i32::from(!agrees), "{contest} {sql}\n{}{}", ended.stdout, ended.stderr);
        assert!(agrees || ended.stdout.contains(says) && ended.stdout.contains("differs mine"), "{contest} {sql}\n{}", ended.stdout);
    }
    // Other tables are not its own to write, and a fault in the middle of a call leaves nothing.
    for sql in ["sql = \"UPDATE strain SET name = 'x'\"", "sql = [\"DELETE FROM inspection WHERE hive_id = :hive\", \"SELECT no_such()\"]"]
    {
        let folder = with("close", sql);
        let ended = folder.kampf(&["check", "close", "-q"]);
        assert_eq!(ended.status, 1, "{sql}\n{}{}", ended.stdout, ended.stderr);
        assert!(ended.stdout.contains("mine: "), "{sql}\n{}", ended.stdout);
        let raced = json(&folder.ok(&["race", "close", "--time", "1s", "--rounds", "1", "--format", "json", "-q"]));
        let contenders = raced["contests"][0]["contenders"].as_array().unwrap();
        let mine = contenders.iter().find(|one| one["name"] == "mine").unwrap();
        assert_eq!(mine["outcome"], "failed", "{mine}");
        assert!(contenders.iter().filter(|one| one["name"] != "mine").all(|one| one["outcome"] != "failed"), "{contenders:?}");
    }
}

/// One that leaves something behind in some calls only, after the check: it is found by itself, and the others race on.
#[test]
fn one_that_leaves_something_else_in_the_race_alone_has_failed_there() {
    // Each call lowers what it should raise once the engine's clock is some seconds ahead.
    let begun = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() + 3;
    let sql = format!(
        "sql = \"UPDATE hive SET frames = frames + CASE WHEN unixepoch() >= {begun} THEN 0 ELSE 1 END, \
         label = CASE WHEN unixepoch() >= {begun} THEN 'odd' ELSE label END WHERE frames < :most\""
    );
    let folder = with("grow", &sql);
    folder.ok(&["fill", "-q"]);
    let before = bytes(&folder);
    let ended = folder.kampf(&["race", "grow", "--time", "6s", "--exact", "--rounds", "2000", "--format", "json", "-q"]);
    assert_eq!(ended.status, 1, "{}", ended.stderr);
    let raced = json(&ended.stdout);
    let contenders = raced["contests"][0]["contenders"].as_array().unwrap();
    let outcome = |name: &str| contenders.iter().find(|one| one["name"] == name).unwrap()["outcome"].as_str().unwrap().to_owned();
    assert!(["failed", "disagrees"].contains(&outcome("mine").as_str()), "{contenders:?}");
    assert!(!["failed", "disagrees"].contains(&outcome("direct").as_str()), "{contenders:?}");
    assert!(bytes(&folder) == before, "a race changed the dataset");
}

#[test]
fn what_cannot_be_written_is_refused_with_its_place_and_the_way_out() {
    for (contest, says) in [
        ("update = \"hive\"\nwhere = \"id = 3\"\nset = [\"id = 4\"]", "`hive.id` is a part of the primary key"),
        ("update = \"hive\"\nwhere = \"id = 3\"\nset = [\"frames = 99\"]", "frames BETWEEN 8 AND 24"),
        ("update = \"hive\"\nwhere = \"id = 3\"\nset = [\"strain_id = 99\"]", "would lead to no row of `strain`"),
        ("update = \"hive\"\nwhere = \"id = 3\"\nset = [\"label = 'a text of more than twenty characters'\"]", "20 characters"),
        ("update = \"hive\"\nwhere = \"id = 3000\"\nset = [\"frames = 9\"]", "meets no row with any parameter that is drawn"),
        ("update = \"hive\"\nwhere = \"if(:a, id < :a)\"\nset = [\"frames = 9\"]\nparameters.a = \"1\"", "`if"),
        ("update = \"hive\"\nwhere = \"id = 3\"", "nothing is said to be set"),
        ("update = \"hive\"\nset = [\"frames = label\"]", "cannot be compared with integer"),
        ("update = \"hives\"\nset = [\"frames = 9\"]", "did you mean `hive`?"),
        ("update = \"hive\"\nset = [\"frame = 9\"]", "did you mean `frames`?"),
        ("update = \"hive\"\nset = [\"frames\"]", "write `column = value`"),
        ("delete = \"hive\"\nwhere = \"id = 3\"", "delete them too: also = [\"inspection\"]"),
        ("delete = \"hive\"\nwhere = \"id = 3\"\nalso = [\"strain\"]", "does not refer to what is deleted"),
        ("delete = \"inspection\"\nwhere = \"id = 3\"\nset = [\"temper = 2\"]", "what is deleted is not set to anything"),
        ("delete = \"inspection\"\nbatch = [10]", "`batch` is said of `insert` alone"),
        ("insert = \"hive\"\nfrom = \"hive\"", "`from` says how rows are read"),
        ("insert = \"hive\"\nupdate = \"hive\"", "`insert`"),
        ("insert = \"hive\"\nlimit = 3", "`limit` says how rows are read"),
        ("insert = \"hive\"\ncount = 0", "ask for one to a million"),
        ("insert = \"hive\"\ncount = 1_000_001", "ask for one to a million"),
        ("insert = \"hive\"\nwhere = \"id = 3\"", "rows that are new fulfil no condition"),
        ("insert = \"hive\"\nalso = [\"inspection\"]", "write \"inspection 3 each\""),
        ("insert = \"hive\"\nalso = [\"strain 2 each\"]", "`strain`"),
        ("insert = \"keyless\"", "primary key"),
        ("insert = \"hive\"\n[contest.w.contender.p]\ncommand = [\"x\"]", "programs take no part where rows are written"),
        ("insert = \"hive\"\n[contest.w.contender.p]\nsql = \"SELECT :frame\"", "nothing is bound to `:frame`"),
        ("insert = \"hive\"\n[contest.w.contender.p]\nsql = \"SELECT 1\"\ncommit = \"never\"", "there is `each`, `once`"),
        ("from = \"hive\"\ngive = [\"label\"]\nset = [\"frames = 9\"]", "`set`"),
        (
            "from = \"hive\"\ngive = [\"label\"]\n[contest.w.contender.p]\nsql = [\"SELECT 1\", \"SELECT 2\"]",
            "one statement answers a need",
        ),
    ] {
        let folder = Folder::apiary(&format!("[contest.w]\n{contest}\n"));
        folder.write("apiary.sql", folder.read("apiary.sql") + "CREATE TABLE keyless (a INTEGER NOT NULL);\n");
        let said = folder.error(&["check", "w", "-q"], 2);
        assert!(said.contains(says) && said.contains("at kampf.toml:"), "{contest}: {said}");
    }
}

/// Races that are killed at some moment leave the dataset as it was, and the next command sweeps what is left of their copies.
fn killed_while_it_writes(engine: &str, kills: u64) {
    use std::os::unix::process::ExitStatusExt;
    let folder = Folder::apiary(WRITES);
    folder.ok(&["fill", "--engine", engine, "-q"]);
    let kept = folder.datasets();
    let race = ["race", "more", "grow", "close", "--engine", engine, "-q", "--time"];
    let mut dice = Dice::new(35);
    for kill in 0..kills {
        let mut child = folder
            .command(&[&race[..], &["30s", "--exact", "--rounds", "5000"]].concat())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(200 + dice.below(1500)));
        child.kill().unwrap();
        assert_eq!(child.wait().unwrap().signal(), Some(9), "kill {kill} came when all was done");
        untouched(&folder, engine, &format!("kill {kill}"));
    }
    let told = folder.ok(&[&race[..], &["1s"]].concat());
    assert!(told.contains("Together") && !told.contains("failed"), "{told}");
    untouched(&folder, engine, "the last race");
    assert_eq!(folder.datasets(), kept, "a copy is left");
    folder.ok(&["fill", "--remove", "-q", "--engine", engine]);
    assert!(folder.datasets().is_empty(), "{:?}", folder.datasets());
}

#[test]
fn kills_while_rows_are_written_leave_the_dataset_as_it_was_on_sqlite() {
    killed_while_it_writes("sqlite", 3);
}

#[test]
fn kills_while_rows_are_written_leave_the_dataset_as_it_was_on_postgresql() {
    if installed() {
        killed_while_it_writes("postgres", 2);
    }
}

#[test]
#[ignore = "six minutes: the same with more kills"]
fn two_hundred_kills_while_rows_are_written_on_sqlite() {
    killed_while_it_writes("sqlite", 200);
}

#[test]
#[ignore = "three minutes: the same with more kills"]
fn forty_kills_while_rows_are_written_on_postgresql() {
    if installed() {
        killed_while_it_writes("postgres", 40);
    }
}

#[test]
fn every_contest_that_writes_is_completed_and_listed() {
    let folder = Folder::apiary(WRITES);
    let shown = folder.ok(&["show", "-q"]);
    ALL.iter().for_each(|contest| assert!(shown.contains(contest), "{contest}: {shown}"));
}
