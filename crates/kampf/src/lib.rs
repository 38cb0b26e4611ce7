//! The command line of Kampf. It is a library only for its binary, and for the tests of what it reads.

mod arguments;
mod commands;
mod comparison;
#[doc(hidden)]
pub mod odd_inputs;
mod output;
mod problem;
mod project;
mod running;
mod store;
mod tidings;

use std::process::ExitCode;

pub use kampf_runner::CountingAllocator;

/// Room for whatever somebody's schema nests: trees of expressions and chains of tables are walked by recursion.
const STACK: usize = 256 << 20;

/// A fault of Kampf's own: "internal software error" of sysexits(3).
const FAULT: u8 = 70;

/// Carries out the command line of this process and gives its exit status.
pub fn main() -> ExitCode {
    std::panic::set_hook(Box::new(|panic| output::complain_of_fault(&panic.to_string())));
    std::panic::catch_unwind(carried_out).unwrap_or(ExitCode::from(FAULT))
}

fn carried_out() -> ExitCode {
    if let Some(ended) = commands::run_at_once() {
        return ended;
    }
    match std::thread::Builder::new().stack_size(STACK).spawn(commands::run) {
        Ok(running) => running.join().unwrap_or(ExitCode::from(FAULT)),
        Err(_) => commands::run(),
    }
}
