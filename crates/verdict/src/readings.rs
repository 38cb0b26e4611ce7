//! What a contender has of what is required.

use kampf_race::{Interval, LIMIT_LEVEL, Nanos, median_interval};

use crate::facts::{ContenderFacts, Facts};
use crate::placed::Placed;
use crate::require::{Keeps, Reading, Required};

/// What a contender has of everything that is required.
pub(crate) fn readings(facts: &Facts, at: usize, placed: &Placed) -> Vec<Reading> {
    facts.require.limits().map(|(required, limit)| reading(&facts.contenders[at], placed, required, limit)).collect()
}

fn reading(one: &ContenderFacts, placed: &Placed, required: Required, limit: f64) -> Reading {
    let Required::Count(measure) = required else { return time_reading(one, placed, required, limit) };
    let has = one.measured.get(measure).map(|count| count as f64);
    // What cannot be counted meets nothing, however many rounds there are.
    let keeps = if has.is_some_and(|has| has <= limit) { Keeps::Yes } else { Keeps::No };
    Reading { required, has, interval: None, limit, keeps }
}

/// So many times a limit in every round is a miss, however few rounds there are.
const FAR: f64 = 2.0;

fn time_reading(one: &ContenderFacts, placed: &Placed, required: Required, limit: f64) -> Reading {
    let median = || placed.range.filter(|_| one.rounds.len() >= 8).map(|(low, high)| Interval { low, high });
    let over = |values: &[Nanos]| median_interval(values, LIMIT_LEVEL).and_then(|(_, interval)| interval);
    let (has, interval) = match required {
        Required::P95 => (placed.p95, over(&one.p95_rounds).filter(|_| one.p95_rounds.len() == one.rounds.len())),
        Required::FirstCall => (one.cold, over(&one.cold_rounds)),
        _ => (placed.median, median()),
    };
    // A call that takes too long in every round, or in the check, needs no interval; what comes once a round must be far beyond.
    let least = |values: &[Nanos]| values.iter().copied().chain(one.in_check).min_by(f64::total_cmp);
    let is_far_beyond = match required {
        Required::FirstCall => least(&one.cold_rounds).is_some_and(|least| least > FAR * limit),
        Required::P95 => {
            least(&one.rounds).is_some_and(|least| least > limit) || least(&one.p95_rounds).is_some_and(|least| least > FAR * limit)
        }
        _ => least(&one.rounds).is_some_and(|least| least > limit),
    };
    let keeps = match interval {
        Some(sure) if sure.high <= limit => Keeps::Yes,
        Some(sure) if sure.low > limit => Keeps::No,
        _ if is_far_beyond => Keeps::No,
        _ => Keeps::Provisional,
    };
    Reading { required, has, interval, limit, keeps }
}
