//! The command line of Kampf.

mod arguments;
mod commands;
mod comparison;
mod conditions;
mod document;
mod output;
mod problem;
mod project;
mod raced;
mod running;
mod store;

use std::process::ExitCode;

/// Counts the heap of contenders, which run in processes of this same binary.
#[global_allocator]
static ALLOCATOR: kampf_runner::CountingAllocator = kampf_runner::CountingAllocator;

/// Room for whatever somebody's schema nests: trees of expressions and chains of tables are walked by recursion.
const STACK: usize = 256 << 20;

fn main() -> ExitCode {
    if let Some(ended) = commands::run_at_once() {
        return ended;
    }
    match std::thread::Builder::new().stack_size(STACK).spawn(commands::run) {
        Ok(running) => running.join().unwrap_or(ExitCode::FAILURE),
        Err(_) => commands::run(),
    }
}
