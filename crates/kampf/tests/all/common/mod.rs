//! The real program in a folder of its own, with nothing of the tester's environment.

pub(crate) mod made;
pub(crate) mod processes;

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

/// Where folders of tests and root's servers lie: in memory where there is room. On a disk that is told of every file that goes, a server's
/// thousand files take longer to remove than all that was tested of it.
fn memory() -> Option<&'static Path> {
    let place = Path::new("/dev/shm");
    let room = rustix::fs::statvfs(place).ok()?;
    (room.f_bavail.saturating_mul(room.f_frsize) > 2 << 30 && tempfile::tempdir_in(place).is_ok()).then_some(place)
}

/// The place of root's servers.
pub(crate) fn servers() -> &'static Path {
    memory().unwrap_or(Path::new("/var/tmp"))
}

pub(crate) struct Folder {
    temporary: tempfile::TempDir,
}

pub(crate) struct Ended {
    pub(crate) stdout: String,
    pub(crate) stderr: String,
    pub(crate) status: i32,
}

/// A small apiary that fills in no time.
pub(crate) const SQL: &str = "\
CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL);
CREATE TABLE hive (
  id INTEGER PRIMARY KEY,
  strain_id INTEGER NOT NULL REFERENCES strain (id),
  label VARCHAR(20) NOT NULL,
  frames INTEGER NOT NULL CHECK (frames BETWEEN 8 AND 24)
);
CREATE TABLE inspection (
  id INTEGER PRIMARY KEY,
  hive_id INTEGER NOT NULL REFERENCES hive (id),
  temper INTEGER NOT NULL
);
CREATE INDEX inspection_hive ON inspection (hive_id);
";

pub(crate) const TOML: &str = "\
schema = \"apiary.sql\"
seed = 3

[rows]
strain = 5
hive = 40
inspection = \"6 per hive\"

[contest.calm]
from = \"hive\"
give = [\"label\", \"strain.name\", \"avg(inspection.temper) as calm\", \"count(inspection) as visits\"]
order = [\"calm desc\"]
limit = 10
";

impl Folder {
    pub(crate) fn empty() -> Folder {
        let temporary = memory().map_or_else(tempfile::tempdir, tempfile::tempdir_in);
        Folder { temporary: temporary.expect("a temporary folder") }
    }

    /// A folder with the small apiary and more lines in its kampf.toml.
    pub(crate) fn apiary(more: &str) -> Folder {
        let folder = Folder::empty();
        folder.write("apiary.sql", SQL);
        folder.write("kampf.toml", format!("{TOML}{more}"));
        folder
    }

    pub(crate) fn path(&self) -> &Path {
        self.temporary.path()
    }

    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.path().join(name), text).expect("a file can be written");
    }

    pub(crate) fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path().join(name)).expect("a file can be read")
    }

    /// The names in a folder below, in order.
    pub(crate) fn read_dir(&self, name: &str) -> Vec<String> {
        let entries = std::fs::read_dir(self.path().join(name)).expect("a folder can be read");
        let mut names: Vec<String> = entries.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.sort_unstable();
        names
    }

    pub(crate) fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_kampf"));
        command.args(arguments).current_dir(self.path()).env_clear().stdin(Stdio::null());
        if let Some(path) = std::env::var_os("PATH") {
            command.env("PATH", path);
        }
        command.env("KAMPF_SERVERS", servers());
        command
    }

    pub(crate) fn kampf(&self, arguments: &[&str]) -> Ended {
        let output = self.command(arguments).output().expect("kampf runs");
        Ended {
            stdout: String::from_utf8(output.stdout).expect("text on standard output"),
            stderr: without_neighbours(&String::from_utf8(output.stderr).expect("text on standard error")),
            status: output.status.code().unwrap_or(-1),
        }
    }

    /// Runs and expects success; gives standard output.
    pub(crate) fn ok(&self, arguments: &[&str]) -> String {
        let ended = self.kampf(arguments);
        assert_eq!(ended.status, 0, "kampf {arguments:?}\n{}\n{}", ended.stdout, ended.stderr);
        ended.stdout
    }

    /// Runs and expects an error; gives standard error without the word that begins it.
    pub(crate) fn error(&self, arguments: &[&str], status: i32) -> String {
        let ended = self.kampf(arguments);
        assert_eq!(ended.status, status, "kampf {arguments:?}\n{}\n{}", ended.stdout, ended.stderr);
        assert!(!ended.stderr.contains("panicked"), "{}", ended.stderr);
        ended.stderr.strip_prefix("kampf: ").unwrap_or(&ended.stderr).to_owned()
    }

    /// The datasets that are kept.
    pub(crate) fn datasets(&self) -> Vec<PathBuf> {
        let Ok(entries) = std::fs::read_dir(self.path().join(".kampf/data")) else { return Vec::new() };
        entries.flatten().map(|entry| entry.path()).collect()
    }
}

/// What a command says but for the warning of others that race on the machine, as other tests do.
fn without_neighbours(text: &str) -> String {
    text.split_inclusive('\n').filter(|line| !line.starts_with("warning: another kampf is racing on this machine")).collect()
}

/// The text with every number that a clock gave replaced by as many signs.
pub(crate) fn without_times(text: &str) -> String {
    let mut out = String::new();
    let words = text.split_inclusive([' ', '\n']).collect::<Vec<_>>();
    for (at, word) in words.iter().enumerate() {
        let unit = words.get(at + 1).map_or("", |next| next.trim_end_matches(['\n', ' ', ',', ';', '.']));
        let is_time = ["ns", "us", "ms", "s"].contains(&unit) && word.starts_with(|c: char| c.is_ascii_digit());
        out += &if is_time { word.replace(|c: char| c.is_ascii_digit() || c == '.', "~") } else { (*word).to_owned() };
    }
    out
}

/// Whether a server of PostgreSQL can be started; where there must be one, its absence is a failure.
pub(crate) fn installed() -> bool {
    static INSTALLED: OnceLock<bool> = OnceLock::new();
    *INSTALLED.get_or_init(|| {
        let folder = Folder::apiary("");
        let ended = folder.kampf(&["fill", "--engine", "postgres", "-q"]);
        if ended.status == 0 {
            folder.ok(&["fill", "--remove", "-q"]);
            return true;
        }
        assert!(std::env::var("KAMPF_REQUIRE_SERVERS").as_deref() != Ok("1"), "{}", ended.stderr);
        assert!(ended.stderr.contains("install one"), "{}", ended.stderr);
        // Not by a macro, whose words the tests' runner would keep to itself.
        let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("skipped: {}", ended.stderr).as_bytes());
        false
    })
}

pub(crate) fn json(text: &str) -> serde_json::Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}\n{text}"))
}

/// Numbers by chance, the same in every run, but for another seed (the generator that Knuth calls linear congruential, with the constants of MMIX).
pub(crate) struct Dice(u64);

impl Dice {
    pub(crate) fn new(seed: u64) -> Dice {
        Dice(seed.wrapping_add(kampf_mangle::seed() << 32))
    }

    pub(crate) fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 16) % end
    }
}
