//! Contenders from outside, and contenders that go wrong.

mod common;

use std::io::Read;
use std::time::{Duration, Instant};

use common::Folder;
use serde_json::Value as Json;

fn with_program(name: &str, script: &str) -> Folder {
    let folder = Folder::apiary(&format!("[contest.calm.contender.{name}]\ncommand = [\"python3\", \"contender.py\"]\n"));
    folder.write("contender.py", script);
    folder
}

fn race(folder: &Folder, more: &[&str]) -> (i32, Json, String) {
    let arguments = [&["race", "--time", "2s", "--rounds", "2", "--format", "json", "-q"], more].concat();
    let ended = folder.kampf(&arguments);
    (
        ended.status,
        serde_json::from_str(&ended.stdout).unwrap_or_else(|error| panic!("{error}\n{}\n{}", ended.stdout, ended.stderr)),
        ended.stderr,
    )
}

fn named<'a>(document: &'a Json, name: &str) -> &'a Json {
    document["contests"][0]["contenders"].as_array().unwrap().iter().find(|contender| contender["name"] == name).unwrap()
}

const PYTHON: &str = include_str!("../../../docs/examples/contender.py");

#[test]
fn a_program_in_another_language_takes_part() {
    assert!(PYTHON.lines().count() < 60);
    let folder = with_program("python", &PYTHON.replace("LIMIT 100", "LIMIT 10"));
    let (status, document, _) = race(&folder, &["--only", "python", "--only", "computed.*"]);
    assert_eq!(status, 0);
    let python = named(&document, "python");
    assert!(python["latency_ns"]["median"].as_f64().unwrap() > 1000.0, "{python}");
    assert_eq!((&python["statements"], &python["counted"]["statements"]), (&Json::from(1), &Json::from("reported")));
    assert_eq!(python["counted"]["heap_peak_bytes"], "resident");
    let wrong = with_program("python", &PYTHON.replace("LIMIT 100", "LIMIT 9"));
    let (status, document, _) = race(&wrong, &["--only", "python", "--only", "computed.*"]);
    assert_eq!((status, &named(&document, "python")["outcome"]), (1, &Json::from("disagrees")));
}

#[test]
fn a_contender_that_crashes_hangs_or_babbles_is_shown_and_the_others_go_on() {
    let outcome = |name: &str, script: &str, more: &[&str]| {
        let folder = with_program(name, script);
        let (status, document, _) = race(&folder, &[more, &["--only", name, "--only", "computed.*"]].concat());
        assert_eq!(status, 0);
        assert_eq!(document["contests"][0]["contenders"][0]["outcome"], "standing");
        let contender = named(&document, name);
        assert_eq!(contender["outcome"], "failed");
        contender["reason"].as_str().unwrap().to_owned()
    };
    assert_eq!(outcome("crashes", "raise SystemExit('no luck')", &[]), "the process ended with status 1: no luck");
    let begun = Instant::now();
    assert_eq!(outcome("hangs", "import time\ntime.sleep(60)", &["--timeout", "1s"]), "no answer within 1 s (--timeout)");
    assert!(begun.elapsed() < Duration::from_secs(40));
    let babbles = outcome("babbles", "print('{\"kampf\":1,\"nonsense\":1}', flush=True)\ninput()\ninput()", &[]);
    assert!(babbles.starts_with("broke the protocol: "), "{babbles}");
    let refuses = "print('a word for the log')\nprint('{\"kampf\":1,\"failed\":{\"reason\":\"out of honey\"}}', flush=True)\ninput()";
    assert_eq!(outcome("refuses", refuses, &[]), "out of honey");
    let greedy = "x = bytearray(900 * 1024 * 1024)";
    assert_eq!(outcome("greedy", greedy, &["--memory-limit", "512 MiB"]), "needed more than 512 MiB (--memory-limit)");
    let folder = Folder::apiary("[contest.calm.contender.absent]\ncommand = [\"./no-such-program\"]\n");
    let (_, document, _) = race(&folder, &["--only", "absent", "--only", "computed.*"]);
    assert!(named(&document, "absent")["reason"].as_str().unwrap().starts_with("could not be started: ./no-such-program"));
}

#[test]
fn a_contender_of_kampf_s_own_is_stopped_at_the_memory_limit() {
    let folder = Folder::apiary("");
    let toml = folder.read("kampf.toml").replace("6 per hive", "9000 per hive");
    folder.write("kampf.toml", toml);
    let (status, document, _) =
        race(&folder, &["--memory-limit", "24 MiB", "--only", "lazy.app.all.tracked", "--only", "computed.database.needed.raw"]);
    assert_eq!(status, 0);
    assert_eq!(named(&document, "lazy.app.all.tracked")["reason"], "needed more than 24 MiB (--memory-limit)");
    assert_eq!(named(&document, "computed.database.needed.raw")["outcome"], "standing");
}

#[test]
fn a_program_that_lies_about_its_time_is_not_believed() {
    let liar = PYTHON.replace("LIMIT 100", "LIMIT 10").replace("time.perf_counter_ns() - start", "(time.perf_counter_ns() - start) // 20");
    let folder = with_program("liar", &liar);
    let (_, document, _) = race(&folder, &["--only", "liar", "--only", "computed.database.needed.raw"]);
    let contender = named(&document, "liar");
    assert_eq!(contender["outcome"], "failed", "{contender}");
    assert!(contender["reason"].as_str().unwrap().contains("longer by the runner's clock"), "{contender}");
}

#[test]
fn ctrl_c_ends_at_the_last_whole_round_with_what_is_known() {
    let folder = Folder::apiary("");
    let mut command = folder.command(&["race", "--time", "60s", "--rounds", "100000", "--format", "json"]);
    let mut child = command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    let mut stderr = child.stderr.take().unwrap();
    let mut said = String::new();
    let mut piece = [0; 256];
    // Sparse lines on a pipe: the tenth round is announced when nine are done.
    while !said.contains("round 10,") {
        let length = stderr.read(&mut piece).unwrap();
        assert!(length > 0, "{said}");
        said.push_str(&String::from_utf8_lossy(&piece[..length]));
    }
    std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0));
    let document: Json = serde_json::from_slice(&output.stdout).unwrap();
    let race = &document["contests"][0]["race"];
    assert_eq!(race["interrupted"], true);
    assert!(race["rounds"].as_u64().unwrap() >= 9);
}

#[test]
fn ctrl_c_twice_ends_at_once_and_takes_the_contender_along() {
    // It starts another process, notes it, and then neither of them answers or ends when the input does.
    let stubborn = "import os, signal, time\nsignal.signal(signal.SIGINT, signal.SIG_IGN)\nif os.fork() == 0:\n  open('pid', 'w').write(str(os.getpid()))\n\x20 \
                    os.rename('pid', 'stubborn.pid')\nwhile True: time.sleep(1)\n";
    let folder = with_program("stubborn", stubborn);
    let mut child = folder.command(&["race", "--timeout", "60s", "-q", "--only", "stubborn"]).spawn().unwrap();
    let begun = Instant::now();
    let file = folder.path().join("stubborn.pid");
    while !file.exists() {
        assert!(begun.elapsed() < Duration::from_secs(30), "the program was not started");
        std::thread::sleep(Duration::from_millis(10));
    }
    let stubborn = std::fs::read_to_string(&file).unwrap();
    let interrupt = || std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    interrupt();
    std::thread::sleep(Duration::from_millis(50));
    interrupt();
    assert_eq!(child.wait().unwrap().code(), Some(3));
    let is_running = || {
        let state = std::fs::read_to_string(format!("/proc/{stubborn}/stat")).unwrap_or_default();
        !state.is_empty() && !state.contains(") Z ")
    };
    while is_running() {
        assert!(begun.elapsed() < Duration::from_secs(30), "the contender goes on");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn what_a_contender_holds_is_counted_to_the_byte() {
    let held = 4_000_000;
    let sql = |hydration: &str| format!("sql = \"select zeroblob({held}) as held\"\nhydration = \"{hydration}\"\n");
    let folder =
        Folder::apiary(&format!("[contest.big.contender.keeps]\n{}[contest.big.contender.passes-on]\n{}", sql("record"), sql("raw")));
    let ended = folder.kampf(&["race", "big", "--rounds", "1", "--format", "json", "-q"]);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    let document: Json = serde_json::from_str(&ended.stdout).unwrap();
    let peak = |name: &str| named(&document, name)["heap_peak_bytes"].as_u64().unwrap();
    // The bytes, and the row that points to them.
    assert!((held..held + 200).contains(&peak("keeps")), "{}", peak("keeps"));
    assert!(peak("passes-on") < 200, "{}", peak("passes-on"));
    assert_eq!(named(&document, "passes-on")["bytes"], held);
}
