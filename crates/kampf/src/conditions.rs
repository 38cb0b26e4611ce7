//! What contenders are given and do not choose.

use kampf_race::Nanos;
use serde::{Deserialize, Serialize};

/// What contenders of a contest were given.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Conditions {
    /// The share of calls that are answered from what is kept, where anybody keeps answers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) hit_rate: Option<f64>,
    /// Of results of earlier versions: whether each call was wrapped in a transaction.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) transaction: bool,
    /// How much longer each trip to the server took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) round_trip_ns: Option<u64>,
    /// By what.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) round_trip_by: Option<TripBy>,
    /// What the relay itself adds beyond that. It is measured anew each time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) relay_adds_ns: Option<u64>,
    /// The core of the processor that contenders were kept on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) pinned_to_core: Option<u64>,
}

/// What makes trips longer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum TripBy {
    /// A relay between contender and server.
    Relay,
    /// Waiting, where the engine has no trips.
    Simulated,
}

impl Conditions {
    /// How much longer each trip took, where that was asked for.
    pub(crate) fn round_trip(&self) -> Option<Nanos> {
        self.round_trip_ns.map(|nanos| nanos as Nanos)
    }

    /// Names of what differs from other conditions.
    pub(crate) fn differing(&self, other: &Conditions) -> Vec<&'static str> {
        let differs = [
            ("hit_rate", self.hit_rate != other.hit_rate),
            ("pinned_to_core", self.pinned_to_core != other.pinned_to_core),
            ("round_trip_by", self.round_trip_by != other.round_trip_by),
            ("round_trip_ns", self.round_trip_ns != other.round_trip_ns),
            ("transaction", self.transaction != other.transaction),
        ];
        differs.into_iter().filter(|(_, differs)| *differs).map(|(name, _)| name).collect()
    }
}
