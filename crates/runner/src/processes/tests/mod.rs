//! Processes with small shell scripts in them.

mod sample;

use std::time::{Duration, Instant};

use kampf_protocol::{Mode, Ready, Reply, Request, Run};
use rustix::process::{Pid, test_kill_process};
use rustix::thread::sched_getaffinity;

use super::inbox::Inbox;
use super::process::{Launch, Process};
use crate::trouble::Trouble;

const LIMIT: Duration = Duration::from_secs(20);

fn launch(script: &str) -> Launch {
    Launch {
        program: "sh".into(),
        arguments: vec!["-c".into(), script.into()],
        folder: None,
        environment: std::env::var_os("PATH").map(|path| ("PATH".into(), path)).into_iter().collect(),
        memory_limit: None,
        core: None,
        warden: None,
    }
}

/// The next reply of a script within a limit.
fn reply(script: &str, limit: Duration) -> Result<Reply, Trouble> {
    let inbox = Inbox::new().expect("files can be opened");
    let deadline = Instant::now() + limit;
    Process::start(&inbox, &launch(script), deadline)?.receive(deadline, limit)
}

fn ready() -> Reply {
    Reply::Ready(Ready { can: vec![Mode::Time] })
}

#[test]
fn a_reply_is_found_among_log_in_pieces_and_nearly_as_promised() {
    for script in [
        r#"echo '{"kampf":1,"ready":{"can":["time"]}}'"#,
        r#"echo 'a word'; echo; echo '{"level":"info"}'; echo '{"kampf":1,"ready":{"can":["time"]}}'"#,
        r#"printf '{"kampf":1,"rea'; sleep 0.05; printf 'dy":{"can":["time"'; sleep 0.05; printf ']}}\nrest'"#,
        r#"printf '\357\273\277 { "ready" : { "can" : ["time"] }, "kampf" : 1 }\r\n'"#,
    ] {
        assert_eq!(reply(script, LIMIT), Ok(ready()), "{script}");
    }
}

#[test]
fn how_a_program_ends_is_told_with_its_last_words() {
    let ended = |how: &str, words: &str| Err(Trouble::Ended(how.to_owned(), words.to_owned()));
    assert_eq!(reply("echo 'first' >&2; echo '  no luck  ' >&2; echo >&2; exit 4", LIMIT), ended("ended with status 4", "no luck"));
    assert_eq!(reply("kill -9 $$", LIMIT), ended("was ended by signal 9", ""));
    assert_eq!(reply("exec 1>&-; sleep 60", LIMIT), ended("closed its input or output and went on", ""));
    assert!(matches!(reply("exec /no/such/program", LIMIT), Err(Trouble::Ended(how, _)) if how == "ended with status 127"));
    let missing = Launch { program: "/no/such/program".into(), ..launch("") };
    let inbox = Inbox::new().unwrap();
    assert!(
        matches!(Process::start(&inbox, &missing, Instant::now() + LIMIT), Err(Trouble::NotStarted(reason)) if reason.starts_with("/no/such/program: "))
    );
    // What a script says of memory is what happened to it only where memory was limited.
    let words = "echo 'Cannot allocate memory' >&2; exit 1";
    assert_eq!(reply(words, LIMIT), ended("ended with status 1", "Cannot allocate memory"));
    let limited = Launch { memory_limit: Some(64 << 20), ..launch(words) };
    let mut process = Process::start(&inbox, &limited, Instant::now() + LIMIT).unwrap();
    assert_eq!(process.receive(Instant::now() + LIMIT, LIMIT), Err(Trouble::OutOfMemory(64 << 20, String::new())));
    let fallen = Launch { memory_limit: Some(64 << 20), ..launch("kill -11 $$") };
    let mut process = Process::start(&inbox, &fallen, Instant::now() + LIMIT).unwrap();
    let how = "was ended by signal 11, as by having no more than 64 MiB (--memory-limit)";
    assert_eq!(process.receive(Instant::now() + LIMIT, LIMIT), ended(how, ""));
}

#[test]
fn nobody_is_waited_for_beyond_the_limit() {
    let short = Duration::from_millis(300);
    assert_eq!(reply("sleep 60", short), Err(Trouble::TimedOut(short)));
    assert_eq!(reply("while :; do echo log; done", short), Err(Trouble::TimedOut(short)));
    assert_eq!(reply("printf 'no end'; sleep 60", short), Err(Trouble::TimedOut(short)));
    // Only a program, which a warden holds, is told how to end a line: Kampf's own contenders are too slow at most.
    assert_eq!(reply(r#"printf '{"kampf":1,"ready":{"can":[]}}'; sleep 60"#, short), Err(Trouble::TimedOut(short)));
    // A request that is larger than a pipe, and is not read.
    let inbox = Inbox::new().unwrap();
    let deadline = Instant::now() + short;
    let mut process = Process::start(&inbox, &launch("sleep 60"), deadline).unwrap();
    let parameters = vec![vec![serde_json::Value::from("x".repeat(1 << 20))]];
    let large = Request::Run(Run { id: 1, mode: Mode::Time, parameters, passes: 1, calls_per_span: 1, new_rows: Vec::new() });
    assert_eq!(process.send(&large, deadline, short), Err(Trouble::TimedOut(short)));
    // One that is read while the program says much itself goes through.
    let mut process = Process::start(&inbox, &launch("head -c 300000 /dev/zero | tr '\\0' 'x'; echo; head -c 1048576 >/dev/null; echo '{\"kampf\":1,\"ready\":{\"can\":[\"time\"]}}'; cat >/dev/null"), Instant::now() + LIMIT).unwrap();
    let deadline = Instant::now() + LIMIT;
    process.send(&large, deadline, LIMIT).unwrap();
    assert_eq!(process.receive(deadline, LIMIT), Ok(ready()));
}

/// What a script finds out of its own process, told as the reason of a failure.
fn finds(launch: &Launch) -> String {
    let inbox = Inbox::new().unwrap();
    let mut process = Process::start(&inbox, launch, Instant::now() + LIMIT).unwrap();
    match process.receive(Instant::now() + LIMIT, LIMIT) {
        Err(Trouble::Refused(reason)) => reason,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_program_has_the_surroundings_that_it_is_given_and_no_others() {
    let tell = |what: &str| format!("printf '{{\"kampf\":1,\"failed\":{{\"reason\":\"%s\"}}}}\\n' \"$({what})\"");
    let folder = tempfile::tempdir().unwrap();
    let place = folder.path().canonicalize().unwrap();
    assert_eq!(finds(&Launch { folder: Some(place.clone()), ..launch(&tell("pwd")) }), place.to_string_lossy());
    let mut with = launch(&tell("env | cut -d= -f1 | sort | tr '\\n' ' '"));
    with.environment.push(("HONEY".into(), "7".into()));
    let names: Vec<String> =
        finds(&with).split(' ').filter(|name| !["", "PWD", "_", "SHLVL", "OLDPWD"].contains(name)).map(str::to_owned).collect();
    assert_eq!(names, ["HONEY", "PATH"]);
    // The limit is set once it has begun, and long before it is told what to do.
    let limited = Launch { memory_limit: Some(256 << 20), ..launch(&format!("sleep 0.3; {}", tell("ulimit -d"))) };
    assert_eq!(finds(&limited), (256 << 10).to_string());
    // On one core from its first instruction, and the runner itself is where it was.
    let before = sched_getaffinity(None).unwrap();
    let core = (0..1024).rfind(|&core| before.is_set(core)).expect("some core");
    let pinned = Launch { core: Some(core), ..launch(&tell("grep Cpus_allowed_list /proc/self/status | cut -f2")) };
    assert_eq!(finds(&pinned), core.to_string());
    let after = sched_getaffinity(None).unwrap();
    assert!((0..1024).all(|core| before.is_set(core) == after.is_set(core)));
    let inbox = Inbox::new().unwrap();
    let nowhere = Launch { core: Some(1023), ..launch("true") };
    assert!(
        matches!(Process::start(&inbox, &nowhere, Instant::now() + LIMIT), Err(Trouble::NotStarted(reason)) if reason.contains("cannot be kept on core 1023"))
    );
}

#[test]
fn a_program_ends_with_its_process_and_its_memory_is_seen() {
    let inbox = Inbox::new().unwrap();
    let script = r#"echo "{\"kampf\":1,\"failed\":{\"reason\":\"$$\"}}"; sleep 600"#;
    let mut process = Process::start(&inbox, &launch(script), Instant::now() + LIMIT).unwrap();
    let Err(Trouble::Refused(id)) = process.receive(Instant::now() + LIMIT, LIMIT) else { panic!("it tells its number") };
    let id = Pid::from_raw(id.parse().unwrap()).unwrap();
    assert!(process.resident("VmRSS").is_some_and(|bytes| bytes > 100_000) && process.resident("VmNone").is_none());
    assert!(!process.reset_peak() || process.resident("VmHWM").is_some());
    assert!(test_kill_process(id).is_ok());
    drop(process);
    assert_eq!(test_kill_process(id), Err(rustix::io::Errno::SRCH));
}
