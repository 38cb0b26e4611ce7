//! The fields of the document.

use std::collections::BTreeMap;

use kampf_contest::{ByHand, Choices, How};
use kampf_race::Nanos;
use kampf_runner::Machine;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::counts::{CountsPart, RangePart, RequirePart};
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
    /// The other schemas that contenders ran on, by their names.
    pub(crate) variant: BTreeMap<String, VariantPart>,
    pub(crate) engine: EnginePart,
    /// Fingerprint of the dataset it ran on.
    pub(crate) dataset: String,
    /// What makes the race say less than it seems to, in words.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) warnings: Vec<String>,
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

/// The same rows under other indexes, or with other keys.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct VariantPart {
    /// What it has, in words.
    pub(crate) about: String,
    /// The statements that make its indexes.
    pub(crate) statements: Vec<String>,
    /// Bytes of these, and how long they took to make.
    pub(crate) bytes: u64,
    pub(crate) seconds: f64,
    /// How long the plain schema took to load.
    pub(crate) load_seconds: f64,
    /// What the engine does otherwise on it, for one contender that ran on both.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) changes: Vec<ChangePart>,
    /// Its keys, where they are of another type.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) keys: Option<KeysPart>,
}

/// Keys of another type, with what the whole dataset takes with them and with the schema's own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct KeysPart {
    /// The type.
    #[serde(rename = "type")]
    pub(crate) key: String,
    pub(crate) bytes: u64,
    pub(crate) index_bytes: u64,
    pub(crate) seconds: f64,
    pub(crate) own_bytes: u64,
    pub(crate) own_index_bytes: u64,
    pub(crate) own_seconds: f64,
}

/// How a table is read on the plain schema, and on a variant.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct ChangePart {
    pub(crate) before: String,
    pub(crate) after: String,
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
    /// Why the survivors were not all asked once more, where they were not.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) not_confirmed: Option<String>,
    /// How it was known which answer is right.
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
    /// The two that were raced against each other, the earlier first.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) pair: Option<(String, String)>,
    /// The heats after the first one, in their order.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) heats: Vec<HeatPart>,
    /// How many contenders could have entered after the first heat at most; part of how sure everything is.
    #[serde(skip_serializing_if = "is_none_of_them", default)]
    pub(crate) entrants: usize,
    /// Whether who surely is not faster than the leader stopped running.
    #[serde(default)]
    pub(crate) rests: bool,
    /// Whether the application keeps nothing of its rows.
    #[serde(default)]
    pub(crate) keeps_nothing: bool,
    /// Whether an answer may be older than the data.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub(crate) may_be_stale: bool,
    /// Time of the check before.
    #[serde(default)]
    pub(crate) check_seconds: f64,
    /// Time of asking the survivors once more.
    #[serde(default)]
    pub(crate) confirm_seconds: f64,
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

fn is_none_of_them(number: &usize) -> bool {
    *number == 0
}

/// A heat after the first one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct HeatPart {
    /// After how many rounds it began.
    pub(crate) after: usize,
    /// Around whom it was run.
    pub(crate) anchor: String,
    /// Who was to run beside that one; who was open besides went on too.
    pub(crate) members: Vec<String>,
    /// Who of them entered for it; contenders stand in the order in which they entered.
    pub(crate) entered: Vec<String>,
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
    /// Why it is not to be chosen, whatever its time: `floor` or `ruled_out`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) beside: Option<String>,
    /// Whether it keeps nothing of its rows.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub(crate) keeps_nothing: bool,
    /// After how many rounds it was found that it fails or disagrees; all that it ran where that is not said.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) failed_after: Option<usize>,
    /// Nanoseconds of a call, for each round that it ran.
    pub(crate) rounds: Vec<Nanos>,
    /// Which rounds these were, from 1: the first and the last of each stretch. The first ones, where it is not said.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) ran: Vec<(usize, usize)>,
    /// Nanoseconds of the first call on a new connection, for each round that it ran.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) cold_rounds: Vec<Nanos>,
    /// 95th percentile of the calls of a round, for rounds with enough of them.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) p95_rounds: Vec<Nanos>,
    /// Nanoseconds of a call in the check, for one that was outclassed there and did not start.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) in_check_ns: Option<Nanos>,
    pub(crate) latency_ns: LatencyPart,
    /// What it has of what is required.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) required: Vec<RequiredPart>,
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
    /// Of one that keeps answers: what a call takes that finds its answer kept, and one that does not.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) kept: Option<KeptPart>,
    /// How many bytes were held after how many rows of a call.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) held: Vec<(u64, u64)>,
    #[serde(flatten)]
    pub(crate) counts: CountsPart,
    /// Where each count was taken.
    pub(crate) counted: BTreeMap<String, How>,
    /// The least and the most of each count over calls with each parameter set, where they differ.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub(crate) counted_range: BTreeMap<String, RangePart>,
    pub(crate) answer: Option<AnswerPart>,
    pub(crate) by_hand: Option<ByHand>,
}

/// Times of calls where answers are kept, in nanoseconds, and how many answers are.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct KeptPart {
    pub(crate) hit_ns: Nanos,
    pub(crate) miss_ns: Nanos,
    pub(crate) entries: u32,
}

/// All in nanoseconds; none where not known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct LatencyPart {
    pub(crate) median: Option<Nanos>,
    /// What is shown of it: the leader's median times its ratio to the leader within rounds.
    #[serde(default)]
    pub(crate) shown: Option<Nanos>,
    /// Interval of the median at 2.5 % a side, from eight rounds on; before, the fastest and the slowest round.
    pub(crate) low: Option<Nanos>,
    pub(crate) high: Option<Nanos>,
    pub(crate) p95: Option<Nanos>,
    pub(crate) cold: Option<Nanos>,
}

/// What a contender has of something that is required.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct RequiredPart {
    /// A name of `require`.
    pub(crate) name: String,
    pub(crate) has: Option<f64>,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
    pub(crate) limit: f64,
    /// `yes`, `provisional` or `no`.
    pub(crate) keeps: String,
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
    /// Whether nobody who may be chosen can be faster than the leader by more than the margin.
    pub(crate) decided: bool,
    /// How the race ended: a word of [`kampf_verdict::End`].
    #[serde(default)]
    pub(crate) end: String,
    /// Who led at the end.
    pub(crate) leader: Option<String>,
    /// The contender to take; none where the race did not say, or nobody surely meets the requirements.
    pub(crate) choose: Option<String>,
    /// Contenders that surely differ from the leader by less than the margin.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) tied: Vec<String>,
    /// Contenders that surely are not faster than the leader by more than the margin.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) not_faster: Vec<String>,
    /// Contenders that may be faster than the leader.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) alike: Vec<String>,
    /// Whether requirements were given, and surely met by the choice.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) requirements_met: Option<bool>,
    /// Contenders that may meet the requirements; more rounds would tell.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) provisional: Vec<String>,
    /// Where nobody meets them: what comes nearest on each, in words.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) nearest: Vec<String>,
    /// Each choice, over derived contenders that may be chosen.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) by_choice: Vec<ByChoicePart>,
    /// The two that were raced against each other.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) pair: Option<PairPart>,
}

/// What is known of a choice.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct ByChoicePart {
    pub(crate) choice: String,
    /// `decided`, `no_difference`, `known`, `open` or `alone`.
    pub(crate) end: String,
    /// The option of the best derived contender, and its name.
    pub(crate) option: String,
    pub(crate) contender: String,
    pub(crate) others: Vec<OtherOptionPart>,
}

/// What another option of a choice costs, as a ratio of times.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct OtherOptionPart {
    pub(crate) option: String,
    /// The contender that has it and differs from the one that all is told around in nothing else; where there is none, in as little as any.
    pub(crate) contender: String,
    /// Its other options that that one does not have.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) also: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) at_least: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) at_most: Option<f64>,
    /// Where it is open: where the ratio surely lies.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) between: Option<(f64, f64)>,
}

/// Two contenders against each other.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct PairPart {
    pub(crate) old: String,
    pub(crate) new: String,
    /// The later over the earlier within rounds.
    pub(crate) ratio: Option<f64>,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
    /// `slower`, `faster`, `same` or `open`.
    pub(crate) finding: String,
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
    /// What changes: one choice, or several where nobody was raced that has some of the changes alone.
    #[serde(default)]
    pub(crate) changes: Vec<OptionChangePart>,
    /// What the table shows of each.
    pub(crate) before_ns: Nanos,
    pub(crate) after_ns: Nanos,
    /// Time after over time before in the same round.
    pub(crate) ratio: f64,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
}

/// A choice in which two contenders differ.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct OptionChangePart {
    pub(crate) choice: String,
    /// The option before; none where the choice changes nothing there.
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
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
