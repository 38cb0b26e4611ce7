//! Processes of a test: waited for, spoken to, seen.

use std::fmt::Display;
use std::io::Read;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use super::Folder;

/// Starts the program, to be listened to.
pub(crate) fn start(folder: &Folder, arguments: &[&str]) -> Child {
    folder.command(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("kampf runs")
}

pub(crate) fn wait_for(what: &str, is_so: impl FnMut() -> bool) {
    wait(Duration::from_secs(30), what, is_so);
}

/// The same where a server has to start or to end for it.
pub(crate) fn wait_for_server(what: &str, is_so: impl FnMut() -> bool) {
    wait(Duration::from_secs(60), what, is_so);
}

fn wait(longest: Duration, what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < longest, "{what}: it did not happen");
        std::thread::sleep(Duration::from_millis(10));
    }
}

pub(crate) fn signal(name: &str, pid: impl Display) {
    assert!(Command::new("kill").args([name, &pid.to_string()]).status().unwrap().success());
}

/// Waits until a program has said something on standard error; what it says after that is still to be read.
pub(crate) fn until_said(child: &mut Child, words: &str) {
    let stderr = child.stderr.as_mut().expect("it is listened to");
    let (mut said, mut piece) = (String::new(), [0; 256]);
    while !said.contains(words) {
        let length = stderr.read(&mut piece).unwrap();
        assert!(length > 0, "it ended without `{words}`: {said}");
        said.push_str(&String::from_utf8_lossy(&piece[..length]));
    }
}

/// Whether a process is there, and not only not waited for.
pub(crate) fn runs(pid: &str) -> bool {
    let state = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    !state.is_empty() && !state.contains(") Z ")
}
