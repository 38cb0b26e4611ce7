//! Throwaway servers: what is the same for every engine that has one. Started from the installed programs for one dataset, in a home
//! of the dataset's own, under a lock, and stopped when no longer needed.

mod files;
mod home;
mod process;

use std::time::Duration;

use kampf_contest::{EngineError, EngineErrorKind};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use rustix::process::Signal;

pub(crate) use files::{folder_of, has_room, io, keep_secret, random_word, remove_soon};
pub(crate) use home::{Home, sweep};
pub(crate) use process::{Process, end_with_parent};

/// How long a server may take to start or to stop.
const PATIENCE: Duration = Duration::from_secs(60);

/// What is an engine's own about its throwaway servers.
pub(crate) struct Kind {
    /// The engine, for people.
    pub(crate) name: &'static str,
    /// The folder in which the homes of root's datasets are: their own folders are often closed to the user that the server runs as.
    pub(crate) homes: &'static str,
    /// The account that the server runs as where Kampf runs as root.
    pub(crate) account: &'static str,
    /// The home's folder in the dataset's.
    pub(crate) folder: &'static str,
    /// A file among its data that is there once they were made.
    pub(crate) made_by: &'static str,
    /// The file among its data whose first line is the number of the server's process.
    pub(crate) pid_file: &'static str,
    /// Whether that file's lines say that the server is ready.
    pub(crate) is_ready: fn(&[&str]) -> bool,
    /// Whether a line of its log says why it does not start.
    pub(crate) tells: fn(&str) -> bool,
    /// The signal by which it ends at once and in order.
    pub(crate) ends_by: Signal,
}

/// A short name for a path (FNV-1a, as its authors publish it).
pub(crate) fn fnv(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, |hash, &byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

/// All but what needs no coding in any part of a URL (RFC 3986, section 2.3).
const CODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A text as part of a URL.
pub(crate) fn encoded(text: &str) -> String {
    utf8_percent_encode(text, CODED).to_string()
}

pub(crate) fn unreachable(message: &str) -> EngineError {
    EngineError { kind: EngineErrorKind::Unreachable, message: message.to_owned(), sql: None, cause: None }
}
