//! How a race is decided.

use crate::summary::Nanos;

/// How a race is decided.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RaceSettings {
    /// A difference below this share is none: who is not slower by more is not called slower, and who surely is not is tied.
    pub margin: f64,
    /// The chance that any contender is called slower, or tied, without being so.
    pub alpha: f64,
    /// At most so many rounds.
    pub most_rounds: usize,
    /// Nobody is dropped before the end, and it goes on until every median is known to the margin.
    pub exact: bool,
    /// A contender whose slowest run took no longer than this is not outclassed.
    pub keep_below: Option<Nanos>,
    /// Whether neighbouring rounds that are alike count for less. Only a test turns it off.
    pub correct_likeness: bool,
}

impl Default for RaceSettings {
    fn default() -> Self {
        RaceSettings { margin: 0.02, alpha: 0.05, most_rounds: 400, exact: false, keep_below: None, correct_likeness: true }
    }
}
