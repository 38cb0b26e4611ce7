//! Contenders from outside, and contenders that go wrong.

use std::time::{Duration, Instant};

use crate::common::processes::{runs, signal, wait_for};
use crate::common::{Folder, json};
use serde_json::Value as Json;

pub(crate) fn with_program(name: &str, script: &str) -> Folder {
    let folder = Folder::apiary(&format!("[contest.calm.contender.{name}]\ncommand = [\"python3\", \"contender.py\"]\n"));
    folder.write("contender.py", script);
    folder
}

fn race(folder: &Folder, more: &[&str]) -> (i32, Json, String) {
    let arguments = [&["race", "--time", "30s", "--rounds", "2", "--format", "json", "-q"], more].concat();
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

pub(crate) const PYTHON: &str = include_str!("../../../../docs/examples/contender.py");

#[test]
fn a_program_in_another_language_takes_part() {
    assert!(PYTHON.lines().count() < 70, "a contender is a page of code");
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
        assert!(document["contests"][0]["verdict"]["leader"].as_str().is_some_and(|leader| leader.starts_with("computed.")));
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
    assert_eq!(outcome("greedy", greedy, &["--memory-limit", "512 MiB"]), "needed more than 512 MiB (--memory-limit): MemoryError");
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
        race(&folder, &["--memory-limit", "24 MiB", "--only", "lazy.app.all.managed", "--only", "computed.database.needed.raw"]);
    assert_eq!(status, 0);
    assert_eq!(named(&document, "lazy.app.all.managed")["reason"], "needed more than 24 MiB (--memory-limit)");
    assert_eq!(named(&document, "computed.database.needed.raw")["outcome"], "standing");
}

#[test]
fn a_program_knows_parameters_dates_decimals_and_times() {
    let folder = Folder::empty();
    folder.write(
        "apiary.sql",
        "CREATE TABLE harvest (id INTEGER PRIMARY KEY, day DATE NOT NULL, kilograms DECIMAL(8,2) NOT NULL, weighed TIMESTAMP, pure BOOLEAN NOT NULL);",
    );
    folder.write(
        "kampf.toml",
        "schema = \"apiary.sql\"\n[rows]\nharvest = 3000\n[contest.days]\nfrom = \"harvest\"\n\
         give = [\"day\", \"kilograms\", \"weighed\", \"pure\"]\nwhere = \"id > :least and kilograms > :weight and day <> :day\"\norder = [\"id\"]\nlimit = 20\n\
         parameters = { least = \"2700..2990\", weight = \"any(harvest.kilograms)\", day = \"any(harvest.day)\" }\n\
         [contest.days.contender.python]\ncommand = [\"python3\", \"contender.py\"]\n",
    );
    let start = PYTHON.find("SQL = ").expect("its SQL");
    let end = PYTHON.find("KINDS = ").expect("its kinds");
    let rest = PYTHON[end..].split_once('\n').expect("a line").1;
    let sql =
        "SQL = 'SELECT day, kilograms, weighed, pure FROM harvest WHERE id > ?1 AND kilograms > ?2 AND day <> ?3 ORDER BY id LIMIT 20'\n";
    folder.write("contender.py", format!("{}{sql}KINDS = ['date', 'decimal', 'timestamp', 'boolean']\n{rest}", &PYTHON[..start]));
    let ended = folder.kampf(&["check", "-q"]);
    assert_eq!(ended.status, 0, "{}{}", ended.stdout, ended.stderr);
    let (status, document, _) = race(&folder, &["--only", "python", "--only", "*.record"]);
    let python = named(&document, "python");
    assert!(status == 0 && python["rounds"].as_array().is_some_and(|rounds| rounds.len() == 2), "{python}");
    // It was counted over all parameter sets.
    let rows = &python["counted_range"]["rows"];
    assert!(rows["most"].as_u64() > rows["least"].as_u64(), "{python}");
}

/// What comes of a program that was changed: its outcome and the reason, beside a contender of Kampf's own.
fn believed(from: &str, to: &str) -> (Json, String) {
    let changed = PYTHON.replace("LIMIT 100", "LIMIT 10").replace(from, to);
    assert!(changed.contains(to), "{from}");
    let folder = with_program("liar", &changed);
    let (_, document, _) = race(&folder, &["--only", "liar", "--only", "computed.database.needed.record"]);
    let (own, contender) = (named(&document, "computed.database.needed.record"), named(&document, "liar"));
    assert_eq!(own["rounds"].as_array().unwrap().len(), 2, "{own}");
    assert!(own["outcome"] == "standing" || contender["outcome"] == "standing", "{own}");
    (contender["outcome"].clone(), contender["reason"].as_str().unwrap_or_default().to_owned())
}

#[test]
fn a_program_that_lies_about_its_time_is_not_believed_and_changes_nothing() {
    let span = "time.perf_counter_ns() - start";
    let said = |from: &str, to: &str| {
        let (outcome, reason) = believed(from, to);
        assert_eq!(outcome, "not_believed", "{reason}");
        reason
    };
    assert!(said(span, "(time.perf_counter_ns() - start) // 20").contains("by the runner's clock it takes"));
    let micro = said(span, "(time.perf_counter_ns() - start) // 1000");
    assert!(micro.starts_with("it says that a call takes ") && micro.contains(" ns, and by the runner's clock it takes "), "{micro}");
    assert!(said(span, "(time.perf_counter_ns() - start) * 2").contains("by the runner's clock"));
    assert!(
        said("ran[\"spans_ns\"], ran[\"cpu_ns\"] = spans,", "ran[\"spans_ns\"], ran[\"cpu_ns\"] = spans[1:],")
            .contains("it reports 0 spans of a run of 1")
    );
    let idle =
        said("ran[\"rows\"] += len(call(connection, parameters))\n                        spans", "pass\n                        spans");
    assert_eq!(idle, "it reports 0 rows of its first call, where the checked answer has 10");
    let counted = said("ran[\"rows\"] = len(call(connection, run[\"parameters\"][0]))", "ran[\"rows\"] = 3");
    assert_eq!(counted, "it reports 3 rows of its counted call, where the checked answer has 10");
    // What its runs cost beside a call does not make a liar of one that takes little time.
    let (outcome, reason) = believed("return [tuple(", "return rows.fetchall() or [tuple(");
    assert!(outcome != "not_believed" && reason.is_empty(), "{outcome} {reason}");
}

#[test]
fn lines_that_are_nearly_the_protocol_s_are_understood_or_answered() {
    let say = "print('{\"kampf\":1,' + json.dumps(message, default=plain)[1:], flush=True)";
    let (outcome, reason) = believed(say, "print(json.dumps({**message, 'kampf': 1}, default=plain, indent=None), flush=True)");
    assert!(outcome != "failed", "{reason}");
    for (to, says) in [
        ("print({'kampf': 1, **message}, flush=True)", "broke the protocol: a line that is not JSON"),
        ("print(json.dumps({'kampf': 2, **message}), flush=True)", "broke the protocol: it speaks version 2 of the protocol"),
        ("print(json.dumps({'kampf': 1, 'reply': message}), flush=True)", "broke the protocol: a line without any of `ready`"),
    ] {
        let (outcome, reason) = believed(say, to);
        assert!(outcome == "failed" && reason.starts_with(says), "{says}: {reason}");
    }
    let unended = format!("{GREETS}os.write(1, b'{{\"kampf\":1,\"ran\":{{\"id\":1,\"rows\":10}}}}')\ntime.sleep(600)");
    assert_eq!(ends(&unended, ""), "broke the protocol: within 3 s its reply had no end of line; end it with a line feed and flush");
}

#[test]
fn who_is_kept_on_a_core_begins_there() {
    // The warden that starts it was started there too: there is no moment in which a thread could begin elsewhere.
    let notes = "import os\nopen('cores', 'w').write(f'{sorted(os.sched_getaffinity(0))} {sorted(os.sched_getaffinity(os.getppid()))}')\n";
    let folder = with_program("python", &format!("{notes}{}", PYTHON.replace("LIMIT 100", "LIMIT 10")));
    let (status, document, _) = race(&folder, &["--pin", "--only", "python", "--only", "computed.database.needed.record"]);
    let core = document["contests"][0]["conditions"]["pinned_to_core"].as_u64().unwrap();
    assert_eq!((status, folder.read("cores")), (0, format!("[{core}] [{core}]")));
}

#[test]
fn a_program_that_works_while_others_have_their_turn_is_stopped_meanwhile() {
    let restless = PYTHON.replace("LIMIT 100", "LIMIT 10").replacen(
        "import ",
        "import threading, time\ndef work():\n    while True:\n        sum(range(20000))\n        time.sleep(0.002)\nthreading.Thread(target=work, daemon=True).start()\nimport ",
        1,
    );
    let folder = with_program("restless", &restless);
    let race = ["race", "--only", "restless", "--only", "computed.database.needed.record", "--rounds", "2", "--format", "json"];
    let ended = folder.kampf(&race);
    assert_eq!(ended.status, 0, "{}", ended.stderr);
    let said = "restless works while others have their turn, so it is stopped meanwhile";
    assert!(ended.stderr.contains(said), "{}", ended.stderr);
    let contest = &json(&ended.stdout)["contests"][0];
    let of = |name: &str| contest["contenders"].as_array().unwrap().iter().find(|one| one["name"] == name).cloned().unwrap();
    assert_ne!(of("restless")["outcome"], "failed", "{}", of("restless"));
    assert_eq!(contest["warnings"], serde_json::json!([said]));
    // One that waits for its turn is left alone.
    let folder = with_program("python", &PYTHON.replace("LIMIT 100", "LIMIT 10"));
    let calm = folder.kampf(&["race", "--only", "python", "--only", "computed.database.needed.record", "--rounds", "2"]);
    assert!(calm.status == 0 && !calm.stderr.contains("works while"), "{}", calm.stderr);
}

#[test]
fn a_program_that_keeps_its_answers_is_pointed_out() {
    // All inspections of the frames that are asked for, which is work enough to be seen beside a look into what is kept.
    let sql = "SELECT count(*) FROM inspection AS one JOIN inspection AS other ON other.temper >= one.temper \
               JOIN hive ON hive.id = one.hive_id JOIN hive AS more ON more.id <= 8 WHERE hive.frames >= ?1";
    let toml = format!(
        "[contest.work.parameters]\nleast = \"8..24\"\n[contest.work.contender.sql]\nsql = \"{}\"\n\
         [contest.work.contender.python]\ncommand = [\"python3\", \"contender.py\"]\n",
        sql.replace("?1", ":least")
    );
    let (head, rest) = PYTHON.split_once("SQL = \"\"\"").unwrap();
    let rest = rest.split_once("\"\"\"\nKINDS").unwrap().1;
    let program =
        format!("{head}SQL = \"\"\"{sql}\"\"\"\nKINDS{rest}").replace("[\"text\", \"text\", \"real\", \"integer\"]", "[\"integer\"]");
    let keeping = "ask, answers = call, {}\n\n\ndef call(connection, parameters):\n    key = tuple(parameters)\n    if key not in answers:\n        \
                   answers[key] = ask(connection, parameters)\n    time.sleep(0.001)\n    return answers[key]\n\n\ndef main():";
    let kept = program.replace("def main():", keeping);
    assert_ne!(kept, program);
    let warnings = |program: &str| {
        let folder = Folder::apiary(&toml);
        folder.write("contender.py", program);
        let ended = folder.kampf(&["race", "work", "--rounds", "1", "--format", "json", "-q"]);
        assert_eq!(ended.status, 0, "{}", folder.kampf(&["results", "latest"]).stdout);
        json(&ended.stdout)["contests"][0]["warnings"].to_string()
    };
    let said = warnings(&kept);
    assert!(said.contains("python takes ") && said.contains("it seems to keep its answers"), "{said}");
    assert!(!warnings(&program).contains("keep its answers"));
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

/// A contender that says hello back and then does what it likes.
const GREETS: &str =
    "import os, sys, time\nsys.stdin.readline()\nprint('{\"kampf\":1,\"ready\":{\"can\":[\"answer\",\"count\",\"time\"]}}', flush=True)\n";

/// How a program ends, and that the runner and the others go on; with so little memory that nothing unbounded can be kept.
fn ends(script: &str, more: &str) -> String {
    let toml = format!("{more}[contest.calm.contender.odd]\ncommand = [\"python3\", \"contender.py\"]\n");
    let folder = Folder::apiary(&toml);
    folder.write("contender.py", script);
    let command = folder.command(&[]);
    let program = command.get_program().to_string_lossy().into_owned();
    let race = "race --time 1s --rounds 1 --timeout 3s --format json -q --only odd --only computed.database.needed.raw";
    // The data segment holds the stack that Kampf sets aside too.
    let output = std::process::Command::new("sh")
        .args(["-c", &format!("ulimit -d 600000; exec {program} {race}")])
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    let document: Json = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(named(&document, "computed.database.needed.raw")["outcome"], "standing");
    let odd = named(&document, "odd");
    assert_eq!(odd["outcome"], "failed", "{odd}");
    odd["reason"].as_str().unwrap().to_owned()
}

#[test]
fn nothing_that_a_program_does_with_its_pipes_holds_the_runner_up() {
    let went_on = "the process closed its input or output and went on";
    // Each waits for its own time-out: together they wait no longer than one.
    std::thread::scope(|scope| {
        let ends_so = |script: String, more: &'static str, reason: &'static str| {
            scope.spawn(move || assert_eq!(ends(&script, more), reason, "{script}"));
        };
        let parameters = "where = \"label <> :word\"\n[contest.calm.parameters]\nword = \"text(150000)\"\n";
        let late = "no answer within 3 s (--timeout)";
        ends_so(format!("{GREETS}os.close(1)\ntime.sleep(600)"), "", went_on);
        ends_so("import os, time\nos.close(1)\nos.close(0)\ntime.sleep(600)".to_owned(), "", went_on);
        ends_so(format!("{GREETS}os.close(0)\ntime.sleep(600)"), parameters, went_on);
        // 150 KB of a parameter are more than a pipe holds: they are not read; nor while it says much itself.
        ends_so(format!("{GREETS}time.sleep(600)"), parameters, late);
        ends_so(format!("{GREETS}while True: os.write(1, b'bee\\n' * 9999)"), parameters, late);
        // A line, words and a log without an end.
        ends_so(format!("{GREETS}while True: os.write(1, b'x' * 65536)"), "", late);
        ends_so(format!("{GREETS}while True: os.write(2, b'x' * 65536)"), "", late);
        ends_so(format!("{GREETS}while True: os.write(1, b'bee\\n' * 9999)"), "", late);
    });
    let endless = "os.write(1, b'{\"kampf\":1,')\nwhile True: os.write(1, b'1' * 65536)";
    assert_eq!(ends(&format!("{GREETS}{endless}"), ""), "broke the protocol: a line of more than 64 MiB; send rows on several lines");
    let not_text = "os.write(1, b'{\"kampf\":1,\\xff}\\n')\ntime.sleep(600)";
    assert_eq!(ends(&format!("{GREETS}{not_text}"), ""), "broke the protocol: a line that is not UTF-8");
}

#[test]
fn a_byte_that_is_no_text_is_log() {
    let odd = PYTHON
        .replace("LIMIT 100", "LIMIT 10")
        .replace("    connection = None\n", "    connection = None\n    sys.stdout.buffer.write(b'\\xff\\n')\n");
    assert!(odd.contains("xff"));
    let folder = with_program("odd", &odd);
    let (status, document, _) = race(&folder, &["--only", "odd", "--only", "computed.*"]);
    assert_eq!((status, named(&document, "odd")["rounds"].as_array().unwrap().is_empty()), (0, false), "{}", named(&document, "odd"));
}

#[test]
fn an_answer_without_an_end_is_not_taken_to_its_end() {
    let rows = "line = b'{\"kampf\":1,\"rows\":{\"id\":1,\"set\":0,\"rows\":[' + b','.join([b'[\"a\",\"b\",1.5,1]'] * 1000) + b']}}\\n'\n\
                sys.stdin.readline()\nwhile True: os.write(1, line)\n";
    let folder = with_program("endless", &format!("{GREETS}{rows}"));
    let ended = folder.kampf(&["check", "-q", "--only", "endless", "--only", "computed.database.needed.raw"]);
    assert_eq!(ended.status, 1);
    assert!(ended.stdout.contains("differs endless\n    more than 1,020 rows, where 10 are right"), "{}", ended.stdout);
    // The same of SQL: 240 inspections, 240 times 240 times.
    let folder = Folder::apiary(
        "[contest.calm.contender.cross]\nsql = \"select 'a', 'b', 1.5, 1 from inspection a, inspection b, inspection c, inspection d\"\nhydration = \"raw\"\n",
    );
    let ended = folder.kampf(&["check", "-q", "--only", "cross", "--only", "computed.database.needed.raw"]);
    assert!(ended.stdout.contains("differs cross\n    more than 1,020 rows, where 10 are right"), "{}", ended.stdout);
    let large = "line = b'{\"kampf\":1,\"rows\":{\"id\":1,\"set\":0,\"rows\":[[\"' + b'x' * 30000000 + b'\",\"b\",1.5,1]]}}\\n'\n\
                 sys.stdin.readline()\nwhile line: line = line[os.write(1, line):]\ntime.sleep(600)\n";
    assert_eq!(ends(&format!("{GREETS}{large}"), ""), "its answer is many times larger than the right one");
}

/// A program that starts two more, one of them in a session of its own, notes all three and then waits for ever.
const FAMILY: &str = "import os, sys, time\n\
    def note(name):\n  open(name + '.new', 'w').write(str(os.getpid()))\n  os.rename(name + '.new', name)\n\
    if os.fork() == 0:\n  note('child.pid')\n  time.sleep(600)\n\
    if os.fork() == 0:\n  os.setsid()\n  if os.fork() == 0:\n    note('orphan.pid')\n    time.sleep(600)\n  os._exit(0)\n\
    note('own.pid')\n";

fn family_of(folder: &Folder) -> Vec<String> {
    let files = ["own.pid", "child.pid", "orphan.pid"].map(|name| folder.path().join(name));
    wait_for("the program and its children run", || files.iter().all(|file| file.exists()));
    files.iter().map(|file| std::fs::read_to_string(file).unwrap()).collect()
}

#[test]
fn a_program_and_all_it_has_started_end_with_a_killed_kampf() {
    for name in ["-KILL", "-TERM"] {
        let folder = with_program("family", &format!("{FAMILY}time.sleep(600)"));
        let mut child = folder.command(&["check", "--timeout", "60s", "-q", "--only", "family"]).spawn().unwrap();
        let family = family_of(&folder);
        signal(name, child.id());
        child.wait().unwrap();
        wait_for("all of them end", || !family.iter().any(|pid| runs(pid)));
    }
}

#[test]
fn what_a_program_leaves_running_ends_when_it_does() {
    let folder =
        with_program("family", &format!("{FAMILY}while not os.path.exists('orphan.pid'): time.sleep(0.01)\nraise SystemExit('no luck')"));
    let ended = folder.kampf(&["check", "-q", "--only", "family", "--only", "computed.database.needed.raw"]);
    assert!(ended.stdout.contains("failed  family: the process ended with status 1: no luck"), "{}", ended.stdout);
    let family = family_of(&folder);
    wait_for("all of them end", || !family.iter().any(|pid| runs(pid)));
}

#[test]
fn programs_are_named_before_they_start_get_no_secrets_and_can_be_left_out() {
    let script = PYTHON.replace("LIMIT 100", "LIMIT 10").replace(
        "    connection = None\n",
        "    import os; open('environment', 'w').write(repr(dict(os.environ)))\n    connection = None\n",
    );
    let folder = with_program("python", &script);
    folder.write("kampf.toml", format!("{}environment = [\"HONEY\"]\n", folder.read("kampf.toml")));
    let mut command = folder.command(&["check", "--only", "python", "--only", "computed.*"]);
    let secrets = [("PGPASSWORD", "s3cret"), ("DATABASE_URL", "postgres://a:s3cret@b/c"), ("API_TOKEN", "s3cret")];
    let output = command.envs(secrets).env("HONEY", "sweet").output().unwrap();
    assert_eq!(output.status.code(), Some(0));
    assert!(String::from_utf8_lossy(&output.stderr).contains("calm: `python` starts the program python3 contender.py\n"));
    let environment = folder.read("environment");
    assert!(environment.contains("PATH") && environment.contains("'HONEY': 'sweet'") && !environment.contains("s3cret"), "{environment}");
    std::fs::remove_file(folder.path().join("environment")).unwrap();
    let ended = folder.kampf(&["check", "--no-programs"]);
    assert!(ended.status == 0 && !ended.stderr.contains("python") && !ended.stdout.contains("python"), "{}", ended.stderr);
    assert!(!folder.path().join("environment").exists());
}

#[test]
fn data_that_a_program_has_changed_is_noticed_and_made_anew() {
    let writes = PYTHON.replace("LIMIT 100", "LIMIT 10").replace(
        "            connection = sqlite3.connect(f\"file:{url}?mode=ro\", uri=True)\n",
        "            import os\n            os.chmod(url, 0o644)\n            connection = sqlite3.connect(url)\n            connection.execute(\"UPDATE hive SET frames = 9 WHERE id = 1\")\n            connection.commit()\n",
    );
    assert!(writes.contains("UPDATE"));
    let folder = with_program("python", &writes);
    for command in [&["check", "-q"][..], &["race", "-q", "--time", "1s", "--rounds", "1"]] {
        let more = ["--only", "python", "--only", "computed.database.needed.raw"];
        let error = folder.error(&[command, &more].concat(), 3);
        assert!(error.starts_with("the data was changed while it was in use, so nothing that was found counts"), "{error}");
        let filled: Json = serde_json::from_str(&folder.ok(&["fill", "--format", "json", "-q"])).unwrap();
        assert_eq!(filled["reused"], false);
    }
}
