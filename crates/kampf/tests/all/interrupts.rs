//! What becomes of a race that is interrupted: by Ctrl-C, once and twice, and by the end of its terminal.

use std::process::{Command, Stdio};
use std::time::Duration;

use crate::common::processes::{runs, signal, start, until_said, wait_for};
use crate::common::{Folder, json};
use crate::contenders::{PYTHON, with_program};
use serde_json::Value as Json;

#[test]
fn ctrl_c_ends_at_the_last_whole_round_with_what_is_known() {
    let folder = Folder::apiary("");
    let mut child = start(&folder, &["race", "--time", "60s", "--exact", "--margin", "0.1%", "--rounds", "100000", "--format", "json"]);
    // Sparse lines on a pipe: the tenth round is announced when nine are done.
    until_said(&mut child, "round 10,");
    signal("-INT", child.id());
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0));
    let document: Json = serde_json::from_slice(&output.stdout).unwrap();
    let race = &document["contests"][0]["race"];
    assert_eq!(race["interrupted"], true);
    assert!(race["rounds"].as_u64().unwrap() >= 9);
}

/// Whether whoever started the tests has SIGHUP ignored, which every program that they start inherits.
fn is_hangup_ignored() -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let ignored = status.lines().find_map(|line| u64::from_str_radix(line.strip_prefix("SigIgn:")?.trim(), 16).ok());
    ignored.is_some_and(|ignored| ignored & 1 == 1)
}

#[test]
fn the_end_of_a_terminal_ends_a_race_with_what_is_known_and_nohup_does_not() {
    if is_hangup_ignored() {
        let _ = std::io::Write::write_all(
            &mut std::io::stderr(),
            b"skipped: these tests were started so that SIGHUP is ignored, as by nohup\n",
        );
        return;
    }
    let folder = Folder::apiary("");
    let mut child = start(&folder, &["race", "--time", "60s", "--exact", "--margin", "0.1%", "--rounds", "100000"]);
    until_said(&mut child, "round 10,");
    // Once by the terminal and once by its shell; and nobody reads any more.
    signal("-HUP", child.id());
    signal("-HUP", child.id());
    drop((child.stdout.take(), child.stderr.take()));
    child.wait().unwrap();
    let saved = json(&folder.ok(&["results", "latest", "--format", "json"]));
    assert_eq!(saved["contests"][0]["race"]["interrupted"], true);
    // Where it was started so that this is passed over, it goes on.
    let program = env!("CARGO_BIN_EXE_kampf");
    let mut shell = Command::new("sh");
    shell.args(["-c", &format!("trap '' HUP; exec {program} race --time 60s --rounds 9 --exact --format json")]);
    let mut child = shell.current_dir(folder.path()).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    until_said(&mut child, "round 1,");
    signal("-HUP", child.id());
    let output = child.wait_with_output().unwrap();
    let document: Json = serde_json::from_slice(&output.stdout).unwrap();
    let race = &document["contests"][0]["race"];
    assert_eq!((&race["interrupted"], race["rounds"].as_u64()), (&Json::from(false), Some(9)));
}

#[test]
fn ctrl_c_while_survivors_are_asked_once_more_keeps_the_rounds() {
    // Its second answer is that after the race.
    let slow = PYTHON.replace("LIMIT 100", "LIMIT 10").replace(
        "            if run[\"mode\"] == \"answer\":\n",
        "            if run[\"mode\"] == \"answer\":\n                import os\n                if os.path.exists('asked'):\n                    \
         open('again', 'w').close()\n                    time.sleep(60)\n                open('asked', 'w').close()\n",
    );
    assert!(slow.contains("'again'"));
    let folder = with_program("python", &slow);
    let only = ["--only", "python", "--only", "computed.database.needed.record"];
    let child = start(&folder, &[&["race", "--rounds", "3", "--format", "json", "-q"], &only[..]].concat());
    wait_for("the program is asked once more", || folder.path().join("again").exists());
    signal("-INT", child.id());
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    let document: Json = serde_json::from_slice(&output.stdout).unwrap();
    let race = &document["contests"][0]["race"];
    assert_eq!(
        (&race["rounds"], &race["not_confirmed"], &race["interrupted"]),
        (&Json::from(3), &Json::from("interrupted"), &Json::from(false))
    );
    let text = folder.ok(&["results", &folder.read_dir(".kampf/results")[0]]);
    assert!(text.contains("! not confirmed: the survivors were not all asked for their answers once more (interrupted)"), "{text}");
}

#[test]
fn ctrl_c_twice_ends_at_once_and_takes_the_contender_along() {
    // It starts another process, notes it, and then neither of them answers or ends when the input does.
    let stubborn = "import os, signal, time\nsignal.signal(signal.SIGINT, signal.SIG_IGN)\nif os.fork() == 0:\n  open('pid', 'w').write(str(os.getpid()))\n\x20 \
                    os.rename('pid', 'stubborn.pid')\nwhile True: time.sleep(1)\n";
    let folder = with_program("stubborn", stubborn);
    let mut child = folder.command(&["race", "--timeout", "60s", "-q", "--only", "stubborn"]).spawn().unwrap();
    wait_for("the program is started", || folder.path().join("stubborn.pid").exists());
    let stubborn = folder.read("stubborn.pid");
    let interrupt = || signal("-INT", child.id());
    interrupt();
    std::thread::sleep(Duration::from_millis(50));
    interrupt();
    assert_eq!(child.wait().unwrap().code(), Some(3));
    wait_for("the contender ends", || !runs(&stubborn));
}

#[test]
fn ctrl_c_twice_leaves_none_of_many_children() {
    // Each in a session of its own, so that no group holds them.
    let many = "import os, time\npids = []\nfor at in range(50):\n  pids.append(os.fork())\n  if not pids[-1]:\n    os.setsid()\n    time.sleep(600)\n\
                open('pids', 'w').write(' '.join(map(str, pids)))\nos.rename('pids', 'many.pids')\nwhile True: time.sleep(1)\n";
    for _ in 0..5 {
        let folder = with_program("many", many);
        let mut child = folder.command(&["race", "--timeout", "60s", "-q", "--only", "many"]).spawn().unwrap();
        wait_for("the program is started", || folder.path().join("many.pids").exists());
        let children = folder.read("many.pids");
        assert_eq!(children.split(' ').count(), 50);
        let interrupt = || signal("-INT", child.id());
        interrupt();
        interrupt();
        std::thread::sleep(Duration::from_millis(2));
        interrupt();
        assert_eq!(child.wait().unwrap().code(), Some(3));
        assert!(!children.split(' ').any(runs), "some of {children} still run when it has ended");
    }
}
