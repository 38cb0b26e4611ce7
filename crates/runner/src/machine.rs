//! The machine as far as it can be read.

use serde::{Deserialize, Serialize};

/// What a result was measured on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Machine {
    /// Model of the processor.
    pub cpu: Option<String>,
    /// Processors this process may use.
    pub cores: usize,
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
        let mut machine = Machine { cpu, cores, system, load: Vec::new(), cpu_pressure: Vec::new() };
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
