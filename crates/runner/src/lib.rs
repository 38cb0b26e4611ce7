//! Running contenders: what is run and believed (`policy`), and the processes, clocks and signals behind it (`processes`).
//!
//! The runner reports what happens as [`Event`]s and returns plain results; it prints nothing. [`serve`] is the other side: what
//! a contender of Kampf's own does in its process.

mod allocator;
mod contender;
mod contest;
mod delayed;
mod event;
mod machine;
mod policy;
mod processes;
mod relay;
mod trouble;
mod watched;

use std::time::Duration;

pub use allocator::{CountingAllocator, HeapCounts, count_heap};
pub use contender::{OwnContender, serve};
pub use contest::{
    Contest, Draw, Drawn, DrawnParameter, Entry, EntryWay, FullerNeed, Keyed, KeyedContest, ParameterSource, Place, Program, Setup,
};
pub use event::{Checking, Event, RoundBegins};
pub use machine::{Machine, Pressure, reference_loop};
pub use policy::{
    CheckedEntry, CheckedVerdict, Checks, Contradiction, Entrant, EntrantFault, Known, Probe, Purpose, RaceOptions, RaceReport, Runs, Timed,
};
pub use processes::{Inbox, WARDEN, ending_signals, hold, more_than, most_rows, wants_twin};
pub use relay::Relay;
pub use trouble::Trouble;

use processes::Field;

/// Checks all contenders of a contest against one reference; before a race each that agrees is also counted, and it is told how long it takes.
///
/// # Errors
/// The user's wish to stop, and a reference that cannot be had.
pub fn check(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    purpose: Purpose,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Checks, Trouble> {
    let proof = match &setup.twin {
        Some(twin) if wants_twin(contest, setup.blueprint) => Some(policy::prove(&mut Field::new(inbox, twin, contest), events)?),
        _ => None,
    };
    policy::check(&mut Field::new(inbox, setup, contest), proof.as_ref(), purpose, events)
}

/// About how long the least rounds take that can decide a race of this field, as far as the check can tell.
pub fn least_time(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, checks: &Checks, options: &RaceOptions) -> Duration {
    policy::least_time(&Field::new(inbox, setup, contest), checks, options)
}

/// Runs the race of a contest that was checked with probes.
///
/// # Errors
/// The user's wish to stop before the first round was finished, or trouble that concerns no single contender.
pub fn race(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    checks: &Checks,
    options: &RaceOptions,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<RaceReport, Trouble> {
    let pressure = Pressure::read();
    let report = policy::race(&mut Field::new(inbox, setup, contest), checks, options, events)?;
    Ok(RaceReport { pressure: pressure.since(), ..report })
}
