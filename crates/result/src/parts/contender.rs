//! The fields of a contender.

use std::collections::BTreeMap;

use kampf_contest::{ByHand, Choices, How};
use kampf_race::Nanos;
use kampf_verdict::KeptFacts;
use serde::{Deserialize, Serialize};

use crate::counts::{CountsPart, RangePart};

/// A contender.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ContenderPart {
    /// Its name.
    pub name: String,
    /// The options of a derived contender; none for SQL and programs of the user's.
    pub choices: Option<Choices>,
    /// Its statements, as far as they do not follow from values that are only known later.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub sql: Vec<String>,
    /// A word of [`kampf_verdict::Outcome`].
    pub outcome: String,
    /// Why it was not run, or not to the end, or is not to be chosen.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub reason: Option<String>,
    /// Why it is not to be chosen, whatever its time: `floor` or `ruled_out`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub beside: Option<String>,
    /// Whether it keeps nothing of its rows.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub keeps_nothing: bool,
    /// After how many rounds it was found that it fails or disagrees; all that it ran where that is not said.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub failed_after: Option<usize>,
    /// Nanoseconds of a call, for each round that it ran.
    pub rounds: Vec<Nanos>,
    /// Which rounds these were, from 1: the first and the last of each stretch. The first ones, where it is not said.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub ran: Vec<(usize, usize)>,
    /// Nanoseconds of the first call on a new connection, for each round that it ran.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub cold_rounds: Vec<Nanos>,
    /// 95th percentile of the calls of a round, for rounds with enough of them.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub p95_rounds: Vec<Nanos>,
    /// Nanoseconds of a call in the check, for one that was outclassed there and did not start.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub in_check_ns: Option<Nanos>,
    /// What a call takes.
    pub latency_ns: LatencyPart,
    /// What it has of what is required.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub required: Vec<RequiredPart>,
    /// How it compares with the leader.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub against: Option<AgainstPart>,
    /// When and why it left the race.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub left: Option<LeftPart>,
    /// Whether nobody beats it on latency, memory and statements at once.
    #[serde(default)]
    pub trade_off: bool,
    /// Processor nanoseconds of a call.
    pub cpu_ns: Option<Nanos>,
    /// Of one that keeps answers: what a call takes that finds its answer kept, and one that does not.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub kept: Option<KeptPart>,
    /// How many bytes were held after how many rows of a call.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub held: Vec<(u64, u64)>,
    /// What was counted over a call.
    #[serde(flatten)]
    pub counts: CountsPart,
    /// Where each count was taken.
    pub counted: BTreeMap<String, How>,
    /// The least and the most of each count over calls with each parameter set, where they differ.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub counted_range: BTreeMap<String, RangePart>,
    /// Its answer to the first parameter set; none where it did not agree.
    pub answer: Option<AnswerPart>,
    /// What it leaves to the developer; none for programs.
    pub by_hand: Option<ByHand>,
}

/// Times of calls where answers are kept, in nanoseconds, and how many answers are.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct KeptPart {
    /// What a call takes that finds its answer kept.
    pub hit_ns: Nanos,
    /// What a call takes that does not.
    pub miss_ns: Nanos,
    /// How many answers are kept.
    pub entries: u32,
}

impl KeptPart {
    pub(crate) fn of(kept: &KeptFacts) -> KeptPart {
        KeptPart { hit_ns: kept.hit, miss_ns: kept.miss, entries: kept.entries }
    }

    pub(crate) fn facts(&self) -> KeptFacts {
        KeptFacts { hit: self.hit_ns, miss: self.miss_ns, entries: self.entries }
    }
}

/// All in nanoseconds; none where not known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct LatencyPart {
    /// The median over rounds.
    pub median: Option<Nanos>,
    /// What is shown of it: the leader's median times its ratio to the leader within rounds.
    #[serde(default)]
    pub shown: Option<Nanos>,
    /// The lower end of the median's interval at 2.5 % a side, from eight rounds on; before, the fastest round.
    pub low: Option<Nanos>,
    /// The upper end; before, the slowest round.
    pub high: Option<Nanos>,
    /// The 95th percentile of calls.
    pub p95: Option<Nanos>,
    /// The first call on a new connection.
    pub cold: Option<Nanos>,
}

/// What a contender has of something that is required.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RequiredPart {
    /// A name of `require`.
    pub name: String,
    /// Its value; none where that is not known.
    pub has: Option<f64>,
    /// The lower end of its interval.
    pub low: Option<f64>,
    /// The upper end of its interval.
    pub high: Option<f64>,
    /// What it may be at most.
    pub limit: f64,
    /// `yes`, `provisional` or `no`.
    pub keeps: String,
}

/// A contender's time over the leader's in the same round.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AgainstPart {
    /// The leader.
    pub leader: String,
    /// Rounds that both ran.
    pub rounds: usize,
    /// The median.
    pub ratio: f64,
    /// The lower end of the interval that the decision rests on; none with too few rounds.
    pub low: Option<f64>,
    /// The upper end of that.
    pub high: Option<f64>,
    /// Whether the halves of the race contradict each other.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub still_moving: bool,
}

/// A contender that left the race before its end.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LeftPart {
    /// After this round; 0 for the check.
    pub round: usize,
    /// Who led then; empty where nobody did.
    pub leader: String,
    /// For one that was outclassed: its fastest run over the leader's slowest.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub times: Option<f64>,
}

/// An answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AnswerPart {
    /// Its rows.
    pub rows: u64,
    /// Follows from its content: without an order of the need, whatever the order of its rows.
    pub digest: String,
}
