//! `kampf new` for somebody's schema: what it proposes, what it proves, and how large it makes it.

use crate::common::processes::{signal, wait_for};
use crate::common::{Folder, json};

const INN: &str = "CREATE TABLE rooms (id INTEGER PRIMARY KEY, code VARCHAR(8) NOT NULL UNIQUE, floor INTEGER NOT NULL);
    CREATE TABLE bookings (id INTEGER PRIMARY KEY, room_code VARCHAR(8) NOT NULL, status VARCHAR(9) NOT NULL CHECK (status IN ('open', 'paid')),
      created_at TIMESTAMP NOT NULL);
    CREATE TABLE visits (id INTEGER PRIMARY KEY, booking_id INTEGER NOT NULL REFERENCES bookings (id), came_at TIMESTAMP, minutes INTEGER);";

/// Rows of the tables of a folder that was made.
fn rows(folder: &Folder, more: &[&str]) -> Vec<u64> {
    let filled = json(&folder.ok(&[&["fill", "-f", "mine/kampf.toml", "--format", "json", "-q"], more].concat()));
    filled["tables"].as_array().unwrap().iter().map(|table| table["rows"].as_u64().unwrap()).collect()
}

#[test]
fn references_that_nobody_declared_are_proposed_and_act_like_others_once_they_are_taken() {
    let folder = Folder::empty();
    folder.write("inn.sql", INN);
    let made = folder.kampf(&["new", "mine", "--schema", "inn.sql"]);
    assert!(made.stderr.contains("next: cd mine && kampf race   (fills "), "{}", made.stderr);
    let text = folder.read("mine/kampf.toml");
    let line = "#   \"bookings.room_code\" = \"rooms.code\"   # 92 % sure: its name is that of the table and its key, rooms.code is unique and of the same kind";
    assert!(text.contains(line), "{text}");
    assert!(!folder.ok(&["show", "--relations", "-f", "mine/kampf.toml"]).contains("rooms"));
    folder.write("mine/kampf.toml", text.replace("#   \"bookings.room_code\"", "\"bookings.room_code\""));
    assert!(folder.ok(&["show", "--relations", "-f", "mine/kampf.toml"]).contains("bookings.room_code"));
    assert_eq!(folder.read("mine/inn.sql"), INN);
    assert!(folder.ok(&["fill", "--doubt", "-f", "mine/kampf.toml"]).starts_with("Nothing to doubt."));
    let more = "\n[contest.joined]\nfrom = \"bookings\"\ngive = [\"status\", \"room.floor\"]\n";
    folder.write("mine/kampf.toml", folder.read("mine/kampf.toml") + more);
    let checked = folder.ok(&["check", "joined", "-f", "mine/kampf.toml", "-q"]);
    assert!(checked.contains("contenders give this answer"), "{checked}");
    for (line, wrong) in [
        ("\"bookings.room_code\" = \"rooms.floor\"", "`rooms.floor` is not unique"),
        ("\"bookings.room_code\" = \"rooms.id\"", "`bookings.room_code` is text(8) and `rooms.id` is integer"),
        ("\"visits.booking_id\" = \"bookings.id\"", "`visits.booking_id` refers to something already"),
        ("\"bookings.room\" = \"rooms.code\"", "`bookings` has no column `room`"),
    ] {
        folder.write("mine/kampf.toml", text.replace("[references]", &format!("[references]\n{line}")));
        let error = folder.error(&["fill", "-f", "mine/kampf.toml"], 2);
        assert!(error.contains(wrong) && error.contains("at mine/kampf.toml:"), "{error}");
    }
}

#[test]
fn contests_are_of_different_kinds_and_all_can_be_checked() {
    let folder = Folder::empty();
    folder.write("inn.sql", INN.replace("room_code VARCHAR(8) NOT NULL,", "room_code VARCHAR(8) NOT NULL REFERENCES rooms (code),"));
    folder.ok(&["new", "mine", "--schema", "inn.sql"]);
    let shown = json(&folder.ok(&["show", "-f", "mine/kampf.toml", "--format", "json"]));
    let names: Vec<&str> = shown.as_array().unwrap().iter().map(|contest| contest["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["bookings-by", "bookings-one", "bookings-numbers", "bookings-newest", "visits-grid", "visits-per-month"]);
    assert!(folder.read("mine/kampf.toml").contains("\"booking.status\", \"booking.room.code\"]"), "{}", folder.read("mine/kampf.toml"));
    let text = folder.ok(&["check", "-f", "mine/kampf.toml", "-q", "--only", "*database*"]);
    assert_eq!(text.matches("contenders give this answer").count(), 6, "{text}");
}

#[test]
fn what_cannot_be_filled_is_said_at_its_place_and_nobody_is_sent_on() {
    let folder = Folder::empty();
    folder.write("odd.sql", "CREATE TABLE a (id INTEGER PRIMARY KEY, b INTEGER NOT NULL CHECK (b > 5 AND b % 7 = 1 AND b * 2 < 14));");
    let made = folder.kampf(&["new", "mine", "--schema", "odd.sql"]);
    assert_eq!(made.status, 0);
    assert!(!made.stderr.contains("next:"), "{}", made.stderr);
    assert!(made.stderr.contains("before it can be filled, kampf.toml needs a line more"), "{}", made.stderr);
    let text = folder.read("mine/kampf.toml");
    assert!(text.contains("TO DO: no values were found for `a` that fulfil the check"), "{text}");
    assert!(text.contains("#   say under [values] how to meet it, like `\"a.b\" = \"…\"`"), "{text}");
}

#[test]
fn guesses_grow_to_the_number_of_rows_that_is_wanted_and_small_tables_stay_small() {
    let folder = Folder::empty();
    let kinds = "CREATE TABLE kind (id INTEGER PRIMARY KEY, name VARCHAR(9) NOT NULL UNIQUE);";
    folder.write("inn.sql", kinds.to_owned() + &INN.replace("minutes INTEGER", "kind_id INTEGER NOT NULL REFERENCES kind"));
    folder.ok(&["new", "mine", "--schema", "inn.sql", "--rows", "200_000"]);
    let large = rows(&folder, &[]);
    assert!((150_000..250_000).contains(&large.iter().sum::<u64>()), "{large:?}");
    let text = folder.read("mine/kampf.toml");
    let scale = text.lines().find(|line| line.starts_with("scale = ")).expect("the scale is written");
    folder.write("mine/kampf.toml", text.replace(scale, "scale = 1"));
    let plain = rows(&folder, &[]);
    assert!(large[0] == plain[0] && large[3] > plain[3] && large[2] >= plain[2], "{plain:?} {large:?}");
    assert_eq!(rows(&folder, &["--scale", scale.trim_start_matches("scale = ")]), large);
    // What somebody has said is not scaled.
    folder.write("mine/kampf.toml", text.replace("[rows]", "[rows]\nvisits = 70"));
    assert_eq!(rows(&folder, &[])[3], 70);
    folder.write("mine/kampf.toml", text.replace(scale, "scale = \"100\""));
    assert!(folder.error(&["fill", "-f", "mine/kampf.toml"], 2).starts_with("`scale` must be a number, like 100"));
    assert!(folder.error(&["fill", "--scale", "0", "-f", "mine/kampf.toml"], 2).contains("a number from 0.001 to 1000000 is expected"));
}

#[test]
fn a_large_fill_says_first_what_it_makes_and_ctrl_c_ends_it_with_a_word() {
    let folder = Folder::apiary("");
    folder.write("kampf.toml", folder.read("kampf.toml").replace("hive = 40", "hive = 3_000_000"));
    let mut child = folder.command(&["fill"]).stderr(std::process::Stdio::piped()).spawn().unwrap();
    let mut said = std::io::BufReader::new(child.stderr.take().unwrap());
    let mut line = String::new();
    std::io::BufRead::read_line(&mut said, &mut line).unwrap();
    assert!(line.starts_with("making about 2") && line.contains(" rows, ") && line.contains(" on the disk; that takes about "), "{line}");
    signal("-INT", child.id());
    let mut rest = String::new();
    std::io::Read::read_to_string(&mut said, &mut rest).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(3), "{rest}");
    assert_eq!(rest, "interrupted while rows were made; the next command removes what is there of them and begins anew\n");
    // A small one says nothing before.
    assert!(!Folder::apiary("").kampf(&["fill"]).stderr.contains("making about"));
}

#[test]
fn shells_readers_and_editors_get_what_they_want_to_know() {
    let folder = Folder::empty();
    for shell in ["bash", "zsh", "fish"] {
        let script = folder.ok(&["completions", shell]);
        assert!(script.contains(&format!("KAMPF_COMPLETE=\"{shell}\"")) || script.contains(&format!("KAMPF_COMPLETE={shell}")), "{script}");
    }
    folder.ok(&["man", "pages", "-q"]);
    let page = folder.read("pages/kampf-race.1");
    assert!(page.contains("round\\-trip") && page.contains("Examples"), "{page}");
    assert!(folder.read("pages/kampf.1").contains("Exit status"));
    assert!(!folder.path().join("pages/kampf-contender.1").exists());
    assert_eq!(
        json(&folder.ok(&["file-schema"]))["properties"]["schema"]["description"].as_str().map(|text| text.starts_with("The file")),
        Some(true)
    );
}

/// What bash completes at the end of a command line.
fn completed(folder: &Folder, words: &[&str]) -> Vec<String> {
    let script = "source <(kampf completions bash); COMP_WORDS=(\"$@\"); COMP_CWORD=$(($# - 1)); COMP_TYPE=9
        _clap_complete_kampf kampf \"${@: -1}\" ''; printf '%s\\n' \"${COMPREPLY[@]}\"";
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_kampf")).parent().unwrap();
    let path = format!("{}:{}", program.display(), std::env::var("PATH").unwrap_or_default());
    let mut bash = std::process::Command::new("bash");
    bash.args(["-c", script, "bash", "kampf"]).args(words).current_dir(folder.path()).env("PATH", path);
    let ended = bash.output().expect("bash is there");
    String::from_utf8_lossy(&ended.stdout).lines().filter(|line| !line.is_empty()).map(str::to_owned).collect()
}

#[test]
fn a_shell_completes_what_is_in_the_folder() {
    let folder = Folder::apiary("[index.by_frames]\non = \"hive(frames)\"\n");
    assert!(completed(&folder, &["ra"]).contains(&"race".to_owned()));
    assert!(completed(&folder, &["race", "--round-t"]).contains(&"--round-trip".to_owned()));
    let all = |words: &[&str], wanted: &[&str]| {
        let found = completed(&folder, words);
        assert!(wanted.iter().all(|word| found.iter().any(|found| found == word)), "{words:?}: {found:?}");
    };
    all(&["race", "ca"], &["calm"]);
    all(&["check", "calm", ""], &["calm", "--answer"]);
    all(&["show", "c"], &["calm"]);
    all(&["trace", "calm", "computed.database.needed."], &["computed.database.needed.plain", "computed.database.needed.raw"]);
    all(&["race", "calm", "--only", "lazy"], &["lazy.database.all.managed"]);
    all(&["fill", "--keys", "h"], &["hive"]);
    all(&["fill", "--preview", ""], &["hive"]);
    all(&["race", "--index", ""], &["by_frames", "derived", "none"]);
    all(&["race", "--engine", ""], &["sqlite", "postgres", "all"]);
    // Of another file, and of none.
    std::fs::create_dir(folder.path().join("else")).unwrap();
    folder.write("else/kampf.toml", "schema = \"../apiary.sql\"\n[contest.elsewhere]\nfrom = \"hive\"\ngive = [\"id\"]\n");
    all(&["-f", "else/kampf.toml", "race", "e"], &["elsewhere"]);
    assert!(completed(&folder, &["-f", "nowhere.toml", "race", "c"]).is_empty());
    // A name goes into a command line as it is.
    folder.write("odd.sql", "CREATE TABLE \"$(touch taken)\" (id INTEGER PRIMARY KEY);\nCREATE TABLE \"*\" (id INTEGER PRIMARY KEY);\nCREATE TABLE shelf (id INTEGER PRIMARY KEY);");
    folder.write("odd.toml", "schema = \"odd.sql\"\n");
    let tables = completed(&folder, &["-f", "odd.toml", "fill", "--preview", ""]);
    assert!(tables.contains(&"shelf".to_owned()) && tables.iter().all(|table| !table.contains(['$', '*', '('])), "{tables:?}");
}

#[test]
#[cfg(target_os = "linux")]
fn another_race_on_the_machine_is_warned_of() {
    use std::os::linux::net::SocketAddrExt;
    let address = std::os::unix::net::SocketAddr::from_abstract_name(b"kampf-race").unwrap();
    let folder = Folder::apiary("");
    let mut held = None;
    // Another test may be racing just now, and be through before this one begins.
    wait_for("the machine", || {
        held = std::os::unix::net::UnixListener::bind_addr(&address).ok();
        held.is_some()
    });
    let ended = folder.command(&["race", "calm", "--time", "1s", "--rounds", "1"]).output().unwrap();
    let said = String::from_utf8_lossy(&ended.stderr);
    assert!(ended.status.success() && said.contains("warning: another kampf is racing on this machine"), "{said}");
}

#[test]
fn a_dataset_is_readable_by_whom_the_umask_lets() {
    use std::os::unix::fs::PermissionsExt;
    let folder = Folder::apiary("");
    let program = env!("CARGO_BIN_EXE_kampf");
    let ended = std::process::Command::new("sh").args(["-c", &format!("umask 077; {program} fill -q")]).current_dir(folder.path()).status();
    assert!(ended.unwrap().success());
    let file = folder.datasets().remove(0).join("dataset.sqlite");
    assert_eq!(std::fs::metadata(file).unwrap().permissions().mode() & 0o777, 0o400);
}

#[test]
fn data_can_be_kept_elsewhere() {
    let folder = Folder::apiary("");
    folder.ok(&["race", "calm", "-q", "--data", "else/where", "--time", "1s", "--rounds", "2"]);
    assert!(!folder.path().join(".kampf").exists(), "something was written beside the file");
    assert!(folder.path().join("else/where/.kampf/data").is_dir());
    assert!(folder.ok(&["results", "--data", "else/where"]).contains("calm"));
    assert!(!folder.ok(&["results"]).contains("calm"));
    folder.ok(&["fill", "--remove", "-q", "--data", "else/where"]);
    assert_eq!(std::fs::read_dir(folder.path().join("else/where/.kampf/data")).unwrap().count(), 0);
}
