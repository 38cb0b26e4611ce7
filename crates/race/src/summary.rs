//! Medians and percentiles.

/// A duration in nanoseconds.
pub type Nanos = f64;

/// The median: the middle value, or the mean of the two in the middle. None of nothing.
pub fn median(values: &[Nanos]) -> Option<Nanos> {
    let sorted = sorted(values);
    let middle = sorted.len() / 2;
    match sorted.len() {
        0 => None,
        odd if odd % 2 == 1 => Some(sorted[middle]),
        _ => Some((sorted[middle - 1] + sorted[middle]) / 2.0),
    }
}

/// The smallest value that at least the share `of` (0 to 1) of the values do not exceed (nearest rank). None of nothing.
pub fn percentile(values: &[Nanos], of: f64) -> Option<Nanos> {
    let sorted = sorted(values);
    let rank = (of * sorted.len() as f64).ceil().max(1.0) as usize;
    sorted.get(rank.min(sorted.len()).checked_sub(1)?).copied()
}

/// Calls that a run must have for a 95th percentile of its own.
const ENOUGH: usize = 20;

/// The 95th percentile of a call: the median over rounds of each run's own, where every run has 20 calls or more; else over
/// the runs' means, where there are 20 rounds or more; else not known.
pub fn p95(rounds: &[Vec<Nanos>]) -> Option<Nanos> {
    if rounds.is_empty() {
        return None;
    }
    if rounds.iter().all(|calls| calls.len() >= ENOUGH) {
        let own: Vec<Nanos> = rounds.iter().filter_map(|calls| percentile(calls, 0.95)).collect();
        return median(&own);
    }
    if rounds.len() < ENOUGH {
        return None;
    }
    let means: Vec<Nanos> =
        rounds.iter().filter(|calls| !calls.is_empty()).map(|calls| calls.iter().sum::<Nanos>() / calls.len() as Nanos).collect();
    percentile(&means, 0.95)
}

fn sorted(values: &[Nanos]) -> Vec<Nanos> {
    let mut sorted = values.to_vec();
    sorted.sort_by(Nanos::total_cmp);
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
        assert_eq!(p95(&[hundred.clone(), hundred.clone()]), Some(95.0));
        assert_eq!(p95(&vec![vec![7.0]; 19]), None);
        assert_eq!(p95(&vec![vec![7.0]; 20]), Some(7.0));
        assert_eq!(p95(&[]), None);
    }
}
