//! `[conditions]` and `[cache]`.

use super::form::{OneOrMore, table};
use super::numbers::{Many, Share, Time};

table! {
    /// What all contenders are given.
    ConditionsTable {
        /// The share of calls that find their answer kept, "90 %"; a list is a race for each.
        "hit_rate" hit_rates: OneOrMore<Share>,
        /// How much longer a trip to the server takes, "0.5ms"; a list is a race for each.
        "round_trip" round_trips: OneOrMore<Time>,
        /// Keep contenders and a throwaway server on one core.
        "pin" pin: bool,
        /// Where contenders write: whether a commit waits until it is on the disk, as it does where nothing is said.
        "durable" durable: bool,
    }
}

table! {
    /// Answers that are kept.
    CacheTable {
        /// Answers that a contender keeps at most.
        "entries" entries: Many,
    }
}
