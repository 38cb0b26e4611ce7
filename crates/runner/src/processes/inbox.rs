//! The user's wish to stop, as something that can be waited for beside a contender's output.

use std::io::{Read, Write};
use std::net::Shutdown;
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::net::UnixStream;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use rustix::process::{Pid, Signal, kill_process_group};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use super::leash::BURIAL;

/// Where the user's wish to stop arrives, and which children it concerns.
pub struct Inbox {
    interrupted: Arc<AtomicBool>,
    heeding: AtomicBool,
    /// Becomes readable with the first signal and stays so.
    wake: UnixStream,
    waker: UnixStream,
    running: Arc<Mutex<Vec<Running>>>,
}

/// A child that is there, which a second signal takes along.
struct Running {
    /// Its process group.
    group: Pid,
    /// The leash of a warden, which ends all that it holds once it is let go of.
    leash: Option<UnixStream>,
}

/// Ends children with all that they have started. Wardens are waited for, and never killed: what they hold would be nobody's.
fn end(running: Vec<Running>) {
    for one in &running {
        match &one.leash {
            Some(leash) => drop(leash.shutdown(Shutdown::Write)),
            None => drop(kill_process_group(one.group, Signal::KILL)),
        }
    }
    for mut leash in running.into_iter().filter_map(|one| one.leash) {
        let _ = leash.set_read_timeout(Some(BURIAL));
        let _ = leash.read_to_end(&mut Vec::new());
    }
}

/// Exit status of a program that was told twice to stop.
const STOPPED: i32 = 3;

/// The signals that ask a command to end: Ctrl-C, a kill, and the end of its terminal, unless it was started so that this is passed over.
pub fn ending_signals() -> Vec<i32> {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let ignored = status.lines().find_map(|line| u64::from_str_radix(line.strip_prefix("SigIgn:")?.trim(), 16).ok()).unwrap_or(0);
    let is_ignored = |signal: i32| ignored >> (signal - 1) & 1 == 1;
    [SIGINT, SIGTERM].into_iter().chain((!is_ignored(SIGHUP)).then_some(SIGHUP)).collect()
}

impl Inbox {
    /// An inbox that heeds no signals yet.
    ///
    /// # Errors
    /// When the system has no more files to open.
    pub fn new() -> std::io::Result<Inbox> {
        let (wake, waker) = UnixStream::pair()?;
        Ok(Inbox { interrupted: Arc::default(), heeding: AtomicBool::new(false), wake, waker, running: Arc::default() })
    }

    /// From now on the first Ctrl-C, termination signal or end of the terminal asks the race to end, and a second one ends the program at
    /// once, with the child that runs.
    /// Asked again, nothing more happens.
    ///
    /// # Errors
    /// When the system does not let signals be caught.
    pub fn heed_signals(&self) -> std::io::Result<()> {
        if self.heeding.swap(true, Ordering::Relaxed) {
            return Ok(());
        }
        let ending = ending_signals();
        for &signal in &ending {
            signal_hook::flag::register(signal, self.interrupted.clone())?;
        }
        let mut signals = signal_hook::iterator::Signals::new(ending)?;
        let (mut waker, running) = (self.waker.try_clone()?, self.running.clone());
        std::thread::Builder::new().spawn(move || {
            for (before, signal) in signals.forever().enumerate() {
                // The end of a terminal comes twice: from it and from its shell.
                if before > 0 && signal != SIGHUP {
                    let last = running.lock().map(|mut running| std::mem::take(&mut *running)).unwrap_or_default();
                    end(last);
                    std::process::exit(STOPPED);
                }
                let _ = waker.write_all(b"!");
            }
        })?;
        Ok(())
    }

    /// Whether the user wants to stop.
    pub fn is_interrupted(&self) -> bool {
        self.interrupted.load(Ordering::Relaxed)
    }

    /// What becomes readable when the user wants to stop.
    pub(crate) fn wake(&self) -> BorrowedFd<'_> {
        self.wake.as_fd()
    }

    /// Notes the process group of a child that is there now, and the leash of one that is a warden.
    pub(crate) fn runs(&self, group: Pid, leash: Option<UnixStream>) {
        if let Ok(mut running) = self.running.lock() {
            running.push(Running { group, leash });
        }
    }

    /// Notes that a child is gone.
    pub(crate) fn gone(&self, group: Pid) {
        if let Ok(mut running) = self.running.lock() {
            running.retain(|one| one.group != group);
        }
    }
}
