//! A load that comes and goes, beside a self-test.

use std::io::Read;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::problem::Problem;

/// What this program is started with to be the load.
pub(crate) const DISTURBANCE: &str = "disturbance";

/// How long the load lasts at a time, and how long there is none, in milliseconds.
const SHORTEST: u64 = 100;
const LONGEST: u64 = 2_000;

/// A busy process of Kampf's own, for as long as this is there.
pub(crate) struct Disturbance {
    child: Child,
}

impl Disturbance {
    pub(crate) fn begins() -> Result<Disturbance, Problem> {
        let failed = |error: std::io::Error| {
            Problem::surroundings(format!("the load of a disturbed self-test cannot be started: {error}")).because(error)
        };
        let program = std::env::current_exe().map_err(failed)?;
        let child = Command::new(program).arg(DISTURBANCE).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        Ok(Disturbance { child: child.map_err(failed)? })
    }
}

impl Drop for Disturbance {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Is busy for a while and then is not, by chance, until its input ends: so it goes with whoever has started it.
pub(crate) fn disturb() {
    let input = std::thread::spawn(|| std::io::stdin().read_to_end(&mut Vec::new()));
    let mut state: u64 = 1;
    let mut span = || {
        // A linear congruential generator with the constants of Knuth's MMIX.
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        Duration::from_millis(SHORTEST + (state >> 33) % (LONGEST - SHORTEST + 1))
    };
    while !input.is_finished() {
        let until = Instant::now() + span();
        while Instant::now() < until && !input.is_finished() {
            std::hint::spin_loop();
        }
        let until = Instant::now() + span();
        while Instant::now() < until && !input.is_finished() {
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
