//! How sure a difference is.

/// The chance that at least `slower` of `rounds` fair coins show heads: the one-sided sign test (Arbuthnot 1710). 1 for no rounds.
pub fn sign_test(rounds: u64, slower: u64) -> f64 {
    if slower == 0 {
        return 1.0;
    }
    // Terms of the binomial distribution from the top down, in logarithms so that 2^-rounds does not vanish.
    let mut term = -(rounds as f64) * std::f64::consts::LN_2;
    let mut sum = 0.0;
    for heads in (slower..=rounds).rev() {
        if heads < rounds {
            term += ((heads + 1) as f64).ln() - ((rounds - heads) as f64).ln();
        }
        sum += term.exp();
    }
    sum.min(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_the_tail_of_the_binomial_distribution() {
        for (rounds, slower, expected) in
            [(8, 8, 1.0 / 256.0), (8, 7, 9.0 / 256.0), (10, 8, 56.0 / 1024.0), (3, 0, 1.0), (1, 1, 0.5), (0, 0, 1.0)]
        {
            assert!((sign_test(rounds, slower) - expected).abs() < 1e-12, "{rounds} {slower}");
        }
        assert!((sign_test(1001, 501) - 0.5).abs() < 1e-9);
    }
}
