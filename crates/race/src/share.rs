//! A share of trials with its uncertainty.

use statrs::function::beta::inv_beta_reg;

use crate::signs::Interval;

/// Between which true shares `hits` of `trials` is to be expected, but for a chance of `alpha` (Clopper and Pearson 1934). From 0
/// to 1 for no trials.
pub fn share_interval(hits: u64, trials: u64, alpha: f64) -> Interval {
    let (hits, misses) = (hits as f64, trials.saturating_sub(hits) as f64);
    let low = if hits == 0.0 { 0.0 } else { inv_beta_reg(hits, misses + 1.0, alpha / 2.0) };
    let high = if misses == 0.0 { 1.0 } else { inv_beta_reg(hits + 1.0, misses, 1.0 - alpha / 2.0) };
    Interval { low, high }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_the_interval_of_clopper_and_pearson() {
        // No hit: 1 - (alpha/2)^(1/n).
        for trials in [1, 5, 20, 300] {
            let found = share_interval(0, trials, 0.05);
            assert!((found.high - (1.0 - 0.025f64.powf(1.0 / trials as f64))).abs() < 1e-9, "{trials}: {found:?}");
            assert_eq!(found.low, 0.0);
        }
        // 2 of 10, as tables have it.
        let found = share_interval(2, 10, 0.05);
        assert!((found.low - 0.025211).abs() < 1e-5 && (found.high - 0.556095).abs() < 1e-5, "{found:?}");
        assert_eq!(share_interval(7, 7, 0.05).high, 1.0);
        assert_eq!(share_interval(0, 0, 0.05), Interval { low: 0.0, high: 1.0 });
    }
}
