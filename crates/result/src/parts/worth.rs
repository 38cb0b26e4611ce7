//! The fields of what keeping answers, reading in portions, other indexes and other keys are worth.

use kampf_race::Nanos;
use serde::{Deserialize, Serialize};

/// What of these was raced, and what came of it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct WorthPart {
    /// Of each contender that keeps answers, best first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub kept: Vec<KeptWorthPart>,
    /// Of reading in portions.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fetch: Option<FetchWorthPart>,
    /// Of each variant with other indexes, that on which the best is fastest first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub indexes: Vec<IndexWorthPart>,
    /// Of each variant with other keys, the fastest first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<KeysWorthPart>,
}

impl WorthPart {
    /// Whether none of these was raced.
    pub fn is_empty(&self) -> bool {
        *self == WorthPart::default()
    }
}

/// What it is worth that a contender keeps answers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct KeptWorthPart {
    /// The contender.
    pub contender: String,
    /// Nanoseconds of a call at the share of hits that was given.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub mixed_ns: Option<Nanos>,
    /// The best of those that keep nothing and may be chosen.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub best: Option<String>,
    /// From which share of hits on it is faster than that one, 0 to 1; none where it never is, or there is nobody to compare with.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub wins_from: Option<f64>,
    /// About how many bytes all answers hold that it keeps.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bytes: Option<u64>,
    /// Nanoseconds of a miss that are waiting for the server, which a hit spares.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub spared_ns: Option<Nanos>,
}

/// The ways of fetching that were raced with everything else the same.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FetchWorthPart {
    /// The contenders, that which reads whole first.
    pub contenders: Vec<String>,
    /// Rows that were read, or are the answer where that is more.
    pub rows: u64,
    /// Bytes that a row of the answer holds where it is read whole.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub row_bytes: Option<f64>,
    /// Where memory is required, how many rows of an answer that is read whole fit.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub fitting_rows: Option<u64>,
}

/// What a variant with other indexes is worth.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct IndexWorthPart {
    /// Its name.
    pub variant: String,
    /// The best on the plain schema.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub plain: Option<String>,
    /// The best on the variant.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub best: Option<String>,
    /// How these compare: `nobody`, `open`, `same` or `differs`.
    pub finding: String,
    /// What making its indexes adds to the load of the plain schema, as a share.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub load_share: Option<f64>,
}

/// What keys of a type cost against the schema's own, as ratios.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct KeysWorthPart {
    /// The variant's name.
    pub variant: String,
    /// The contender that has them.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub contender: Option<String>,
    /// The contender with the schema's own keys that it differs from in nothing else.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub own: Option<String>,
    /// Of times of a call.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub time: Option<f64>,
    /// Of bytes on disk.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bytes: Option<f64>,
    /// Of seconds of a load; none where the load with the schema's own is too short to say anything.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub load: Option<f64>,
}
