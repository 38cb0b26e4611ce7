//! The binary.

use std::process::ExitCode;

/// Counts the heap of contenders, which run in processes of this same binary.
#[global_allocator]
static ALLOCATOR: kampf::CountingAllocator = kampf::CountingAllocator;

fn main() -> ExitCode {
    kampf::main()
}
