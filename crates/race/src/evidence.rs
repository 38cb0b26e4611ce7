//! Evidence that one contender is slower than another, valid however often it is looked at.

use statrs::function::beta::{beta_reg, ln_beta};

/// The logarithm of the evidence that a coin which showed heads `slower` times in `rounds` falls on heads more often than not.
///
/// A mixture, uniform over chances of heads from 1/2 to 1, of likelihoods against the fair coin:
/// `E(n, s) = 2^(n+1) B(s+1, n-s+1) I_{1/2}(n-s+1, s+1)`. For a coin that is fair or falls on tails it is a supermartingale
/// that starts at 1, so it ever reaches `1/a` with a chance of at most `a` (Ville 1939; Robbins 1970), whenever one stops.
pub fn ln_evidence(rounds: usize, slower: usize) -> f64 {
    let (heads, tails) = (slower as f64 + 1.0, rounds.saturating_sub(slower) as f64 + 1.0);
    (rounds as f64 + 1.0) * std::f64::consts::LN_2 + ln_beta(heads, tails) + beta_reg(tails, heads, 0.5).ln()
}

/// For one level: how many of so many rounds must go one way until that is sure.
#[derive(Clone, Debug)]
pub struct Critical {
    threshold: f64,
    /// For each number of rounds; one more than that where it cannot be decided yet.
    counts: Vec<usize>,
}

impl Critical {
    /// The counts for up to `rounds` rounds at the level `a`, a chance between 0 and 1.
    pub fn new(level: f64, rounds: usize) -> Critical {
        let mut critical = Critical { threshold: -level.ln(), counts: vec![1] };
        critical.extend_to(rounds);
        critical
    }

    /// Makes sure that so many rounds are covered.
    pub fn extend_to(&mut self, rounds: usize) {
        while self.counts.len() <= rounds {
            let (n, before) = (self.counts.len(), self.counts[self.counts.len() - 1]);
            // One more round needs the same count or one more: E(n, s) falls in n and grows in s.
            let enough = before <= n && ln_evidence(n, before) >= self.threshold;
            self.counts.push(if enough { before } else { before + 1 });
        }
    }

    /// Rounds that are covered.
    pub fn covers(&self) -> usize {
        self.counts.len() - 1
    }

    /// The least count of so many rounds that is sure; none where even all of them are not, or where they are not covered.
    pub fn count(&self, rounds: usize) -> Option<usize> {
        self.counts.get(rounds).copied().filter(|&count| count <= rounds)
    }
}

/// The least rounds after which any word can be said in a race of so many contenders, by the levels that it shares its chance of a
/// wrong word among.
pub fn least_rounds(contenders: usize) -> usize {
    let alpha = crate::settings::RaceSettings::default().alpha;
    let critical = Critical::new(alpha / (contenders.max(2) as f64 - 1.0), 64);
    (crate::race::FIRST_LOOK..64).find(|&rounds| critical.count(rounds).is_some()).unwrap_or(64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn evidence_has_its_known_values() {
        for (rounds, slower, expected) in [
            (1, 1, 0.405465108),
            (15, 15, 8.317750908),
            (100, 72, 8.521497545),
            (100, 50, -2.084244113),
            (20_000, 10_300, 4.968046521),
            (0, 0, 0.0),
        ] {
            let found = ln_evidence(rounds, slower);
            assert!((found - expected).abs() < 1e-6, "{rounds} {slower}: {found}");
        }
    }

    #[test]
    fn critical_counts_have_their_known_values() {
        let levels = |m: f64| (0.05 / (m * (m - 1.0)), 0.05 / (m - 1.0));
        for (m, drop, tie) in [(2.0, 8, 7), (4.0, 11, 9), (12.0, 15, 11), (40.0, 19, 13)] {
            let first = |level: f64| (0..40).find(|&n| Critical::new(level, 40).count(n).is_some());
            assert_eq!((first(levels(m).0), first(levels(m).1)), (Some(drop), Some(tie)), "{m} contenders");
        }
        let (drop, tie) = levels(12.0);
        let counts = |level: f64| [20, 50, 100, 200, 400].map(|n| Critical::new(level, 400).count(n).unwrap_or(0));
        assert_eq!(counts(drop), [19, 40, 72, 131, 245]);
        assert_eq!(counts(tie), [18, 38, 69, 127, 239]);
    }

    #[test]
    fn more_contenders_need_more_rounds_for_a_first_word() {
        assert_eq!([1, 2, 4, 12, 40].map(least_rounds), [8, 8, 9, 11, 13]);
    }

    #[test]
    fn each_count_is_the_least_that_is_enough() {
        let critical = Critical::new(0.01, 300);
        for n in 1..=300 {
            let least = (0..=n).find(|&s| ln_evidence(n, s) >= -(0.01f64.ln()));
            assert_eq!(critical.count(n), least, "{n}");
        }
        assert_eq!((critical.covers(), critical.count(301)), (300, None));
    }

    /// The exact chance that a fair coin ever reaches a count: a walk over (rounds, heads), stopped where it does.
    #[test]
    fn a_fair_coin_is_hardly_ever_taken_for_another() {
        let critical = Critical::new(0.05, 400);
        let mut alive = vec![1.0];
        let mut reached = 0.0;
        for n in 1..=400 {
            let mut next = vec![0.0; n + 1];
            for (heads, chance) in alive.iter().enumerate() {
                next[heads] += chance / 2.0;
                next[heads + 1] += chance / 2.0;
            }
            if let Some(count) = critical.count(n) {
                reached += next[count..].iter().sum::<f64>();
                next[count..].fill(0.0);
            }
            alive = next;
        }
        assert!((reached - 0.034158).abs() < 1e-6, "{reached}");
    }
}
