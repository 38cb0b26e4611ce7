//! Floor and layer in turn, and the median of their ratios.

use std::time::Instant;

pub(crate) fn head() {
    println!("{:<40} {:>12} {:>12} {:>7}  goal", "", "floor", "kampf", "ratio");
}

/// Whether a name is asked for: `cargo bench -- WORD` leaves out names without the word.
pub(crate) fn asked_for(name: &str) -> bool {
    std::env::args().skip(1).all(|word| word.starts_with("--") || name.contains(&word))
}

/// Runs the two in turn and prints the median of their ratios; `cargo bench -- WORD` leaves out names without the word.
pub(crate) fn compare(name: &str, goal: Option<f64>, turns: usize, mut floor: impl FnMut(), mut kampf: impl FnMut()) {
    if !asked_for(name) {
        return;
    }
    let timed = |work: &mut dyn FnMut()| {
        let start = Instant::now();
        work();
        start.elapsed().as_nanos() as f64
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
