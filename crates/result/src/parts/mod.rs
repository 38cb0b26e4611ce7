//! The fields of a document: the whole, its dataset, its contests.

mod conditions;
mod contender;
mod race;
mod verdict;
mod worth;

use std::collections::BTreeMap;

use kampf_verdict::{KeysFacts, VariantFacts};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::counts::RequirePart;
use crate::machine::Machine;

pub use conditions::ConditionsPart;
pub use contender::{AgainstPart, AnswerPart, ContenderPart, KeptPart, LatencyPart, LeftPart, RequiredPart};
pub use race::{ForecastPart, HeatPart, RacePart};
pub use verdict::{ByChoicePart, EffectPart, MatteredPart, OptionChangePart, OtherOptionPart, PairPart, StepPart, VerdictPart};
pub use worth::{FetchWorthPart, IndexWorthPart, KeptWorthPart, KeysWorthPart, WorthPart};

/// The whole document.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Document {
    /// `kampf-result`.
    pub format: String,
    /// The version of the format: 1.
    pub version: u32,
    /// The version of Kampf that made it.
    pub kampf: String,
    /// Where it was measured.
    pub machine: Machine,
    /// What was raced on, of the first engine; the content is the same on all.
    pub dataset: DatasetPart,
    /// The contests, one for each engine and circumstance, in the order in which they were raced.
    pub contests: Vec<ContestPart>,
}

/// A filled dataset.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct DatasetPart {
    /// Follows from all that made it: schema, rules, seed, engine.
    pub fingerprint: String,
    /// Its tables, in the order of the schema.
    pub tables: Vec<TablePart>,
}

/// A table of a dataset.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct TablePart {
    /// Its name.
    pub name: String,
    /// Its rows.
    pub rows: u64,
    /// Bytes that it takes with its indexes.
    pub bytes: u64,
    /// Follows from its content alone.
    pub digest: String,
}

/// A contest as it was raced.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ContestPart {
    /// Its name.
    pub name: String,
    /// What the user says it is about.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub about: Option<String>,
    /// What is asked of contenders: `read`.
    pub kind: String,
    /// The need as the user wrote it, with defaults.
    pub need: Json,
    /// What contenders were given and did not choose.
    pub conditions: ConditionsPart,
    /// The other schemas that contenders ran on, by their names.
    pub variant: BTreeMap<String, VariantPart>,
    /// The engine that it ran on.
    pub engine: EnginePart,
    /// Fingerprint of the dataset it ran on.
    pub dataset: String,
    /// What makes the race say less than it seems to, in words.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub warnings: Vec<String>,
    /// What a contender must meet to be chosen.
    #[serde(default)]
    pub require: RequirePart,
    /// How the race went.
    pub race: RacePart,
    /// Best first.
    pub contenders: Vec<ContenderPart>,
    /// What to choose.
    pub verdict: VerdictPart,
    /// What keeping answers, reading in portions, other indexes and other keys are worth.
    #[serde(skip_serializing_if = "WorthPart::is_empty", default)]
    pub worth: WorthPart,
    /// What the choices did.
    #[serde(default)]
    pub mattered: MatteredPart,
}

/// The same rows under other indexes, or with other keys.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct VariantPart {
    /// What it has, in words.
    pub about: String,
    /// The statements that make its indexes.
    pub statements: Vec<String>,
    /// Bytes of these.
    pub bytes: u64,
    /// How long they took to make, together.
    pub seconds: f64,
    /// How long the plain schema took to load.
    pub load_seconds: f64,
    /// What the engine does otherwise on it, for one contender that ran on both.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub changes: Vec<ChangePart>,
    /// Its keys, where they are of another type.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub keys: Option<KeysPart>,
}

impl VariantPart {
    /// What a verdict needs to know of it.
    pub fn facts(&self) -> VariantFacts {
        let keys = self.keys.as_ref().map(|keys| KeysFacts {
            bytes: keys.bytes,
            seconds: keys.seconds,
            own_bytes: keys.own_bytes,
            own_seconds: keys.own_seconds,
        });
        VariantFacts { seconds: self.seconds, load_seconds: self.load_seconds, keys }
    }
}

/// Keys of another type, with what the whole dataset takes with them and with the schema's own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct KeysPart {
    /// The type.
    #[serde(rename = "type")]
    pub key: String,
    /// Bytes of all tables and indexes.
    pub bytes: u64,
    /// Bytes of the indexes.
    pub index_bytes: u64,
    /// Seconds of a load.
    pub seconds: f64,
    /// Bytes with the schema's own keys.
    pub own_bytes: u64,
    /// Bytes of the indexes with the schema's own keys.
    pub own_index_bytes: u64,
    /// Seconds of a load with the schema's own keys.
    pub own_seconds: f64,
}

/// How a table is read on the plain schema, and on a variant.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ChangePart {
    /// On the plain schema, in words.
    pub before: String,
    /// On the variant, in words.
    pub after: String,
}

/// Rounds that a race can have at most (`--rounds`).
pub const MOST_ROUNDS: usize = 100_000;

/// A database engine.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct EnginePart {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its settings as they really were, by name.
    pub settings: BTreeMap<String, String>,
}
