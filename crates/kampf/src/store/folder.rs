//! The folder `.kampf/` beside a project, and writing files into it: nothing is followed that leads elsewhere, nothing is there half.

use std::fs::{self, File, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use kampf_engine::writer_of;
use rustix::process::test_kill_process;

use crate::problem::{Problem, SURROUNDINGS};

/// `.kampf/` beside a project, made when missing, with a note that keeps it out of version control.
pub(super) fn root(project: &Path) -> Result<PathBuf, Problem> {
    let root = project.join(".kampf");
    own_folder(&root)?;
    let ignore = root.join(".gitignore");
    match OpenOptions::new().write(true).create_new(true).open(&ignore) {
        Ok(mut file) => file.write_all(b"*\n").map_err(|error| Problem::file("cannot write", &ignore, &error))?,
        Err(error) if error.kind() == ErrorKind::AlreadyExists => {}
        Err(error) => return Err(Problem::file("cannot write", &ignore, &error)),
    }
    Ok(root)
}

/// Makes a folder when it is missing. A link there would have Kampf delete old data wherever it leads.
pub(super) fn own_folder(folder: &Path) -> Result<(), Problem> {
    if let Err(error) = fs::create_dir_all(folder)
        && error.kind() != ErrorKind::AlreadyExists
    {
        return Err(Problem::file("cannot make", folder, &error));
    }
    let metadata = fs::symlink_metadata(folder).map_err(|error| Problem::file("cannot look at", folder, &error))?;
    if metadata.is_dir() {
        return Ok(());
    }
    let what = if metadata.is_symlink() { "a link" } else { "a file" };
    Err(Problem::surroundings(format!("cannot make {}: it is {what}", folder.display()))
        .hint("move it away; Kampf deletes there what it no longer needs, so it has to be a folder and no link is followed"))
}

/// A lock that several can share or one can have alone. It is let go of when dropped, and when the process ends.
pub(super) struct Lock {
    file: File,
    path: PathBuf,
}

impl Lock {
    /// Waits for the lock; `waiting` is told every now and then.
    pub(super) fn wait(path: &Path, alone: bool, waiting: &mut dyn FnMut()) -> Result<Lock, Problem> {
        loop {
            match Lock::at_once(path, alone)? {
                Some(lock) => return Ok(lock),
                None => waiting(),
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// The lock, if nobody else has it.
    pub(super) fn at_once(path: &Path, alone: bool) -> Result<Option<Lock>, Problem> {
        let failed = |error: &std::io::Error| match error.raw_os_error() == Some(rustix::io::Errno::LOOP.raw_os_error()) {
            true => Problem::surroundings(format!("{} is a link, which is not followed", path.display())).hint("remove it"),
            false => Problem::file("cannot lock", path, error),
        };
        let flags = rustix::fs::OFlags::NOFOLLOW.bits().cast_signed();
        let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).custom_flags(flags).open(path);
        let file = file.map_err(|error| failed(&error))?;
        match if alone { file.try_lock() } else { file.try_lock_shared() } {
            Ok(()) => {}
            Err(fs::TryLockError::WouldBlock) => return Ok(None),
            Err(fs::TryLockError::Error(error)) => return Err(failed(&error)),
        }
        // Who removes a dataset takes its lock along; a lock on what is no longer there is none.
        let own = file.metadata().map_err(|error| failed(&error))?.ino();
        let is_there = fs::symlink_metadata(path).is_ok_and(|metadata| metadata.ino() == own);
        Ok(is_there.then(|| Lock { file, path: path.to_owned() }))
    }

    /// Lets others share it. For a moment it may be nobody's.
    pub(super) fn share(&self) -> Result<(), Problem> {
        self.file.lock_shared().map_err(|error| Problem::file("cannot lock", &self.path, &error))
    }

    /// Removes the lock with what it was for.
    pub(super) fn remove(self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// Writes a file so that it is there whole or not at all, in place of whatever is there, a link too.
pub(crate) fn write_whole(path: &Path, text: &str) -> Result<(), Problem> {
    let failed = |error| Problem { exit: SURROUNDINGS, ..Problem::file("cannot write", path, &error) };
    kampf_engine::write_whole(path, text.as_bytes()).map_err(failed)
}

/// Whether a name is that of a half of one of some files.
pub(super) fn is_part_of(name: &str, whole: &[&str]) -> bool {
    writer_of(name).is_some_and(|(name, _)| whole.contains(&name))
}

/// Removes halves of files whose writers were killed.
pub(crate) fn sweep_parts(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let writer = name.to_str().and_then(writer_of);
        if writer.is_some_and(|(_, pid)| test_kill_process(pid) == Err(rustix::io::Errno::SRCH)) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_half_is_known_by_its_name_and_swept_when_its_writer_is_gone() {
        assert!(is_part_of(".dataset.json.12.part", &["dataset.json"]));
        for name in
            ["dataset.json.12.part", ".dataset.json.part", ".dataset.json.x.part", ".dataset.mine.12.part", ".dataset.json.12.parts"]
        {
            assert!(!is_part_of(name, &["dataset.json"]), "{name}");
        }
        let folder = tempfile::tempdir().unwrap();
        let mut ended = std::process::Command::new("true").spawn().unwrap();
        ended.wait().unwrap();
        let names = [format!(".a.{}.part", ended.id()), format!(".a.{}.part", std::process::id()), "a.part".to_owned()];
        names.iter().for_each(|name| fs::write(folder.path().join(name), "").unwrap());
        sweep_parts(folder.path());
        let left: Vec<bool> = names.iter().map(|name| folder.path().join(name).exists()).collect();
        assert_eq!(left, [false, true, true]);
    }

    #[test]
    fn a_lock_is_shared_or_somebody_s_alone_and_no_link_is_one() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        let one = Lock::at_once(&path, false).unwrap().unwrap();
        assert!(Lock::at_once(&path, false).unwrap().is_some());
        assert!(Lock::at_once(&path, true).unwrap().is_none());
        drop(one);
        let alone = Lock::at_once(&path, true).unwrap().unwrap();
        assert!(Lock::at_once(&path, false).unwrap().is_none());
        alone.share().unwrap();
        assert!(Lock::at_once(&path, false).unwrap().is_some());
        alone.remove();
        assert!(!path.exists());
        let other = folder.path().join("other");
        fs::write(&other, "kept").unwrap();
        std::os::unix::fs::symlink(&other, &path).unwrap();
        assert!(Lock::at_once(&path, true).err().unwrap().message.contains("is a link"));
        assert_eq!(fs::read_to_string(&other).unwrap(), "kept");
        assert!(own_folder(&path).err().unwrap().message.contains("is a link"));
        write_whole(&path, "new").unwrap();
        assert_eq!((fs::read_to_string(&other).unwrap().as_str(), fs::read_to_string(&path).unwrap().as_str()), ("kept", "new"));
    }
}
