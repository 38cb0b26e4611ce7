//! Holding a program with everything that it starts.
//!
//! Between the runner and a program stands a warden: a small process of the same binary that starts the program, takes in whatever
//! the program's own children leave behind (it is their subreaper, where the system has that), and ends all of it when the program
//! ends or when the runner lets go of the leash, be it by being killed. The leash is a socket; what goes over it are lines.

use std::ffi::OsString;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::Shutdown;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::process::{Command, ExitStatus};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process, kill_process_group};

/// What the runner starts its own binary with, to be a warden.
pub const WARDEN: &str = "warden";
/// How long what was killed may take to be gone.
pub(super) const BURIAL: Duration = Duration::from_secs(3);

/// The runner's end.
pub(crate) struct Leash {
    near: BufReader<UnixStream>,
    /// The warden's end until it is started.
    far: Option<UnixStream>,
}

impl Leash {
    /// Has a command become a warden that holds the program whose words are to follow.
    pub(crate) fn tie(command: &mut Command) -> std::io::Result<Leash> {
        let (near, far) = UnixStream::pair()?;
        // It is to be there in the process that is started next, and in no other: nothing else is started meanwhile.
        rustix::io::fcntl_setfd(&far, rustix::io::FdFlags::empty())?;
        command.arg(WARDEN).arg(far.as_raw_fd().to_string());
        Ok(Leash { near: BufReader::new(near), far: Some(far) })
    }

    /// The same end for somebody else who may let go of it.
    pub(crate) fn near(&self) -> Option<UnixStream> {
        self.near.get_ref().try_clone().ok()
    }

    /// Lets go, whoever else has the same end.
    pub(crate) fn let_go(&self) {
        let _ = self.near.get_ref().shutdown(Shutdown::Write);
    }

    /// The program that the warden has started.
    pub(crate) fn began(&mut self, deadline: Instant) -> Result<Pid, String> {
        self.far = None;
        let line = self.line(deadline).ok_or("the process that is to hold it does not answer")?;
        match line.split_once(' ') {
            Some(("began", pid)) => pid.parse().ok().and_then(Pid::from_raw).ok_or_else(|| line.clone()),
            Some((_, reason)) => Err(reason.to_owned()),
            None => Err(line),
        }
    }

    /// How the program ended, if it does so until the deadline.
    pub(crate) fn ended(&mut self, deadline: Instant) -> Option<ExitStatus> {
        let line = self.line(deadline)?;
        line.strip_prefix("ended ")?.parse().ok().map(ExitStatus::from_raw)
    }

    fn line(&mut self, deadline: Instant) -> Option<String> {
        let left = deadline.saturating_duration_since(Instant::now()).max(Duration::from_millis(1));
        self.near.get_ref().set_read_timeout(Some(left)).ok()?;
        let mut line = String::new();
        self.near.read_line(&mut line).ok()?;
        line.strip_suffix('\n').map(str::to_owned)
    }
}

/// Holds a program: the number of the leash, then the program's words. Gives the exit status.
#[expect(unsafe_code, reason = "the leash is a file that the runner left open, and only its number is known")]
pub fn hold(mut words: impl Iterator<Item = OsString>) -> u8 {
    let number = words.next().and_then(|number| number.to_str()?.parse::<i32>().ok()).filter(|&number| number > 2);
    let (Some(number), Some(program)) = (number, words.next()) else { return 2 };
    // SAFETY: only the runner starts a warden, with a number that is this process's own and that nothing else here knows of.
    let leash = UnixStream::from(unsafe { OwnedFd::from_raw_fd(number) });
    if rustix::io::fcntl_setfd(&leash, rustix::io::FdFlags::CLOEXEC).is_err() {
        return 2;
    }
    let Ok(mut listening) = leash.try_clone() else { return 2 };
    let mut leash = leash;
    let own = rustix::process::getpid();
    #[cfg(target_os = "linux")]
    let _ = rustix::process::set_child_subreaper(Some(own));
    let mut command = Command::new(program);
    command.args(words).process_group(0);
    end_with_parent(&mut command);
    let mut child = match command.spawn() {
        Ok(child) => child,
        Err(error) => {
            let _ = writeln!(leash, "failed {error}");
            return 2;
        }
    };
    // The program's pipes are its own: where it closes them, they are closed.
    if let Ok(nothing) = std::fs::OpenOptions::new().read(true).write(true).open("/dev/null") {
        let _ = rustix::stdio::dup2_stdin(&nothing);
        let _ = rustix::stdio::dup2_stdout(&nothing);
        let _ = rustix::stdio::dup2_stderr(&nothing);
    }
    let group = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
    let _ = writeln!(leash, "began {}", child.id());
    let waits = std::thread::Builder::new().spawn(move || {
        // Nothing is ever sent this way: reading ends when the runner has let go.
        let _ = listening.read(&mut [0; 1]);
        end_all(own, group);
        std::process::exit(0);
    });
    // Nobody would end the program when the runner is gone.
    if waits.is_err() {
        end_all(own, group);
    }
    let status = child.wait();
    end_all(own, group);
    if let Ok(status) = status {
        let _ = writeln!(leash, "ended {}", status.into_raw());
    }
    0
}

/// Has the program end when its warden does, even when that is killed.
#[expect(unsafe_code, reason = "only the child itself can ask for its parent's death signal, between fork and exec")]
fn end_with_parent(command: &mut Command) {
    // SAFETY: the closure makes one system call and touches no memory that the fork could have left in a strange state.
    unsafe {
        command.pre_exec(|| Ok(rustix::process::set_parent_process_death_signal(Some(Signal::KILL))?));
    }
}

/// Ends everything below a process, and the program's group. What is killed may have started more meanwhile, so it is looked for
/// until nothing is left.
fn end_all(own: Pid, group: Option<Pid>) {
    let deadline = Instant::now() + BURIAL;
    loop {
        if let Some(group) = group {
            let _ = kill_process_group(group, Signal::KILL);
        }
        let below = below(own);
        if below.is_empty() || Instant::now() > deadline {
            return;
        }
        for pid in below {
            let _ = kill_process(pid, Signal::KILL);
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}

/// The processes below one that still run, where the system tells.
fn below(own: Pid) -> Vec<Pid> {
    let entries = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let processes: Vec<(i32, i32)> = entries
        .filter_map(|entry| {
            let pid: i32 = entry.file_name().to_str()?.parse().ok()?;
            let stat = std::fs::read_to_string(entry.path().join("stat")).ok()?;
            // The name before may hold anything, parentheses too.
            let mut behind = stat.rsplit_once(") ")?.1.split(' ');
            let (state, parent) = (behind.next()?, behind.next()?.parse().ok()?);
            (state != "Z" && state != "X").then_some((pid, parent))
        })
        .collect();
    let mut found = vec![own.as_raw_pid()];
    let mut at = 0;
    while at < found.len() {
        let children = processes.iter().filter(|(pid, parent)| *parent == found[at] && !found.contains(pid)).map(|(pid, _)| *pid);
        let children: Vec<i32> = children.collect();
        found.extend(children);
        at += 1;
    }
    found.into_iter().skip(1).filter_map(Pid::from_raw).collect()
}
