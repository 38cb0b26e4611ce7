//! The machine as far as it can be read, and how steadily it runs.

use std::hint::black_box;
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

/// What a result was measured on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Machine {
    /// Model of the processor.
    pub cpu: Option<String>,
    /// Processors this process may use.
    pub cores: usize,
    /// How the processor's clock is governed, where that can be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub governor: Option<String>,
    /// Operating system and its version.
    pub system: Option<String>,
    /// Load averages over one minute: before and after.
    pub load: Vec<f64>,
    /// Share of time in percent, over the last ten seconds, in which some task waited for a processor: before and after.
    pub cpu_pressure: Vec<f64>,
}

impl Machine {
    /// Reads what does not change, and the load before.
    pub fn read() -> Machine {
        let file = |path: &str| std::fs::read_to_string(path).ok();
        let cpu = file("/proc/cpuinfo").and_then(|text| {
            text.lines().find(|line| line.starts_with("model name"))?.split_once(':').map(|(_, name)| name.trim().to_owned())
        });
        let system = file("/proc/sys/kernel/osrelease").map(|release| format!("{} {}", std::env::consts::OS, release.trim()));
        let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
        let governor = file("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor").map(|governor| governor.trim().to_owned());
        let mut machine = Machine { cpu, cores, governor, system, load: Vec::new(), cpu_pressure: Vec::new() };
        machine.read_load();
        machine
    }

    /// Reads the load once more.
    pub fn read_load(&mut self) {
        let file = |path: &str| std::fs::read_to_string(path).ok();
        let load = file("/proc/loadavg").and_then(|text| text.split(' ').next()?.parse().ok());
        let pressure = file("/proc/pressure/cpu").and_then(|text| text.split_once("avg10=")?.1.split(' ').next()?.parse().ok());
        self.load.extend::<Option<f64>>(load);
        self.cpu_pressure.extend::<Option<f64>>(pressure);
    }
}

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
    fn the_machine_is_read_and_the_reference_loop_takes_time() {
        let machine = Machine::read();
        assert!(machine.cores > 0);
        assert!(reference_loop() > Duration::from_micros(50));
        let before = Pressure::read();
        assert!(before.since().is_none_or(|share| (0.0..=100.0).contains(&share)));
    }
}
