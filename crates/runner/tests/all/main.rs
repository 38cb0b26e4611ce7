//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod composition;
mod portions;

use std::sync::{Mutex, MutexGuard, PoisonError};

use kampf_runner::CountingAllocator;

#[global_allocator]
static ALLOCATOR: CountingAllocator = CountingAllocator;

/// The allocator counts for the whole program: who looks at its figures lets nobody else work meanwhile.
fn alone() -> MutexGuard<'static, ()> {
    static ALONE: Mutex<()> = Mutex::new(());
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}
