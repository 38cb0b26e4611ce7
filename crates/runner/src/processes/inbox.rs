//! The user's wish to stop, as something that can be waited for beside a contender's output.

use std::io::Write;
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::net::UnixStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};

use rustix::process::{Pid, Signal, kill_process_group};

/// Where the user's wish to stop arrives, and which child it concerns.
pub struct Inbox {
    interrupted: Arc<AtomicBool>,
    heeding: AtomicBool,
    /// Becomes readable with the first signal and stays so.
    wake: UnixStream,
    waker: UnixStream,
    /// Process group of the child that runs now; 0 where none does.
    running: Arc<AtomicI32>,
}

/// Exit status of a program that was told twice to stop.
const STOPPED: i32 = 3;

impl Inbox {
    /// An inbox that heeds no signals yet.
    ///
    /// # Errors
    /// When the system has no more files to open.
    pub fn new() -> std::io::Result<Inbox> {
        let (wake, waker) = UnixStream::pair()?;
        Ok(Inbox { interrupted: Arc::default(), heeding: AtomicBool::new(false), wake, waker, running: Arc::default() })
    }

    /// From now on the first Ctrl-C or termination signal asks the race to end, and a second one ends the program at once, with
    /// the child that runs.
    /// Asked again, nothing more happens.
    ///
    /// # Errors
    /// When the system does not let signals be caught.
    pub fn heed_signals(&self) -> std::io::Result<()> {
        use signal_hook::consts::{SIGINT, SIGTERM};
        if self.heeding.swap(true, Ordering::Relaxed) {
            return Ok(());
        }
        for signal in [SIGINT, SIGTERM] {
            signal_hook::flag::register(signal, self.interrupted.clone())?;
        }
        let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM])?;
        let (mut waker, running) = (self.waker.try_clone()?, self.running.clone());
        std::thread::Builder::new().spawn(move || {
            for (before, _) in signals.forever().enumerate() {
                if before > 0 {
                    if let Some(group) = Pid::from_raw(running.load(Ordering::Relaxed)) {
                        let _ = kill_process_group(group, Signal::KILL);
                    }
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

    /// Notes the process group of the child that runs now; 0 where none does.
    pub(crate) fn runs(&self, group: i32) {
        self.running.store(group, Ordering::Relaxed);
    }
}
