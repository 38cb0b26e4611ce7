//! The process of a throwaway server: found a port, started, waited for, and stopped when it is no longer needed.

use std::fs::{self, File};
use std::io::Read;
use std::net::{Ipv4Addr, TcpListener};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command};
use std::time::{Duration, Instant};

use kampf_contest::{EngineError, EngineErrorKind};
use rustix::process::{Pid, Signal, kill_process};

use super::files::{io, open_own, read_plain};
use super::home::Home;
use super::{PATIENCE, unreachable};

/// A running server. It is stopped when dropped.
pub(crate) struct Process {
    child: Child,
    pub(crate) home: Home,
    pub(crate) port: u16,
    _lock: Option<File>,
}

impl Process {
    /// Starts the server of a home on a free port; `command` gives what starts it there.
    pub(crate) fn start(home: &Home, command: impl Fn(&Home, u16) -> Command) -> Result<Process, EngineError> {
        let name = home.kind().name;
        let lock = home.lock()?;
        home.end_left_over();
        if !home.data().join(home.kind().made_by).is_file() {
            let message = "the dataset's cluster is gone".to_owned();
            return Err(EngineError { kind: EngineErrorKind::Gone, message, sql: None, cause: None });
        }
        for _ in 0..5 {
            let port = free_port()?;
            let log = home.log();
            let out = open_own(&log).and_then(|out| out.set_len(0).map(|()| out)).map_err(|error| io("write", &log, error))?;
            let err = out.try_clone().map_err(|error| io("write", &log, error))?;
            let mut command = command(home, port);
            command.process_group(0).stdout(out).stderr(err);
            end_with_parent(&mut command, home.kind().ends_by);
            let child = command.spawn().map_err(|error| io("start", command.get_program().as_ref(), error))?;
            let mut server = Process { child, home: home.clone(), port, _lock: None };
            match server.wait_until_ready() {
                Ok(()) => {
                    server._lock = Some(lock);
                    return Ok(server);
                }
                // Somebody else took the port meanwhile.
                Err(_) if TcpListener::bind((Ipv4Addr::LOCALHOST, port)).is_err() => {}
                Err(words) => return Err(unreachable(&format!("{name} does not start: {words}"))),
            }
        }
        Err(unreachable(&format!("no free port can be found for {name}")))
    }

    fn wait_until_ready(&mut self) -> Result<(), String> {
        let deadline = Instant::now() + PATIENCE;
        let (pid_file, kind) = (self.home.pid_file(), self.home.kind());
        loop {
            if let Ok(Some(_)) = self.child.try_wait() {
                return Err(self.last_words());
            }
            // The first line is the server's number, which tells it from one that was killed.
            let text = read_plain(&pid_file).unwrap_or_default();
            let lines: Vec<&str> = text.lines().map(str::trim).collect();
            if lines.first() == Some(&self.child.id().to_string().as_str()) && (kind.is_ready)(&lines) {
                return Ok(());
            }
            if Instant::now() > deadline {
                return Err(format!("it is not ready after {} s; {}", PATIENCE.as_secs(), self.last_words()));
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    fn last_words(&self) -> String {
        let mut text = String::new();
        let _ = File::open(self.home.log()).and_then(|mut file| file.read_to_string(&mut text));
        let lines: Vec<&str> = text.lines().filter(|line| (self.home.kind().tells)(line)).collect();
        let lines = if lines.is_empty() { text.lines().rev().take(2).collect() } else { lines };
        lines.iter().map(|line| line.split_once("  ").map_or(*line, |(_, words)| words)).collect::<Vec<_>>().join("; ")
    }

    /// Keeps the server, and all processes it starts from now on, on one core.
    pub(crate) fn pin(&self, core: usize) -> bool {
        let mut cores = rustix::thread::CpuSet::new();
        cores.set(core);
        let pid = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw);
        pid.is_some_and(|pid| rustix::thread::sched_setaffinity(Some(pid), &cores).is_ok())
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        if let Some(pid) = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw) {
            end(pid, self.home.kind().ends_by, || matches!(self.child.try_wait(), Ok(None)));
        }
        let _ = self.child.wait();
        if self.home.sockets != self.home.folder {
            let _ = fs::remove_dir_all(&self.home.sockets);
        }
    }
}

/// Ends a server in order, or where that takes too long with all that it has started, and waits until it has ended.
pub(crate) fn end(server: Pid, by: Signal, mut is_there: impl FnMut() -> bool) {
    let _ = kill_process(server, by);
    // One that was halted hears of it only then; a server waits for its own processes.
    let _ = kill_process(server, Signal::CONT);
    children(server).into_iter().for_each(|child| {
        let _ = kill_process(child, Signal::CONT);
    });
    let deadline = Instant::now() + PATIENCE;
    while is_there() {
        if Instant::now() > deadline {
            // They would stay, and hold its files.
            let left = children(server);
            for process in std::iter::once(server).chain(left) {
                let _ = kill_process(process, Signal::KILL);
            }
            return;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// The processes that a server has started itself.
fn children(server: Pid) -> Vec<Pid> {
    let parent = |pid: Pid| {
        let stat = fs::read_to_string(format!("/proc/{}/stat", pid.as_raw_nonzero())).ok()?;
        // Its name stands in parentheses, and may hold some.
        stat.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse::<i32>().ok()
    };
    let all = fs::read_dir("/proc").into_iter().flatten().flatten();
    let numbered = all.filter_map(|entry| Pid::from_raw(entry.file_name().to_str()?.parse().ok()?));
    numbered.filter(|&pid| parent(pid) == Some(server.as_raw_nonzero().get())).collect()
}

/// Has a program end by a signal when this process ends in whatever way.
#[expect(unsafe_code, reason = "only the child itself can ask for its parent's death signal, between fork and exec")]
pub(crate) fn end_with_parent(command: &mut Command, signal: Signal) {
    // SAFETY: the closure makes one system call and touches no memory that the fork could have left in a strange state.
    unsafe {
        command.pre_exec(move || Ok(rustix::process::set_parent_process_death_signal(Some(signal))?));
    }
}

fn free_port() -> Result<u16, EngineError> {
    let listener = TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr());
    listener.map(|address| address.port()).map_err(|error| unreachable(&format!("no port can be had: {error}")))
}
