//! Rounds until the time is up.

use std::time::Duration;

use kampf_protocol::Mode;
use kampf_race::{Critical, Departure, Goal, LIMIT_LEVEL, Nanos, Race, RaceSettings, TimeLimits, percentile};
use kampf_schema::Value;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_pcg::Pcg64Mcg;

use super::check::{CheckedVerdict, Checks};
use super::pace::{LONG_CALL_NS, Pace, balance, paces};
use super::stage::{Asked, Stage};
use crate::event::{Event, RoundBegins};
use crate::trouble::Trouble;

/// How a race is run.
#[derive(Clone, Debug, PartialEq)]
pub struct RaceOptions {
    /// How it is decided, and at most how many rounds there are.
    pub settings: RaceSettings,
    /// No round begins that cannot end in this time.
    pub time: Duration,
    /// At least so many measured calls of a contender that may be good enough, in every round.
    pub least_calls: u64,
    /// Seed of the order within rounds.
    pub seed: u64,
    /// Whether each entry only runs beside the race, as it is not to be chosen.
    pub beside: Vec<bool>,
    /// Upper bounds on times that decide who is chosen: while it is open who keeps them, a decided race goes on.
    pub limits: TimeLimits,
}

/// A race that was run.
#[derive(Clone, Debug)]
pub struct RaceReport {
    /// Every entry of the field, in its order.
    pub entrants: Vec<Entrant>,
    /// How they stand; places are those of `entrants`.
    pub race: Race,
    /// From the first round to the end.
    pub total: Duration,
    /// What a round of those that were in the race at its end takes.
    pub last_round: Duration,
    /// Time inside measured spans.
    pub measured: Duration,
    /// Nanoseconds of the reference loop, before each round and after the last.
    pub reference_loop: Vec<Nanos>,
    /// Share of the time, in percent, in which some task waited for a processor.
    pub pressure: Option<f64>,
    /// Whether the user ended it.
    pub interrupted: bool,
}

/// A contender on its way through the race.
#[derive(Clone, Debug)]
pub struct Entrant {
    /// Its name.
    pub name: String,
    /// What was measured.
    pub runs: Runs,
    /// Where the time is from.
    pub timed: Timed,
    /// Why it was not run, or not to the end.
    pub reason: Option<String>,
    /// Whether the reason is a wrong answer, given after the race.
    pub disagrees: bool,
    /// After how many rounds it was found that it fails.
    pub failed_after: Option<usize>,
}

/// Where a contender's times are from.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum Timed {
    /// From rounds of the race.
    #[default]
    InRounds,
    /// Only from the check: nanoseconds of a call. It was outclassed there and did not start.
    InCheck(Nanos),
}

/// What was measured of a contender.
#[derive(Clone, Debug, Default)]
pub struct Runs {
    /// Nanoseconds of a call, per round.
    pub rounds: Vec<Nanos>,
    /// 95th percentile of the calls of a round, in nanoseconds; of rounds with 20 calls or more.
    pub p95: Vec<Nanos>,
    /// Nanoseconds of the first call on a new connection, per round.
    pub cold: Vec<Nanos>,
    /// Processor nanoseconds of a call, per round.
    pub cpu: Vec<Nanos>,
    /// The rounds that it ran, by their numbers from 0.
    pub ran: Vec<usize>,
    /// Time of a run by the runner's clock beyond the contender's own spans, as a share of the spans, per round.
    excess: Vec<f64>,
}

impl Runs {
    /// Whether it is open if these runs keep limits on times.
    fn is_open(&self, limits: &TimeLimits) -> bool {
        limits.are_open(&Critical::new(LIMIT_LEVEL, self.rounds.len()), &self.rounds, &self.p95, &self.cold)
    }
}

/// A contender so many times slower than the best in the check is not raced.
pub(crate) const OUTCLASSED_IN_CHECK: f64 = 20.0;
/// Calls that a round must have for a 95th percentile of its own.
const ENOUGH_FOR_P95: usize = 20;
/// Nanoseconds that a run may last beyond its spans for messages to go and come.
const PIPE_NS: f64 = 1e6;

/// A race that is being run.
pub(super) struct Track<'a> {
    pub(super) stage: &'a mut dyn Stage,
    pub(super) race: Race,
    pub(super) entrants: Vec<Entrant>,
    paces: Vec<Option<Pace>>,
    measured_ns: Nanos,
}

/// Runs the race of a field that was checked with probes. What the machine does meanwhile is not known here.
pub(crate) fn race(
    stage: &mut dyn Stage,
    checks: &Checks,
    options: &RaceOptions,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<RaceReport, Trouble> {
    let names: Vec<String> = stage.contestants().iter().map(|one| one.name.clone()).collect();
    let entrant = |name: &String| Entrant {
        name: name.clone(),
        runs: Runs::default(),
        timed: Timed::InRounds,
        reason: None,
        disagrees: false,
        failed_after: None,
    };
    let mut track = Track {
        paces: paces(stage, checks, options),
        stage,
        race: Race::new(names.len(), options.settings),
        entrants: names.iter().map(entrant).collect(),
        measured_ns: 0.0,
    };
    track.line_up(checks, options, events)?;
    let begun = track.stage.now();
    let mut loops = Vec::new();
    let mut random = Pcg64Mcg::seed_from_u64(options.seed);
    let mut lasted: Vec<Duration> = vec![Duration::ZERO; names.len()];
    let mut interrupted = false;
    let expected = |race: &Race, lasted: &[Duration]| race.running().iter().map(|&at| lasted[at]).sum::<Duration>();
    while track.race.rounds() < options.settings.most_rounds && !(track.race.is_decided() && track.keeps_limits(options)) {
        let round = expected(&track.race, &lasted);
        let left = options.time.saturating_sub(track.stage.now() - begun);
        if track.race.rounds() > 0 && round > left {
            break;
        }
        loops.push(track.stage.reference_loop());
        events(Event::Round(RoundBegins { race: &track.race, names: &names, left, round }));
        match track.round(options, &mut random, &mut lasted, events) {
            Ok(drops) => {
                let left = options.time.saturating_sub(track.stage.now() - begun);
                let now = RoundBegins { race: &track.race, names: &names, left, round: expected(&track.race, &lasted) };
                drops.into_iter().for_each(|drop| events(Event::Dropped(&now, drop)));
            }
            Err(Trouble::Interrupted) => {
                interrupted = true;
                break;
            }
            Err(trouble) => return Err(trouble),
        }
    }
    let total = track.stage.now() - begun;
    let last_round = expected(&track.race, &lasted);
    loops.push(track.stage.reference_loop());
    if interrupted && track.race.rounds() == 0 {
        return Err(Trouble::Interrupted);
    }
    if !interrupted {
        events(Event::Confirming);
        track.confirm(checks)?;
    }
    track.look_for_contradictions();
    Ok(RaceReport {
        race: track.race,
        entrants: track.entrants,
        total,
        last_round,
        measured: Duration::from_nanos(track.measured_ns as u64),
        reference_loop: loops,
        pressure: None,
        interrupted,
    })
}

impl Track<'_> {
    /// Who takes part, and how often each is called.
    fn line_up(&mut self, checks: &Checks, options: &RaceOptions, events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        options.beside.iter().enumerate().filter(|(_, beside)| **beside).for_each(|(at, _)| self.race.put_beside(at));
        for (at, checked) in checks.entries.iter().enumerate() {
            if checked.verdict != CheckedVerdict::Agrees || checked.probe.is_none() {
                self.race.fail(at);
                if checked.verdict == CheckedVerdict::Agrees {
                    self.entrants[at].reason = Some("it cannot be timed".to_owned());
                }
            }
        }
        if options.settings.goal == Goal::Choice {
            self.leave_out(checks, options, events)?;
        }
        let racing = self.race.racing();
        let paces = self.paces.iter_mut().enumerate().filter(|(at, _)| racing.contains(at));
        balance(&mut paces.filter_map(|(_, pace)| pace.as_mut()).collect::<Vec<_>>());
        Ok(())
    }

    /// Leaves out contenders that are hopeless already in the check, once a repeat confirms it.
    fn leave_out(&mut self, checks: &Checks, options: &RaceOptions, events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        let call = |at: usize| Some((at, checks.entries[at].probe.as_ref()?.call_ns));
        let probes: Vec<(usize, f64)> = self.race.racing().into_iter().filter_map(call).collect();
        // Only one that may be chosen outclasses others.
        let is_beside = |at: usize| options.beside.get(at).copied().unwrap_or(false);
        let may_be_chosen = probes.iter().filter(|(at, _)| !is_beside(*at));
        let Some(best) = may_be_chosen.map(|(_, call)| *call).min_by(f64::total_cmp) else { return Ok(()) };
        let keep_below = options.settings.keep_below;
        let sets = self.stage.sets(0);
        for (at, call) in probes {
            if call <= OUTCLASSED_IN_CHECK * best || keep_below.is_some_and(|keep| call <= keep) {
                continue;
            }
            match self.once_more(at, &sets) {
                Ok((cold_ns, again)) if again > OUTCLASSED_IN_CHECK * best => {
                    self.entrants[at].timed = Timed::InCheck(again.min(call));
                    self.entrants[at].runs.cold = vec![cold_ns];
                    self.race.leave_out(at);
                    events(Event::LeftOut(&self.entrants[at].name, again.min(call) / best));
                }
                Ok(_) => {}
                Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
                Err(trouble) => self.fail(at, &trouble, events),
            }
        }
        Ok(())
    }

    /// Nanoseconds of a first call and of one after it, in a fresh process.
    fn once_more(&mut self, at: usize, sets: &[Vec<Value>]) -> Result<(Nanos, Nanos), Trouble> {
        self.stage.start(at)?;
        let cold = self.stage.run(Asked { mode: Mode::Time, sets: &sets[..1], passes: 1, calls_per_span: 1 })?;
        let timed = self.stage.run(Asked { mode: Mode::Time, sets, passes: 1, calls_per_span: 1 })?;
        self.stage.end();
        let mean = |spans: &[u64]| spans.iter().sum::<u64>() as f64 / spans.len().max(1) as f64;
        Ok((mean(&cold.ran.spans_ns), mean(&timed.ran.spans_ns)))
    }

    /// One round: everyone once, in random order, each in a fresh process.
    fn round(
        &mut self,
        options: &RaceOptions,
        random: &mut Pcg64Mcg,
        lasted: &mut [Duration],
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<Vec<Departure>, Trouble> {
        let round = self.race.rounds();
        let sets = self.stage.sets(round as u64);
        let mut order = self.race.running();
        order.shuffle(random);
        let mut taken: Vec<Option<Taken>> = vec![None; self.entrants.len()];
        for at in order {
            let begun = self.stage.now();
            match self.run_once(at, &sets) {
                Ok(run) => taken[at] = Some(run),
                Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
                Err(trouble) => self.fail(at, &trouble, events),
            }
            self.stage.end();
            lasted[at] = self.stage.now() - begun;
        }
        let values: Vec<Option<f64>> = taken.iter().map(|run| run.as_ref().map(|run| run.call_ns)).collect();
        for (at, run) in taken.into_iter().enumerate() {
            let Some(run) = run else { continue };
            self.measured_ns += run.spans_ns;
            let runs = &mut self.entrants[at].runs;
            runs.rounds.push(run.call_ns);
            runs.p95.extend(run.p95);
            runs.cold.push(run.cold_ns);
            runs.cpu.push(run.cpu_ns);
            runs.excess.push(run.excess);
            runs.ran.push(round);
            self.race.hold(at, runs.is_open(&options.limits));
        }
        Ok(self.race.record(&values))
    }

    fn run_once(&mut self, at: usize, sets: &[Vec<Value>]) -> Result<Taken, Trouble> {
        let pace = self.paces[at].ok_or_else(|| Trouble::Refused("it was not probed".to_owned()))?;
        let settle = self.stage.contestants()[at].calls_to_settle;
        self.stage.start(at)?;
        let cold = self.stage.run(Asked { mode: Mode::Time, sets: &sets[..1], passes: 1, calls_per_span: 1 })?;
        let cold_ns = cold.ran.spans_ns.first().map_or(0.0, |&span| span as f64);
        if settle > 0 && cold_ns < LONG_CALL_NS {
            let some = &sets[..sets.len().min(settle as usize)];
            self.stage.run(Asked { mode: Mode::Time, sets: some, passes: settle.div_ceil(some.len() as u64), calls_per_span: 1 })?;
        }
        let timed = self.stage.run(Asked { mode: Mode::Time, sets, passes: pace.passes, calls_per_span: pace.calls_per_span })?;
        let spans = &timed.ran.spans_ns;
        let expected = pace.passes * sets.len() as u64;
        if spans.len() as u64 != expected {
            return Err(Trouble::Broken(format!("{} spans for {expected} were given", spans.len())));
        }
        let spans_ns = spans.iter().sum::<u64>() as f64;
        let calls = spans.len() as f64 * pace.calls_per_span as f64;
        let each: Vec<f64> = spans.iter().map(|&span| span as f64 / pace.calls_per_span as f64).collect();
        let wall_ns = timed.wall.as_nanos() as f64;
        if spans_ns > wall_ns * 1.01 {
            return Err(Trouble::Refused("it reports more time than passed by the runner's clock".to_owned()));
        }
        Ok(Taken {
            call_ns: spans_ns / calls,
            spans_ns,
            p95: percentile(&each, 0.95).filter(|_| each.len() >= ENOUGH_FOR_P95),
            cold_ns,
            cpu_ns: timed.ran.cpu_ns as f64 / calls,
            excess: (wall_ns - spans_ns - PIPE_NS).max(0.0) / spans_ns.max(1.0),
        })
    }

    /// Whether it is known of all that may be chosen if they keep the limits on times.
    fn keeps_limits(&self, options: &RaceOptions) -> bool {
        let may_be_chosen = self.race.racing().into_iter().filter(|&at| !options.beside.get(at).copied().unwrap_or(false));
        !may_be_chosen.into_iter().any(|at| self.entrants[at].runs.is_open(&options.limits))
    }

    fn fail(&mut self, at: usize, trouble: &Trouble, events: &mut dyn FnMut(Event<'_>)) {
        self.take_out(at, trouble.to_string());
        events(Event::Failed(&self.entrants[at].name, trouble.to_string()));
    }

    pub(super) fn take_out(&mut self, at: usize, reason: String) {
        self.race.fail(at);
        self.entrants[at].reason = Some(reason);
        self.entrants[at].failed_after = Some(self.race.rounds());
    }

    /// A program whose runs last longer than it says, in every round, is not believed. Kampf's own contenders are its own code;
    /// what their runs last longer is the machine's doing, as one busy with other things shows.
    fn look_for_contradictions(&mut self) {
        for at in self.race.racing() {
            let excess = self.entrants[at].runs.excess.iter().copied().fold(f64::INFINITY, f64::min);
            if self.stage.contestants()[at].counter.is_program && excess.is_finite() && excess > 0.01 {
                self.take_out(at, format!("its runs last {:.0} % longer by the runner's clock than it reports", excess * 100.0));
            }
        }
    }
}

/// What one run in a round gave.
#[derive(Clone, Debug)]
struct Taken {
    call_ns: Nanos,
    spans_ns: Nanos,
    p95: Option<f64>,
    cold_ns: Nanos,
    cpu_ns: Nanos,
    excess: f64,
}
