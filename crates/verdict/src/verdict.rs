//! What follows from the facts, as values.

use kampf_contest::Opt;
use kampf_race::{Interval, Nanos};

use crate::require::{Miss, Required};

/// What follows from a race. Contenders are known by their places in the facts.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Verdict {
    /// How each contender stands, by its place.
    pub placed: Vec<Placed>,
    /// The places, best first.
    pub order: Vec<usize>,
    /// Whether the race told everybody else from the leader, as slower or as tied.
    pub decided: bool,
    /// Who led at the end.
    pub leader: Option<usize>,
    /// The contender to choose; none where the race did not decide, or nobody meets the requirements.
    pub choose: Option<usize>,
    /// The most comfortable contender that costs hardly more, where there is one.
    pub comfortable: Option<usize>,
    /// Whether requirements were given, and met by the choice.
    pub requirements_met: Option<bool>,
    /// Where nobody meets them: what comes nearest on each.
    pub nearest: Vec<Nearest>,
    /// From the most naive contender to the chosen one, a choice at a time.
    pub ladder: Vec<Step>,
    /// Each choice by itself, over all pairs that differ in it alone.
    pub effects: Vec<Effect>,
    /// How one run varies, as a share.
    pub noise: Option<f64>,
    /// Rounds in all that a decision would take, by margin; empty where it was decided.
    pub forecasts: Vec<Forecast>,
}

/// How a contender stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It leads.
    Standing,
    /// It surely differs from the leader by less than the margin.
    Tied,
    /// It is slower than the leader, beyond chance and by more than the margin.
    Slower,
    /// It was so far behind that it was not run to the end.
    Outclassed,
    /// It cannot be told from the leader with the rounds there were.
    Unresolved,
    /// It misses what is required.
    RuledOut,
    /// Its answer differs.
    Disagrees,
    /// It could not be run to the end.
    Failed,
}

impl Outcome {
    /// All of them.
    pub const ALL: [Outcome; 8] = [
        Outcome::Standing,
        Outcome::Tied,
        Outcome::Slower,
        Outcome::Outclassed,
        Outcome::Unresolved,
        Outcome::RuledOut,
        Outcome::Disagrees,
        Outcome::Failed,
    ];

    /// Its word in documents.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Standing => "standing",
            Outcome::Tied => "tied",
            Outcome::Slower => "slower",
            Outcome::Outclassed => "outclassed",
            Outcome::Unresolved => "unresolved",
            Outcome::RuledOut => "ruled_out",
            Outcome::Disagrees => "disagrees",
            Outcome::Failed => "failed",
        }
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
    /// Median of a call; that of the check for one that did not start.
    pub median: Option<Nanos>,
    /// Interval of the median at 2.5 % a side, from eight rounds on; before, the fastest and the slowest round.
    pub range: Option<(Nanos, Nanos)>,
    /// 95th percentile of a call, where it is known.
    pub p95: Option<Nanos>,
    /// How it compares with the leader.
    pub against: Option<Against>,
    /// When and why it left the race.
    pub left: Option<Left>,
    /// Whether nobody beats it on latency, memory and statements at once.
    pub trade_off: bool,
    /// What it misses of what is required.
    pub misses: Vec<Miss>,
}

/// One time over another, within rounds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ratio {
    /// The median.
    pub ratio: f64,
    /// Its interval; none with too few rounds.
    pub interval: Option<Interval>,
}

/// A contender's time over the leader's in the same round.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Against {
    /// The leader.
    pub leader: usize,
    /// Rounds that both ran.
    pub rounds: usize,
    /// The ratio, with the interval that the decision rests on.
    pub ratio: Ratio,
    /// Whether the halves of the race contradict each other.
    pub still_moving: bool,
}

/// A contender that left the race before its end.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Left {
    /// After this round; 0 for the check.
    pub round: usize,
    /// Who led then.
    pub leader: Option<usize>,
    /// For one that was outclassed in rounds: its fastest run over the leader's slowest.
    pub times: Option<f64>,
}

/// Who comes nearest to a requirement that nobody meets.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Nearest {
    /// The requirement.
    pub required: Required,
    /// The contender.
    pub contender: usize,
    /// What it has.
    pub has: f64,
    /// What is allowed.
    pub limit: f64,
}

/// A step of the ladder.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Step {
    /// From which contender.
    pub from: usize,
    /// To which.
    pub to: usize,
    /// The option before.
    pub before: Opt,
    /// The option of the same choice after.
    pub after: Opt,
    /// Time before.
    pub before_ns: Nanos,
    /// Time after.
    pub after_ns: Nanos,
    /// Time after over time before.
    pub ratio: Ratio,
}

/// What one option of a choice costs against another.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Effect {
    /// The option before.
    pub before: Opt,
    /// The option of the same choice after.
    pub after: Opt,
    /// Pairs of contenders that differ in this alone.
    pub pairs: usize,
    /// Geometric mean over the pairs of time after over time before.
    pub ratio: Ratio,
    /// The least ratio of a pair.
    pub least: f64,
    /// The largest.
    pub most: f64,
}

/// Rounds in all that a decision would take at a margin.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Forecast {
    /// The margin.
    pub margin: f64,
    /// The rounds, those there were included.
    pub rounds: usize,
}
