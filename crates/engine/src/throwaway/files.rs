//! Files and folders of Kampf's own, among others' on the same machine.

use std::fs::{self, DirBuilder, File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt, fchown, lchown};
use std::path::Path;
use std::time::{Duration, Instant};

use kampf_contest::{EngineError, EngineErrorKind};

use super::unreachable;

/// How long what works on files of a Kampf that was killed may take to see that it is alone.
const ALONE: Duration = Duration::from_secs(10);

/// Removes a folder, if it is there. The helpers of an `initdb` that was killed write into theirs for a moment longer.
pub(crate) fn remove_soon(folder: &Path) -> Result<(), EngineError> {
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

/// Makes a folder of this user's own that nobody else can write to; what is there already must be just that.
pub(crate) fn own_folder(folder: &Path, mode: u32) -> Result<(), EngineError> {
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
pub(crate) fn folder_of(folder: &Path, (user, group): (u32, u32)) -> Result<(), EngineError> {
    match DirBuilder::new().mode(0o700).create(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(io("make", folder, error)),
        _ => {}
    }
    lchown(folder, Some(user), Some(group)).map_err(|error| io("hand over", folder, error))
}

/// Opens a file of Kampf's own for writing, and never what a link leads to.
pub(crate) fn open_own(path: &Path) -> std::io::Result<File> {
    let flags = rustix::fs::OFlags::NOFOLLOW.bits().cast_signed();
    OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).custom_flags(flags).open(path)
}

/// The beginning of a plain file that others may have written: no link is followed, and nothing is waited for.
pub(crate) fn read_plain(path: &Path) -> Option<String> {
    let flags = (rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK).bits().cast_signed();
    let file = OpenOptions::new().read(true).custom_flags(flags).open(path).ok()?;
    let mut text = Vec::new();
    file.metadata().ok().filter(fs::Metadata::is_file)?;
    file.take(16 * 1024).read_to_end(&mut text).ok()?;
    Some(String::from_utf8_lossy(&text).into_owned())
}

/// A password nobody can guess.
pub(crate) fn random_word() -> Result<String, EngineError> {
    let mut bytes = [0; 24];
    getrandom::fill(&mut bytes).map_err(|error| unreachable(&format!("the system gives no random bytes: {error}")))?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// Writes a secret into a new file that only this user can read, and where it must be the group of the server's account.
pub(crate) fn keep_secret(path: &Path, secret: &str, group: Option<u32>) -> Result<(), EngineError> {
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

/// Locks a file that nobody uses. A process that is just being started by another thread holds this one's files, with their
/// locks, until it runs its own program, so the lock of a server that has just ended may be seen for a moment longer.
pub(crate) fn lock_soon(file: &File) -> Result<(), TryLockError> {
    let deadline = Instant::now() + Duration::from_millis(500);
    loop {
        match file.try_lock() {
            Err(TryLockError::WouldBlock) if Instant::now() < deadline => std::thread::sleep(Duration::from_millis(10)),
            locked => return locked,
        }
    }
}

/// Whether there is room for more than the rest of a log; where that cannot be told, there is.
pub(crate) fn has_room(folder: &Path) -> bool {
    const LITTLE: u64 = 64 << 20;
    rustix::fs::statvfs(folder).map_or(true, |disk| disk.f_bavail.saturating_mul(disk.f_frsize) > LITTLE)
}

pub(crate) fn io(what: &str, path: &Path, error: std::io::Error) -> EngineError {
    let kind = if error.kind() == std::io::ErrorKind::StorageFull { EngineErrorKind::Full } else { EngineErrorKind::Unreachable };
    EngineError { kind, message: format!("cannot {what} {}: {error}", path.display()), sql: None, cause: Some(std::sync::Arc::new(error)) }
}
