//! The result document, version 1. docs/file-reference.md says what every field means.

use std::collections::BTreeMap;

use kampf_contest::{ByHand, Choices};
use kampf_protocol::Counts;
use kampf_runner::Machine;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::verdict::Require;

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
    pub(crate) conditions: BTreeMap<String, Json>,
    pub(crate) variant: BTreeMap<String, Json>,
    pub(crate) engine: EnginePart,
    /// Fingerprint of the dataset it ran on.
    pub(crate) dataset: String,
    /// What a contender must meet to be chosen.
    #[serde(default)]
    pub(crate) require: Require,
    pub(crate) race: RacePart,
    /// Best first.
    pub(crate) contenders: Vec<ContenderPart>,
    pub(crate) verdict: VerdictPart,
    #[serde(default)]
    pub(crate) mattered: Mattered,
}

/// Rounds that a race can have at most (`--rounds`).
pub(crate) const MOST_ROUNDS: usize = 100_000;

impl ContestPart {
    /// What in it cannot be: it was not written by a race, and working with it could take for ever.
    pub(crate) fn contradiction(&self) -> Option<String> {
        let ContestPart { name, race, contenders, .. } = self;
        let is_share = |value: f64| value > 0.0 && value <= 1.0;
        let times =
            |contender: &ContenderPart| contender.rounds.iter().chain(&contender.p95_rounds).all(|time| time.is_finite() && *time > 0.0);
        if race.rounds > MOST_ROUNDS || race.most_rounds > MOST_ROUNDS {
            return Some(format!("`{name}` says it had {} of {} rounds", race.rounds, race.most_rounds));
        }
        if !is_share(race.margin) || !is_share(race.alpha) {
            return Some(format!("`{name}` has a margin of {} and an alpha of {}", race.margin, race.alpha));
        }
        let odd = contenders.iter().find(|contender| contender.rounds.len() > race.rounds || !times(contender))?;
        Some(format!("the rounds of `{}` in `{name}` cannot be right", odd.name))
    }
}

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
    pub(crate) keep_below_ns: Option<f64>,
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
    pub(crate) reference_loop_ns: Vec<f64>,
    /// Percent of the time in which some task waited for a processor.
    pub(crate) cpu_pressure: Option<f64>,
}

#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct ForecastPart {
    pub(crate) margin: f64,
    pub(crate) rounds: usize,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Outcome {
    Standing,
    Tied,
    Slower,
    Outclassed,
    Unresolved,
    RuledOut,
    Disagrees,
    Failed,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct ContenderPart {
    pub(crate) name: String,
    pub(crate) choices: Option<Choices>,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) sql: Vec<String>,
    pub(crate) outcome: Outcome,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) reason: Option<String>,
    /// Nanoseconds of a call, per round from the first on.
    pub(crate) rounds: Vec<f64>,
    /// 95th percentile of the calls of a round, for rounds with enough of them.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) p95_rounds: Vec<f64>,
    /// Nanoseconds of a call in the check, for one that was outclassed there and did not start.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) in_check_ns: Option<f64>,
    pub(crate) latency_ns: Latency,
    /// How it compares with the leader.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) against: Option<Against>,
    /// When and why it left the race.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) left: Option<Left>,
    /// Whether nobody beats it on latency, memory and statements at once.
    #[serde(default)]
    pub(crate) trade_off: bool,
    pub(crate) cpu_ns: Option<f64>,
    pub(crate) statements: Option<u64>,
    pub(crate) round_trips: Option<u64>,
    pub(crate) rows: Option<u64>,
    pub(crate) bytes: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) wire_bytes: Option<u64>,
    pub(crate) objects: Option<u64>,
    pub(crate) heap_peak_bytes: Option<u64>,
    pub(crate) allocations: Option<u64>,
    pub(crate) engine_bytes: Option<u64>,
    /// Where each count was taken: inside, wire, reported, resident or modelled.
    pub(crate) counted: BTreeMap<String, String>,
    pub(crate) answer: Option<AnswerPart>,
    pub(crate) by_hand: Option<ByHand>,
}

/// All in nanoseconds; none where not known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Latency {
    pub(crate) median: Option<f64>,
    /// Interval of the median at 2.5 % a side, from eight rounds on; before, the fastest and the slowest round.
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
    pub(crate) p95: Option<f64>,
    pub(crate) cold: Option<f64>,
}

/// A contender's time over the leader's in the same round.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Against {
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
pub(crate) struct Left {
    /// After this round; 0 for the check.
    pub(crate) round: usize,
    pub(crate) leader: String,
    /// For one that was outclassed: its fastest run over the leader's slowest.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) times: Option<f64>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
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
pub(crate) struct Mattered {
    /// From the most naive contender to the chosen one, a choice at a time.
    pub(crate) ladder: Vec<Step>,
    /// Each choice by itself, over all pairs that differ in it alone.
    pub(crate) effects: Vec<Effect>,
}

/// A step of the ladder.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Step {
    pub(crate) from: String,
    pub(crate) to: String,
    /// The choice that differs, and its options.
    pub(crate) choice: String,
    pub(crate) before: String,
    pub(crate) after: String,
    /// Medians over the rounds that both ran; those of the check for one that did not start.
    pub(crate) before_ns: f64,
    pub(crate) after_ns: f64,
    /// Time after over time before in the same round.
    pub(crate) ratio: f64,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
}

/// What one option of a choice costs against another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Effect {
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

impl ContenderPart {
    pub(crate) fn take_counts(&mut self, counts: &Counts, is_program: bool, trips_are_modelled: bool) {
        self.statements = counts.statements;
        self.round_trips = counts.round_trips;
        self.rows = counts.rows;
        self.bytes = counts.bytes;
        self.wire_bytes = counts.wire_bytes;
        self.objects = counts.objects;
        self.heap_peak_bytes = counts.heap_peak_bytes;
        self.allocations = counts.allocations;
        self.engine_bytes = counts.engine_bytes;
        let inside = if is_program { "reported" } else { "inside" };
        let mut note = |name: &str, known: bool, how: &str| {
            if known {
                self.counted.insert(name.to_owned(), how.to_owned());
            }
        };
        let wire = if counts.wire_bytes.is_some() && !is_program { "wire" } else { inside };
        note("statements", counts.statements.is_some(), wire);
        note("round_trips", counts.round_trips.is_some(), if trips_are_modelled && !is_program { "modelled" } else { wire });
        note("wire_bytes", counts.wire_bytes.is_some(), wire);
        note("rows", counts.rows.is_some(), inside);
        note("bytes", counts.bytes.is_some(), inside);
        note("objects", counts.objects.is_some(), inside);
        note("allocations", counts.allocations.is_some(), inside);
        let memory = if is_program && counts.allocations.is_none() { "resident" } else { inside };
        note("heap_peak_bytes", counts.heap_peak_bytes.is_some(), memory);
    }
}

#[cfg(test)]
pub(crate) mod samples {
    //! Parts made up by hand.

    use super::*;

    /// A contender with rounds, of whom little else is known.
    pub(crate) fn contender(name: &str, rounds: Vec<f64>) -> ContenderPart {
        ContenderPart {
            name: name.to_owned(),
            choices: None,
            sql: Vec::new(),
            outcome: Outcome::Unresolved,
            reason: None,
            rounds,
            p95_rounds: Vec::new(),
            in_check_ns: None,
            latency_ns: Latency::default(),
            against: None,
            left: None,
            trade_off: false,
            cpu_ns: None,
            statements: Some(1),
            round_trips: Some(1),
            rows: None,
            bytes: None,
            wire_bytes: None,
            objects: None,
            heap_peak_bytes: Some(1000),
            allocations: None,
            engine_bytes: None,
            counted: BTreeMap::new(),
            answer: Some(AnswerPart { rows: 10, digest: "d".to_owned() }),
            by_hand: Some(ByHand { statements: 0, columns: 0, characters: 0 }),
        }
    }

    /// A contest of contenders, not yet decided.
    pub(crate) fn contest(contenders: Vec<ContenderPart>) -> ContestPart {
        ContestPart {
            name: "calmest".to_owned(),
            about: None,
            kind: "read".to_owned(),
            need: Json::Null,
            conditions: BTreeMap::new(),
            variant: BTreeMap::new(),
            engine: EnginePart { name: "sqlite".to_owned(), version: "1".to_owned(), settings: BTreeMap::new() },
            dataset: "f".to_owned(),
            require: Require::default(),
            race: RacePart {
                rounds: contenders.iter().map(|contender| contender.rounds.len()).max().unwrap_or(0),
                seconds: 2.0,
                measured_seconds: 1.0,
                reference: "us".to_owned(),
                margin: 0.02,
                alpha: 0.05,
                most_rounds: 400,
                time_seconds: 30.0,
                round_seconds: 0.1,
                ..RacePart::default()
            },
            contenders,
            verdict: VerdictPart::default(),
            mattered: Mattered::default(),
        }
    }
}
