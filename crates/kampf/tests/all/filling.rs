//! Filling with the real program: whatever happens to it, what is taken for whole is whole.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{Folder, installed};

fn json(text: &str) -> serde_json::Value {
    serde_json::from_str(text).expect("JSON")
}

const LARGER: &str = "\
schema = \"apiary.sql\"
seed = 3
[rows]
strain = 50
hive = 20_000
inspection = \"10 per hive\"
";

/// The apiary with so many rows that a fill takes a while.
fn larger() -> Folder {
    let folder = Folder::apiary("");
    folder.write("kampf.toml", LARGER);
    folder
}

fn digests(folder: &Folder, arguments: &[&str]) -> Vec<(String, u64, String)> {
    let document = json(&folder.ok(arguments));
    let of = |table: &serde_json::Value| {
        let text = |key: &str| table[key].as_str().unwrap().to_owned();
        (text("name"), table["rows"].as_u64().unwrap(), text("digest"))
    };
    document["tables"].as_array().unwrap().iter().map(of).collect()
}

/// What the database itself holds: rows of a table, and whether the file is sound.
fn in_file(folder: &Folder) -> (u64, String) {
    let file = folder.datasets().remove(0).join("dataset.sqlite");
    let connection = rusqlite::Connection::open(file).unwrap();
    let rows: i64 = connection.query_row("SELECT count(*) FROM inspection", [], |row| row.get(0)).unwrap();
    (rows.unsigned_abs(), connection.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap())
}

#[test]
fn a_fill_killed_at_any_moment_is_never_taken_for_whole() {
    let folder = larger();
    let promised = digests(&folder, &["fill", "--digest", "--format", "json"]);
    let begun = Instant::now();
    folder.ok(&["fill", "-q"]);
    let whole = begun.elapsed();
    folder.ok(&["fill", "--remove", "-q"]);
    for chance in [3, 17, 31, 46, 58, 71, 84, 93, 99, 101] {
        let mut child = folder.command(&["fill", "-q"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(whole * chance / 100);
        let _ = child.kill();
        let _ = child.wait();
        let loaded = digests(&folder, &["fill", "--format", "json", "-q"]);
        assert_eq!(loaded, promised, "killed after {chance} % of its time");
        let (rows, sound) = in_file(&folder);
        assert_eq!((rows, sound.as_str()), (promised[2].1, "ok"));
        folder.ok(&["fill", "--remove", "-q"]);
    }
    assert!(folder.datasets().is_empty());
}

#[test]
fn an_old_dataset_survives_the_death_of_the_one_after_it() {
    let folder = larger();
    let first = digests(&folder, &["fill", "--format", "json", "-q"]);
    folder.write("kampf.toml", LARGER.replace("seed = 3", "seed = 4"));
    let mut child = folder.command(&["fill", "-q"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(60));
    let _ = child.kill();
    let _ = child.wait();
    folder.write("kampf.toml", LARGER);
    let again = json(&folder.ok(&["fill", "--format", "json", "-q"]));
    assert_eq!(again["reused"], true);
    assert_eq!(digests(&folder, &["fill", "--format", "json", "-q"]), first);
}

#[test]
fn of_two_fills_at_once_one_waits_and_finds_the_other_s_rows() {
    let folder = larger();
    let start = || folder.command(&["fill", "--format", "json", "-q"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let ended: Vec<_> = [start(), start(), start()].into_iter().map(|child| child.wait_with_output().unwrap()).collect();
    let mut reused: Vec<bool> = ended
        .iter()
        .map(|output| {
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            json(&String::from_utf8_lossy(&output.stdout))["reused"] == true
        })
        .collect();
    reused.sort_unstable();
    assert_eq!(reused, [false, true, true]);
    assert_eq!(folder.datasets().len(), 1);
}

/// Says that the disk is full as soon as a database file has become large.
const FULL_DISK: &str = r#"
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <unistd.h>
#include <sys/types.h>
#include <sys/stat.h>
static int full(int file) {
    struct stat about;
    return fstat(file, &about) == 0 && S_ISREG(about.st_mode) && about.st_size > 2000000;
}
ssize_t pwrite64(int file, const void *from, size_t count, off64_t at) {
    static ssize_t (*real)(int, const void *, size_t, off64_t);
    if (!real) real = dlsym(RTLD_NEXT, "pwrite64");
    if (full(file)) { errno = ENOSPC; return -1; }
    return real(file, from, count, at);
}
ssize_t write(int file, const void *from, size_t count) {
    static ssize_t (*real)(int, const void *, size_t);
    if (!real) real = dlsym(RTLD_NEXT, "write");
    if (full(file)) { errno = ENOSPC; return -1; }
    return real(file, from, count);
}
"#;

fn compiled(folder: &Path) -> Option<std::path::PathBuf> {
    let (source, library) = (folder.join("full.c"), folder.join("full.so"));
    std::fs::write(&source, FULL_DISK).unwrap();
    let built = Command::new("cc").args(["-shared", "-fPIC", "-o"]).arg(&library).arg(&source).arg("-ldl").status();
    built.is_ok_and(|status| status.success()).then_some(library)
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_is_said_and_leaves_nothing_that_looks_whole() {
    let folder = larger();
    let tools = tempfile::tempdir().unwrap();
    let library = compiled(tools.path()).expect("a C compiler, which building Kampf needs too");
    let output = folder.command(&["fill", "-q"]).env("LD_PRELOAD", library).output().unwrap();
    let message = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(3), "{message}");
    assert!(message.contains("full") && message.contains("make room on the disk"), "{message}");
    assert!(folder.datasets().is_empty(), "what could not be finished is removed");
    assert_eq!(json(&folder.ok(&["fill", "--format", "json", "-q"]))["reused"], false);
}

#[test]
fn a_preview_and_a_digest_need_no_database() {
    let folder = Folder::apiary("[values]\n\"hive.label\" = \"code('HV-####')\"\n");
    insta::assert_snapshot!(folder.ok(&["fill", "--preview", "hive"]), @r#"
    hive: 40 rows

    column     row 1    row 11   row 21   row 31
    id         1        11       21       31
    strain_id  4        4        2        1
    label      HV-1336  HV-9555  HV-1943  HV-7702
    frames     20       21       8        12

    column     type      null  made                          why
    id         integer         1, 2, 3 …                     a key
    strain_id  integer         a row of strain: any of them  a reference
    label      text(20)        code('HV-####')               set
    frames     integer         8..24                         guessed from a check

    Recipes can be set under [values] in kampf.toml, like "hive.label" = "code('HV-####')"
    "#);
    let document = json(&folder.ok(&["fill", "--preview", "hive", "--format", "json"]));
    assert_eq!(document["columns"][2]["made"], "code('HV-####')");
    assert_eq!(document["columns"][2]["why"], "set");
    assert_eq!(document["columns"][2]["values"].as_array().unwrap().len(), 4);
    assert!(folder.error(&["fill", "--preview", "hives"], 2).starts_with("there is no table `hives`\n  did you mean `hive`?"));
    let promised = digests(&folder, &["fill", "--digest", "--format", "json"]);
    assert!(folder.ok(&["fill", "--digest"]).contains(&promised[1].2));
    assert!(folder.datasets().is_empty());
    assert_eq!(digests(&folder, &["fill", "--format", "json", "-q"]), promised);
}

#[test]
fn a_schema_may_be_several_files_or_a_folder_of_them() {
    let folder = Folder::empty();
    std::fs::create_dir(folder.path().join("migrations")).unwrap();
    folder.write(
        "migrations/002_more.sql",
        "ALTER TABLE hive ADD COLUMN state VARCHAR(8) NOT NULL CHECK (state IN ('weak', 'strong'));\n\nALTER TABLE hiv ADD x INT",
    );
    folder.write("migrations/001_first.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY)");
    folder.write("migrations/notes.txt", "not SQL");
    folder.write("kampf.toml", "schema = \"migrations\"\n");
    insta::assert_snapshot!(folder.error(&["fill"], 2), @r"
    this statement is about `hiv`, which no statement before makes
      at migrations/002_more.sql:3:13
        ALTER TABLE hiv ADD x INT
                    ^^^
      did you mean `hive`?
    ");
    folder.write("migrations/003_last.sql", "-- nothing yet");
    folder.write("migrations/002_more.sql", "ALTER TABLE hive ADD COLUMN state VARCHAR(8) NOT NULL CHECK (state IN ('weak', 'strong'));");
    let previewed = json(&folder.ok(&["fill", "--preview", "hive", "--format", "json"]));
    assert_eq!(previewed["columns"][1]["name"], "state");
    folder.write("kampf.toml", "schema = [\"migrations/001_first.sql\", \"migrations/002_more.sql\"]\ndialect = \"mariadb\"\n");
    assert!(folder.kampf(&["fill", "-v"]).stderr.starts_with("the schema is read as mysql\n"));
    let made = folder.kampf(&["new", "mine", "--schema", "migrations"]);
    assert_eq!(made.status, 0, "{}", made.stderr);
    assert!(folder.read("mine/kampf.toml").contains("schema = \"migrations\""));
    assert!(folder.read("mine/migrations/001_first.sql").starts_with("CREATE TABLE hive"));
}

#[test]
fn guessed_counts_of_a_new_folder_are_such_as_can_be_met() {
    let folder = Folder::empty();
    folder.write(
        "app.sql",
        "CREATE TABLE kind (code CHAR(1) PRIMARY KEY CHECK (code IN ('a', 'b', 'c')));
         CREATE TABLE hive (id INTEGER PRIMARY KEY, kind CHAR(1) NOT NULL REFERENCES kind, slot SMALLINT NOT NULL CHECK (slot BETWEEN 1 AND 2), UNIQUE (kind, slot));
         CREATE TABLE one (id INTEGER PRIMARY KEY CHECK (id = 1), motto TEXT);",
    );
    folder.ok(&["new", "mine", "--schema", "app.sql"]);
    let filled = json(&folder.ok(&["fill", "-f", "mine/kampf.toml", "--format", "json", "-q"]));
    let rows: Vec<u64> = filled["tables"].as_array().unwrap().iter().map(|table| table["rows"].as_u64().unwrap()).collect();
    assert_eq!((rows[0], rows[2]), (3, 1));
    assert!((1..=6).contains(&rows[1]), "{rows:?}");
}

#[test]
fn decimals_that_sqlite_does_not_keep_are_refused_with_the_value() {
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, honey DECIMAL(20,4) NOT NULL, wax DECIMAL(16,1) NOT NULL, cells NUMERIC(20,0) NOT NULL);",
    );
    let with = |values: &str| {
        folder.write(
            "kampf.toml",
            format!("schema = \"s.sql\"\n[rows]\nhive = 200\n[values]\n{values}\n[contest.all]\nfrom = \"hive\"\ngive = [\"id\", \"honey\", \"wax\", \"cells\"]\n"),
        );
    };
    // What is guessed is kept, and so is all of fifteen digits, and whole numbers of more.
    with("");
    folder.ok(&["check", "-q"]);
    with(
        "\"hive.honey\" = \"10000000000.0001..99999999999.9999\"\n\"hive.wax\" = \"-99999999999999.9..-10000000000000.0\"\n\"hive.cells\" = \"1000000000000000..1000000000000000000\"",
    );
    folder.ok(&["check", "--all", "-q"]);
    for (column, range) in [("honey", "100000000000.0001..999999999999.9999"), ("wax", "-999999999999999.9..-100000000000000.0")] {
        with(&format!("\"hive.{column}\" = \"{range}\""));
        let said = folder.error(&["check", "-q"], 2);
        assert!(said.contains(&format!("`hive.{column}` would be ")), "{said}");
        assert!(said.contains("exact up to 15 digits") && said.contains("under [values]"), "{said}");
        if installed() {
            folder.ok(&["check", "--engine", "postgres", "-q"]);
        }
    }
    folder.ok(&["fill", "--remove", "-q"]);
}

/// The share of rows of a column that are null.
fn nulls(folder: &Folder, table: &str, column: &str) -> f64 {
    let file = folder.datasets().remove(0).join("dataset.sqlite");
    let data = rusqlite::Connection::open_with_flags(file, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap();
    data.query_row(&format!("SELECT avg({column} IS NULL) FROM {table}"), [], |row| row.get(0)).unwrap()
}

#[test]
fn nulls_come_as_often_as_they_are_asked_for_whatever_checks_want_or_it_is_said() {
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE weighing (id INTEGER PRIMARY KEY, empty INTEGER NOT NULL, full INTEGER, CHECK (full > empty));
         CREATE TABLE visit (id INTEGER PRIMARY KEY, began_at TIMESTAMP NOT NULL, ended_at TIMESTAMP, CHECK (ended_at >= began_at));
         CREATE TABLE swarm (id INTEGER PRIMARY KEY, state VARCHAR(10) NOT NULL CHECK (state IN ('seen', 'caught')), caught_at TIMESTAMP,
           CHECK ((state = 'caught') = (caught_at IS NOT NULL)));
         CREATE TABLE odd (id INTEGER PRIMARY KEY, number INTEGER CHECK (number % 7 = 3));
         CREATE TABLE sale (id INTEGER PRIMARY KEY, price DECIMAL(9, 2) NOT NULL, jars INTEGER NOT NULL, total DECIMAL(12, 2),
           CHECK (total = price * jars));
         CREATE TABLE never (id INTEGER PRIMARY KEY, code VARCHAR(20), CHECK (code = upper(code) AND length(code) = 8));",
    );
    folder.write(
        "kampf.toml",
        "schema = \"s.sql\"\n[rows]\nweighing = 5000\nvisit = 5000\nswarm = 5000\nodd = 5000\nsale = 5000\nnever = 500\n[values]\n\
         \"weighing.full\" = \"1..1000 or null 10%\"\n\"visit.ended_at\" = \"2020-01-01..2026-01-01 or null 10%\"\n\
         \"swarm.caught_at\" = \"2020-01-01..2026-01-01 or null 10%\"\n\"odd.number\" = \"1..1000 or null 10%\"\n\
         \"never.code\" = \"'abcdefgh' or null 10%\"\n",
    );
    let filled = folder.kampf(&["fill"]);
    assert_eq!(filled.status, 0, "{}", filled.stderr);
    for (table, column) in [("weighing", "full"), ("visit", "ended_at"), ("swarm", "caught_at"), ("odd", "number"), ("sale", "total")] {
        let share = nulls(&folder, table, column);
        assert!((0.08..0.12).contains(&share), "{table}.{column}: {share}");
    }
    // What cannot be had so is said, with the check, in the preview too.
    let said = "`never.code` is null in 100 % of its rows and not in 10 %: the check `code = upper(code) AND length(code) = 8`";
    assert!(filled.stderr.contains(said) && filled.stderr.matches("warning").count() == 1, "{}", filled.stderr);
    // Whichever command it is that makes the rows, and whenever somebody fills.
    folder.ok(&["fill", "--remove"]);
    folder.write("kampf.toml", folder.read("kampf.toml") + "[contest.codes]\nfrom = \"never\"\ngive = [\"id\", \"code\"]\nlimit = 3\n");
    let check = ["check", "codes"];
    assert!(folder.kampf(&check).stderr.contains(said));
    assert!(!folder.kampf(&check).stderr.contains(said), "nothing is made any more");
    assert!(folder.kampf(&["fill"]).stderr.contains(said));
    let preview = folder.ok(&["fill", "--preview", "never"]);
    assert!(preview.contains("100 %") && preview.split_whitespace().collect::<Vec<_>>().join(" ").contains(said), "{preview}");
    let preview = json(&folder.ok(&["fill", "--preview", "never", "--format", "json"]));
    assert_eq!((&preview["columns"][1]["null_percent"], &preview["columns"][1]["null_percent_made"]), (&10.0.into(), &100.0.into()));
}

#[test]
fn what_a_person_would_not_believe_is_listed_and_is_a_no() {
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE bake (id INTEGER PRIMARY KEY, started_on DATE NOT NULL, finished_on DATE NOT NULL, country CHAR(2) NOT NULL);",
    );
    let made = |finished: &str| {
        let values = format!(
            "\"bake.started_on\" = \"2025-03-01..2025-03-31\"\n\"bake.finished_on\" = \"{finished}\"\n\"bake.country\" = \"pick('DE', 'FR')\""
        );
        folder.write("kampf.toml", format!("schema = \"s.sql\"\n[rows]\nbake = 100\n[values]\n{values}\n"));
        folder.kampf(&["fill", "--doubt"])
    };
    let doubted = made("2025-02-01..2025-02-28");
    assert_eq!(doubted.status, 1);
    assert!(doubted.stdout.starts_with("1 doubt. 1 table looked at"), "{}", doubted.stdout);
    assert!(doubted.stdout.contains("100 of 100 have `finished_on` before `started_on`"), "{}", doubted.stdout);
    let document = json(&folder.kampf(&["fill", "--doubt", "--format", "json"]).stdout);
    let doubt = &document["doubts"][0];
    assert_eq!((doubt["kind"].as_str(), doubt["table"].as_str()), (Some("times-of-row"), Some("bake")));
    assert_eq!((doubt["found"].as_u64(), doubt["of"].as_u64()), (Some(100), Some(100)));
    assert_eq!(doubt["columns"], serde_json::json!(["started_on", "finished_on"]));
    let believed = made("2025-04-01..2025-04-28");
    assert_eq!((believed.status, believed.stdout.starts_with("Nothing to doubt.")), (0, true), "{}", believed.stdout);
    assert!(folder.datasets().is_empty());
}

#[test]
fn names_and_checks_colour_no_preview() {
    let folder = Folder::empty();
    let odd = "code\u{1b}[31m";
    let sql = format!(
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, \"{odd}\" VARCHAR(20), CHECK (\"{odd}\" = upper(\"{odd}\") AND length(\"{odd}\") = 8));"
    );
    folder.write("s.sql", sql);
    folder.write("kampf.toml", "schema = \"s.sql\"\n[rows]\nhive = 50\n[values]\n\"hive.code\\u001b[31m\" = \"'abcdefgh' or null 10%\"\n");
    let preview = folder.ok(&["fill", "--preview", "hive", "--color", "always"]);
    assert!(preview.contains("is null in 100 %") && !preview.contains("\u{1b}[31m"), "{preview:?}");
    let filled = folder.kampf(&["fill", "--color", "always"]);
    assert!(filled.stderr.contains("is null in 100 %") && !filled.stderr.contains("\u{1b}[31m"), "{:?}", filled.stderr);
}

#[test]
fn a_new_project_has_rows_that_one_believes() {
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE kind (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
         INSERT INTO kind (id, name) VALUES (1, 'honey'), (2, 'wax'), (3, 'pollen');
         CREATE TABLE setting (name VARCHAR(40) PRIMARY KEY, value TEXT NOT NULL);
         INSERT INTO setting VALUES ('a', 'x'), ('b', 'y');
         CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, email VARCHAR(120) NOT NULL UNIQUE);
         CREATE TABLE product (id INTEGER PRIMARY KEY, kind_id INTEGER NOT NULL REFERENCES kind, label VARCHAR(80) NOT NULL);
         CREATE TABLE sale (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL REFERENCES keeper, sold_at TIMESTAMP NOT NULL);
         INSERT INTO keeper VALUES (7, 'the first', 'first@hive.example');
         INSERT INTO sale VALUES (1, 7, '2024-01-01 00:00:00');
         CREATE TABLE line (id INTEGER PRIMARY KEY, sale_id INTEGER NOT NULL REFERENCES sale, product_id INTEGER NOT NULL REFERENCES product);",
    );
    let rows = |dir: &str, more: &[&str]| {
        folder.ok(&[&["new", dir, "--schema", "s.sql", "-q"], more].concat());
        let file = format!("{dir}/kampf.toml");
        let tables = ["kind", "setting", "keeper", "product", "sale", "line"];
        tables.map(|table| json(&folder.ok(&["fill", "--preview", table, "--format", "json", "-f", &file]))["rows"].as_u64().unwrap())
    };
    let [kind, setting, keeper, product, sale, line] = rows("usual", &[]);
    assert_eq!((kind, setting, keeper), (3, 2, 500), "what the file fills keeps its rows where they are no beginning");
    assert!(product == 500 && sale > keeper && line > sale, "{product} {sale} {line}");
    let [kind, setting, _, product, sale, line] = rows("many", &["--rows", "1_000_000"]);
    assert!((kind, setting) == (3, 2) && product < sale && sale < line, "{product} {sale} {line}");
    assert!((900_000..1_100_000).contains(&(product + sale + line)), "{product} {sale} {line}");
    // As many as can be had, and no scale that is refused afterwards.
    folder.write(
        "kinds.sql",
        "CREATE TABLE kind (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);\nINSERT INTO kind VALUES (1, 'a'), (2, 'b');\n",
    );
    folder.ok(&["new", "few", "--schema", "kinds.sql", "--rows", "1_000_000"]);
    assert!(folder.read("few/kampf.toml").contains("scale = 1000000"));
    // A scale of one's own is kept.
    folder.ok(&["new", "scaled", "--schema", "s.sql", "--scale", "3"]);
    assert!(folder.read("scaled/kampf.toml").contains("\nscale = 3\n"));
    assert!(folder.error(&["new", "both", "--schema", "s.sql", "--scale", "3", "--rows", "9"], 2).contains("both say how much there is"));
}

#[test]
fn what_was_guessed_of_how_rows_hang_together_is_said_and_shown() {
    let folder = Folder::empty();
    folder.write("workshop.sql", include_str!("../../../doubt/tests/worlds/pottery.sql"));
    let said = folder.kampf(&["new", "own", "--schema", "workshop.sql"]).stderr;
    let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
    for line in [
        "rows refer to rows of the same: studio (in piece, firing, firing_piece, booking, invoice, invoice_line, comment)",
        "steps that end in their row's state: piece_step of piece",
        "answers: comment.parent_id to one of the same piece",
        "firing (scheduled_at, started_at, finished_at)",
    ] {
        assert!(said.contains(line), "{line}: {said}");
    }
    let file = "own/kampf.toml";
    // Steps are shown as those of one row, one after the other.
    let shown = json(&folder.ok(&["fill", "--preview", "piece_step", "--format", "json", "-f", file]));
    let text = folder.ok(&["fill", "--preview", "piece_step", "-f", file]);
    assert!(text.contains("the steps of one row of piece: id "), "{text}");
    let line = |of: &str| {
        text.lines().find(|line| line.starts_with(of)).unwrap_or_default().split_whitespace().skip(1).map(str::to_owned).collect::<Vec<_>>()
    };
    let (from, to) = (line("from_state"), line("to_state"));
    assert!(from.len() >= 3 && from[0] == "null" && from[1..] == to[..to.len() - 1], "{from:?} {to:?}");
    assert!(text.contains(&format!("state {},", to[to.len() - 1])), "{text}");
    let column = |name: &str| shown["columns"].as_array().unwrap().iter().find(|column| column["name"] == name).unwrap().clone();
    assert_eq!(column("from_state")["made"], "previous(to_state)", "{shown}");
    assert!(folder.ok(&["fill", "--doubt", "-f", file]).contains("Nothing to doubt."));
    // Nothing is said where nothing hangs together.
    folder.write("alone.sql", "CREATE TABLE thing (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);");
    assert!(!folder.kampf(&["new", "alone", "--schema", "alone.sql"]).stderr.contains("hang together"));
}

#[test]
fn steps_of_a_parent_s_rows_are_in_their_order_and_as_long_as_asked() {
    let folder = Folder::empty();
    folder.write(
        "s.sql",
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, since DATE NOT NULL);
         CREATE TABLE visit (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, number INTEGER NOT NULL, at TIMESTAMP NOT NULL,
           UNIQUE (hive_id, number));",
    );
    folder.write(
        "kampf.toml",
        "schema = \"s.sql\"\n[rows]\nhive = 60\nvisit = \"heavy(30) per hive\"\n[values]\n\"visit.at\" = \"step(hive.since, '1 hour'..'10 days')\"\n",
    );
    folder.ok(&["fill", "-q"]);
    let file = folder.datasets().remove(0).join("dataset.sqlite");
    let data = rusqlite::Connection::open_with_flags(file, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap();
    let sql = "SELECT count(*), min(later), max(later), sum(number <> before + 1) FROM (
        SELECT number, lag(number) OVER own AS before, (julianday(at) - julianday(lag(at) OVER own)) * 24 AS later
        FROM visit WINDOW own AS (PARTITION BY hive_id ORDER BY id)) WHERE before IS NOT NULL";
    let (pairs, least, most, other): (i64, f64, f64, i64) =
        data.query_row(sql, [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))).unwrap();
    assert!(pairs > 1_000 && other == 0, "{other} of {pairs} are numbered out of order");
    assert!(least > 0.99 && most < 240.01, "{least} to {most} hours");
}
