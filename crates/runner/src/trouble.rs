//! What can happen to a contender.

use std::fmt;
use std::time::Duration;

/// What can happen to a contender.
#[derive(Clone, Debug, PartialEq)]
pub enum Trouble {
    /// It could not be started.
    NotStarted(String),
    /// It did not answer in time.
    TimedOut(Duration),
    /// It ended: how, and its last words on standard error.
    Ended(String, String),
    /// It needed more memory than the limit allows; what it said itself.
    OutOfMemory(u64, String),
    /// It says itself that it cannot.
    Refused(String),
    /// What is asked for leads to numbers or answers that are too large, whoever is asked.
    TooLarge(String),
    /// What it says of its runs is not so.
    NotBelieved(String),
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
            Trouble::OutOfMemory(limit, words) => {
                let own = if words.is_empty() { String::new() } else { format!(": {words}") };
                write!(f, "needed more than {} MiB (--memory-limit){own}", limit / (1 << 20))
            }
            Trouble::Refused(reason) | Trouble::TooLarge(reason) | Trouble::NotBelieved(reason) => f.write_str(reason),
            Trouble::Broken(what) => write!(f, "broke the protocol: {what}"),
            Trouble::Interrupted => f.write_str("interrupted"),
        }
    }
}

impl std::error::Error for Trouble {}
