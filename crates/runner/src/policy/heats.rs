//! A race from its first heat to the question that ends it.

use std::time::Duration;

use kampf_race::Race;
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

use super::check::Checks;
use super::log::Log;
use super::pace::paces;
use super::race::{Entrant, HeatRun, RaceOptions, RaceReport, Runs, State, Timed, Track};
use super::stage::Stage;
use crate::event::{Event, HeatBegins};
use crate::trouble::Trouble;

fn entrant(name: &str) -> Entrant {
    Entrant {
        name: name.to_owned(),
        runs: Runs::default(),
        timed: Timed::InRounds,
        reason: None,
        fault: None,
        failed_after: None,
        is_halted: false,
    }
}

/// Runs the first heat of a field that was checked with probes: all of the race, where no others may enter.
pub(crate) fn first_heat(
    stage: &mut dyn Stage,
    checks: &Checks,
    options: &RaceOptions,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<State, Trouble> {
    let entrants: Vec<Entrant> = stage.contestants().iter().map(|one| entrant(&one.name)).collect();
    let beside: Vec<bool> = (0..entrants.len()).map(|at| options.is_beside(at)).collect();
    let log = Log::new(options.settings, beside.clone(), options.compared.clone());
    let state = State {
        race: log.race(),
        log,
        beside,
        paces: paces(stage, checks, options),
        messages: messages(checks),
        most_alive: stage.most_alive(),
        dealt: Vec::new(),
        halted: vec![false; entrants.len()],
        lasted: vec![Duration::ZERO; entrants.len()],
        entrants,
        measured_ns: 0.0,
        has_forgotten: false,
        random: Pcg64Mcg::seed_from_u64(options.seed),
        loops: Vec::new(),
        spent: Duration::ZERO,
        between: Duration::ZERO,
        interrupted: false,
        has_asked: false,
    };
    let mut track = Track { stage, checks, options, state };
    track.line_up(0, events)?;
    track.run(events)
}

fn messages(checks: &Checks) -> Vec<Option<f64>> {
    checks.entries.iter().map(|entry| entry.probe.as_ref().and_then(|probe| probe.message_ns)).collect()
}

/// Goes on with a race that has stood still for some time, with the same field, or with one that others have entered behind all that were there.
pub(crate) fn next_heat(
    stage: &mut dyn Stage,
    checks: &Checks,
    options: &RaceOptions,
    (mut state, around): (State, Option<Around<'_>>),
    between: Duration,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<State, Trouble> {
    state.between += between;
    let there = state.entrants.len();
    let entered: Vec<String> = stage.contestants().iter().skip(there).map(|one| one.name.clone()).collect();
    state.entrants.extend(entered.iter().map(|name| entrant(name)));
    state.halted.resize(state.entrants.len(), false);
    state.lasted.resize(state.entrants.len(), Duration::ZERO);
    let new = |at: usize| at >= there;
    state.paces.extend(paces(stage, checks, options).into_iter().enumerate().filter_map(|(at, pace)| new(at).then_some(pace)));
    state.messages.extend(messages(checks).into_iter().skip(there));
    state.dealt.clear();
    state.has_asked = around.is_none();
    let mut track = Track { stage, checks, options, state };
    if let Some(Around { anchor, members, beside }) = around {
        track.state.beside.extend(beside.iter().copied().skip(there));
        let after = track.state.race.rounds();
        let heat = HeatRun { after, anchor, members: members.to_vec(), entered: entered.len() };
        track.state.log.begins(heat, track.state.beside[there..].to_vec());
        track.state.race = track.state.log.race();
        track.line_up(there, events)?;
        let names = HeatBegins { anchor: &track.state.entrants[anchor].name.clone(), entered: &entered };
        events(Event::Heat(names));
    }
    track.run(events)
}

/// What the next heat is run around.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Around<'a> {
    pub(crate) anchor: usize,
    pub(crate) members: &'a [usize],
    /// Whether each of the field only runs beside the race.
    pub(crate) beside: &'a [bool],
}

impl Track<'_> {
    fn run(mut self, events: &mut dyn FnMut(Event<'_>)) -> Result<State, Trouble> {
        self.state.interrupted = !self.rounds(events)?;
        if self.state.interrupted && self.state.race.rounds() == 0 {
            return Err(Trouble::Interrupted);
        }
        Ok(self.state)
    }
}

/// Asks the survivors once more, and goes on where that brings somebody back.
pub(crate) fn last_question(
    stage: &mut dyn Stage,
    checks: &Checks,
    options: &RaceOptions,
    state: State,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<RaceReport, Trouble> {
    let mut track = Track { stage, checks, options, state };
    let mut confirmed = Duration::ZERO;
    let (mut last_round, mut not_confirmed);
    loop {
        last_round = track.state.next_lasts();
        let machine = track.stage.reference_loop();
        track.state.loops.push(machine);
        if track.state.interrupted {
            not_confirmed = Some(Trouble::Interrupted.to_string());
            break;
        }
        events(Event::Confirming);
        let racing = track.state.race.racing();
        track.state.has_forgotten = false;
        let begun = track.stage.now();
        not_confirmed = match track.look_for_contradictions(events) {
            Ok(()) => track.confirm(events),
            Err(trouble) => Some(trouble.to_string()),
        };
        confirmed += track.stage.now() - begun;
        // Who has come back has not been asked, and may not have run a round.
        let is_back = track.state.has_forgotten && track.state.race.racing().iter().any(|at| !racing.contains(at));
        if not_confirmed.is_some() || !is_back {
            break;
        }
        // There are rounds to come, each with a look at the machine before it.
        track.state.loops.pop();
        track.state.interrupted = !track.rounds(events)?;
        if track.state.interrupted && track.state.race.rounds() == 0 {
            return Err(Trouble::Interrupted);
        }
    }
    Ok(RaceReport { last_round, confirmed, not_confirmed, ..track.state.report() })
}

impl State {
    /// The race so far.
    pub(crate) fn race(&self) -> &Race {
        &self.race
    }

    /// Whether nothing can follow: the user wants to stop, or all rounds that were asked for were run.
    pub(crate) fn is_at_its_end(&self, options: &RaceOptions) -> bool {
        self.interrupted || self.race.rounds() >= options.settings.most_rounds || self.left(options).is_zero()
    }

    /// The time that is left, the last question included.
    pub(crate) fn left(&self, options: &RaceOptions) -> Duration {
        options.time.saturating_sub(self.spent + self.between)
    }

    /// How long the next round will last, by those before.
    pub(super) fn next_lasts(&self) -> Duration {
        let running = self.race.running();
        let all: Duration = running.iter().map(|&at| self.lasted[at]).sum();
        all.mul_f64((self.most_alive.max(1) as f64 / running.len().max(1) as f64).min(1.0))
    }

    /// The user wants to stop.
    pub(crate) fn interrupt(&mut self) {
        self.interrupted = true;
    }

    /// What was measured so far.
    pub(crate) fn report(&self) -> RaceReport {
        let mut entrants = self.entrants.clone();
        entrants.iter_mut().zip(&self.halted).for_each(|(entrant, halted)| entrant.is_halted = *halted);
        RaceReport {
            race: self.race.clone(),
            entrants,
            total: self.spent,
            confirmed: Duration::ZERO,
            last_round: self.next_lasts(),
            measured: Duration::from_nanos(self.measured_ns as u64),
            reference_loop: self.loops.clone(),
            pressure: None,
            interrupted: self.interrupted,
            not_confirmed: None,
            heats: self.log.heats(),
        }
    }
}
