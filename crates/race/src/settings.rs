//! How a race is decided.

use crate::summary::Nanos;

/// A difference up to this ratio is little: what is known within it is known well enough to choose by.
pub const LITTLE: f64 = 1.10;

/// What a race is run for, which decides when it is over.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Goal {
    /// That one can be taken: nobody is faster than the leader by more than the margin.
    #[default]
    Choice,
    /// That everybody is told from the leader, as slower or tied, and every median known to the margin. Nobody is dropped.
    Exact,
    /// That two are known against each other to the margin. Nobody is dropped.
    Pair,
}

/// How a race is decided.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RaceSettings {
    /// A difference below this share is none: who is not slower by more is not called slower, and who surely is not is tied.
    pub margin: f64,
    /// The chance that any contender is called slower, or tied, without being so.
    pub alpha: f64,
    /// At most so many rounds.
    pub most_rounds: usize,
    /// How many contenders may enter after the first heat at most; none where there is one heat.
    pub entrants: usize,
    /// When it is over.
    pub goal: Goal,
    /// Whether who surely is not faster than the leader stops running while that one leads.
    pub rests: bool,
    /// A contender whose slowest run took no longer than this is not dropped, neither as outclassed nor as slower, while it is
    /// held ([`crate::Race::hold`]).
    pub keep_below: Option<Nanos>,
    /// Whether neighbouring rounds that are alike count for less. Only a test turns it off.
    pub correct_likeness: bool,
}

impl Default for RaceSettings {
    fn default() -> Self {
        RaceSettings {
            margin: 0.05,
            alpha: 0.05,
            most_rounds: 400,
            entrants: 0,
            goal: Goal::Choice,
            rests: true,
            keep_below: None,
            correct_likeness: true,
        }
    }
}
