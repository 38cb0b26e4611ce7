//! Medians and percentiles.

/// A duration in nanoseconds.
pub type Nanos = f64;

/// The median: the middle value, or the mean of the two in the middle. None of nothing.
pub fn median(values: &[Nanos]) -> Option<Nanos> {
    let mut values = values.to_vec();
    let middle = values.len() / 2;
    if values.is_empty() {
        return None;
    }
    let (_, upper, _) = values.select_nth_unstable_by(middle, Nanos::total_cmp);
    let upper = *upper;
    // An even number of values has a lower middle too, the greatest of those below.
    if values.len().is_multiple_of(2) {
        let lower = values[..middle].iter().copied().max_by(Nanos::total_cmp)?;
        return Some((lower + upper) / 2.0);
    }
    Some(upper)
}

/// The median of values that ascend.
pub(crate) fn median_of_sorted(sorted: &[Nanos]) -> Option<Nanos> {
    let middle = sorted.len() / 2;
    match sorted.len() {
        0 => None,
        odd if odd % 2 == 1 => Some(sorted[middle]),
        _ => Some((sorted[middle - 1] + sorted[middle]) / 2.0),
    }
}

/// How far a value lies from the median in the middle case, as a share of it and scaled so that it is a standard deviation where
/// values are normal (the median absolute deviation). None of nothing.
pub fn spread(values: &[Nanos]) -> Option<f64> {
    let middle = median(values)?;
    let distances: Vec<Nanos> = values.iter().map(|value| (value - middle).abs()).collect();
    Some(1.4826 * median(&distances)? / middle)
}

/// The smallest value that at least the share `of` (0 to 1) of the values do not exceed (nearest rank). None of nothing.
pub fn percentile(values: &[Nanos], of: f64) -> Option<Nanos> {
    let sorted = sorted(values);
    let rank = (of * sorted.len() as f64).ceil().max(1.0) as usize;
    sorted.get(rank.min(sorted.len()).checked_sub(1)?).copied()
}

/// Rounds without percentiles of their own that are enough for one over their means.
const ENOUGH: usize = 20;

/// The 95th percentile of a call: the median over rounds of each round's own, where every round has one (from 20 calls on); else
/// over the rounds' means, where there are 20 or more; else not known.
pub fn p95(rounds: &[Nanos], own: &[Nanos]) -> Option<Nanos> {
    if rounds.is_empty() {
        None
    } else if own.len() == rounds.len() {
        median(own)
    } else if rounds.len() >= ENOUGH {
        percentile(rounds, 0.95)
    } else {
        None
    }
}

fn sorted(values: &[Nanos]) -> Vec<Nanos> {
    let mut sorted = values.to_vec();
    sorted.sort_unstable_by(Nanos::total_cmp);
    sorted
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn medians_and_percentiles_of_few_and_many() {
        assert_eq!((median(&[]), median(&[3.0]), median(&[4.0, 1.0])), (None, Some(3.0), Some(2.5)));
        let hundred: Vec<Nanos> = (1..=100).map(Nanos::from).collect();
        assert_eq!((percentile(&hundred, 0.95), percentile(&hundred, 0.0), percentile(&[], 0.5)), (Some(95.0), Some(1.0), None));
        assert_eq!(p95(&[50.0, 51.0, 49.0], &[95.0, 99.0, 90.0]), Some(95.0));
        assert_eq!(p95(&[50.0, 51.0], &[95.0]), None, "not every round has its own");
        assert_eq!((p95(&[7.0; 19], &[]), p95(&[7.0; 20], &[]), p95(&[], &[])), (None, Some(7.0), None));
    }

    #[test]
    fn the_spread_is_a_share_of_the_median() {
        assert_eq!((spread(&[]), spread(&[5.0])), (None, Some(0.0)));
        assert!((spread(&[90.0, 95.0, 100.0, 105.0, 110.0]).unwrap_or(0.0) - 0.07413).abs() < 1e-9);
    }
}
