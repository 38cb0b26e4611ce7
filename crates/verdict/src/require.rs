//! What a contender must meet to be chosen.

use kampf_contest::{Measure, Unit};
use kampf_race::Nanos;

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
            Required::Count(measure) if measure.entry().unit == Unit::Bytes => format!("{}_bytes", self.key()),
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

/// Upper bounds; what is not in it bounds nothing.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Require {
    limits: Vec<(Required, f64)>,
}

impl Require {
    /// Adds a bound, in nanoseconds, bytes or a plain number.
    pub fn set(&mut self, required: Required, limit: f64) {
        self.limits.retain(|(known, _)| *known != required);
        self.limits.push((required, limit));
        self.limits.sort_by_key(|(required, _)| Required::all().position(|known| known == *required));
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

    /// The shortest time that a call may take at most, where times are required: who is within it may be good enough.
    pub fn shortest_time(&self) -> Option<Nanos> {
        [Required::P95, Required::Median].into_iter().filter_map(|required| self.limit(required)).min_by(f64::total_cmp)
    }
}

/// A requirement that a contender misses.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Miss {
    /// The requirement.
    pub required: Required,
    /// What the contender has; none where it is not known, which meets nothing.
    pub has: Option<f64>,
    /// What is allowed.
    pub limit: f64,
}
