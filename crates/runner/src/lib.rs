//! Running contenders: processes, clocks, limits, signals, rounds.
//!
//! The runner reports what happens as [`Event`]s and returns plain results; it prints nothing. [`serve`] is the other side: what
//! a contender of Kampf's own does in its process.

mod allocator;
mod check;
mod comparison;
mod contender;
mod contest;
mod delayed;
mod environment;
mod event;
mod inbox;
mod leash;
mod lines;
mod machine;
mod process;
mod race;
mod relay;
mod talk;

pub use allocator::{CountingAllocator, HeapCounts, count_heap};
pub use check::{CheckedEntry, CheckedVerdict, Checks, Probe, check, more_than};
pub use comparison::most_rows;
pub use contender::{OwnContender, serve};
pub use contest::{Contest, DrawnParameter, Entry, EntryWay, ParameterSource, Program, Setup};
pub use event::{Event, RoundBegins};
pub use inbox::Inbox;
pub use leash::{WARDEN, hold};
pub use machine::{Machine, Pressure, reference_loop};
pub use process::Trouble;
pub use race::{Entrant, RaceOptions, RaceReport, Runs, Timed, least_time, race};
pub use relay::Relay;
