//! What contenders are given and do not choose.

use kampf_race::Nanos;
use serde::{Deserialize, Serialize};

use crate::output::{duration, percent};

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
    /// How long the relay really held a trip on average, while the contest was checked and raced: longer on a busy machine.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) trip_held_ns: Option<u64>,
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

    /// What tells circumstances apart, by which parts of results are joined; what is measured of them anew each time is no part of it.
    pub(crate) fn key(&self) -> String {
        let Conditions { hit_rate, transaction, round_trip_ns, round_trip_by, relay_adds_ns: _, trip_held_ns: _, pinned_to_core } = self;
        let mut key = String::new();
        let mut add = |name: &str, value: Option<String>| {
            if let Some(value) = value {
                key.push_str(&format!("{}{name}={value}", if key.is_empty() { "" } else { ";" }));
            }
        };
        add("hit_rate", hit_rate.map(|rate| rate.to_string()));
        add("round_trip_ns", round_trip_ns.map(|nanos| nanos.to_string()));
        add("round_trip_by", round_trip_by.map(|by| format!("{by:?}").to_lowercase()));
        // On which core is the machine's matter.
        add("pinned", pinned_to_core.map(|_| true.to_string()));
        add("transaction", transaction.then(|| true.to_string()));
        key
    }

    /// The same for people; empty where nothing is out of the ordinary.
    pub(crate) fn label(&self) -> String {
        let trip = self.round_trip().map(|trip| format!("each trip {} longer", duration(trip)));
        let rate = self.hit_rate.map(|rate| format!("{} of calls from what is kept", percent(rate)));
        let pinned = self.pinned_to_core.map(|_| "kept on one core".to_owned());
        let transaction = self.transaction.then(|| "each call in a transaction".to_owned());
        [trip, rate, pinned, transaction].into_iter().flatten().collect::<Vec<_>>().join(", ")
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn circumstances_are_told_apart_by_all_that_is_given_and_by_nothing_that_is_measured() {
        let plain = Conditions::default();
        let rate = |rate| Conditions { hit_rate: Some(rate), ..Conditions::default() };
        let trip = |by, adds| Conditions {
            round_trip_ns: Some(5_000_000),
            round_trip_by: Some(by),
            relay_adds_ns: Some(adds),
            ..Conditions::default()
        };
        let pinned = |core| Conditions { pinned_to_core: Some(core), ..Conditions::default() };
        let all = [plain.clone(), rate(0.5), rate(0.99), trip(TripBy::Relay, 1), trip(TripBy::Simulated, 1), pinned(1)];
        for (at, one) in all.iter().enumerate() {
            assert!(all.iter().enumerate().all(|(other, two)| (at == other) == (one.key() == two.key())), "{one:?}");
        }
        assert_eq!((trip(TripBy::Relay, 1).key(), pinned(1).key()), (trip(TripBy::Relay, 9).key(), pinned(3).key()));
        assert_eq!((plain.label(), plain.key()), (String::new(), String::new()));
        assert_eq!(rate(0.5).label(), "50 % of calls from what is kept");
        assert_eq!(trip(TripBy::Relay, 1).label(), "each trip 5.00 ms longer");
    }
}
