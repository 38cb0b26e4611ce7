//! What simulated races share.

use rand::RngExt;
use rand_pcg::Pcg64Mcg;

/// Seven that lie within a margin of 5 %, and five from 1.3 to 5 times as slow.
pub(crate) const CLOSE: [f64; 12] = [1.0, 1.008, 1.016, 1.025, 1.033, 1.04, 1.05, 1.3, 2.0, 3.0, 4.0, 5.0];

/// Races of each kind: so many of a usual test run, or `KAMPF_SIMULATIONS`.
pub(crate) fn races(usual: usize) -> usize {
    std::env::var("KAMPF_SIMULATIONS").ok().and_then(|number| number.parse().ok()).unwrap_or(usual)
}

/// A normal value (Box and Muller 1958).
pub(crate) fn normal(random: &mut Pcg64Mcg) -> f64 {
    (-2.0 * (1.0 - random.random::<f64>()).ln()).sqrt() * (std::f64::consts::TAU * random.random::<f64>()).cos()
}
