//! Upper bounds on times, and whether it is known who keeps them.

use crate::evidence::Critical;
use crate::signs::median_interval_by;
use crate::summary::Nanos;

/// Upper bounds on times; none bounds nothing.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct TimeLimits {
    /// On the 95th percentile of a call.
    pub p95: Option<Nanos>,
    /// On the median of a call.
    pub median: Option<Nanos>,
    /// On the first call on a new connection.
    pub first_call: Option<Nanos>,
}

/// Level a side of the intervals that limits are judged by.
pub const LIMIT_LEVEL: f64 = 0.025;

impl TimeLimits {
    /// Whether it is open if a contender keeps them, by its rounds so far: their values, the 95th percentiles within them, and their
    /// first calls. One that surely misses any of them is not open. A round of few calls has no percentile of its own, and more
    /// rounds give it none. The counts are those of [`LIMIT_LEVEL`] for at least so many rounds.
    pub fn are_open(&self, counts: &Critical, rounds: &[Nanos], p95: &[Nanos], first_calls: &[Nanos]) -> bool {
        let p95 = if p95.len() == rounds.len() { p95 } else { &[] };
        let known = [(self.p95, p95), (self.median, rounds), (self.first_call, first_calls)];
        let sides = known.into_iter().filter_map(|(limit, values)| Some((limit?, median_interval_by(values, counts)?.1)));
        let sides: Vec<_> = sides.collect();
        let misses = sides.iter().any(|(limit, sure)| sure.is_some_and(|sure| sure.low > *limit));
        !misses && sides.iter().any(|(limit, sure)| sure.is_none_or(|sure| sure.low <= *limit && *limit < sure.high))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_is_open_until_what_was_measured_lies_on_one_side_of_it() {
        let counts = Critical::new(LIMIT_LEVEL, 20);
        let rounds = |centre: f64, many: i32| (0..many).map(|at| centre * (1.0 + 0.02 * f64::from(at * 7 % 11 - 5))).collect::<Vec<f64>>();
        let open = |limit: f64, many: i32| {
            TimeLimits { p95: Some(limit), ..TimeLimits::default() }.are_open(&counts, &rounds(50.0, many), &rounds(100.0, many), &[])
        };
        assert!(open(150.0, 3), "too few rounds");
        assert!(!open(150.0, 20) && !open(50.0, 20) && open(100.0, 20));
        // Nothing is open of what is not asked for, or has no percentile.
        assert!(!TimeLimits::default().are_open(&counts, &rounds(50.0, 3), &[], &[]));
        assert!(!TimeLimits { p95: Some(1.0), ..TimeLimits::default() }.are_open(&counts, &rounds(50.0, 3), &[], &[]));
        // Who misses one for sure needs no more rounds for another.
        let both = TimeLimits { p95: Some(50.0), first_call: Some(100.0), ..TimeLimits::default() };
        assert!(!both.are_open(&counts, &rounds(50.0, 20), &rounds(100.0, 20), &rounds(100.0, 20)));
    }
}
