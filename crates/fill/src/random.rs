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
    #[inline]
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

    /// An exponential number of mean 1, by the inverse of its distribution.
    pub(crate) fn exponential(&mut self) -> f64 {
        -libm::log(1.0 - self.unit())
    }

    /// A number of things that happen by chance, `mean` on average (Poisson). Small means by multiplying (Knuth 1969), large ones
    /// by the normal distribution they approach.
    pub(crate) fn poisson(&mut self, mean: f64) -> u32 {
        if mean > 40.0 {
            return libm::round(mean + libm::sqrt(mean) * self.normal()).max(0.0) as u32;
        }
        let limit = libm::exp(-mean);
        let (mut count, mut product) = (0, self.unit());
        while product > limit {
            count += 1;
            product *= self.unit();
        }
        count
    }

    /// True in so many of 100_000 cases.
    #[inline]
    pub(crate) fn chance(&mut self, of_100_000: u32) -> bool {
        of_100_000 > 0 && self.below(100_000) < u64::from(of_100_000)
    }
}

/// However often a row is drawn again for a check, it keeps its nulls for so many times: drawn with the values they would come as often as
/// checks let nulls pass, and not as often as was asked for.
pub(crate) const NULLS_STAY: u64 = 128;

/// Whether a row has a null, in so many of 100,000 cases.
#[inline]
pub(crate) fn is_null(share: u32, key: u64, row: u64, attempt: u64) -> bool {
    const OF_NULLS: u64 = 0x006e_756c_6c73;
    let key = mix(key ^ OF_NULLS);
    if attempt < NULLS_STAY {
        return Random::at(key, row).chance(share);
    }
    // What cannot be met with few nulls may be with many.
    Random::at(key ^ mix(attempt), row).chance(share.max(50_000))
}

/// Ranks from 1 to `n` that come as often as 1/rank^s (Zipf), by rejection from the curve around them (Hoermann and Derflinger 1996).
#[derive(Clone, Copy, Debug)]
pub(crate) struct Zipf {
    n: f64,
    s: f64,
    low: f64,
    high: f64,
    squeeze: f64,
}

impl Zipf {
    pub(crate) fn new(n: u64, s: f64) -> Zipf {
        let mut zipf = Zipf { n: n.max(1) as f64, s, low: 0.0, high: 0.0, squeeze: 0.0 };
        zipf.low = zipf.area(1.5) - 1.0;
        zipf.high = zipf.area(zipf.n + 0.5);
        zipf.squeeze = 2.0 - zipf.place(zipf.area(2.5) - zipf.height(2.0));
        zipf
    }

    /// Under the curve 1/x^s, up to x.
    fn area(&self, x: f64) -> f64 {
        let log = libm::log(x);
        if (self.s - 1.0).abs() < 1e-9 { log } else { (libm::exp((1.0 - self.s) * log) - 1.0) / (1.0 - self.s) }
    }

    fn place(&self, area: f64) -> f64 {
        if (self.s - 1.0).abs() < 1e-9 {
            libm::exp(area)
        } else {
            libm::exp(libm::log((1.0 + area * (1.0 - self.s)).max(1e-300)) / (1.0 - self.s))
        }
    }

    fn height(&self, x: f64) -> f64 {
        libm::exp(-self.s * libm::log(x))
    }

    pub(crate) fn draw(&self, random: &mut Random) -> u64 {
        loop {
            let area = self.high + random.unit() * (self.low - self.high);
            let x = self.place(area);
            let rank = libm::floor(x + 0.5).clamp(1.0, self.n);
            if rank - x <= self.squeeze || area >= self.area(rank + 0.5) - self.height(rank) {
                return rank as u64;
            }
        }
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

    /// How many numbers there are.
    pub fn len(&self) -> u64 {
        self.n
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.n == 0
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

    /// The number that goes to a place: the way back of [`Permutation::at`].
    pub fn from(&self, place: u64) -> u64 {
        debug_assert!(place < self.n);
        let mut number = place;
        loop {
            number = self.back(number);
            if number < self.n {
                return number;
            }
        }
    }

    fn back(&self, place: u64) -> u64 {
        let mask = (1_u64 << self.half) - 1;
        let (mut left, mut right) = (place >> self.half, place & mask);
        for round in (0..4).rev() {
            let scrambled = mix(self.key.wrapping_add(round << 56) ^ left) & mask;
            (left, right) = (right ^ scrambled, left);
        }
        left << self.half | right
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
            assert!((0..n).all(|number| permutation.from(permutation.at(number)) == number), "{n}");
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
        for mean in [0.5, 3.0, 60.0] {
            let drawn: f64 = (0..10_000).map(|row| f64::from(draw(row).poisson(mean))).sum::<f64>() / 10_000.0;
            assert!((drawn - mean).abs() < 0.03 * mean.max(1.0), "{drawn} instead of {mean}");
        }
        for s in [0.8, 1.0, 1.5] {
            let zipf = Zipf::new(1000, s);
            let drawn: Vec<u64> = (0..40_000).map(|row| zipf.draw(&mut draw(row))).collect();
            let share = |rank| drawn.iter().filter(|&&drawn| drawn == rank).count() as f64 / 40_000.0;
            let all: f64 = (1..=1000).map(|rank| f64::from(rank).powf(-s)).sum();
            for rank in [1, 2, 10] {
                let expected = (rank as f64).powf(-s) / all;
                assert!((share(rank) - expected).abs() < 0.01, "rank {rank} of s = {s}: {} instead of {expected}", share(rank));
            }
        }
        assert!((0..1000).all(|row| (-3..=4).contains(&draw(row).between(-3, 4))));
        assert!((0..1000).any(|row| draw(row).between(-3, 4) == 4));
    }
}
