//! A throwaway server: started from the installed programs for one dataset, and stopped when it is no longer needed.

use std::fs;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use kampf_contest::{EngineError, EngineErrorKind};
use rustix::process::Signal;

use super::connect::{Link, OLDEST};
use crate::engine::Setting;
use crate::throwaway::{
    Home, Kind, Process, encoded, end_with_parent, folder_of, has_room, io, keep_secret, random_word, remove_soon, unreachable,
};

/// The database of a throwaway server, which every new cluster has; a variant has one of its own.
pub(super) fn database_of(variant: Option<&str>) -> String {
    variant.map_or_else(|| DATABASE.to_owned(), |variant| format!("kampf_{variant}"))
}

const DATABASE: &str = "postgres";
/// Its owner, and who contenders are there: one who may read and nothing else.
const OWNER: &str = "kampf";
const READER: &str = "kampf_reader";
/// Who contenders are on a scratch: one who may change some tables.
pub(super) const WRITER: &str = "kampf_writer";

/// What is in a dataset's folder of a throwaway server.
pub(super) const FOLDER: &str = "dataset.cluster";

/// What is PostgreSQL's own about its throwaway servers.
pub(super) static KIND: Kind = Kind {
    name: "PostgreSQL",
    homes: "kampf-postgres",
    account: "postgres",
    folder: FOLDER,
    made_by: "PG_VERSION",
    pid_file: "postmaster.pid",
    // The eighth line says how far it has come.
    is_ready: |lines| lines.get(7) == Some(&"ready"),
    tells: |line| ["FATAL", "ERROR", "HINT"].iter().any(|word| line.contains(word)),
    ends_by: Signal::INT,
};

/// The installed programs.
pub(super) struct Programs {
    folder: PathBuf,
    /// The server's version, like "15.14".
    pub(super) version: String,
}

impl Programs {
    /// The newest ones, on the PATH or where systems put them.
    pub(super) fn find() -> Result<Programs, EngineError> {
        let mut folders: Vec<PathBuf> = std::env::var_os("PATH").map(|path| std::env::split_paths(&path).collect()).unwrap_or_default();
        for (root, below) in [("/usr/lib/postgresql", "bin"), ("/usr", "bin"), ("/usr/local", "bin"), ("/opt/homebrew/opt", "bin")] {
            for entry in fs::read_dir(root).into_iter().flatten().flatten() {
                let named = root == "/usr/lib/postgresql" || entry.file_name().to_string_lossy().starts_with("pg");
                if named || entry.file_name().to_string_lossy().starts_with("postgresql") {
                    folders.push(entry.path().join(below));
                }
            }
        }
        let versions = folders.into_iter().filter(|folder| folder.join("initdb").is_file()).filter_map(|folder| {
            let output = Command::new(folder.join("postgres")).arg("--version").output().ok()?;
            let text = String::from_utf8_lossy(&output.stdout).into_owned();
            let version = text.split_whitespace().nth(2)?.to_owned();
            let major: u32 = version.split(|c: char| !c.is_ascii_digit()).next()?.parse().ok()?;
            (major >= OLDEST).then_some((major, Programs { folder, version }))
        });
        versions.max_by_key(|(major, _)| *major).map(|(_, programs)| programs).ok_or_else(|| {
            unreachable(
                "no server of PostgreSQL, 12 or newer, is installed here; install one (Debian, Ubuntu: `apt install postgresql`), or name a running one: \
                 engine = \"postgres://…\"",
            )
        })
    }

    fn command(&self, program: &str, home: &Home) -> Command {
        let mut command = Command::new(self.folder.join(program));
        command.env_clear().env("LC_ALL", "C").env("TZ", "UTC").current_dir(&home.folder);
        if let Some((user, group)) = home.user {
            command.uid(user).gid(group);
        }
        command.stdin(Stdio::null());
        command
    }
}

/// The home of the dataset in a folder; made when missing.
pub(super) fn home_of(dataset: &Path) -> Result<Home, EngineError> {
    Home::of(dataset, &KIND)
}

impl Programs {
    /// Makes an empty cluster, without anything that was there.
    pub(super) fn create(&self, home: &Home) -> Result<(), EngineError> {
        let lock = home.lock()?;
        home.end_left_over();
        let data = home.data();
        remove_soon(&data)?;
        if let Some(user) = home.user {
            folder_of(&data, user)?;
        }
        let password = home.folder.join("password");
        keep_secret(&password, &random_word()?, home.user.map(|(_, group)| group))?;
        keep_secret(&home.folder.join("reader"), &random_word()?, None)?;
        let mut command = self.command("initdb", home);
        end_with_parent(&mut command, Signal::KILL);
        let output = command
            .args(["--encoding=UTF8", "--locale=C", "--no-sync", "--auth-local=trust", "--auth-host=scram-sha-256"])
            .args(["--username", OWNER, "--pwfile"])
            .arg(&password)
            .arg("--pgdata")
            .arg(&data)
            .output()
            .map_err(|error| io("start", &self.folder.join("initdb"), error))?;
        drop(lock);
        if output.status.success() {
            return Ok(());
        }
        let words = String::from_utf8_lossy(&output.stderr).trim().replace('\n', "; ");
        let kind = if has_room(&home.folder) { EngineErrorKind::Unreachable } else { EngineErrorKind::Full };
        Err(EngineError { kind, message: format!("a PostgreSQL cluster cannot be made: {words}"), sql: None, cause: None })
    }

    /// Writes everything to the disk, so that not even a power failure leaves half a dataset that looks whole.
    pub(super) fn settle(&self, home: &Home) -> Result<(), EngineError> {
        let done = self.command("initdb", home).arg("--sync-only").arg("--pgdata").arg(home.data()).output();
        match done {
            Ok(output) if output.status.success() => Ok(()),
            Ok(output) => {
                Err(unreachable(&format!("the dataset cannot be written out: {}", String::from_utf8_lossy(&output.stderr).trim())))
            }
            Err(error) => Err(io("start", &self.folder.join("initdb"), error)),
        }
    }

    /// Starts the server on the cluster of a home.
    pub(super) fn start(&self, home: &Home, settings: &[Setting]) -> Result<Server, EngineError> {
        let process = Process::start(home, |home, port| {
            let mut command = self.command("postgres", home);
            command.arg("-D").arg(home.data()).arg("-k").arg(&home.sockets).args(["-p", &port.to_string()]);
            for (name, value) in FIXED {
                command.arg("-c").arg(format!("{name}={value}"));
            }
            for setting in settings {
                command.arg("-c").arg(format!("{}={}", setting.name, setting.value));
            }
            command
        })?;
        Ok(Server { process })
    }
}

/// What a throwaway server is always started with. Its data can be made anew, so nothing waits for the disk; nothing runs in
/// the background that would disturb a measurement.
const FIXED: [(&str, &str); 11] = [
    ("listen_addresses", "127.0.0.1"),
    ("autovacuum", "off"),
    ("fsync", "off"),
    ("full_page_writes", "off"),
    ("synchronous_commit", "off"),
    ("wal_level", "minimal"),
    ("max_wal_senders", "0"),
    ("max_wal_size", "4GB"),
    ("checkpoint_timeout", "1d"),
    ("unix_socket_permissions", "0700"),
    ("logging_collector", "off"),
];

/// A running server. It is stopped when dropped.
pub(super) struct Server {
    process: Process,
}

impl Server {
    /// Where contenders reach it, as one who may only read: by its socket.
    pub(super) fn url(&self, database: &str) -> String {
        self.url_of(READER, database)
    }

    /// Where Kampf itself reaches it, as its owner.
    pub(super) fn own_url(&self, database: &str) -> String {
        self.url_of(OWNER, database)
    }

    /// Where contenders reach a scratch.
    pub(super) fn writer_url(&self, database: &str) -> String {
        self.url_of(WRITER, database)
    }

    fn url_of(&self, user: &str, database: &str) -> String {
        format!("postgres://{user}@/{database}?host={}&port={}", encoded(&self.process.home.sockets.to_string_lossy()), self.process.port)
    }

    /// Makes the one who may read what is loaded.
    pub(super) fn make_reader(&self, link: &Link) -> Result<(), EngineError> {
        let password = self.reader_password().ok_or_else(|| unreachable("the password of the server's reader is gone"))?;
        link.execute(&format!(
            "BEGIN; CREATE ROLE {READER} LOGIN PASSWORD '{password}'; ALTER ROLE {READER} SET default_transaction_read_only = on; COMMIT"
        ))
    }

    /// Lets the reader read a database, and takes from everybody what else they may do there.
    pub(super) fn let_read(&self, link: &Link, database: &str) -> Result<(), EngineError> {
        link.execute(&format!(
            "BEGIN; REVOKE ALL ON DATABASE {database} FROM PUBLIC; REVOKE CREATE ON SCHEMA public FROM PUBLIC;
             GRANT CONNECT ON DATABASE {database} TO {READER}; GRANT USAGE ON SCHEMA public TO {READER};
             REVOKE EXECUTE ON FUNCTION lo_creat(integer), lo_create(oid), lo_from_bytea(oid, bytea), lo_unlink(oid) FROM PUBLIC;
             GRANT SELECT ON ALL TABLES IN SCHEMA public TO {READER}; COMMIT"
        ))
    }

    fn reader_password(&self) -> Option<String> {
        fs::read_to_string(self.process.home.folder.join("reader")).ok()
    }

    /// Keeps the server, and all processes it starts from now on, on one core.
    pub(super) fn pin(&self, core: usize) -> bool {
        self.process.pin(core)
    }

    /// Its files, for people.
    pub(super) fn place(&self) -> String {
        self.process.home.data().display().to_string()
    }

    /// Where programs reach it whose drivers know no sockets.
    pub(super) fn tcp_url(&self, database: &str) -> Option<String> {
        Some(format!("postgres://{READER}:{}@127.0.0.1:{}/{database}", self.reader_password()?, self.process.port))
    }
}
