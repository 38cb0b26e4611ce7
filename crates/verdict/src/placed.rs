//! How a contender stands.

use kampf_race::{Interval, Nanos};

use crate::facts::RunsBeside;
use crate::require::Reading;

/// In a word, how a contender stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It leads.
    Standing,
    /// It surely differs from the leader by less than the margin.
    Tied,
    /// It surely is not faster than the leader by more than the margin.
    NotFaster,
    /// It is faster than the leader, and runs beside the race.
    Faster,
    /// It is slower than the leader, beyond chance and by more than the margin.
    Slower,
    /// It was so far behind that it was not run to the end.
    Outclassed,
    /// It may be faster than the leader or not, with the rounds there were.
    Unresolved,
    /// It misses what is required.
    RuledOut,
    /// Its answer differs.
    Disagrees,
    /// It could not be run to the end.
    Failed,
    /// What it says of its runs is not so; the race is as if it had never been there.
    NotBelieved,
}

impl Outcome {
    /// All of them.
    pub const ALL: [Outcome; 11] = [
        Outcome::Standing,
        Outcome::Tied,
        Outcome::NotFaster,
        Outcome::Faster,
        Outcome::Slower,
        Outcome::Outclassed,
        Outcome::Unresolved,
        Outcome::RuledOut,
        Outcome::Disagrees,
        Outcome::Failed,
        Outcome::NotBelieved,
    ];

    /// Its word in documents.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Standing => "standing",
            Outcome::Tied => "tied",
            Outcome::NotFaster => "not_faster",
            Outcome::Faster => "faster",
            Outcome::Slower => "slower",
            Outcome::Outclassed => "outclassed",
            Outcome::Unresolved => "unresolved",
            Outcome::RuledOut => "ruled_out",
            Outcome::Disagrees => "disagrees",
            Outcome::Failed => "failed",
            Outcome::NotBelieved => "not_believed",
        }
    }

    /// Whether something was wrong with the contender itself, so that it has no place among the others.
    pub fn is_fault(self) -> bool {
        matches!(self, Outcome::Disagrees | Outcome::Failed | Outcome::NotBelieved)
    }

    /// The outcome of a word.
    pub fn from_word(word: &str) -> Option<Outcome> {
        Outcome::ALL.into_iter().find(|outcome| outcome.word() == word)
    }
}

/// How a contender stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Placed {
    /// In a word.
    pub outcome: Outcome,
    /// Why it is not to be chosen, whatever its time.
    pub beside: Option<RunsBeside>,
    /// What it takes a call, for comparison with all others: the leader's median times the ratio to it within rounds. The one
    /// figure of it that is shown.
    pub shown: Option<Nanos>,
    /// Median of what was measured; that of the check for one that did not start.
    pub median: Option<Nanos>,
    /// Interval of the median at 2.5 % a side, from eight rounds on; before, the fastest and the slowest round.
    pub range: Option<(Nanos, Nanos)>,
    /// 95th percentile of a call, where it is known.
    pub p95: Option<Nanos>,
    /// Its time over the leader's; 1 for the leader.
    pub behind: Option<Ratio>,
    /// Rounds that it and the leader both ran.
    pub common_rounds: usize,
    /// Whether the halves of the race contradict each other.
    pub still_moving: bool,
    /// When and why it left the race.
    pub left: Option<Left>,
    /// Whether nobody beats it on latency, memory and statements at once.
    pub trade_off: bool,
    /// What it has of what is required.
    pub readings: Vec<Reading>,
}

/// One time over another, within rounds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ratio {
    /// The median.
    pub ratio: f64,
    /// Its interval; none with too few rounds.
    pub interval: Option<Interval>,
}

impl Ratio {
    /// The upper end; infinite where it is not known.
    pub fn high(&self) -> f64 {
        self.interval.map_or(f64::INFINITY, |interval| interval.high)
    }

    /// The lower end; nothing where it is not known.
    pub fn low(&self) -> f64 {
        self.interval.map_or(0.0, |interval| interval.low)
    }
}

/// A contender that left the race before its end.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Left {
    /// After this round; 0 for the check.
    pub round: usize,
    /// Who led then.
    pub leader: Option<usize>,
    /// How much slower than that leader it surely was.
    pub at_least: Option<f64>,
    /// For one that was outclassed in rounds: its fastest run over the leader's slowest.
    pub times: Option<f64>,
}

/// Rounds in all that a decision would take at a margin.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Forecast {
    /// The margin.
    pub margin: f64,
    /// The rounds, those there were included; none where that is beyond what can be foretold.
    pub rounds: Option<usize>,
}
