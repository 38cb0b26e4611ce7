//! The command line of Kampf.

mod arguments;
mod commands;
mod comparison;
mod document;
mod output;
mod problem;
mod project;
mod store;
mod verdict;

use std::process::ExitCode;

/// Counts the heap of contenders, which run in processes of this same binary.
#[global_allocator]
static ALLOCATOR: kampf_runner::CountingAllocator = kampf_runner::CountingAllocator;

fn main() -> ExitCode {
    commands::run()
}
