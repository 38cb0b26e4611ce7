//! The machine as far as it can be read.

use kampf_result::Machine;

/// Reads what does not change, and the load before.
pub(crate) fn machine() -> Machine {
    let cpu = file("/proc/cpuinfo")
        .and_then(|text| text.lines().find(|line| line.starts_with("model name"))?.split_once(':').map(|(_, name)| name.trim().to_owned()));
    let system = file("/proc/sys/kernel/osrelease").map(|release| format!("{} {}", std::env::consts::OS, release.trim()));
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let governor = file("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor").map(|governor| governor.trim().to_owned());
    let mut machine = Machine { cpu, cores, governor, system, load: Vec::new(), cpu_pressure: Vec::new() };
    read_load(&mut machine);
    machine
}

/// Reads the load once more.
pub(crate) fn read_load(machine: &mut Machine) {
    let load = file("/proc/loadavg").and_then(|text| text.split(' ').next()?.parse().ok());
    let pressure = file("/proc/pressure/cpu").and_then(|text| text.split_once("avg10=")?.1.split(' ').next()?.parse().ok());
    machine.load.extend::<Option<f64>>(load);
    machine.cpu_pressure.extend::<Option<f64>>(pressure);
}

fn file(path: &str) -> Option<String> {
    std::fs::read_to_string(path).ok()
}
