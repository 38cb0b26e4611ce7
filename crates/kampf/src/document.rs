//! The result document, version 1. docs/file-reference.md says what every field means.

use std::collections::BTreeMap;

use kampf_contest::{ByHand, Choices};
use kampf_protocol::Counts;
use kampf_runner::Machine;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

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
    pub(crate) kind: String,
    pub(crate) need: Json,
    pub(crate) conditions: BTreeMap<String, Json>,
    pub(crate) variant: BTreeMap<String, Json>,
    pub(crate) engine: EnginePart,
    /// Fingerprint of the dataset it ran on.
    pub(crate) dataset: String,
    pub(crate) race: RacePart,
    pub(crate) contenders: Vec<ContenderPart>,
    pub(crate) verdict: VerdictPart,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct EnginePart {
    pub(crate) name: String,
    pub(crate) version: String,
    pub(crate) settings: BTreeMap<String, String>,
}

/// How the race went as a whole.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct RacePart {
    pub(crate) rounds: usize,
    pub(crate) seconds: f64,
    pub(crate) measured_seconds: f64,
    pub(crate) interrupted: bool,
    pub(crate) reference: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Outcome {
    Standing,
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
    /// Nanoseconds of a call, per round.
    pub(crate) rounds: Vec<f64>,
    pub(crate) latency_ns: Latency,
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
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Latency {
    pub(crate) median: Option<f64>,
    pub(crate) low: Option<f64>,
    pub(crate) high: Option<f64>,
    pub(crate) p95: Option<f64>,
    pub(crate) cold: Option<f64>,
    /// Median ratio to the leader in the same round.
    pub(crate) behind: Option<f64>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct AnswerPart {
    pub(crate) rows: u64,
    pub(crate) digest: String,
}

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct VerdictPart {
    /// The contender to choose.
    pub(crate) choose: Option<String>,
    /// The most comfortable contender that costs hardly more, where there is one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) comfortable: Option<String>,
    /// Contenders that cannot be told from the fastest.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub(crate) alike: Vec<String>,
    /// Whether requirements were given, and met by the choice.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) requirements_met: Option<bool>,
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
