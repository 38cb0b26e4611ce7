//! Running contenders: what is run and believed (`policy`), and the processes, clocks and signals behind it (`processes`).
//!
//! The runner reports what happens as [`Event`]s and returns plain results; it prints nothing. [`serve`] is the other side: what
//! a contender of Kampf's own does in its process.

mod allocator;
mod contender;
mod contest;
mod delayed;
mod event;
mod job;
mod machine;
mod policy;
mod processes;
mod relay;
mod serving;
mod trouble;
mod watched;
mod writer;

use std::time::{Duration, Instant};

pub use allocator::{CountingAllocator, HeapCounts, count_heap};
pub use contender::{OwnContender, OwnTask, serve};
pub use contest::{Contest, Draw, Drawn, DrawnParameter, Entry, EntryWay, Keyed, ParameterSource, Place, Program, ScratchPlace, Setup};
pub use event::{Checking, Event, HeatBegins, RoundBegins};
pub use job::{FullerNeed, Job, JobRows, KeyedContest, ReadJob, WriteJob};
pub use machine::{Pressure, reference_loop};
pub use policy::{
    CheckedEntry, CheckedVerdict, Checks, Contradiction, Entrant, EntrantFault, HeatRun, Known, Probe, Purpose, RaceOptions, RaceReport,
    Runs, SeenBefore, Timed,
};
pub use processes::{Inbox, WARDEN, ending_signals, hold, more_than, most_rows, wants_twin};
pub use relay::Relay;
pub use trouble::Trouble;

use policy::Around;
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
    let proof = proof(inbox, setup, contest, 0, events)?;
    policy::check(&mut Field::new(inbox, setup, contest), proof.as_ref(), purpose, events)
}

/// Checks those that a contest has behind those that were checked before, against what is right by that check.
///
/// # Errors
/// The user's wish to stop.
pub fn check_more(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    before: &Checks,
    purpose: Purpose,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Checks, Trouble> {
    let proof = proof(inbox, setup, contest, before.entries.len(), events)?;
    policy::check_more(&mut Field::new(inbox, setup, contest), before, proof.as_ref(), purpose, events)
}

/// What contenders from a place on prove on the twin, where that is wanted.
fn proof(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    from: usize,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Option<policy::Proof>, Trouble> {
    match &setup.twin {
        Some(twin) if wants_twin(contest, setup.blueprint) => policy::prove(&mut Field::new(inbox, twin, contest), from, events).map(Some),
        _ => Ok(None),
    }
}

/// About how long the least rounds take that can decide a race of this field, as far as the check can tell.
pub fn least_time(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, checks: &Checks, options: &RaceOptions) -> Duration {
    policy::least_time(&Field::new(inbox, setup, contest), checks, options)
}

/// The field of a further heat.
pub struct NextField {
    /// The contest, with those that enter behind all that were there.
    pub contest: Contest,
    /// Its check.
    pub checks: Checks,
    /// Of each contender whether it only runs beside the race.
    pub beside: Vec<bool>,
    /// Around whom it is run, by its place.
    pub anchor: usize,
    /// Who runs beside that one, by their places.
    pub members: Vec<usize>,
}

/// What the heat after the one that has ended is, by what was measured so far and the time that is left; none where that one goes on, or the race is over.
pub type NextHeat<'a> = &'a mut dyn FnMut(&RaceReport, Duration, &mut dyn FnMut(Event<'_>)) -> Result<Option<NextField>, Trouble>;

/// Runs the race of a contest that was checked with probes. Where others may enter ([`RaceSettings::entrants`](kampf_race::RaceSettings::entrants)) it is
/// asked after each heat what the next one is, which may be none. Gives the field of the last heat with it; none where it is the first one's.
///
/// # Errors
/// The user's wish to stop before the first round was finished, or trouble that concerns no single contender.
pub fn race(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    checks: &Checks,
    options: &RaceOptions,
    next: NextHeat<'_>,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<(RaceReport, Option<NextField>), Trouble> {
    let pressure = Pressure::read();
    let mut state = policy::first_heat(&mut Field::new(inbox, setup, contest), checks, options, events)?;
    let mut last: Option<NextField> = None;
    while options.settings.entrants > 0 && !state.is_at_its_end(options) {
        let begun = Instant::now();
        let heat = match next(&state.report(), state.left(options), events) {
            // What was raced is kept.
            Err(Trouble::Interrupted) => {
                state.interrupt();
                break;
            }
            // What goes wrong around others is no matter of those that race: if it is the server's, their next round says so.
            heat => heat.unwrap_or_default(),
        };
        let (is_new, rounds) = (heat.is_some(), state.race().rounds());
        if !is_new && state.race().is_decided() {
            break;
        }
        last = heat.or(last);
        let (contest, checks) = last.as_ref().map_or((contest, checks), |heat| (&heat.contest, &heat.checks));
        let around = last.as_ref().filter(|_| is_new).map(|on| Around { anchor: on.anchor, members: &on.members, beside: &on.beside });
        state = policy::next_heat(&mut Field::new(inbox, setup, contest), checks, options, (state, around), begun.elapsed(), events)?;
        // No round fits any more.
        if state.race().rounds() == rounds {
            break;
        }
    }
    let (contest, checks) = last.as_ref().map_or((contest, checks), |heat| (&heat.contest, &heat.checks));
    let report = policy::last_question(&mut Field::new(inbox, setup, contest), checks, options, state, events)?;
    Ok((RaceReport { pressure: pressure.since(), ..report }, last))
}
