//! Randomness by place: the same key and row always give the same numbers.

/// Scrambles 64 bits (the finaliser of SplitMix64, Steele, Lea and Flood 2014).
pub(crate) fn mix(mut bits: u64) -> u64 {
    bits = (bits ^ (bits >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    bits = (bits ^ (bits >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    bits ^ (bits >> 31)
}

/// A key for a name under a seed; capital letters count as small ones, since engines differ in what they make of them.
pub(crate) fn key(seed: u64, name: &str) -> u64 {
    name.bytes().map(|byte| byte.to_ascii_lowercase()).fold(mix(seed ^ 0x6b61_6d70_6600_0001), |key, byte| mix(key ^ u64::from(byte)))
}

/// Random numbers for one row of one column (SplitMix64).
#[derive(Clone, Copy, Debug)]
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn at(key: u64, row: u64) -> Random {
        Random(mix(key ^ mix(row.wrapping_add(0x9e37_79b9_7f4a_7c15))))
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        mix(self.0)
    }

    /// A number from 0 up to, not including, `n`; 0 for `n` = 0. The bias is below n/2^64.
    pub(crate) fn below(&mut self, n: u64) -> u64 {
        ((u128::from(self.next()) * u128::from(n)) >> 64) as u64
    }

    /// A number between two, both included.
    pub(crate) fn between(&mut self, low: i128, high: i128) -> i128 {
        let width = (high - low) as u128 + 1;
        let bits = u128::from(self.next()) << 64 | u128::from(self.next());
        // For widths beyond 64 bits the remainder's bias is below 2^-60 for the ranges a decimal column can hold.
        low + if width <= u128::from(u64::MAX) {
            i128::from(((bits >> 64).wrapping_mul(width) >> 64) as u64)
        } else {
            (bits % width) as i128
        }
    }

    /// A real from 0 up to, not including, 1.
    pub(crate) fn unit(&mut self) -> f64 {
        (self.next() >> 11) as f64 * (1.0 / (1_u64 << 53) as f64)
    }

    /// A standard normal number (Box and Muller 1958). The functions come from a library in Rust, so that every machine
    /// gives the same bits.
    pub(crate) fn normal(&mut self) -> f64 {
        let radius = libm::sqrt(-2.0 * libm::log(1.0 - self.unit()));
        radius * libm::cos(std::f64::consts::TAU * self.unit())
    }
}

/// A keyed permutation of the numbers below `n`: a Feistel network over the next even number of bits, walked until it lands
/// inside (Black and Rogaway 2002).
#[derive(Clone, Copy, Debug)]
pub struct Permutation {
    n: u64,
    half: u32,
    key: u64,
}

impl Permutation {
    /// The permutation of a key.
    pub fn new(n: u64, key: u64) -> Permutation {
        let bits = 64 - n.saturating_sub(1).leading_zeros();
        Permutation { n, half: bits.div_ceil(2).max(1), key }
    }

    /// Where a number goes; the number must be below `n`.
    pub fn at(&self, number: u64) -> u64 {
        debug_assert!(number < self.n);
        let mut at = number;
        loop {
            at = self.once(at);
            if at < self.n {
                return at;
            }
        }
    }

    fn once(&self, number: u64) -> u64 {
        let mask = (1_u64 << self.half) - 1;
        let (mut left, mut right) = (number >> self.half, number & mask);
        for round in 0..4 {
            let scrambled = mix(self.key.wrapping_add(round << 56) ^ right) & mask;
            (left, right) = (right, left ^ scrambled);
        }
        left << self.half | right
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_permutation_reaches_every_number_once_and_depends_on_its_key() {
        for n in [1, 2, 3, 7, 64, 1000, 4097] {
            let permutation = Permutation::new(n, 5);
            let mut seen = vec![false; n as usize];
            (0..n).for_each(|number| seen[permutation.at(number) as usize] = true);
            assert!(seen.into_iter().all(|seen| seen), "{n}");
        }
        let (one, two) = (Permutation::new(1000, 1), Permutation::new(1000, 2));
        assert!((0..1000).filter(|&number| one.at(number) == two.at(number)).count() < 20);
    }

    #[test]
    fn numbers_spread_as_they_should() {
        let draw = |row| Random::at(key(7, "hive.weight"), row);
        let mean = (0..10_000).map(|row| draw(row).unit()).sum::<f64>() / 10_000.0;
        assert!((mean - 0.5).abs() < 0.01, "{mean}");
        let normal: Vec<f64> = (0..10_000).map(|row| draw(row).normal()).collect();
        let mean = normal.iter().sum::<f64>() / 10_000.0;
        let variance = normal.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / 10_000.0;
        assert!(mean.abs() < 0.05 && (variance - 1.0).abs() < 0.05, "{mean} {variance}");
        assert!((0..1000).all(|row| (-3..=4).contains(&draw(row).between(-3, 4))));
        assert!((0..1000).any(|row| draw(row).between(-3, 4) == 4));
    }
}
