//! Files that are there whole or not at all.

use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::Path;

use rustix::process::Pid;

use crate::fault;

/// How the name of a file ends that is being written.
const PART: &str = ".part";

/// Writes a file so that it is there whole or not at all, in place of whatever is there, a link too.
///
/// # Errors
/// When it cannot be written; what was there stays then.
pub fn write_whole(path: &Path, content: &[u8]) -> std::io::Result<()> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let part = path.with_file_name(format!(".{name}.{}{PART}", std::process::id()));
    let write = || {
        let _ = fs::remove_file(&part);
        let mut file = OpenOptions::new().write(true).create_new(true).open(&part)?;
        fault::point("file-open")?;
        file.write_all(content)?;
        fault::point("file-written")?;
        file.sync_all()?;
        fault::point("file-synced")?;
        fs::rename(&part, path)?;
        fault::point("file-named")
    };
    write().inspect_err(|_| {
        let _ = fs::remove_file(&part);
    })
}

/// Of which file something is the half, and whose, by its name: `.dataset.json.4711.part`.
pub fn writer_of(name: &str) -> Option<(&str, Pid)> {
    let (name, pid) = name.strip_prefix('.')?.strip_suffix(PART)?.rsplit_once('.')?;
    Some((name, Pid::from_raw(pid.parse().ok()?)?))
}
