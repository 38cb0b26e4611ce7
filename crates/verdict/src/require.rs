//! What a contender must meet to be chosen.

use kampf_contest::{Measure, Quantity};
use kampf_race::{Interval, Nanos, TimeLimits};

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
