//! One child process at a time, talked to without ever waiting longer than a limit.
//!
//! All pipes are polled together from the runner's one thread: what the child says is read while a long request still waits to
//! be taken, and nothing of what it may do or leave undone keeps the runner from its deadline.

use std::ffi::OsString;
use std::io::{ErrorKind, Read, Write};
use std::os::fd::AsFd;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::PathBuf;
use std::process::{Child, ChildStderr, ChildStdin, ChildStdout, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use kampf_engine::without_passwords;
use kampf_protocol::{Failed, LONGEST_LINE, Received, Reply, Request, read_reply, request_line};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, Resource, Rlimit, Signal, kill_process_group};
use rustix::thread::{CpuSet, sched_getaffinity, sched_setaffinity};

use super::inbox::Inbox;
use super::leash::Leash;
use super::lines::{Line, Lines};
use crate::trouble::Trouble;

/// A program to start.
pub(crate) struct Launch {
    pub(crate) program: PathBuf,
    pub(crate) arguments: Vec<OsString>,
    pub(crate) folder: Option<PathBuf>,
    /// All of its environment.
    pub(crate) environment: Vec<(OsString, OsString)>,
    pub(crate) memory_limit: Option<u64>,
    /// The core of the processor that it is kept on.
    pub(crate) core: Option<usize>,
    /// The own binary, where what the program starts has to be held and ended with it.
    pub(crate) warden: Option<PathBuf>,
}

/// A running child. It is killed when dropped, with everything that it has started.
pub(crate) struct Process<'a> {
    inbox: &'a Inbox,
    child: Child,
    /// The child's number, which is its group's.
    own: Pid,
    /// Leads to the warden, where there is one; the child is the warden then.
    leash: Option<Leash>,
    /// The process that does the work.
    worker: Pid,
    stdin: Option<ChildStdin>,
    stdout: Option<ChildStdout>,
    stderr: Option<ChildStderr>,
    /// What was not taken yet of what it is told.
    unsent: Vec<u8>,
    /// What is read at a time, and what of it is not taken yet.
    piece: Vec<u8>,
    lines: Lines,
    words: Vec<u8>,
    memory_limit: Option<u64>,
    is_halted: bool,
}

/// Characters kept of what a child says on standard error.
const WORDS: usize = 400;
/// Read at a time.
const PIECE: usize = 64 * 1024;
/// How long a child whose output has ended may take to end itself.
const FAREWELL: Duration = Duration::from_millis(500);
/// How long a child that was killed may take to be gone.
const BURIAL: Duration = Duration::from_secs(5);

impl<'a> Process<'a> {
    /// Starts a program. A warden that holds it has until the deadline to have it running.
    pub(crate) fn start(inbox: &'a Inbox, launch: &Launch, deadline: Instant) -> Result<Process<'a>, Trouble> {
        if inbox.is_interrupted() {
            return Err(Trouble::Interrupted);
        }
        let failed = |error: std::io::Error| Trouble::NotStarted(format!("{}: {error}", launch.program.display()));
        let (mut command, leash) = match &launch.warden {
            None => (Command::new(&launch.program), None),
            Some(warden) => {
                let mut command = Command::new(warden);
                let leash = Leash::tie(&mut command).map_err(failed)?;
                command.arg(&launch.program);
                (command, Some(leash))
            }
        };
        // A group of its own: Ctrl-C is for the runner, which ends its children itself.
        command.args(&launch.arguments).process_group(0).env_clear().envs(launch.environment.iter().cloned());
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        if let Some(folder) = &launch.folder {
            command.current_dir(folder);
        }
        // A child begins on the cores of the thread that starts it, so that all threads it will ever have are kept there.
        let pinned = launch.core.map(Pinned::to).transpose().map_err(Trouble::NotStarted)?;
        let spawned = command.spawn().map_err(failed);
        drop(pinned);
        let mut child = spawned?;
        let own = i32::try_from(child.id()).ok().and_then(Pid::from_raw).unwrap_or(Pid::INIT);
        inbox.runs(own, leash.as_ref().and_then(Leash::near));
        let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let mut process = Process {
            inbox,
            child,
            own,
            leash,
            worker: own,
            stdin,
            stdout,
            stderr,
            unsent: Vec::new(),
            piece: vec![0; PIECE],
            lines: Lines::default(),
            words: Vec::new(),
            memory_limit: launch.memory_limit,
            is_halted: false,
        };
        let ends =
            [process.stdin.as_ref().map(AsFd::as_fd), process.stdout.as_ref().map(AsFd::as_fd), process.stderr.as_ref().map(AsFd::as_fd)];
        for end in ends.into_iter().flatten() {
            rustix::io::ioctl_fionbio(end, true).map_err(|error| Trouble::NotStarted(error.to_string()))?;
        }
        if let Some(leash) = &mut process.leash {
            process.worker =
                leash.began(deadline).map_err(|reason| Trouble::NotStarted(format!("{}: {reason}", launch.program.display())))?;
        }
        process.limit(launch)?;
        Ok(process)
    }

    fn limit(&self, launch: &Launch) -> Result<(), Trouble> {
        if let Some(limit) = launch.memory_limit {
            let limit = Rlimit { current: Some(limit), maximum: Some(limit) };
            rustix::process::prlimit(Some(self.worker), Resource::Data, limit)
                .map_err(|error| Trouble::NotStarted(format!("its memory cannot be limited: {error}")))?;
        }
        Ok(())
    }

    /// Sends a request; one that the child does not take whole until the deadline has timed out.
    pub(crate) fn send(&mut self, request: &Request, deadline: Instant, limit: Duration) -> Result<(), Trouble> {
        self.unsent.extend_from_slice(request_line(request).as_bytes());
        self.write()?;
        while !self.unsent.is_empty() {
            self.wait(deadline, limit)?;
        }
        Ok(())
    }

    /// The next reply, until the deadline.
    pub(crate) fn receive(&mut self, deadline: Instant, limit: Duration) -> Result<Reply, Trouble> {
        loop {
            match self.lines.next() {
                Some(Line::Whole(line)) => match read_reply(&line) {
                    Received::Reply(Reply::Failed(failed)) => return Err(self.refused(&failed)),
                    Received::Reply(reply) => return Ok(reply),
                    Received::Log => {}
                    Received::Broken(what) => return Err(Trouble::Broken(without_passwords(&what).into_owned())),
                },
                Some(Line::TooLong) => {
                    return Err(Trouble::Broken(format!("a line of more than {} MiB; send rows on several lines", LONGEST_LINE >> 20)));
                }
                Some(Line::NotText) => return Err(Trouble::Broken("a line that is not UTF-8".to_owned())),
                None => self.wait(deadline, limit)?,
            }
            if Instant::now() >= deadline {
                return Err(self.late(limit));
            }
        }
    }

    /// Waits until one of the pipes can be used, and uses it.
    fn wait(&mut self, deadline: Instant, limit: Duration) -> Result<(), Trouble> {
        let left = deadline.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(self.late(limit));
        }
        let time = Timespec { tv_sec: left.as_secs().try_into().unwrap_or(i64::MAX), tv_nsec: left.subsec_nanos().into() };
        let waiting = self.stdin.as_ref().filter(|_| !self.unsent.is_empty());
        let mut ends = vec![PollFd::from_borrowed_fd(self.inbox.wake(), PollFlags::IN)];
        // While a request waits to be taken nobody looks at what is read, so that has an end.
        ends.extend(self.stdout.as_ref().filter(|_| !self.lines.is_full()).map(|end| PollFd::new(end, PollFlags::IN)));
        ends.extend(waiting.map(|end| PollFd::new(end, PollFlags::OUT)));
        ends.extend(self.stderr.as_ref().map(|end| PollFd::new(end, PollFlags::IN)));
        match poll(&mut ends, Some(&time)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(Trouble::Broken(format!("its pipes cannot be watched: {error}"))),
        }
        let is_ready = |end: &PollFd<'_>| !end.revents().is_empty();
        let (interrupted, words) = (is_ready(&ends[0]), self.stderr.is_some() && ends.last().is_some_and(is_ready));
        if interrupted {
            return Err(Trouble::Interrupted);
        }
        if words {
            self.listen();
        }
        if !self.unsent.is_empty() {
            self.write()?;
        }
        if self.read()? { Ok(()) } else { Err(self.ended()) }
    }

    /// Words for one that has not answered in time. A reply without its end is not one.
    fn late(&self, limit: Duration) -> Trouble {
        // Kampf's own contenders keep to the protocol: one that is stopped in the middle of a long reply was only too slow.
        match self.leash.is_some() && self.lines.has_begun() {
            true => {
                Trouble::Broken(format!("within {} s its reply had no end of line; end it with a line feed and flush", limit.as_secs_f64()))
            }
            false => Trouble::TimedOut(limit),
        }
    }

    /// Hands over as much of what is to be sent as is taken now.
    fn write(&mut self) -> Result<(), Trouble> {
        while !self.unsent.is_empty() {
            let Some(stdin) = &mut self.stdin else { return Err(self.ended()) };
            match stdin.write(&self.unsent) {
                Ok(taken) => drop(self.unsent.drain(..taken)),
                Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(()),
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                Err(_) => return Err(self.ended()),
            }
        }
        Ok(())
    }

    /// Reads a piece of what was said; false at its end.
    fn read(&mut self) -> Result<bool, Trouble> {
        if self.lines.is_full() {
            return Ok(true);
        }
        let Some(stdout) = &mut self.stdout else { return Ok(false) };
        match stdout.read(&mut self.piece) {
            Ok(0) => Ok(false),
            Ok(length) => {
                self.lines.push(&self.piece[..length]);
                Ok(true)
            }
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted) => Ok(true),
            Err(error) => Err(Trouble::Broken(format!("its output cannot be read: {error}"))),
        }
    }

    /// Takes some of what stands on standard error, and keeps the end of it.
    fn listen(&mut self) {
        let Some(stderr) = &mut self.stderr else { return };
        let mut piece = [0; 4096];
        match stderr.read(&mut piece) {
            Ok(0) => self.stderr = None,
            Ok(length) => {
                self.words.extend_from_slice(&piece[..length]);
                let surplus = self.words.len().saturating_sub(8 * WORDS);
                self.words.drain(..surplus);
            }
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted) => {}
            Err(_) => self.stderr = None,
        }
    }

    /// Bytes that the system says of the process's memory: `VmRSS` is what it holds now, `VmHWM` the most since [`Process::reset_peak`].
    pub(crate) fn resident(&self, which: &str) -> Option<u64> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.worker.as_raw_pid())).ok()?;
        let kib: u64 = status.lines().find(|line| line.starts_with(which))?.split_whitespace().nth(1)?.parse().ok()?;
        Some(kib * 1024)
    }

    /// Nanoseconds that the threads of the process have had a processor: the first number of `schedstat` (sched-stats of the kernel's documentation).
    pub(crate) fn processor_ns(&self) -> Option<u64> {
        let tasks = std::fs::read_dir(format!("/proc/{}/task", self.worker.as_raw_pid())).ok()?.flatten();
        let of = |task: std::fs::DirEntry| {
            std::fs::read_to_string(task.path().join("schedstat")).ok()?.split_whitespace().next()?.parse::<u64>().ok()
        };
        Some(tasks.filter_map(of).sum())
    }

    /// Stops it with all that it has started, until [`Process::go_on`].
    pub(crate) fn halt(&mut self) {
        self.is_halted = kill_process_group(self.worker, Signal::STOP).is_ok();
    }

    /// Lets it go on, where it was stopped.
    pub(crate) fn go_on(&mut self) {
        if std::mem::take(&mut self.is_halted) {
            let _ = kill_process_group(self.worker, Signal::CONT);
        }
    }

    /// Forgets the peak of resident memory so far; false where the system does not allow it.
    pub(crate) fn reset_peak(&self) -> bool {
        std::fs::write(format!("/proc/{}/clear_refs", self.worker.as_raw_pid()), "5").is_ok()
    }

    fn refused(&self, failed: &Failed) -> Trouble {
        match self.memory_limit {
            Some(limit) if failed.out_of_memory => Trouble::OutOfMemory(limit, String::new()),
            _ => Trouble::Refused(without_passwords(&failed.reason).into_owned()),
        }
    }

    /// Words for a process whose input or output has ended; it may still be there.
    fn ended(&mut self) -> Trouble {
        self.stdin = None;
        let deadline = Instant::now() + FAREWELL;
        let status = match &mut self.leash {
            Some(leash) => leash.ended(deadline),
            None => until(deadline, || self.child.try_wait().ok().flatten()),
        };
        // Its last line may still be on the way.
        for _ in 0..20 {
            let before = self.words.len();
            self.listen();
            if self.stderr.is_none() {
                break;
            }
            if self.words.len() == before {
                std::thread::sleep(Duration::from_millis(1));
            }
        }
        let words = String::from_utf8_lossy(&self.words);
        let last: String =
            words.lines().map(str::trim).rfind(|line| !line.is_empty()).map(|line| line.chars().take(WORDS).collect()).unwrap_or_default();
        let last = without_passwords(&last).into_owned();
        const OF_MEMORY: [&str; 4] = ["memory allocation of", "MemoryError", "out of memory", "Cannot allocate memory"];
        match status {
            // What a program says may mean something else, so its own words are kept. Kampf's own contenders have no others.
            _ if self.memory_limit.is_some() && OF_MEMORY.iter().any(|sign| words.contains(sign)) => {
                Trouble::OutOfMemory(self.memory_limit.unwrap_or_default(), if self.leash.is_some() { last } else { String::new() })
            }
            Some(status) => Trouble::Ended(how(status, self.memory_limit), last),
            None => Trouble::Ended("closed its input or output and went on".to_owned(), last),
        }
    }
}

/// This thread on one core, until it is dropped.
struct Pinned {
    before: CpuSet,
}

impl Pinned {
    fn to(core: usize) -> Result<Pinned, String> {
        let mut cores = CpuSet::new();
        cores.set(core);
        let before = sched_getaffinity(None).and_then(|before| sched_setaffinity(None, &cores).map(|()| before));
        before.map(|before| Pinned { before }).map_err(|error| format!("it cannot be kept on core {core}: {error}"))
    }
}

impl Drop for Pinned {
    fn drop(&mut self) {
        let _ = sched_setaffinity(None, &self.before);
    }
}

/// Asks until there is something or the time is over.
pub(crate) fn until<T>(deadline: Instant, mut ask: impl FnMut() -> Option<T>) -> Option<T> {
    loop {
        let found = ask();
        if found.is_some() || Instant::now() >= deadline {
            return found;
        }
        std::thread::sleep(Duration::from_micros(200));
    }
}

fn how(status: ExitStatus, memory_limit: Option<u64>) -> String {
    // What gets no memory often falls over it without a word.
    let falls = [Signal::SEGV, Signal::BUS, Signal::ABORT, Signal::KILL].map(Signal::as_raw);
    match (status.code(), status.signal()) {
        (Some(code), _) => format!("ended with status {code}"),
        (None, Some(signal)) if memory_limit.is_some() && falls.contains(&signal) => {
            let limit = memory_limit.unwrap_or_default() / (1 << 20);
            format!("was ended by signal {signal}, as by having no more than {limit} MiB (--memory-limit)")
        }
        (None, Some(signal)) => format!("was ended by signal {signal}"),
        _ => "ended".to_owned(),
    }
}

impl Drop for Process<'_> {
    fn drop(&mut self) {
        self.go_on();
        self.stdin = None;
        let deadline = Instant::now() + BURIAL;
        // A warden ends all that it holds once it is let go of.
        let held = self.leash.take().map(|leash| leash.let_go()).is_some();
        if held && until(deadline, || self.child.try_wait().ok().flatten()).is_some() {
            self.inbox.gone(self.own);
            return;
        }
        // With what it has started itself, which is in its group. Once a child is waited for, its number may be another's. A warden is
        // never killed: what it holds would be nobody's.
        if matches!(self.child.try_wait(), Ok(None)) {
            let _ = kill_process_group(self.worker, Signal::KILL);
            if !held {
                let _ = self.child.kill();
                let _ = until(deadline, || self.child.try_wait().ok().flatten());
            }
        }
        self.inbox.gone(self.own);
    }
}
