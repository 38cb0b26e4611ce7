//! What a kill, a full disk or a power failure leaves behind: the old, or a half that the next command knows for one.
//!
//! The program that tests build has points at which it dies or fails (the feature `faults` of kampf-engine); no release has them.

use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{Dice, Folder, installed, json};
use kampf_mangle::often;
use serde_json::Value as Json;

/// Digests of the project's tables, worked out without any database.
fn promised(folder: &Folder) -> Vec<Json> {
    digests(&json(&folder.ok(&["fill", "--digest", "--format", "json"])))
}

fn digests(filled: &Json) -> Vec<Json> {
    filled["tables"].as_array().unwrap().iter().map(|table| table["digest"].clone()).collect()
}

/// Fills without disturbance, and makes sure of what is there then.
fn fill(folder: &Folder, engine: &str, promised: &[Json], after: &str) -> bool {
    let filled = json(&folder.ok(&["fill", "--engine", engine, "--format", "json", "-q"]));
    assert_eq!(digests(&filled), promised, "after {after}");
    folder.ok(&["check", "--engine", engine, "-q", "--only", "computed.database.needed.raw", "--only", "lazy.app.all.managed"]);
    let data = names(&folder.path().join(".kampf/data"));
    assert_eq!(data.len(), 1, "after {after}: {data:?}");
    let inside = names(&folder.path().join(".kampf/data").join(&data[0]));
    assert!(inside.iter().all(|name| !name.contains(".part") && !name.contains("-journal")), "after {after}: {inside:?}");
    filled["reused"] == true
}

fn remove(folder: &Folder, after: &str) {
    folder.ok(&["fill", "--remove", "-q"]);
    for place in ["data", "locks"] {
        let left = names(&folder.path().join(".kampf").join(place));
        assert!(left.is_empty(), "after {after}: {left:?}");
    }
}

fn names(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
}

/// Runs a command that dies or fails at a point. The signal it died of, or its exit status; and what it said.
fn at(folder: &Folder, arguments: &[&str], fault: &str) -> (Option<i32>, Option<i32>, String) {
    let output = folder.command(arguments).env("KAMPF_FAULT", fault).output().unwrap();
    (output.status.signal(), output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
}

const KILL: i32 = 9;

/// The steps of a fill; the data counts as whole behind the last two.
const STEPS: [&str; 13] = [
    "begun",
    "tables-made",
    "rows-go-in",
    "indexes-begin",
    "commit-begins",
    "committed",
    "loaded",
    "file-open",
    "file-written",
    "file-synced",
    "file-open:2",
    "file-synced:2",
    "file-named:2",
];

/// Files are written alike whatever the engine, and these are the steps of that.
fn is_of_files(step: &str) -> bool {
    step.starts_with("file")
}

fn at_steps(engine: &str, steps: &[&str], more: &[&str]) {
    let folder = Folder::apiary("");
    let promised = promised(&folder);
    for step in steps.iter().chain(more) {
        let (name, visit) = step.split_once(':').unwrap_or((step, "1"));
        let fault = format!("{name}=kill:{visit}");
        let (signal, ..) = at(&folder, &["fill", "--engine", engine, "-q"], &fault);
        assert_eq!(signal, Some(KILL), "{fault} was not met");
        let reused = fill(&folder, engine, &promised, &fault);
        assert_eq!(reused, *step == "file-named:2", "after {fault}");
        remove(&folder, &fault);
        if engine == "sqlite" && is_of_files(name) || *step == "begun" || more.contains(step) {
            let full = format!("{name}=full:{visit}");
            let (_, status, words) = at(&folder, &["fill", "--engine", engine, "-q"], &full);
            assert_eq!(status, Some(3), "{full}: {words}");
            assert!(words.contains("make room") && !words.contains("panicked"), "{full}: {words}");
            fill(&folder, engine, &promised, &full);
            remove(&folder, &full);
        }
    }
    for step in ["removal-begins", "engine-removed"] {
        fill(&folder, engine, &promised, "a removal");
        let (signal, ..) = at(&folder, &["fill", "--remove", "--engine", engine, "-q"], &format!("{step}=kill"));
        assert_eq!(signal, Some(KILL), "{step} was not met");
        fill(&folder, engine, &promised, step);
        let (signal, ..) = at(&folder, &["fill", "--remove", "--engine", engine, "-q"], &format!("{step}=kill"));
        assert_eq!(signal, Some(KILL));
        remove(&folder, step);
    }
}

#[test]
fn a_kill_at_any_step_of_a_fill_leaves_nothing_wrong_on_sqlite() {
    at_steps("sqlite", &STEPS, &[]);
}

const OF_POSTGRES: [&str; 3] = ["home-made", "cluster-made", "reader-made"];

#[test]
fn a_kill_while_rows_are_loaded_leaves_nothing_wrong_on_postgresql() {
    if installed() {
        at_steps("postgres", &["rows-go-in", "committed"], &OF_POSTGRES);
    }
}

#[test]
#[ignore = "two minutes; what is not of the server is the same code as on SQLite"]
fn a_kill_at_any_step_of_a_fill_leaves_nothing_wrong_on_postgresql() {
    if installed() {
        at_steps("postgres", &STEPS, &OF_POSTGRES);
    }
}

#[test]
fn a_removal_that_fails_halfway_leaves_nothing_that_is_taken_for_whole() {
    if !installed() {
        return;
    }
    let folder = Folder::apiary("");
    let promised = promised(&folder);
    fill(&folder, "postgres", &promised, "nothing");
    let (_, status, words) = at(&folder, &["fill", "--remove", "-q"], "home-half-removed=full");
    assert_eq!(status, Some(3), "{words}");
    let record = folder.datasets().remove(0).join("dataset.json");
    assert!(!record.exists(), "half a cluster has a record");
    assert!(!fill(&folder, "postgres", &promised, "half a removal"));
    remove(&folder, "half a removal");
}

/// Fills that are killed at some moment, one after the other on what the one before has left. With `KAMPF_TIMES=10` ten times as many.
fn killed_at_random(engine: &str, kills: usize) {
    let times = often(1);
    let kills = kills * usize::try_from(times).unwrap();
    let folder = Folder::apiary("");
    folder.write("kampf.toml", folder.read("kampf.toml").replace("\"6 per hive\"", "20_000"));
    let promised = promised(&folder);
    let whole = || {
        let begun = Instant::now();
        folder.ok(&["fill", "--engine", engine, "-q"]);
        let whole = begun.elapsed();
        remove(&folder, "nothing");
        whole
    };
    // The machine may be busy with others: the least of three is nearest to what a fill takes.
    let whole = (0..3).map(|_| whole()).min().unwrap();
    let mut dice = Dice::new(6 + times);
    let (mut hits, mut found) = (0, 0);
    let mut kill = 0;
    // Some come when all is done already: others are tried until as many were hit as are wanted.
    while hits < kills {
        kill += 1;
        assert!(kill < 10 * kills, "{hits} of {kill} were hit while they ran");
        let mut child = folder.command(&["fill", "--engine", engine, "-q"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_nanos(dice.below(u64::try_from(whole.as_nanos()).unwrap())));
        child.kill().unwrap();
        let was_hit = child.wait().unwrap().signal() == Some(KILL);
        hits += usize::from(was_hit);
        // Every third time what was left is made whole; else the next one finds it.
        if kill % 3 == 0 {
            found += usize::from(was_hit && fill(&folder, engine, &promised, "a kill at random"));
        }
        if kill % 3 == 0 || !was_hit {
            remove(&folder, "a kill at random");
        }
    }
    fill(&folder, engine, &promised, "the last kill");
    remove(&folder, "the last kill");
    assert!(found < hits, "{found} were whole already");
}

#[test]
fn kills_at_random_leave_nothing_wrong_on_sqlite() {
    killed_at_random("sqlite", 60);
}

#[test]
#[ignore = "a minute: the same with more kills"]
fn two_hundred_kills_at_random_leave_nothing_wrong_on_sqlite() {
    killed_at_random("sqlite", 200);
}

#[test]
fn kills_at_random_leave_nothing_wrong_on_postgresql() {
    if installed() {
        killed_at_random("postgres", 6);
    }
}

#[test]
#[ignore = "a minute: the same with more kills"]
fn twenty_kills_at_random_leave_nothing_wrong_on_postgresql() {
    if installed() {
        killed_at_random("postgres", 20);
    }
}

#[test]
fn a_fault_of_kampf_s_own_is_no_answer_and_says_how_to_report_it() {
    let folder = Folder::apiary("");
    // In the thread that carries out the command, whatever it is about.
    for (command, fault) in [(&["fill", "-q"][..], "begun=panic"), (&["check", "-q"], "indexes-begin=panic")] {
        let (signal, status, words) = at(&folder, command, fault);
        assert_eq!((signal, status), (None, Some(70)), "{command:?}: {words}");
        assert!(words.starts_with("kampf: this is a fault of Kampf's own") && words.contains("as a test wants it"), "{words}");
        assert!(words.contains("please report it") && words.contains(env!("CARGO_PKG_VERSION")) && words.lines().count() <= 4, "{words}");
    }
}

/// A user of no name who may have so many processes and threads; only root can be another user.
const SOMEBODY: u32 = 64_973;

#[test]
fn what_cannot_be_started_is_the_fault_of_the_surroundings() {
    use std::os::unix::process::CommandExt;
    let program = env!("CARGO_BIN_EXE_kampf");
    for (arguments, most) in [("fill -q", 1), ("check -q", 1), ("race -q --time 1s --rounds 1", 1), ("race -q --time 1s --rounds 1", 3)] {
        let folder = Folder::apiary("");
        for path in [folder.path().to_owned(), folder.path().join("kampf.toml"), folder.path().join("apiary.sql")] {
            if std::os::unix::fs::chown(path, Some(SOMEBODY), Some(SOMEBODY)).is_err() {
                return;
            }
        }
        let mut command = std::process::Command::new("prlimit");
        command.arg(format!("--nproc={most}")).arg(program).args(arguments.split(' ')).current_dir(folder.path());
        let output = command.uid(SOMEBODY).gid(SOMEBODY).output().unwrap();
        let words = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(words.contains("cannot") && !words.contains("panicked") && !words.contains("fault of Kampf"), "{arguments}: {words}");
        assert_eq!(output.status.code(), Some(3), "{arguments} of {most}: {words}");
    }
}

#[test]
fn half_made_data_of_another_fingerprint_is_swept_and_data_in_use_is_not() {
    let folder = Folder::apiary("");
    let (signal, ..) = at(&folder, &["fill", "-q"], "indexes-begin=kill");
    assert_eq!(signal, Some(KILL));
    assert_eq!(folder.datasets().len(), 1);
    folder.write("kampf.toml", folder.read("kampf.toml").replace("hive = 40", "hive = 41"));
    folder.ok(&["fill", "-q"]);
    assert_eq!(folder.datasets().len(), 1, "{:?}", folder.datasets());
}

#[test]
fn a_starter_folder_that_was_begun_is_gone_on_with_and_what_is_there_otherwise_is_kept() {
    for (command, files) in [(&["demo", "here"][..], 2), (&["new", "here"], 2)] {
        for visit in 1..=files {
            for step in ["file-open", "file-synced", "file-named"] {
                let folder = Folder::empty();
                let (signal, ..) = at(&folder, command, &format!("{step}=kill:{visit}"));
                assert_eq!(signal, Some(KILL), "{command:?} {step}:{visit}");
                let is_whole = (step, visit) == ("file-named", files);
                // Of the demo only the making: what follows it is tested elsewhere.
                let (_, _, words) = at(&folder, command, "begun=full");
                let expected = match (is_whole, command[0]) {
                    (false, _) => "made here",
                    (true, "demo") => "running it as it is",
                    (true, _) => "here/kampf.toml is already there",
                };
                assert!(words.contains(expected), "{command:?} {step}:{visit}: {words}");
                let left = names(&folder.path().join("here"));
                assert!(left.iter().all(|name| !name.contains(".part")), "{command:?} {step}:{visit}: {left:?}");
                folder.ok(&["show", "-f", "here/kampf.toml"]);
            }
        }
    }
    let folder = Folder::empty();
    std::fs::create_dir(folder.path().join("here")).unwrap();
    folder.write("here/schema.sql", "-- mine");
    assert!(folder.error(&["new", "here"], 2).contains("here/schema.sql is already there"));
    assert_eq!((folder.read("here/schema.sql").as_str(), folder.path().join("here/kampf.toml").exists()), ("-- mine", false));
}

#[test]
fn a_result_that_cannot_be_saved_or_printed_is_not_lost_otherwise() {
    let folder = Folder::apiary("");
    let race = ["race", "--time", "1s", "--rounds", "1", "--only", "computed.database.needed.*"];
    folder.ok(&["fill", "-q"]);
    let (signal, ..) = at(&folder, &[&race[..], &["-q"]].concat(), "file-synced=kill");
    assert_eq!(signal, Some(KILL));
    let output = folder.command(&race).env("KAMPF_FAULT", "file-written=full").output().unwrap();
    assert!(String::from_utf8_lossy(&output.stdout).contains("computed.database.needed.raw"));
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    let place = said.split_once("the result was not saved: ").expect("it is said").1;
    assert_eq!(output.status.code(), Some(3), "who looks at nothing else is told too");
    assert!(place.contains(".kampf/results/") && place.contains("the disk is full"), "where, and why: {place}");
    let results = || names(&folder.path().join(".kampf/results"));
    assert!(results().is_empty(), "{:?}", results());
    // A full standard output.
    for more in [&["--format", "json"][..], &[]] {
        let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let output = folder.command(&[&race[..], more].concat()).stdout(full).output().unwrap();
        assert_eq!(output.status.code(), Some(3));
        assert!(String::from_utf8_lossy(&output.stderr).contains("cannot write the result"));
    }
    assert_eq!(results().len(), 2, "both were saved");
}

#[test]
fn trouble_in_a_contest_loses_neither_those_before_nor_those_after_it() {
    let own = |name: &str, sql: &str| {
        format!("[contest.{name}.contender.sql]\nsql = \"{sql}\"\n[contest.{name}.contender.sql-2]\nsql = \"{sql}\"\n")
    };
    let folder = Folder::apiary(&format!("{}{}", own("broken", "select label from nowhere"), own("zone", "select count(*) from hive")));
    let ended = folder.kampf(&["race", "--time", "1s", "--rounds", "1", "--only", "computed.database.needed.*", "--only", "sql*"]);
    assert_eq!(ended.status, 3, "{}", ended.stderr);
    assert!(
        ended.stderr.contains("the reference answer of `broken` cannot be had") && ended.stderr.contains("nowhere"),
        "{}",
        ended.stderr
    );
    let results = names(&folder.path().join(".kampf/results"));
    assert_eq!(results.len(), 1, "{results:?}");
    let document = json(&folder.ok(&["results", &format!(".kampf/results/{}", results[0]), "--format", "json"]));
    let contests: Vec<&Json> = document["contests"].as_array().unwrap().iter().map(|contest| &contest["name"]).collect();
    assert_eq!(contests, ["calm", "zone"]);
}

/// A variant that is killed while it is loaded, at steps and at random: nothing of it stays that the record does not name, and what it names is whole.
fn variants_killed(engine: &str, kills: u64) {
    let folder = Folder::apiary("");
    let plain = folder.read("kampf.toml").replace("\"6 per hive\"", "20_000");
    let indexed = format!(
        "{plain}[index.by_label]\non = \"hive(label)\"\n[contest.named]\nfrom = \"hive\"\ngive = [\"id\"]\nwhere = \"label > 'm'\"\n"
    );
    let check = ["check", "named", "--index", "by_label", "--engine", engine, "-q"];
    let fill = || {
        folder.write("kampf.toml", &plain);
        folder.ok(&["fill", "--engine", engine, "-q"]);
        folder.write("kampf.toml", &indexed);
    };
    fill();
    let begun = Instant::now();
    folder.ok(&check);
    let whole = begun.elapsed();
    let variants = |folder: &Folder| {
        let record = json(&folder.read(&format!(".kampf/data/{}/dataset.json", names(&folder.path().join(".kampf/data"))[0])));
        record["variants"].as_array().unwrap().iter().map(|one| (one["word"].clone(), digests(one))).collect::<Vec<_>>()
    };
    let promised = variants(&folder);
    assert_eq!(promised.len(), 1, "{promised:?}");
    let mut dice = Dice::new(9);
    for kill in 0..often(kills) {
        remove(&folder, "nothing");
        fill();
        let step = ["tables-made", "rows-go-in", "indexes-begin", "committed"].get(usize::try_from(kill).unwrap());
        match step {
            Some(step) => assert_eq!(at(&folder, &check, &format!("{step}=kill")).0, Some(KILL), "{step} was not met"),
            None => {
                let mut child = folder.command(&check).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
                std::thread::sleep(Duration::from_nanos(dice.below(u64::try_from(whole.as_nanos()).unwrap())));
                child.kill().unwrap();
                child.wait().unwrap();
            }
        }
        // The next command tidies up, whether it wants a variant or not.
        folder.ok(&["check", "calm", "--engine", engine, "-q", "--only", "computed.database.needed.raw"]);
        if engine == "sqlite" {
            let files = names(&folder.path().join(".kampf/data").join(&names(&folder.path().join(".kampf/data"))[0]));
            let named = variants(&folder).len();
            let of_variants = files.iter().filter(|name| name.matches('.').count() > 1).count();
            assert_eq!(of_variants, named, "{kill} {step:?}: {files:?}");
        }
        folder.ok(&check);
        // There may be others that other commands wanted.
        assert!(promised.iter().all(|one| variants(&folder).contains(one)), "{kill} {step:?}");
    }
    remove(&folder, "the last kill");
}

#[test]
fn half_a_variant_is_removed_by_the_next_command_on_sqlite() {
    variants_killed("sqlite", 16);
}

#[test]
fn half_a_variant_is_removed_by_the_next_command_on_postgresql() {
    if installed() {
        variants_killed("postgres", 4);
    }
}
