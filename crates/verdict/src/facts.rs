//! What was measured. Nobody changes it.

use kampf_contest::{ByHand, Choices, Measured};
use kampf_race::Nanos;

use crate::require::Require;

/// A race as it was measured.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Facts {
    /// How it is judged.
    pub rules: Rules,
    /// What a contender must meet to be chosen.
    pub require: Require,
    /// Rounds that were finished.
    pub rounds: usize,
    /// The contenders.
    pub contenders: Vec<ContenderFacts>,
}

/// How a race is judged.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Rules {
    /// A difference below this share is none.
    pub margin: f64,
    /// The chance of a wrong word.
    pub alpha: f64,
    /// At most so many rounds.
    pub most_rounds: usize,
    /// Nobody was to be dropped.
    pub exact: bool,
    /// Contenders whose calls took no longer were kept, as they may be good enough.
    pub keep_below: Option<Nanos>,
}

/// A contender as it was measured.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ContenderFacts {
    /// Its name.
    pub name: String,
    /// Its options, where it is derived.
    pub choices: Option<Choices>,
    /// Nanoseconds of a call, per round from the first on.
    pub rounds: Vec<Nanos>,
    /// 95th percentile of the calls of a round, for rounds with enough of them.
    pub p95_rounds: Vec<Nanos>,
    /// Nanoseconds of a call in the check, for one that was outclassed there and did not start.
    pub in_check: Option<Nanos>,
    /// Median of the first calls on a new connection.
    pub cold: Option<Nanos>,
    /// What was counted over a call.
    pub measured: Measured,
    /// What it leaves to the developer; none for programs.
    pub by_hand: Option<ByHand>,
    /// What was wrong with it.
    pub fault: Option<Fault>,
}

/// What was wrong with a contender.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// What kind of thing.
    pub kind: FaultKind,
    /// In words, from where it was found.
    pub reason: String,
}

/// What kind of thing was wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FaultKind {
    /// It gave another answer.
    Disagrees,
    /// It could not be run to the end.
    Failed,
}

impl ContenderFacts {
    /// Whether it was timed and gave the right answer.
    pub fn is_eligible(&self) -> bool {
        self.fault.is_none() && (!self.rounds.is_empty() || self.in_check.is_some())
    }
}
