//! What contenders are given and do not choose.

use kampf_race::Nanos;
use serde::{Deserialize, Serialize};

use crate::numbers::{duration, percent};

/// What contenders of a contest were given and did not choose. Parts of results belong together by its [key](Circumstance::key).
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Circumstance {
    /// The name of the engine.
    pub engine: String,
    /// How much longer each trip to the server took.
    pub trip: Option<LongerTrip>,
    /// The share of calls that are answered from what is kept, where anybody keeps answers.
    pub hit_rate: Option<f64>,
    /// Whether contenders were kept on one core of the processor, with the server where it is Kampf's own.
    pub is_pinned: bool,
    /// Of results of earlier versions: whether each call was wrapped in a transaction.
    pub in_transaction: bool,
}

/// A trip to the server that takes longer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LongerTrip {
    /// Nanoseconds by which it does.
    pub ns: u64,
    /// By what.
    pub by: TripBy,
}

/// What makes trips longer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TripBy {
    /// A relay between contender and server.
    Relay,
    /// Waiting, where the engine has no trips.
    Simulated,
}

impl TripBy {
    fn word(self) -> &'static str {
        match self {
            TripBy::Relay => "relay",
            TripBy::Simulated => "simulated",
        }
    }
}

/// What was found of a circumstance when it was arranged. It is another time each time, and tells nothing apart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Arranged {
    /// Nanoseconds that the relay itself adds to a trip beyond what was wanted.
    pub relay_adds_ns: Option<u64>,
    /// Nanoseconds for which the relay really held a trip on average, while the contest was checked and raced: longer on a busy machine.
    pub trip_held_ns: Option<u64>,
    /// The core of the processor that contenders were kept on.
    pub core: Option<u64>,
    /// Where contenders write, whether a commit waited until it was on the disk.
    pub durable: Option<bool>,
    /// Nanoseconds that a commit of one changed row takes here, as it is set.
    pub commit_ns: Option<u64>,
}

impl Circumstance {
    /// How much longer each trip took, where that was asked for.
    pub fn round_trip(&self) -> Option<Nanos> {
        self.trip.map(|trip| trip.ns as Nanos)
    }

    /// What tells circumstances apart, for programs: `engine=sqlite;hit_rate=0.9`.
    pub fn key(&self) -> String {
        let given = self.given();
        format!("engine={}{}{given}", self.engine, if given.is_empty() { "" } else { ";" })
    }

    /// The same without the engine; empty where nothing is out of the ordinary.
    pub fn given(&self) -> String {
        let words = self.words().into_iter().filter_map(|(name, value)| Some(format!("{name}={}", value?)));
        words.collect::<Vec<_>>().join(";")
    }

    /// What is given, by name; none where nothing is out of the ordinary.
    fn words(&self) -> [(&'static str, Option<String>); 5] {
        let Circumstance { engine: _, trip, hit_rate, is_pinned, in_transaction } = self;
        [
            ("hit_rate", hit_rate.map(|rate| rate.to_string())),
            ("round_trip_ns", trip.map(|trip| trip.ns.to_string())),
            ("round_trip_by", trip.map(|trip| trip.by.word().to_owned())),
            ("pinned", is_pinned.then(|| true.to_string())),
            ("transaction", in_transaction.then(|| true.to_string())),
        ]
    }

    /// What is given, for people and without the engine; empty where nothing is out of the ordinary.
    pub fn label(&self) -> String {
        let trip = self.round_trip().map(|trip| format!("each trip {} longer", duration(trip)));
        let rate = self.hit_rate.map(|rate| format!("{} of calls from what is kept", percent(rate)));
        let pinned = self.is_pinned.then(|| "kept on one core".to_owned());
        let transaction = self.in_transaction.then(|| "each call in a transaction".to_owned());
        [trip, rate, pinned, transaction].into_iter().flatten().collect::<Vec<_>>().join(", ")
    }

    /// The head of a column beside others: what is not the same in all of them.
    pub fn label_among(&self, others: &[&Circumstance]) -> String {
        let differs = |is_other: &dyn Fn(&Circumstance) -> bool| others.iter().any(|other| is_other(other));
        let mut words = Vec::new();
        let engines = differs(&|other| other.engine != self.engine);
        let rates = differs(&|other| other.hit_rate != self.hit_rate);
        if engines {
            words.push(self.engine.clone());
        }
        match self.round_trip() {
            Some(trip) => words.push(format!("+{} a trip", duration(trip))),
            None if engines || (rates && !differs(&|other| other.trip != self.trip)) => {}
            None => words.push("no added trip time".to_owned()),
        }
        words.extend(self.hit_rate.filter(|_| rates).map(|rate| format!("{} hits", percent(rate))));
        words.join(" ")
    }

    /// Names of what differs from another one, the engine apart.
    pub fn differing(&self, other: &Circumstance) -> Vec<&'static str> {
        let both = self.words().into_iter().zip(other.words());
        both.filter(|(own, other)| own != other).map(|((name, _), _)| name).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn on(engine: &str) -> Circumstance {
        Circumstance { engine: engine.to_owned(), ..Circumstance::default() }
    }

    fn rate(rate: f64) -> Circumstance {
        Circumstance { hit_rate: Some(rate), ..on("sqlite") }
    }

    fn trip(by: TripBy) -> Circumstance {
        Circumstance { trip: Some(LongerTrip { ns: 5_000_000, by }), ..on("sqlite") }
    }

    #[test]
    fn circumstances_are_told_apart_by_all_that_is_given() {
        let pinned = Circumstance { is_pinned: true, ..on("sqlite") };
        let all = [on("sqlite"), on("postgres"), rate(0.5), rate(0.99), trip(TripBy::Relay), trip(TripBy::Simulated), pinned];
        for (at, one) in all.iter().enumerate() {
            assert!(all.iter().enumerate().all(|(other, two)| (at == other) == (one.key() == two.key())), "{one:?}");
        }
        assert_eq!(trip(TripBy::Relay).key(), "engine=sqlite;round_trip_ns=5000000;round_trip_by=relay");
        assert_eq!(
            (on("sqlite").key(), on("sqlite").given(), on("sqlite").label()),
            ("engine=sqlite".to_owned(), String::new(), String::new())
        );
        assert_eq!(rate(0.5).label(), "50 % of calls from what is kept");
        assert_eq!(trip(TripBy::Relay).label(), "each trip 5.00 ms longer");
        assert_eq!(trip(TripBy::Relay).differing(&rate(0.5)), ["hit_rate", "round_trip_ns", "round_trip_by"]);
    }

    #[test]
    fn a_column_is_headed_by_what_is_not_the_same_in_all() {
        let heads = |all: &[Circumstance]| {
            let others: Vec<&Circumstance> = all.iter().collect();
            all.iter().map(|one| one.label_among(&others)).collect::<Vec<_>>()
        };
        assert_eq!(heads(&[on("sqlite"), trip(TripBy::Simulated)]), ["no added trip time", "+5.00 ms a trip"]);
        assert_eq!(heads(&[on("sqlite"), on("postgres")]), ["sqlite", "postgres"]);
        assert_eq!(heads(&[on("postgres"), trip(TripBy::Simulated)]), ["postgres", "sqlite +5.00 ms a trip"]);
        assert_eq!(heads(&[rate(0.5), rate(0.99)]), ["50 % hits", "99 % hits"]);
        let both = Circumstance { hit_rate: Some(0.5), ..trip(TripBy::Simulated) };
        assert_eq!(
            heads(&[both, rate(0.5), rate(0.99)]),
            ["+5.00 ms a trip 50 % hits", "no added trip time 50 % hits", "no added trip time 99 % hits"]
        );
    }
}
