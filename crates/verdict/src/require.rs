//! What a contender must meet to be chosen.

use kampf_contest::{Measure, Quantity};
use kampf_race::{Interval, LIMIT_LEVEL, Nanos, TimeLimits, median_interval};

use crate::facts::{ContenderFacts, Facts};
use crate::verdict::Placed;

/// Something that can be required.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Required {
    /// The 95th percentile of a call.
    P95,
    /// The median of a call.
    Median,
    /// The first call on a new connection.
    FirstCall,
    /// Something that is counted.
    Count(Measure),
}

impl Required {
    /// All that can be required, in the order in which it is told.
    pub fn all() -> impl Iterator<Item = Required> {
        let counts = [Measure::HeapPeak, Measure::Statements, Measure::RoundTrips, Measure::Rows];
        [Required::P95, Required::Median, Required::FirstCall].into_iter().chain(counts.map(Required::Count))
    }

    /// Its key in `[contest.X.require]`.
    pub fn key(self) -> &'static str {
        match self {
            Required::P95 => "p95",
            Required::Median => "median",
            Required::FirstCall => "cold",
            Required::Count(measure) => measure.entry().required_as.unwrap_or(measure.entry().name),
        }
    }

    /// Its name in documents.
    pub fn name(self) -> String {
        match self {
            Required::Count(measure) if measure.entry().unit == Quantity::Bytes => format!("{}_bytes", self.key()),
            Required::Count(_) => self.key().to_owned(),
            _ => format!("{}_ns", self.key()),
        }
    }

    /// What it is called in sentences.
    pub fn word(self) -> &'static str {
        match self {
            Required::FirstCall => "first call",
            Required::Count(measure) => measure.entry().word,
            _ => self.key(),
        }
    }

    /// Whether it is a time.
    pub fn is_time(self) -> bool {
        !matches!(self, Required::Count(_))
    }
}

/// Upper bounds, what is not in it bounds nothing; and whether answers must be fresh.
#[derive(Clone, Debug, PartialEq)]
pub struct Require {
    limits: Vec<(Required, f64)>,
    /// Whether an answer must be what the database says now, so that one that was kept may not be chosen.
    pub fresh: bool,
}

impl Default for Require {
    fn default() -> Require {
        Require { limits: Vec::new(), fresh: true }
    }
}

impl Require {
    /// Adds a bound, in nanoseconds, bytes or a plain number.
    pub fn set(&mut self, required: Required, limit: f64) {
        self.limits.retain(|(known, _)| *known != required);
        self.limits.push((required, limit));
        self.limits.sort_by_key(|(required, _)| Required::all().position(|known| known == *required));
    }

    /// The same, where answers must be fresh or need not be.
    #[must_use]
    pub fn with_fresh(self, fresh: bool) -> Require {
        Require { fresh, ..self }
    }

    /// The bound on something.
    pub fn limit(&self, required: Required) -> Option<f64> {
        self.limits.iter().find(|(known, _)| *known == required).map(|(_, limit)| *limit)
    }

    /// All bounds.
    pub fn limits(&self) -> impl Iterator<Item = (Required, f64)> + '_ {
        self.limits.iter().copied()
    }

    /// Whether nothing is required.
    pub fn is_empty(&self) -> bool {
        self.limits.is_empty()
    }

    /// The bounds on times.
    pub fn time_limits(&self) -> TimeLimits {
        TimeLimits { p95: self.limit(Required::P95), median: self.limit(Required::Median), first_call: self.limit(Required::FirstCall) }
    }

    /// The shortest time that a call may take at most, where times are required: who is within it may be good enough.
    pub fn shortest_time(&self) -> Option<Nanos> {
        [Required::P95, Required::Median].into_iter().filter_map(|required| self.limit(required)).min_by(f64::total_cmp)
    }
}

/// What a contender has of something that is required.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Reading {
    /// What is required.
    pub required: Required,
    /// What the contender has; none where it is not known.
    pub has: Option<f64>,
    /// Where it surely lies, where it varies and there are rounds enough.
    pub interval: Option<Interval>,
    /// What is allowed.
    pub limit: f64,
    /// Whether that is kept.
    pub keeps: Keeps,
}

/// Whether a limit is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keeps {
    /// Surely.
    Yes,
    /// With these rounds it cannot be told.
    Provisional,
    /// Surely not.
    No,
}

/// Who comes nearest to a requirement that nobody meets.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Nearest {
    /// The requirement.
    pub required: Required,
    /// The contender.
    pub contender: usize,
    /// What it has.
    pub has: f64,
    /// What is allowed.
    pub limit: f64,
}

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
