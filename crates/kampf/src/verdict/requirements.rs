//! What a contender must meet to be chosen.

use serde::{Deserialize, Serialize};

use crate::document::ContenderPart;
use crate::output::{bytes, count, duration};

/// Upper bounds; those that are not set bound nothing.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Require {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) p95_ns: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) median_ns: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cold_ns: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) memory_bytes: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) statements: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) round_trips: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) rows: Option<u64>,
}

/// One requirement and what a contender has of it.
struct Reading {
    name: &'static str,
    has: Option<f64>,
    limit: f64,
    say: fn(f64) -> String,
}

impl Require {
    pub(crate) fn is_empty(&self) -> bool {
        *self == Require::default()
    }

    fn readings(&self, contender: &ContenderPart) -> Vec<Reading> {
        let whole = |number: Option<u64>| number.map(|number| number as f64);
        let number: fn(f64) -> String = |number| count(number as u64);
        let size: fn(f64) -> String = |number| bytes(number as u64);
        let latency = &contender.latency_ns;
        let all = [
            ("p95", latency.p95, self.p95_ns, duration as fn(f64) -> String),
            ("median", latency.median, self.median_ns, duration),
            ("first call", latency.cold, self.cold_ns, duration),
            ("memory", whole(contender.heap_peak_bytes), whole(self.memory_bytes), size),
            ("statements", whole(contender.statements), whole(self.statements), number),
            ("round trips", whole(contender.round_trips), whole(self.round_trips), number),
            ("rows", whole(contender.rows), whole(self.rows), number),
        ];
        all.into_iter().filter_map(|(name, has, limit, say)| Some(Reading { name, has, limit: limit?, say })).collect()
    }

    /// In words, what a contender misses. What is not known meets nothing.
    pub(crate) fn misses(&self, contender: &ContenderPart) -> Vec<String> {
        let missed = self.readings(contender).into_iter().filter_map(|Reading { name, has, limit, say }| match has {
            None => Some(format!("{name} not known, {} allowed", say(limit))),
            Some(has) if has > limit => Some(format!("{name} {}, {} allowed", say(has), say(limit))),
            Some(_) => None,
        });
        missed.collect()
    }

    /// The contender that comes nearest to each requirement, in words.
    pub(crate) fn nearest(&self, eligible: &[&ContenderPart]) -> Vec<String> {
        let Some(first) = eligible.first() else { return Vec::new() };
        let best = (0..self.readings(first).len()).filter_map(|which| {
            let has = eligible.iter().filter_map(|contender| Some((contender, self.readings(contender)[which].has?)));
            let (contender, value) = has.min_by(|(_, left), (_, right)| left.total_cmp(right))?;
            let Reading { name, limit, say, .. } = self.readings(contender).swap_remove(which);
            Some(format!("{name}: {} with {}, {} allowed", contender.name, say(value), say(limit)))
        });
        best.collect()
    }
}
