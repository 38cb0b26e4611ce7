//! A throwaway server: started from the installed programs for one dataset, and stopped when it is no longer needed.

use std::ffi::OsStr;
use std::fs::{self, DirBuilder, File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt, fchown, lchown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use kampf_contest::{EngineError, EngineErrorKind};
use rustix::process::{Pid, Signal, kill_process};

use super::connect::{Link, OLDEST};
use crate::engine::Setting;
use crate::fault::step;
use crate::sockets::socket_folder;

/// The database of a throwaway server, which every new cluster has.
const DATABASE: &str = "postgres";
/// Its owner, and who contenders are there: one who may read and nothing else.
const OWNER: &str = "kampf";
const READER: &str = "kampf_reader";

/// How long a server may take to start or to stop.
const PATIENCE: Duration = Duration::from_secs(60);
/// Where datasets of root are kept: their own folders are often closed to the user that the server runs as.
const ROOT_HOMES: &str = "/var/tmp/kampf-postgres";

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

/// Where a dataset's server keeps its files: a folder of Kampf's own, which the server's account cannot write to, with what is Kampf's
/// (lock, passwords, log), and in it folders of the server's account.
#[derive(Clone)]
pub(super) struct Home {
    folder: PathBuf,
    /// Where the socket is; a socket's path must be short.
    sockets: PathBuf,
    /// The user that the server runs as where Kampf runs as root, which PostgreSQL refuses.
    user: Option<(u32, u32)>,
}

impl Home {
    /// The home of the dataset in a folder; made when missing.
    pub(super) fn of(dataset: &Path) -> Result<Home, EngineError> {
        let dataset = fs::canonicalize(dataset).map_err(|error| io("find", dataset, error))?;
        let name = format!("{:016x}", fnv(dataset.as_os_str().as_encoded_bytes()));
        if rustix::process::geteuid().is_root() {
            let user = server_user()?;
            let homes = Path::new(ROOT_HOMES);
            own_folder(homes, 0o755)?;
            sweep();
            let folder = homes.join(&name);
            own_folder(&folder, 0o711)?;
            // Whole or not at all: another Kampf removes homes whose owner is gone, and half a path is the path of nothing.
            let (owner, fresh) = (folder.join("owner"), folder.join(format!("owner.{}", std::process::id())));
            fs::write(&fresh, dataset.as_os_str().as_encoded_bytes()).map_err(|error| io("write", &fresh, error))?;
            fs::rename(&fresh, &owner).map_err(|error| io("write", &owner, error))?;
            let sockets = folder.join("sockets");
            folder_of(&sockets, user)?;
            return Ok(Home { folder, sockets, user: Some(user) });
        }
        if dataset.as_os_str().as_encoded_bytes().iter().any(|&byte| byte == b'\n' || byte == b'\r') {
            return Err(unreachable("the project's path has a line break in it, which PostgreSQL's programs refuse; rename the folder"));
        }
        let folder = dataset.join("dataset.cluster");
        own_folder(&folder, 0o700)?;
        let sockets = socket_folder(&format!("kampf-{name}")).map_err(|message| unreachable(&message))?;
        own_folder(&sockets, 0o700)?;
        Ok(Home { folder, sockets, user: None })
    }

    fn data(&self) -> PathBuf {
        self.folder.join("data")
    }

    fn log(&self) -> PathBuf {
        self.folder.join("server.log")
    }

    /// Makes an empty cluster, without anything that was there.
    pub(super) fn create(&self, programs: &Programs) -> Result<(), EngineError> {
        let lock = self.lock()?;
        self.end_left_over();
        let data = self.data();
        remove_soon(&data)?;
        if let Some(user) = self.user {
            folder_of(&data, user)?;
        }
        let password = self.folder.join("password");
        self.keep(&password, &random_word()?, self.user.map(|(_, group)| group))?;
        self.keep(&self.folder.join("reader"), &random_word()?, None)?;
        let mut command = programs.command("initdb", self);
        end_with_parent(&mut command, Signal::KILL);
        let output = command
            .args(["--encoding=UTF8", "--locale=C", "--no-sync", "--auth-local=trust", "--auth-host=scram-sha-256"])
            .args(["--username", OWNER, "--pwfile"])
            .arg(&password)
            .arg("--pgdata")
            .arg(&data)
            .output()
            .map_err(|error| io("start", &programs.folder.join("initdb"), error))?;
        drop(lock);
        if output.status.success() {
            return Ok(());
        }
        let words = String::from_utf8_lossy(&output.stderr).trim().replace('\n', "; ");
        let kind = if has_room(&self.folder) { EngineErrorKind::Unreachable } else { EngineErrorKind::Full };
        Err(EngineError { kind, message: format!("a PostgreSQL cluster cannot be made: {words}"), sql: None, cause: None })
    }

    /// Writes a secret into a new file that only this user can read, and where it must be the group of the server's account.
    fn keep(&self, path: &Path, secret: &str, group: Option<u32>) -> Result<(), EngineError> {
        let _ = fs::remove_file(path);
        let failed = |error: std::io::Error| io("write", path, error);
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
        file.write_all(secret.as_bytes()).map_err(failed)?;
        if let Some(group) = group {
            fchown(&file, None, Some(group)).map_err(failed)?;
            file.set_permissions(fs::Permissions::from_mode(0o640)).map_err(failed)?;
        }
        Ok(())
    }

    /// Writes everything to the disk, so that not even a power failure leaves half a dataset that looks whole.
    pub(super) fn settle(&self, programs: &Programs) -> Result<(), EngineError> {
        let done = programs.command("initdb", self).arg("--sync-only").arg("--pgdata").arg(self.data()).output();
        match done {
            Ok(output) if output.status.success() => Ok(()),
            Ok(output) => {
                Err(unreachable(&format!("the dataset cannot be written out: {}", String::from_utf8_lossy(&output.stderr).trim())))
            }
            Err(error) => Err(io("start", &programs.folder.join("initdb"), error)),
        }
    }

    /// Sees to it that no other Kampf uses the dataset meanwhile.
    fn lock(&self) -> Result<File, EngineError> {
        let path = self.folder.join("lock");
        let file = open_own(&path).map_err(|error| io("write", &path, error))?;
        match lock_soon(&file) {
            Ok(()) => Ok(file),
            Err(TryLockError::WouldBlock) => Err(EngineError {
                kind: EngineErrorKind::Busy,
                message: format!("another kampf is using the server of {}", self.folder.display()),
                sql: None,
                cause: None,
            }),
            Err(TryLockError::Error(error)) => Err(io("lock", &path, error)),
        }
    }

    /// Ends a server that was left running by a Kampf that was killed. Only to be called with the lock held.
    fn end_left_over(&self) {
        let Some(pid) = self.running() else { return };
        let _ = kill_process(pid, Signal::INT);
        let deadline = Instant::now() + PATIENCE;
        while self.running() == Some(pid) && Instant::now() < deadline {
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The server that works on this home's data, if there is one.
    fn running(&self) -> Option<Pid> {
        let text = read_plain(&self.data().join("postmaster.pid"))?;
        let pid: i32 = text.lines().next()?.trim().parse().ok()?;
        // The file is the server's account's, which may write anything there: only a process of its own is meant.
        let account = self.user.map_or(rustix::process::geteuid().as_raw(), |(user, _)| user);
        if fs::metadata(format!("/proc/{pid}")).is_ok_and(|metadata| metadata.uid() != account) {
            return None;
        }
        let words = fs::read(format!("/proc/{pid}/cmdline")).ok()?;
        let data = self.data();
        words.split(|&byte| byte == 0).any(|word| word == data.as_os_str().as_encoded_bytes()).then(|| Pid::from_raw(pid)).flatten()
    }

    /// Starts the server on the cluster.
    pub(super) fn start(self, programs: &Programs, settings: &[Setting]) -> Result<Server, EngineError> {
        let lock = self.lock()?;
        self.end_left_over();
        if !self.data().join("PG_VERSION").is_file() {
            let message = "the dataset's cluster is gone".to_owned();
            return Err(EngineError { kind: EngineErrorKind::Gone, message, sql: None, cause: None });
        }
        for _ in 0..5 {
            let port = free_port()?;
            let log = self.log();
            let out = open_own(&log).and_then(|out| out.set_len(0).map(|()| out)).map_err(|error| io("write", &log, error))?;
            let err = out.try_clone().map_err(|error| io("write", &log, error))?;
            let mut command = programs.command("postgres", &self);
            command.arg("-D").arg(self.data()).arg("-k").arg(&self.sockets).args(["-p", &port.to_string()]);
            for (name, value) in FIXED {
                command.arg("-c").arg(format!("{name}={value}"));
            }
            for setting in settings {
                command.arg("-c").arg(format!("{}={}", setting.name, setting.value));
            }
            command.process_group(0).stdout(out).stderr(err);
            end_with_parent(&mut command, Signal::INT);
            let child = command.spawn().map_err(|error| io("start", &programs.folder.join("postgres"), error))?;
            let mut server = Server { child, home: self.clone(), port, _lock: None };
            match server.wait_until_ready() {
                Ok(()) => {
                    server._lock = Some(lock);
                    return Ok(server);
                }
                // Somebody else took the port meanwhile.
                Err(_) if std::net::TcpListener::bind((std::net::Ipv4Addr::LOCALHOST, port)).is_err() => {}
                Err(words) => return Err(unreachable(&format!("PostgreSQL does not start: {words}"))),
            }
        }
        Err(unreachable("no free port can be found for PostgreSQL"))
    }

    /// Removes all files, unless another Kampf uses them; false then.
    pub(super) fn remove(self) -> Result<bool, EngineError> {
        // Held until all is gone.
        let Some(_lock) = open_own(&self.folder.join("lock")).ok().filter(|lock| lock_soon(lock).is_ok()) else { return Ok(false) };
        self.end_left_over();
        remove_soon(&self.data())?;
        step("home-half-removed")?;
        for folder in [&self.sockets, &self.folder] {
            remove_soon(folder)?;
        }
        Ok(true)
    }
}

/// Locks a file that nobody uses. A process that is just being started by another thread holds this one's files, with their
/// locks, until it runs its own program, so the lock of a server that has just ended may be seen for a moment longer.
fn lock_soon(file: &File) -> Result<(), TryLockError> {
    let deadline = Instant::now() + Duration::from_millis(500);
    loop {
        match file.try_lock() {
            Err(TryLockError::WouldBlock) if Instant::now() < deadline => std::thread::sleep(Duration::from_millis(10)),
            locked => return locked,
        }
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
    child: Child,
    home: Home,
    port: u16,
    _lock: Option<File>,
}

impl Server {
    fn wait_until_ready(&mut self) -> Result<(), String> {
        let deadline = Instant::now() + PATIENCE;
        let pid_file = self.home.data().join("postmaster.pid");
        loop {
            if let Ok(Some(_)) = self.child.try_wait() {
                return Err(self.last_words());
            }
            // The first line is the server's number, which tells it from one that was killed; the eighth how far it has come.
            let text = read_plain(&pid_file).unwrap_or_default();
            let lines: Vec<&str> = text.lines().map(str::trim).collect();
            if lines.first() == Some(&self.child.id().to_string().as_str()) && lines.get(7) == Some(&"ready") {
                return Ok(());
            }
            if Instant::now() > deadline {
                return Err(format!("it is not ready after {} s; {}", PATIENCE.as_secs(), self.last_words()));
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    fn last_words(&self) -> String {
        let mut text = String::new();
        let _ = File::open(self.home.log()).and_then(|mut file| file.read_to_string(&mut text));
        let lines: Vec<&str> =
            text.lines().filter(|line| line.contains("FATAL") || line.contains("ERROR") || line.contains("HINT")).collect();
        let lines = if lines.is_empty() { text.lines().rev().take(2).collect() } else { lines };
        lines.iter().map(|line| line.split_once("  ").map_or(*line, |(_, words)| words)).collect::<Vec<_>>().join("; ")
    }

    /// Where contenders reach it, as one who may only read: by its socket.
    pub(super) fn url(&self) -> String {
        self.url_of(READER)
    }

    /// Where Kampf itself reaches it, as its owner.
    pub(super) fn own_url(&self) -> String {
        self.url_of(OWNER)
    }

    fn url_of(&self, user: &str) -> String {
        format!("postgres://{user}@/{DATABASE}?host={}&port={}", encoded(&self.home.sockets.to_string_lossy()), self.port)
    }

    /// Makes the one who may read what is loaded, and takes from everybody what else they may do.
    pub(super) fn let_read(&self, link: &Link) -> Result<(), EngineError> {
        let password = self.reader_password().ok_or_else(|| unreachable("the password of the server's reader is gone"))?;
        link.execute(&format!(
            "BEGIN; CREATE ROLE {READER} LOGIN PASSWORD '{password}'; ALTER ROLE {READER} SET default_transaction_read_only = on;
             REVOKE ALL ON DATABASE {DATABASE} FROM PUBLIC; REVOKE CREATE ON SCHEMA public FROM PUBLIC;
             GRANT CONNECT ON DATABASE {DATABASE} TO {READER}; GRANT USAGE ON SCHEMA public TO {READER};
             REVOKE EXECUTE ON FUNCTION lo_creat(integer), lo_create(oid), lo_from_bytea(oid, bytea), lo_unlink(oid) FROM PUBLIC;
             GRANT SELECT ON ALL TABLES IN SCHEMA public TO {READER}; COMMIT"
        ))
    }

    fn reader_password(&self) -> Option<String> {
        fs::read_to_string(self.home.folder.join("reader")).ok()
    }

    /// Keeps the server, and all processes it starts from now on, on one core.
    pub(super) fn pin(&self, core: usize) -> bool {
        let mut cores = rustix::thread::CpuSet::new();
        cores.set(core);
        let pid = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw);
        pid.is_some_and(|pid| rustix::thread::sched_setaffinity(Some(pid), &cores).is_ok())
    }

    /// Its files, for people.
    pub(super) fn place(&self) -> String {
        self.home.data().display().to_string()
    }

    /// Where programs reach it whose drivers know no sockets.
    pub(super) fn tcp_url(&self) -> Option<String> {
        Some(format!("postgres://{READER}:{}@127.0.0.1:{}/{DATABASE}", self.reader_password()?, self.port))
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(pid) = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw) {
            let _ = kill_process(pid, Signal::INT);
            // One that was halted hears of it only then.
            let _ = kill_process(pid, Signal::CONT);
        }
        let deadline = Instant::now() + PATIENCE;
        while matches!(self.child.try_wait(), Ok(None)) {
            if Instant::now() > deadline {
                let _ = self.child.kill();
                let _ = self.child.wait();
                break;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        if self.home.sockets != self.home.folder {
            let _ = fs::remove_dir_all(&self.home.sockets);
        }
    }
}

/// How long what works on files of a Kampf that was killed may take to see that it is alone.
const ALONE: Duration = Duration::from_secs(10);

/// Removes a folder, if it is there. The helpers of an `initdb` that was killed write into theirs for a moment longer.
fn remove_soon(folder: &Path) -> Result<(), EngineError> {
    let deadline = Instant::now() + ALONE;
    loop {
        match fs::remove_dir_all(folder) {
            Ok(()) => return Ok(()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && !folder.exists() => return Ok(()),
            Err(error) if Instant::now() > deadline => return Err(io("remove", folder, error)),
            Err(_) => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}

/// Has a program end by a signal when this process ends in whatever way.
#[expect(unsafe_code, reason = "only the child itself can ask for its parent's death signal, between fork and exec")]
fn end_with_parent(command: &mut Command, signal: Signal) {
    // SAFETY: the closure makes one system call and touches no memory that the fork could have left in a strange state.
    unsafe {
        command.pre_exec(move || Ok(rustix::process::set_parent_process_death_signal(Some(signal))?));
    }
}

/// Removes homes whose dataset is gone, where homes are kept apart from their datasets; gives how many there were.
pub(super) fn sweep() -> usize {
    let mut removed = 0;
    for entry in fs::read_dir(ROOT_HOMES).into_iter().flatten().flatten() {
        let folder = entry.path();
        if !fs::symlink_metadata(&folder).is_ok_and(|metadata| metadata.is_dir() && metadata.uid() == 0) {
            continue;
        }
        let Ok(owner) = fs::read(folder.join("owner")) else { continue };
        if !Path::new(OsStr::from_bytes(&owner)).exists() {
            let home = Home { sockets: folder.join("sockets"), folder, user: server_user().ok() };
            removed += usize::from(home.remove().unwrap_or(false));
        }
    }
    removed
}

/// The user and group of the package's own account.
fn server_user() -> Result<(u32, u32), EngineError> {
    let accounts = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let account = accounts.lines().find_map(|line| {
        let mut parts = line.split(':');
        (parts.next()? == "postgres").then_some(())?;
        Some((parts.nth(1)?.parse().ok()?, parts.next()?.parse().ok()?))
    });
    account.ok_or_else(|| {
        unreachable("PostgreSQL refuses to run as root, and there is no user `postgres` to run it as; run kampf as another user")
    })
}

/// Makes a folder of this user's own that nobody else can write to; what is there already must be just that.
fn own_folder(folder: &Path, mode: u32) -> Result<(), EngineError> {
    match DirBuilder::new().mode(mode).create(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(io("make", folder, error)),
        _ => {}
    }
    let metadata = fs::symlink_metadata(folder).map_err(|error| io("look at", folder, error))?;
    if !metadata.is_dir() || metadata.uid() != rustix::process::geteuid().as_raw() {
        return Err(unreachable(&format!("{} is not a folder of this user's own; remove it", folder.display())));
    }
    fs::set_permissions(folder, fs::Permissions::from_mode(mode)).map_err(|error| io("protect", folder, error))
}

/// Makes a folder that belongs to the server's account, in one of Kampf's own, where nobody else can have put anything.
fn folder_of(folder: &Path, (user, group): (u32, u32)) -> Result<(), EngineError> {
    match DirBuilder::new().mode(0o700).create(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(io("make", folder, error)),
        _ => {}
    }
    lchown(folder, Some(user), Some(group)).map_err(|error| io("hand over", folder, error))
}

/// Opens a file of Kampf's own for writing, and never what a link leads to.
fn open_own(path: &Path) -> std::io::Result<File> {
    let flags = rustix::fs::OFlags::NOFOLLOW.bits().cast_signed();
    OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).custom_flags(flags).open(path)
}

/// The beginning of a plain file that others may have written: no link is followed, and nothing is waited for.
fn read_plain(path: &Path) -> Option<String> {
    let flags = (rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK).bits().cast_signed();
    let file = OpenOptions::new().read(true).custom_flags(flags).open(path).ok()?;
    let mut text = Vec::new();
    file.metadata().ok().filter(fs::Metadata::is_file)?;
    file.take(16 * 1024).read_to_end(&mut text).ok()?;
    Some(String::from_utf8_lossy(&text).into_owned())
}

fn free_port() -> Result<u16, EngineError> {
    let listener = TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr());
    listener.map(|address| address.port()).map_err(|error| unreachable(&format!("no port can be had: {error}")))
}

/// A password nobody can guess.
fn random_word() -> Result<String, EngineError> {
    let mut bytes = [0; 24];
    let source = Path::new("/dev/urandom");
    File::open(source).and_then(|mut file| file.read_exact(&mut bytes)).map_err(|error| io("read", source, error))?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// A short name for a path (FNV-1a, as its authors publish it).
pub(super) fn fnv(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, |hash, &byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

/// A text as part of a URL.
pub(super) fn encoded(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~".contains(&byte);
    text.bytes().map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}

pub(super) fn unreachable(message: &str) -> EngineError {
    EngineError { kind: EngineErrorKind::Unreachable, message: message.to_owned(), sql: None, cause: None }
}

/// Whether there is room for more than the rest of a log; where that cannot be told, there is.
fn has_room(folder: &Path) -> bool {
    const LITTLE: u64 = 64 << 20;
    rustix::fs::statvfs(folder).map_or(true, |disk| disk.f_bavail.saturating_mul(disk.f_frsize) > LITTLE)
}

fn io(what: &str, path: &Path, error: std::io::Error) -> EngineError {
    let kind = if error.kind() == std::io::ErrorKind::StorageFull { EngineErrorKind::Full } else { EngineErrorKind::Unreachable };
    EngineError { kind, message: format!("cannot {what} {}: {error}", path.display()), sql: None, cause: Some(std::sync::Arc::new(error)) }
}
