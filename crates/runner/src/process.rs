//! One child process at a time, heard through one inbox.

use std::fmt;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::PathBuf;
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, AtomicI32, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use kampf_protocol::{Received, Reply, Request, read_reply, request_line};
use rustix::process::{Pid, Resource, Rlimit};

/// What can happen to a contender.
#[derive(Clone, Debug, PartialEq)]
pub enum Trouble {
    /// It could not be started.
    NotStarted(String),
    /// It did not answer in time.
    TimedOut(Duration),
    /// It ended: how, and its last words on standard error.
    Ended(String, String),
    /// It needed more memory than the limit allows.
    OutOfMemory(u64),
    /// It says itself that it cannot.
    Refused(String),
    /// It said something that is not in the protocol.
    Broken(String),
    /// The user wants to stop.
    Interrupted,
}

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Trouble::NotStarted(reason) => write!(f, "could not be started: {reason}"),
            Trouble::TimedOut(limit) => write!(f, "no answer within {} s (--timeout)", limit.as_secs_f64()),
            Trouble::Ended(how, words) if words.is_empty() => write!(f, "the process {how}"),
            Trouble::Ended(how, words) => write!(f, "the process {how}: {words}"),
            Trouble::OutOfMemory(limit) => write!(f, "needed more than {} MiB (--memory-limit)", limit / (1 << 20)),
            Trouble::Refused(reason) => f.write_str(reason),
            Trouble::Broken(what) => write!(f, "broke the protocol: {what}"),
            Trouble::Interrupted => f.write_str("interrupted"),
        }
    }
}

impl std::error::Error for Trouble {}

enum Incoming {
    Line(u64, String),
    Closed(u64),
    Interrupt,
}

/// Where lines of children and the user's wish to stop arrive.
pub struct Inbox {
    sender: Sender<Incoming>,
    receiver: Receiver<Incoming>,
    interrupted: Arc<AtomicBool>,
    heeding: AtomicBool,
    children: AtomicU64,
    /// Process group of the child that runs now; 0 where none does.
    running: Arc<AtomicI32>,
}

/// Exit status of a program that was told twice to stop.
const STOPPED: i32 = 3;

impl Inbox {
    /// An inbox that only children write to.
    pub fn new() -> Inbox {
        let (sender, receiver) = channel();
        Inbox {
            sender,
            receiver,
            interrupted: Arc::default(),
            heeding: AtomicBool::new(false),
            children: AtomicU64::new(0),
            running: Arc::default(),
        }
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
        let (sender, running) = (self.sender.clone(), self.running.clone());
        std::thread::spawn(move || {
            for (before, _) in signals.forever().enumerate() {
                if before > 0 {
                    if let Some(group) = Pid::from_raw(running.load(Ordering::Relaxed)) {
                        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
                    }
                    std::process::exit(STOPPED);
                }
                let _ = sender.send(Incoming::Interrupt);
            }
        });
        Ok(())
    }

    /// Whether the user wants to stop.
    pub fn is_interrupted(&self) -> bool {
        self.interrupted.load(Ordering::Relaxed)
    }
}

impl Default for Inbox {
    fn default() -> Self {
        Inbox::new()
    }
}

/// A program to start.
pub(crate) struct Launch {
    pub(crate) program: PathBuf,
    pub(crate) arguments: Vec<String>,
    pub(crate) folder: Option<PathBuf>,
    pub(crate) memory_limit: Option<u64>,
    /// The core of the processor that it is kept on.
    pub(crate) core: Option<usize>,
}

/// A running child. It is killed when dropped.
pub(crate) struct Process<'a> {
    inbox: &'a Inbox,
    number: u64,
    child: Child,
    stdin: Option<ChildStdin>,
    words: Arc<Mutex<String>>,
    memory_limit: Option<u64>,
}

/// Characters kept of what a child says on standard error.
const WORDS: usize = 400;

impl<'a> Process<'a> {
    pub(crate) fn start(inbox: &'a Inbox, launch: &Launch) -> Result<Process<'a>, Trouble> {
        if inbox.is_interrupted() {
            return Err(Trouble::Interrupted);
        }
        let mut command = Command::new(&launch.program);
        // A group of its own: Ctrl-C is for the runner, which ends its children itself.
        command.args(&launch.arguments).process_group(0).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        if let Some(folder) = &launch.folder {
            command.current_dir(folder);
        }
        let mut child = command.spawn().map_err(|error| Trouble::NotStarted(format!("{}: {error}", launch.program.display())))?;
        inbox.running.store(i32::try_from(child.id()).unwrap_or(0), Ordering::Relaxed);
        if let (Some(limit), Some(pid)) = (launch.memory_limit, i32::try_from(child.id()).ok().and_then(Pid::from_raw)) {
            let limit = Rlimit { current: Some(limit), maximum: Some(limit) };
            if let Err(error) = rustix::process::prlimit(Some(pid), Resource::Data, limit) {
                let _ = child.kill();
                let _ = child.wait();
                return Err(Trouble::NotStarted(format!("its memory cannot be limited: {error}")));
            }
        }
        if let (Some(core), Some(pid)) = (launch.core, i32::try_from(child.id()).ok().and_then(Pid::from_raw)) {
            let mut cores = rustix::thread::CpuSet::new();
            cores.set(core);
            if let Err(error) = rustix::thread::sched_setaffinity(Some(pid), &cores) {
                let _ = child.kill();
                let _ = child.wait();
                return Err(Trouble::NotStarted(format!("it cannot be kept on core {core}: {error}")));
            }
        }
        let number = inbox.children.fetch_add(1, Ordering::Relaxed);
        let stdin = child.stdin.take();
        let words = Arc::new(Mutex::new(String::new()));
        if let Some(stdout) = child.stdout.take() {
            let sender = inbox.sender.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(stdout).lines().map_while(Result::ok) {
                    if sender.send(Incoming::Line(number, line)).is_err() {
                        return;
                    }
                }
                let _ = sender.send(Incoming::Closed(number));
            });
        }
        if let Some(mut stderr) = child.stderr.take() {
            let words = words.clone();
            std::thread::spawn(move || {
                let mut piece = [0; 1024];
                while let Ok(length @ 1..) = stderr.read(&mut piece) {
                    let Ok(mut words) = words.lock() else { return };
                    words.push_str(&String::from_utf8_lossy(&piece[..length]));
                    let long = words.len().saturating_sub(8 * WORDS);
                    let cut = (long..words.len()).find(|&at| words.is_char_boundary(at)).unwrap_or(0);
                    words.drain(..cut);
                }
            });
        }
        Ok(Process { inbox, number, child, stdin, words, memory_limit: launch.memory_limit })
    }

    pub(crate) fn send(&mut self, request: &Request) -> Result<(), Trouble> {
        let line = request_line(request);
        let sent = self.stdin.as_mut().map_or(Ok(()), |stdin| stdin.write_all(line.as_bytes()).and_then(|()| stdin.flush()));
        match sent {
            Ok(()) => Ok(()),
            Err(_) => Err(self.ended()),
        }
    }

    /// The next reply, until the deadline.
    pub(crate) fn receive(&mut self, deadline: Instant, limit: Duration) -> Result<Reply, Trouble> {
        loop {
            let left = deadline.saturating_duration_since(Instant::now());
            match self.inbox.receiver.recv_timeout(left) {
                Ok(Incoming::Line(number, line)) if number == self.number => match read_reply(&line) {
                    Received::Reply(Reply::Failed(failed)) => return Err(self.refused(failed.reason)),
                    Received::Reply(reply) => return Ok(reply),
                    Received::Log => {}
                    Received::Broken(what) => return Err(Trouble::Broken(what)),
                },
                Ok(Incoming::Closed(number)) if number == self.number => return Err(self.ended()),
                Ok(Incoming::Interrupt) => return Err(Trouble::Interrupted),
                // What a child before this one said too late.
                Ok(_) => {}
                Err(RecvTimeoutError::Timeout) => return Err(Trouble::TimedOut(limit)),
                Err(RecvTimeoutError::Disconnected) => return Err(Trouble::Interrupted),
            }
        }
    }

    /// Most memory that the process has held since [`Process::reset_peak`], beyond what it held then, in bytes.
    pub(crate) fn resident(&self, which: &str) -> Option<u64> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).ok()?;
        let kib: u64 = status.lines().find(|line| line.starts_with(which))?.split_whitespace().nth(1)?.parse().ok()?;
        Some(kib * 1024)
    }

    /// Forgets the peak of resident memory so far; false where the system does not allow it.
    pub(crate) fn reset_peak(&self) -> bool {
        std::fs::write(format!("/proc/{}/clear_refs", self.child.id()), "5").is_ok()
    }

    fn refused(&self, reason: String) -> Trouble {
        match self.memory_limit {
            Some(limit) if reason.contains("out of memory") => Trouble::OutOfMemory(limit),
            _ => Trouble::Refused(reason),
        }
    }

    /// Words for a process that ended by itself.
    fn ended(&mut self) -> Trouble {
        self.stdin = None;
        let status = self.child.wait().ok();
        // The reader of standard error ends with the process; a moment is enough for its last line.
        std::thread::sleep(Duration::from_millis(20));
        let words = self.words.lock().map(|words| words.clone()).unwrap_or_default();
        if let Some(limit) = self.memory_limit
            && ["memory allocation of", "MemoryError", "out of memory", "Cannot allocate memory"].iter().any(|sign| words.contains(sign))
        {
            return Trouble::OutOfMemory(limit);
        }
        let lines: Vec<&str> = words.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
        let last: String = lines.last().map(|line| line.chars().take(WORDS).collect()).unwrap_or_default();
        Trouble::Ended(status.map_or_else(|| "ended".to_owned(), how), last)
    }
}

fn how(status: ExitStatus) -> String {
    match (status.code(), status.signal()) {
        (Some(code), _) => format!("ended with status {code}"),
        (None, Some(signal)) => format!("was ended by signal {signal}"),
        _ => "ended".to_owned(),
    }
}

impl Drop for Process<'_> {
    fn drop(&mut self) {
        self.stdin = None;
        // With what it has started itself, which is in its group. Once a child is waited for, its number may be another's.
        let runs = matches!(self.child.try_wait(), Ok(None));
        if let Some(group) = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw).filter(|_| runs) {
            let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
        self.inbox.running.store(0, Ordering::Relaxed);
    }
}
