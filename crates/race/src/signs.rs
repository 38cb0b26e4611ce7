//! Medians of paired differences with intervals that stay valid under peeking.

use crate::evidence::Critical;
use crate::summary::{median, median_of_sorted};

/// An interval for a median.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Interval {
    /// Its lower end.
    pub low: f64,
    /// Its upper end.
    pub high: f64,
}

impl Interval {
    /// Whether all of it lies between minus and plus `bound`.
    pub(crate) fn is_within(self, bound: f64) -> bool {
        self.low > -bound && self.high < bound
    }

    /// The interval of the exponentials.
    pub fn exp(self) -> Interval {
        Interval { low: self.low.exp(), high: self.high.exp() }
    }
}

/// Differences of one contender to another, round by round, in logarithms.
#[derive(Clone, Debug)]
pub(crate) struct Differences {
    /// In the order of rounds.
    values: Vec<f64>,
    sorted: Vec<f64>,
    pub(crate) median: f64,
    /// How alike neighbouring rounds are: the mean product of the signs of their distances from the median.
    pub(crate) likeness: f64,
}

impl Differences {
    /// Of values that follow each other. None of nothing.
    pub(crate) fn new(values: Vec<f64>) -> Option<Differences> {
        let rounds = (0..values.len()).collect::<Vec<_>>();
        Differences::in_rounds(&rounds, values)
    }

    /// Of one contender to another, by the logarithms of each round; a round that one of them did not run has no number. None
    /// where they have no round in common.
    pub(crate) fn between(one: &[f64], base: &[f64]) -> Option<Differences> {
        let (mut rounds, mut values) = (Vec::with_capacity(one.len()), Vec::with_capacity(one.len()));
        for (round, difference) in one.iter().zip(base).map(|(one, base)| one - base).enumerate() {
            if !difference.is_nan() {
                rounds.push(round);
                values.push(difference);
            }
        }
        Differences::in_rounds(&rounds, values)
    }

    fn in_rounds(rounds: &[usize], values: Vec<f64>) -> Option<Differences> {
        let mut sorted = values.clone();
        sorted.sort_unstable_by(f64::total_cmp);
        let middle = median_of_sorted(&sorted)?;
        let sign = |value: f64| if value > middle { 1.0 } else { f64::from(i8::from(value == middle) - 1) };
        let neighbours = rounds.windows(2).zip(values.windows(2)).filter(|(rounds, _)| rounds[1] == rounds[0] + 1);
        let (pairs, sum) = neighbours.fold((0, 0.0), |(pairs, sum), (_, pair)| (pairs + 1, sum + sign(pair[0]) * sign(pair[1])));
        Some(Differences { values, sorted, median: middle, likeness: sum / f64::from(pairs.max(1)) })
    }

    pub(crate) fn rounds(&self) -> usize {
        self.values.len()
    }

    /// In how many rounds it was slower.
    pub(crate) fn slower(&self) -> usize {
        self.sorted.len() - self.sorted.partition_point(|value| *value <= 0.0)
    }

    /// The interval for the median, where there are enough rounds for the level.
    pub(crate) fn interval(&self, critical: &Critical, likeness: f64) -> Option<Interval> {
        let need = need(critical, self.rounds(), likeness)?;
        Some(Interval { low: self.sorted[self.rounds() - need], high: self.sorted[need - 1] })
    }

    /// The value that a share of the rounds does not exceed.
    pub(crate) fn quantile(&self, share: f64) -> f64 {
        let rank = (share * self.rounds() as f64).ceil().max(1.0) as usize;
        self.sorted[rank.min(self.rounds()) - 1]
    }

    /// How far one round lies from the median, robustly: as a standard deviation where the noise is normal.
    pub(crate) fn spread(&self) -> f64 {
        let distances: Vec<f64> = self.values.iter().map(|value| (value - self.median).abs()).collect();
        1.4826 * median(&distances).unwrap_or(0.0)
    }

    /// Whether the first and the second half of the rounds contradict each other.
    pub(crate) fn is_moving(&self, critical: &Critical) -> bool {
        let (first, second) = self.values.split_at(self.rounds() / 2);
        let interval = |half: &[f64]| Differences::new(half.to_vec())?.interval(critical, 0.0);
        match (interval(first), interval(second)) {
            (Some(first), Some(second)) => first.high < second.low || second.high < first.low,
            _ => false,
        }
    }
}

/// Of so many rounds, how many must go one way. Neighbouring rounds that are alike count for less: `n (1-r)/(1+r)` instead of n.
pub(crate) fn need(critical: &Critical, rounds: usize, likeness: f64) -> Option<usize> {
    let worth = worth(rounds, likeness);
    let count = critical.count(worth)?;
    Some((rounds * count).div_ceil(worth))
}

/// How many independent rounds so many are worth.
pub(crate) fn worth(rounds: usize, likeness: f64) -> usize {
    if likeness <= 0.0 { rounds } else { (rounds as f64 * (1.0 - likeness) / (1.0 + likeness)).floor() as usize }
}

/// A median with an interval that holds at a level a side however often it was looked at; none for the interval where there are
/// too few values.
pub fn median_interval(values: &[f64], level: f64) -> Option<(f64, Option<Interval>)> {
    median_interval_by(values, &Critical::new(level, values.len()))
}

/// As [`median_interval`], by counts that were made before.
pub(crate) fn median_interval_by(values: &[f64], counts: &Critical) -> Option<(f64, Option<Interval>)> {
    let differences = Differences::new(values.to_vec())?;
    Some((differences.median, differences.interval(counts, differences.likeness_beyond_chance())))
}

/// What one way of doing costs against another over the rounds that both ran.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Paired {
    /// Rounds that both ran.
    pub rounds: usize,
    /// Median of the ratio in a round.
    pub ratio: f64,
    /// Its interval; none where there are too few rounds.
    pub interval: Option<Interval>,
}

/// Compares two contenders over the rounds that both ran, with an interval at a level a side. Values are by round; one that was not
/// run has no number.
pub fn paired(one: &[f64], base: &[f64], level: f64) -> Option<Paired> {
    let logs = |values: &[f64]| values.iter().map(|value| value.ln()).collect::<Vec<f64>>();
    let differences = Differences::between(&logs(one), &logs(base))?;
    let critical = Critical::new(level, differences.rounds());
    let interval = differences.interval(&critical, differences.likeness_beyond_chance());
    Some(Paired { rounds: differences.rounds(), ratio: differences.median.exp(), interval: interval.map(Interval::exp) })
}

impl Differences {
    /// Likeness of neighbours as far as it counts for a comparison that stands alone.
    pub(crate) fn likeness_beyond_chance(&self) -> f64 {
        (self.likeness + 1.0 / self.rounds() as f64).clamp(0.0, 0.999)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn differences(values: &[f64]) -> Differences {
        Differences::new(values.to_vec()).unwrap()
    }

    #[test]
    fn the_interval_is_made_of_order_statistics() {
        let values: Vec<f64> = (1..=20).map(f64::from).collect();
        let critical = Critical::new(0.05, 20);
        let count = critical.count(20).unwrap();
        let interval = differences(&values).interval(&critical, 0.0).unwrap();
        assert_eq!((interval.low, interval.high), ((20 - count + 1) as f64, count as f64));
        assert_eq!(differences(&values[..5]).interval(&critical, 0.0), None);
        assert!(Differences::new(Vec::new()).is_none());
    }

    #[test]
    fn rounds_that_are_alike_are_worth_less() {
        assert_eq!((worth(90, 0.0), worth(90, 0.5), worth(90, -0.3)), (90, 30, 90));
        let critical = Critical::new(0.01, 400);
        let (alone, alike) = (need(&critical, 90, 0.0).unwrap(), need(&critical, 90, 0.5).unwrap());
        assert_eq!(alike, (90 * critical.count(30).unwrap()).div_ceil(30));
        assert!(alone < alike, "{alone} {alike}");
        assert_eq!(need(&critical, 12, 0.8), None);
        let slow: Vec<f64> = (0..40).map(|at| if at < 20 { 1.0 } else { 2.0 }).collect();
        assert!(differences(&slow).likeness > 0.9);
        let fast: Vec<f64> = (0..40).map(|at| f64::from(at % 2)).collect();
        assert!(differences(&fast).likeness < -0.9);
    }

    #[test]
    fn a_drift_between_the_halves_is_seen() {
        let critical = Critical::new(0.025, 40);
        let drifting: Vec<f64> = (0..40).map(|at| f64::from(at) * 0.01).collect();
        assert!(differences(&drifting).is_moving(&critical));
        let steady: Vec<f64> = (0..40).map(|at| f64::from(at * 7 % 11) * 0.01).collect();
        assert!(!differences(&steady).is_moving(&critical));
    }

    #[test]
    fn pairs_are_compared_over_the_rounds_that_both_ran() {
        let base: Vec<f64> = (0..30).map(|at| 100.0 + f64::from(at * 7 % 5)).collect();
        let one: Vec<f64> = base.iter().map(|value| value * 1.25).collect();
        let found = paired(&one[..12], &base, 0.05).unwrap();
        assert_eq!(found.rounds, 12);
        assert!((found.ratio - 1.25).abs() < 1e-12);
        assert!(found.interval.is_some_and(|interval| interval.low > 1.24 && interval.high < 1.26));
        assert_eq!(paired(&one[..3], &base, 0.05).unwrap().interval, None);
        assert_eq!(paired(&[], &base, 0.05), None);
    }
}
