//! The fields of the document.

use std::collections::BTreeMap;

use kampf_contest::{ByHand, Choices, How};
use kampf_race::Nanos;
use kampf_runner::Machine;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::counts::{CountsPart, RequirePart};
use crate::conditions::Conditions;

/// The whole document.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Document {
    pub(crate) format: String,
    pub(crate) version: u32,
    pub(crate) kampf: String,
    pub(crate) machine: Machine,
    pub(crate) dataset: DatasetPart,
    pub(crate) contests: Vec<ContestPart>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct DatasetPart {
    pub(crate) fingerprint: String,
    pub(crate) tables: Vec<TablePart>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct TablePart {
    pub(crate) name: String,
    pub(crate) rows: u64,
    pub(crate) bytes: u64,
    pub(crate) digest: String,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct ContestPart {
    pub(crate) name: String,
    /// What the user says it is about.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) about: Option<String>,
    pub(crate) kind: String,
    pub(crate) need: Json,
    pub(crate) conditions: Conditions,
    pub(crate) variant: BTreeMap<String, Json>,
    pub(crate) engine: EnginePart,
    /// Fingerprint of the dataset it ran on.
    pub(crate) dataset: String,
    /// What a contender must meet to be chosen.
    #[serde(default)]
    pub(crate) require: RequirePart,
    pub(crate) race: RacePart,
    /// Best first.
    pub(crate) contenders: Vec<ContenderPart>,
    pub(crate) verdict: VerdictPart,
    #[serde(default)]
    pub(crate) mattered: MatteredPart,
}

/// Rounds that a race can have at most (`--rounds`).
pub(crate) const MOST_ROUNDS: usize = 100_000;

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct EnginePart {
    pub(crate) name: String,
    pub(crate) version: String,
    pub(crate) settings: BTreeMap<String, String>,
}

/// How the race went as a whole.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct RacePart {
    /// Rounds that were finished.
    pub(crate) rounds: usize,
    /// Time of all rounds, and what of it lies inside measured spans.
    pub(crate) seconds: f64,
    pub(crate) measured_seconds: f64,
    pub(crate) interrupted: bool,
    /// Who gave the answer that all were compared with.
    pub(crate) reference: String,
    /// A difference below this share is none.
    pub(crate) margin: f64,
    /// The chance of a wrong word.
    pub(crate) alpha: f64,
    /// At most so many rounds, and so much time for them.
    pub(crate) most_rounds: usize,
    pub(crate) time_seconds: f64,
    /// Whether nobody was to be dropped.
    pub(crate) exact: bool,
    /// Contenders whose calls took no longer were kept, as they may be good enough.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) keep_below_ns: Option<Nanos>,
    /// Seed of the order within rounds and of drawn parameters.
    pub(crate) seed: u64,
    /// Seconds of a round of those that were in the race at its end.
    pub(crate) round_seconds: f64,
    /// How one run varies, as a share.
    pub(crate) noise: Option<f64>,
    /// Rounds that a decision would take in all, by margin; from the rounds there were, where it was not decided.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) forecast: Vec<ForecastPart>,
    /// Nanoseconds of the reference loop before each round and after the last.
    pub(crate) reference_loop_ns: Vec<Nanos>,
    /// Percent of the time in which some task waited for a processor.
    pub(crate) cpu_pressure: Option<f64>,
}

#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct ForecastPart {
    pub(crate) margin: f64,
    pub(crate) rounds: usize,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct ContenderPart {
    pub(crate) name: String,
    pub(crate) choices: Option<Choices>,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) sql: Vec<String>,
    /// A word of [`kampf_verdict::Outcome`].
    pub(crate) outcome: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) reason: Option<String>,
    /// Nanoseconds of a call, per round from the first on.
    pub(crate) rounds: Vec<Nanos>,
    /// 95th percentile of the calls of a round, for rounds with enough of them.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) p95_rounds: Vec<Nanos>,
    /// Nanoseconds of a call in the check, for one that was outclassed there and did not start.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) in_check_ns: Option<Nanos>,
    pub(crate) latency_ns: LatencyPart,
    /// How it compares with the leader.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) against: Option<AgainstPart>,
    /// When and why it left the race.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) left: Option<LeftPart>,
    /// Whether nobody beats it on latency, memory and statements at once.
    #[serde(default)]
    pub(crate) trade_off: bool,
    pub(crate) cpu_ns: Option<Nanos>,
    #[serde(flatten)]
    pub(crate) counts: CountsPart,
    /// Where each count was taken.
    pub(crate) counted: BTreeMap<String, How>,
    pub(crate) answer: Option<AnswerPart>,
    pub(crate) by_hand: Option<ByHand>,
}

/// All in nanoseconds; none where not known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct LatencyPart {
    pub(crate) median: Option<Nanos>,
    /// Interval of the median at 2.5 % a side, from eight rounds on; before, the fastest and the slowest round.
    pub(crate) low: Option<Nanos>,
    pub(crate) high: Option<Nanos>,
    pub(crate) p95: Option<Nanos>,
    pub(crate) cold: Option<Nanos>,
}

/// A contender's time over the leader's in the same round.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct AgainstPart {
    pub(crate) leader: String,
    /// Rounds that both ran.
    pub(crate) rounds: usize,
    /// The median.
    pub(crate) ratio: f64,
    /// Its interval that the decision rests on; none with too few rounds.
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
    /// Whether the halves of the race contradict each other.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub(crate) still_moving: bool,
}

/// A contender that left the race before its end.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct LeftPart {
    /// After this round; 0 for the check.
    pub(crate) round: usize,
    pub(crate) leader: String,
    /// For one that was outclassed: its fastest run over the leader's slowest.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) times: Option<f64>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct AnswerPart {
    pub(crate) rows: u64,
    pub(crate) digest: String,
}

/// What to choose.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct VerdictPart {
    /// Whether the race told everybody else from the leader, as slower or as tied.
    pub(crate) decided: bool,
    /// Who led at the end.
    pub(crate) leader: Option<String>,
    /// The contender to choose; none where the race did not decide, or nobody meets the requirements.
    pub(crate) choose: Option<String>,
    /// The most comfortable contender that costs hardly more, where there is one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) comfortable: Option<String>,
    /// Contenders that surely differ from the leader by less than the margin.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) tied: Vec<String>,
    /// Contenders that cannot be told from the leader.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) alike: Vec<String>,
    /// Whether requirements were given, and met by the choice.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) requirements_met: Option<bool>,
    /// Where nobody meets them: what comes nearest on each, in words.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) nearest: Vec<String>,
}

/// What the choices did.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct MatteredPart {
    /// From the most naive contender to the chosen one, a choice at a time.
    pub(crate) ladder: Vec<StepPart>,
    /// Each choice by itself, over all pairs that differ in it alone.
    pub(crate) effects: Vec<EffectPart>,
}

/// A step of the ladder.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct StepPart {
    pub(crate) from: String,
    pub(crate) to: String,
    /// The choice that differs, and its options.
    pub(crate) choice: String,
    pub(crate) before: String,
    pub(crate) after: String,
    /// Medians over the rounds that both ran; those of the check for one that did not start.
    pub(crate) before_ns: Nanos,
    pub(crate) after_ns: Nanos,
    /// Time after over time before in the same round.
    pub(crate) ratio: f64,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
}

/// What one option of a choice costs against another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct EffectPart {
    pub(crate) choice: String,
    pub(crate) before: String,
    pub(crate) after: String,
    /// Pairs of contenders that differ in this alone.
    pub(crate) pairs: usize,
    /// Geometric mean over the pairs of time after over time before, with its interval.
    pub(crate) ratio: f64,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
    /// The least and the largest ratio of a pair.
    pub(crate) least: f64,
    pub(crate) most: f64,
}
