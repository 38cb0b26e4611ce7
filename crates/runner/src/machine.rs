//! How steadily the machine runs.

use std::hint::black_box;
use std::time::{Duration, Instant};

/// Steps of the reference loop; about a millisecond.
const STEPS: u32 = 300_000;
/// Words that it walks through: 16 KiB, which the nearest cache holds.
const WORDS: usize = 4096;

/// The time of a fixed piece of work in this process: arithmetic and reads that depend on each other, no system call. What it
/// varies by is the machine's doing.
pub fn reference_loop() -> Duration {
    let mut words: Vec<u32> = (0..WORDS as u32).map(|at| at.wrapping_mul(2_654_435_761)).collect();
    let begun = Instant::now();
    let mut at = 0;
    for step in 0..STEPS {
        let word = words[at];
        words[at] = word.rotate_left(5) ^ step;
        at = word as usize % WORDS;
    }
    black_box(&words);
    begun.elapsed()
}

/// How long tasks have waited for a processor since the machine was started, and when that was read.
#[derive(Clone, Copy, Debug)]
pub struct Pressure {
    waited: Option<Duration>,
    at: Instant,
}

impl Pressure {
    /// Reads it.
    pub fn read() -> Pressure {
        let text = std::fs::read_to_string("/proc/pressure/cpu").ok();
        let waited = text.and_then(|text| text.lines().next()?.split_once("total=")?.1.trim().parse().ok());
        Pressure { waited: waited.map(Duration::from_micros), at: Instant::now() }
    }

    /// The share of the time since then, in percent, in which some task waited for a processor. The kernel brings its sum up to
    /// date every two seconds, so over a shorter time this is rough.
    pub fn since(&self) -> Option<f64> {
        let now = Pressure::read();
        let waited = now.waited?.saturating_sub(self.waited?).as_secs_f64();
        Some((100.0 * waited / now.at.duration_since(self.at).as_secs_f64().max(1e-9)).min(100.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_reference_loop_takes_time() {
        assert!(reference_loop() > Duration::from_micros(50));
        let before = Pressure::read();
        assert!(before.since().is_none_or(|share| (0.0..=100.0).contains(&share)));
    }
}
