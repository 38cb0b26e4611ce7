//! What follows from the facts, as values.

use kampf_contest::{Choice, Opt};
use kampf_race::Nanos;

use crate::by_choice::ByChoice;
use crate::placed::{Forecast, Placed, Ratio};
use crate::require::Nearest;
use crate::worth::Worth;

/// What follows from a race. Contenders are known by their places in the facts.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Verdict {
    /// How the race ended.
    pub end: End,
    /// How each contender stands, by its place.
    pub placed: Vec<Placed>,
    /// The places, by how far they are behind; those that failed last.
    pub order: Vec<usize>,
    /// Who led at the end.
    pub leader: Option<usize>,
    /// The one that all ratios are to: the leader, or the fastest where that misses what is required and so does not lead.
    pub fastest: Option<usize>,
    /// The contender to take; none where the race does not say, or nobody meets the requirements for sure.
    pub choose: Option<usize>,
    /// Whether requirements were given, and what came of them.
    pub requirements: Option<Requirements>,
    /// Around whom all is told of choices: the anchor of the last heat, or of one heat the one to take, and else the best that is derived.
    pub around: Option<usize>,
    /// Whether all that ran beside the anchor of the last heat are told from it, and nobody takes its place.
    pub is_told_around: bool,
    /// Each choice, over derived contenders that may be chosen.
    pub by_choice: Vec<ByChoice>,
    /// From the most naive contender to the one to take, each time by the choice that gains most of those left.
    pub ladder: Vec<Step>,
    /// Each choice by itself, over all pairs that differ in it alone.
    pub effects: Vec<Effect>,
    /// How one run varies, as a share.
    pub noise: Option<f64>,
    /// Rounds in all that a decision would take, by margin; empty where there is nothing to decide.
    pub forecasts: Vec<Forecast>,
    /// The two that were raced against each other.
    pub pair: Option<Pair>,
    /// What keeping answers, reading in portions, other indexes and other keys are worth.
    pub worth: Worth,
}

/// How a race ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum End {
    /// Nothing could be raced.
    #[default]
    Nothing,
    /// Only one could.
    Alone,
    /// Nobody who may be chosen can be faster than the leader by more than the margin.
    Decided,
    /// Somebody may be faster by more than the margin, and nobody by more than a tenth, or all that ran beside the anchor of the last heat are told from
    /// it: one can be taken all the same.
    Enough,
    /// Somebody may be faster by more than a tenth.
    Open,
}

impl End {
    /// All of them.
    pub const ALL: [End; 5] = [End::Nothing, End::Alone, End::Decided, End::Enough, End::Open];

    /// Its word in documents.
    pub fn word(self) -> &'static str {
        match self {
            End::Nothing => "nothing",
            End::Alone => "alone",
            End::Decided => "decided",
            End::Enough => "enough",
            End::Open => "open",
        }
    }
}

/// What came of the requirements.
#[derive(Clone, Debug, PartialEq)]
pub enum Requirements {
    /// The contender to take meets them.
    Met {
        /// Who meets them too, with less to do, for all that is known so far.
        easier: Vec<usize>,
    },
    /// Nobody meets them for sure, and these may.
    Provisional {
        /// The one with the least to do first.
        contenders: Vec<usize>,
    },
    /// Nobody meets them.
    Missed {
        /// What comes nearest on each.
        nearest: Vec<Nearest>,
    },
}

/// A step of the ladder.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// From which contender.
    pub from: usize,
    /// To which.
    pub to: usize,
    /// What changes: one choice, or several where nobody was raced that has some of the changes alone.
    pub changes: Vec<OptionChange>,
    /// Time before, as it is shown everywhere.
    pub before_ns: Nanos,
    /// Time after, as it is shown everywhere.
    pub after_ns: Nanos,
    /// The one over the other, with an interval from the rounds that both ran.
    pub ratio: Ratio,
}

/// A choice in which two contenders differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OptionChange {
    /// The choice.
    pub choice: Choice,
    /// The option before; none where the choice changes nothing there.
    pub before: Option<Opt>,
    /// The option after.
    pub after: Option<Opt>,
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

/// Two contenders against each other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Pair {
    /// The earlier.
    pub old: usize,
    /// The later.
    pub new: usize,
    /// The later over the earlier; none where they have no round in common.
    pub ratio: Option<Ratio>,
    /// What that says.
    pub finding: PairFinding,
}

/// What a race of two says of the later one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PairFinding {
    /// It surely is slower, by more than the margin.
    Slower,
    /// It surely is faster, by more than the margin.
    Faster,
    /// It surely differs by less than the margin.
    Same,
    /// The rounds do not say.
    Open,
}

impl PairFinding {
    /// Its word in documents.
    pub fn word(self) -> &'static str {
        match self {
            PairFinding::Slower => "slower",
            PairFinding::Faster => "faster",
            PairFinding::Same => "same",
            PairFinding::Open => "open",
        }
    }
}
