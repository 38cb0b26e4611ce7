//! Where the servers of datasets keep their files.

use std::ffi::OsStr;
use std::fs::{self, File, TryLockError};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use kampf_contest::{EngineError, EngineErrorKind};
use rustix::process::Pid;

use super::files::{folder_of, io, lock_soon, open_own, own_folder, read_plain, remove_soon};
use super::process::end;
use super::{Kind, fnv, unreachable};
use crate::fault::step;
use crate::sockets::socket_folder;
use crate::whole::write_whole;

/// Where a dataset's server keeps its files: a folder of Kampf's own, which the server's account cannot write to, with what is Kampf's
/// (lock, passwords, log), and in it folders of the server's account.
#[derive(Clone)]
pub(crate) struct Home {
    kind: &'static Kind,
    pub(crate) folder: PathBuf,
    /// Where the socket is; a socket's path must be short.
    pub(crate) sockets: PathBuf,
    /// The user that the server runs as where Kampf runs as root, which servers refuse.
    pub(crate) user: Option<(u32, u32)>,
}

impl Home {
    /// The home of the dataset in a folder; made when missing.
    pub(crate) fn of(dataset: &Path, kind: &'static Kind) -> Result<Home, EngineError> {
        let dataset = fs::canonicalize(dataset).map_err(|error| io("find", dataset, error))?;
        let name = format!("{:016x}", fnv(dataset.as_os_str().as_encoded_bytes()));
        if rustix::process::geteuid().is_root() {
            let user = server_user(kind)?;
            let homes = homes(kind)?;
            own_folder(&homes, 0o755)?;
            sweep(kind);
            let folder = homes.join(&name);
            own_folder(&folder, 0o711)?;
            // Whole or not at all: another Kampf removes homes whose owner is gone, and half a path is the path of nothing.
            let owner = folder.join("owner");
            write_whole(&owner, dataset.as_os_str().as_encoded_bytes()).map_err(|error| io("write", &owner, error))?;
            let sockets = folder.join("sockets");
            folder_of(&sockets, user)?;
            return Ok(Home { kind, folder, sockets, user: Some(user) });
        }
        if dataset.as_os_str().as_encoded_bytes().iter().any(|&byte| byte == b'\n' || byte == b'\r') {
            return Err(unreachable(&format!(
                "the project's path has a line break in it, which the programs of {} refuse; rename the folder",
                kind.name
            )));
        }
        let folder = dataset.join(kind.folder);
        own_folder(&folder, 0o700)?;
        let sockets = socket_folder(&format!("kampf-{name}")).map_err(|message| unreachable(&message))?;
        own_folder(&sockets, 0o700)?;
        Ok(Home { kind, folder, sockets, user: None })
    }

    pub(crate) fn data(&self) -> PathBuf {
        self.folder.join("data")
    }

    /// Where the server says its number.
    pub(crate) fn pid_file(&self) -> PathBuf {
        self.data().join(self.kind.pid_file)
    }

    pub(crate) fn kind(&self) -> &'static Kind {
        self.kind
    }

    pub(crate) fn log(&self) -> PathBuf {
        self.folder.join("server.log")
    }

    /// Sees to it that no other Kampf uses the dataset meanwhile.
    pub(crate) fn lock(&self) -> Result<File, EngineError> {
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
    pub(crate) fn end_left_over(&self) {
        let Some(pid) = self.running() else { return };
        end(pid, self.kind.ends_by, || self.running() == Some(pid));
    }

    /// The server that works on this home's data, if there is one.
    fn running(&self) -> Option<Pid> {
        let text = read_plain(&self.pid_file())?;
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

    /// Removes all files, unless another Kampf uses them; false then.
    pub(crate) fn remove(self) -> Result<bool, EngineError> {
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

/// Where root's servers keep theirs: `KAMPF_SERVERS` names another place for them, as on a larger or a faster disk.
fn homes(kind: &Kind) -> Result<PathBuf, EngineError> {
    let place = std::env::var_os("KAMPF_SERVERS").map_or_else(|| PathBuf::from("/var/tmp"), PathBuf::from);
    if place.is_absolute() && place.is_dir() {
        Ok(place.join(kind.homes))
    } else {
        Err(unreachable(&format!("KAMPF_SERVERS names {}, which is no folder; give the whole path of one that is there", place.display())))
    }
}

/// Removes homes whose dataset is gone, where homes are kept apart from their datasets; gives how many there were.
pub(crate) fn sweep(kind: &'static Kind) -> usize {
    let mut removed = 0;
    for entry in
        homes(kind).and_then(|homes| fs::read_dir(&homes).map_err(|error| io("read", &homes, error))).into_iter().flatten().flatten()
    {
        let folder = entry.path();
        if !fs::symlink_metadata(&folder).is_ok_and(|metadata| metadata.is_dir() && metadata.uid() == 0) {
            continue;
        }
        let Ok(owner) = fs::read(folder.join("owner")) else { continue };
        if !Path::new(OsStr::from_bytes(&owner)).exists() {
            let home = Home { kind, sockets: folder.join("sockets"), folder, user: server_user(kind).ok() };
            removed += usize::from(home.remove().unwrap_or(false));
        }
    }
    removed
}

/// The user and group of the package's own account.
fn server_user(kind: &Kind) -> Result<(u32, u32), EngineError> {
    let accounts = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let account = accounts.lines().find_map(|line| {
        let mut parts = line.split(':');
        (parts.next()? == kind.account).then_some(())?;
        Some((parts.nth(1)?.parse().ok()?, parts.next()?.parse().ok()?))
    });
    account.ok_or_else(|| {
        unreachable(&format!(
            "{} refuses to run as root, and there is no user `{}` to run it as; run kampf as another user",
            kind.name, kind.account
        ))
    })
}
