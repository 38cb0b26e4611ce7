//! Floor and layer in turn, and the median of their ratios.

use std::time::{Duration, Instant};

pub(crate) fn head() {
    println!("{:<40} {:>12} {:>12} {:>7}  goal", "", "floor", "kampf", "ratio");
}

/// Whether a name is asked for: `cargo bench -- WORD` leaves out names without the word.
pub(crate) fn asked_for(name: &str) -> bool {
    std::env::args().skip(1).all(|word| word.starts_with("--") || name.contains(&word))
}

/// Measures again, five times at most, while the host of a virtual machine gives more than a fiftieth of the time to others: that
/// hits whoever uses both cores, however fast they are.
pub(crate) fn undisturbed(mut measure: impl FnMut() -> Duration) -> Duration {
    let mut tries = 0;
    loop {
        let before = stolen();
        let time = measure();
        tries += 1;
        if stolen().saturating_sub(before) * 50 <= time || tries == 5 {
            return time;
        }
        std::thread::sleep(Duration::from_millis(500));
    }
}

/// The time that all cores could not have since the start of the machine: the eighth number of `cpu` in proc(5)'s `/proc/stat`,
/// in hundredths of a second.
fn stolen() -> Duration {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    let hundredths = stat.split_whitespace().nth(8).and_then(|number| number.parse().ok()).unwrap_or(0_u64);
    Duration::from_millis(hundredths * 10)
}

/// Runs the two in turn and prints the median of their ratios; `cargo bench -- WORD` leaves out names without the word.
pub(crate) fn compare(name: &str, goal: Option<f64>, turns: usize, mut floor: impl FnMut(), mut kampf: impl FnMut()) {
    if !asked_for(name) {
        return;
    }
    let timed = |work: &mut dyn FnMut()| {
        undisturbed(|| {
            let start = Instant::now();
            work();
            start.elapsed()
        })
        .as_nanos() as f64
    };
    let (mut floors, mut kampfs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for turn in 0..turns + 1 {
        // Who goes first changes, so that neither profits from the other's warmth.
        let (one, other) = if turn % 2 == 0 {
            let floor = timed(&mut floor);
            (floor, timed(&mut kampf))
        } else {
            let kampf = timed(&mut kampf);
            (timed(&mut floor), kampf)
        };
        if turn > 0 {
            floors.push(one);
            kampfs.push(other);
            ratios.push(other / one);
        }
    }
    let median = |values: &mut Vec<f64>| {
        values.sort_by(f64::total_cmp);
        values[values.len() / 2]
    };
    let goal = goal.map_or_else(|| "published".to_owned(), |goal| format!("<= {goal}"));
    let ms = |nanos: f64| format!("{:.3} ms", nanos / 1e6);
    println!("{name:<40} {:>12} {:>12} {:>7.3}  {goal}", ms(median(&mut floors)), ms(median(&mut kampfs)), median(&mut ratios));
}
