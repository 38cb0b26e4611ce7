//! The fields of a circumstance.

use serde::{Deserialize, Serialize};

use crate::circumstance::{Arranged, Circumstance, LongerTrip, TripBy};

/// What contenders of a contest were given and did not choose, without the engine.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ConditionsPart {
    /// The share of calls that are answered from what is kept, where anybody keeps answers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hit_rate: Option<f64>,
    /// Of results of earlier versions: whether each call was wrapped in a transaction.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub transaction: bool,
    /// How much longer each trip to the server took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub round_trip_ns: Option<u64>,
    /// By what.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub round_trip_by: Option<TripBy>,
    /// What the relay itself adds beyond that. It is measured anew each time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub relay_adds_ns: Option<u64>,
    /// How long the relay really held a trip on average, while the contest was checked and raced.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trip_held_ns: Option<u64>,
    /// The core of the processor that contenders were kept on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pinned_to_core: Option<u64>,
    /// Where contenders write, whether a commit waited until it was on the disk.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub durable: Option<bool>,
    /// What a commit of one changed row takes here, as it is set, in nanoseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub commit_ns: Option<u64>,
}

impl ConditionsPart {
    pub(crate) fn of(given: &Circumstance, arranged: &Arranged) -> ConditionsPart {
        ConditionsPart {
            hit_rate: given.hit_rate,
            transaction: given.in_transaction,
            round_trip_ns: given.trip.map(|trip| trip.ns),
            round_trip_by: given.trip.map(|trip| trip.by),
            relay_adds_ns: arranged.relay_adds_ns,
            trip_held_ns: arranged.trip_held_ns,
            pinned_to_core: arranged.core,
            durable: arranged.durable,
            commit_ns: arranged.commit_ns,
        }
    }

    /// The circumstance on an engine, and what was found of it.
    pub fn told(&self, engine: &str) -> (Circumstance, Arranged) {
        // A relay alone measures what it adds.
        let usual = if self.relay_adds_ns.is_some() { TripBy::Relay } else { TripBy::Simulated };
        let given = Circumstance {
            engine: engine.to_owned(),
            trip: self.round_trip_ns.map(|ns| LongerTrip { ns, by: self.round_trip_by.unwrap_or(usual) }),
            hit_rate: self.hit_rate,
            is_pinned: self.pinned_to_core.is_some(),
            in_transaction: self.transaction,
        };
        let arranged = Arranged {
            relay_adds_ns: self.relay_adds_ns,
            trip_held_ns: self.trip_held_ns,
            core: self.pinned_to_core,
            durable: self.durable,
            commit_ns: self.commit_ns,
        };
        (given, arranged)
    }
}
