//! Counting the Rust heap, exactly, when asked to.

#![expect(unsafe_code, reason = "an allocator cannot be written without")]

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering::Relaxed};

static COUNTING: AtomicBool = AtomicBool::new(false);
static LIVE: AtomicI64 = AtomicI64::new(0);
static PEAK: AtomicI64 = AtomicI64::new(0);
static ALLOCATIONS: AtomicU64 = AtomicU64::new(0);

/// The system's allocator, with requested bytes counted between the beginning and the end of [`count_heap`]. Otherwise it
/// costs one relaxed load and a branch that is always predicted.
pub struct CountingAllocator;

/// What was counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct HeapCounts {
    /// Most live requested bytes, less those live at the start.
    pub peak_bytes: u64,
    /// Allocations, growing and shrinking included.
    pub allocations: u64,
    /// Live requested bytes at the end, less those live at the start.
    pub kept_bytes: u64,
}

/// Live requested bytes, less those live when counting began; without meaning while nothing is counted.
pub(crate) fn live_bytes() -> u64 {
    u64::try_from(LIVE.load(Relaxed)).unwrap_or(0)
}

fn note(change: i64) {
    let live = LIVE.fetch_add(change, Relaxed) + change;
    PEAK.fetch_max(live, Relaxed);
}

// SAFETY: every call goes to the system's allocator unchanged; only numbers are kept beside it.
unsafe impl GlobalAlloc for CountingAllocator {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        if COUNTING.load(Relaxed) {
            ALLOCATIONS.fetch_add(1, Relaxed);
            note(layout.size() as i64);
        }
        // SAFETY: the caller's promises are handed on.
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        if COUNTING.load(Relaxed) {
            note(-(layout.size() as i64));
        }
        // SAFETY: the caller's promises are handed on.
        unsafe { System.dealloc(pointer, layout) }
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        if COUNTING.load(Relaxed) {
            ALLOCATIONS.fetch_add(1, Relaxed);
            note(layout.size() as i64);
        }
        // SAFETY: the caller's promises are handed on.
        unsafe { System.alloc_zeroed(layout) }
    }

    unsafe fn realloc(&self, pointer: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        if COUNTING.load(Relaxed) {
            ALLOCATIONS.fetch_add(1, Relaxed);
            note(size as i64 - layout.size() as i64);
        }
        // SAFETY: the caller's promises are handed on.
        unsafe { System.realloc(pointer, layout, size) }
    }
}

/// Counts what the heap does during `work`. Zeros unless the program's global allocator is [`CountingAllocator`]. Not to be
/// nested, and other threads' work counts too.
pub fn count_heap<T>(work: impl FnOnce() -> T) -> (T, HeapCounts) {
    LIVE.store(0, Relaxed);
    PEAK.store(0, Relaxed);
    ALLOCATIONS.store(0, Relaxed);
    COUNTING.store(true, Relaxed);
    let result = work();
    COUNTING.store(false, Relaxed);
    let peak_bytes = u64::try_from(PEAK.load(Relaxed)).unwrap_or(0);
    (result, HeapCounts { peak_bytes, allocations: ALLOCATIONS.load(Relaxed), kept_bytes: live_bytes() })
}
