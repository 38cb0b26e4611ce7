//! Points at which a test can have the program die, or an operation fail.
//!
//! The feature `faults` is asked for by tests alone; without it, and in every build that is optimised as a release is, a point is
//! nothing.

use kampf_contest::{EngineError, EngineErrorKind};

/// One step of writing something that must never be taken for whole when it is not.
///
/// # Errors
/// Only where a test wants this very step to fail: the environment variable `KAMPF_FAULT` is `name=full`. With `name=kill` the process
/// ends here as by SIGKILL, with `name=panic` by a panic, and with `name=kill:3` when it comes here for the third time.
#[inline(always)]
pub fn point(name: &str) -> std::io::Result<()> {
    #[cfg(all(feature = "faults", debug_assertions))]
    return armed::point(name);
    #[cfg(not(all(feature = "faults", debug_assertions)))]
    {
        let _ = name;
        Ok(())
    }
}

/// The same for a step of an engine.
pub(crate) fn step(name: &str) -> Result<(), EngineError> {
    point(name).map_err(|error| EngineError {
        kind: EngineErrorKind::Full,
        message: format!("cannot load: {error}"),
        sql: None,
        cause: None,
    })
}

#[cfg(all(feature = "faults", debug_assertions))]
mod armed {
    use std::sync::atomic::{AtomicU32, Ordering};

    static VISITS: AtomicU32 = AtomicU32::new(0);

    pub(super) fn point(name: &str) -> std::io::Result<()> {
        let Ok(wanted) = std::env::var("KAMPF_FAULT") else { return Ok(()) };
        let Some((_, what)) = wanted.split_once('=').filter(|(wanted, _)| *wanted == name) else { return Ok(()) };
        let (what, visit) = what.split_once(':').map_or((what, 1), |(what, visit)| (what, visit.parse().unwrap_or(1)));
        if VISITS.fetch_add(1, Ordering::Relaxed) + 1 != visit {
            return Ok(());
        }
        if what == "panic" {
            panic!("as a test wants it");
        }
        if what == "full" {
            return Err(std::io::ErrorKind::StorageFull.into());
        }
        let _ = rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::KILL);
        loop {
            std::thread::park();
        }
    }
}
