//! Rounds until the time is up.

use std::time::{Duration, Instant};

use kampf_protocol::Mode;
use kampf_race::{Critical, Departure, Goal, LIMIT_LEVEL, Nanos, Race, RaceSettings, TimeLimits, least_rounds, percentile};
use kampf_schema::Value;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_pcg::Pcg64Mcg;

use crate::check::{CheckedVerdict, Checks, Probe, compared, references};
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::event::{Event, RoundBegins};
use crate::inbox::Inbox;
use crate::machine::{Pressure, reference_loop};
use crate::process::Trouble;
use crate::talk::Talk;

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

/// A measured part lasts at least this long, so that clock and pipe do not count.
const SHORTEST_RUN_NS: f64 = 10e6;
/// A measured part lasts at least this share of the unmeasured part of its process.
const LEAST_MEASURED: f64 = 0.7;
/// Over all contenders together the measured parts last so many times as long as the rest; a little more than as long, since what
/// the probe says of the rest is not all.
const MEASURED_TO_REST: f64 = 1.15;
/// Shorter calls are measured in blocks of at least this length.
const SHORTEST_SPAN_NS: f64 = 10e3;
/// Calls that last longer are not made again only to settle the engine.
const LONG_CALL_NS: f64 = 1e9;
/// A contender so many times slower than the best in the check is not raced.
const OUTCLASSED_IN_CHECK: f64 = 20.0;
/// Calls that a round must have for a 95th percentile of its own.
const ENOUGH_FOR_P95: usize = 20;
/// Nanoseconds that a run may last beyond its spans for messages to go and come.
const PIPE_NS: f64 = 1e6;

/// How often a contender is called in a round.
#[derive(Clone, Copy, Debug)]
struct Pace {
    passes: u64,
    calls_per_span: u64,
    /// Nanoseconds of one pass, and of what is not measured in a round.
    pass: f64,
    unmeasured: f64,
}

impl Pace {
    fn of(probe: &Probe, sets: usize, settle: u64, options: &RaceOptions) -> Pace {
        let call = probe.call_ns.max(50.0);
        let settling = if probe.cold_ns < LONG_CALL_NS { settle as f64 * call } else { 0.0 };
        let unmeasured = probe.start.as_nanos() as f64 + probe.cold_ns + settling;
        let calls_per_span = (SHORTEST_SPAN_NS / call).ceil().max(1.0);
        let pass = call * calls_per_span * sets as f64;
        let passes = (LEAST_MEASURED * unmeasured).max(1.05 * SHORTEST_RUN_NS) / pass;
        let passes = passes.ceil().max(1.0);
        let kept = options.settings.keep_below.is_none_or(|keep| call <= keep);
        let least = if kept { options.least_calls.div_ceil(sets as u64) } else { 1 };
        Pace { passes: (passes as u64).max(least), calls_per_span: calls_per_span as u64, pass, unmeasured }
    }
}

/// Adds passes until more of a round is measured than not. Those that lack most get one more first; a call of a long kind that is
/// made once more only lengthens the round, and rounds are what a decision is made of.
fn balance(paces: &mut [&mut Pace]) {
    let measured = |pace: &Pace| pace.passes as f64 * pace.pass;
    let sum = |paces: &[&mut Pace], of: fn(&Pace) -> f64| paces.iter().map(|pace| of(pace)).sum::<f64>();
    while sum(paces, |pace| pace.passes as f64 * pace.pass) < MEASURED_TO_REST * sum(paces, |pace| pace.unmeasured) {
        let lacking = paces
            .iter_mut()
            .min_by(|one, other| (measured(one) / one.unmeasured.max(1.0)).total_cmp(&(measured(other) / other.unmeasured.max(1.0))));
        match lacking {
            Some(pace) => pace.passes += 1,
            None => return,
        }
    }
}

/// How often each contender is called in a round; none for one that was not probed.
fn paces(setup: &Setup<'_>, contest: &Contest, checks: &Checks, options: &RaceOptions) -> Vec<Option<Pace>> {
    let sets = contest.parameter_sets(setup, 0).len();
    let pace = |probe: &Probe, entry: &Entry| Pace::of(probe, sets, entry.calls_to_settle(setup), options);
    checks.entries.iter().zip(&contest.entries).map(|(checked, entry)| Some(pace(checked.probe.as_ref()?, entry))).collect()
}

/// About how long the least rounds take that can decide a race of this field, as far as the check can tell: those that are far
/// behind leave after two or three.
pub fn least_time(setup: &Setup<'_>, contest: &Contest, checks: &Checks, options: &RaceOptions) -> Duration {
    let mut paces: Vec<Option<Pace>> = paces(setup, contest, checks, options);
    balance(&mut paces.iter_mut().filter_map(Option::as_mut).collect::<Vec<_>>());
    let call = |at: usize| Some((checks.entries[at].probe.as_ref()?.call_ns, paces[at]?));
    let calls: Vec<(f64, Pace)> = (0..paces.len()).filter_map(call).collect();
    let best = calls.iter().map(|(call, _)| *call).fold(f64::INFINITY, f64::min);
    let rounds = |call: f64| match call / best {
        _ if options.settings.goal != Goal::Choice => least_rounds(calls.len()),
        far if far > OUTCLASSED_IN_CHECK => 0,
        far if far > 8.0 => 2,
        far if far > 3.0 => 3,
        _ => least_rounds(calls.len()),
    };
    let nanos: f64 = calls.iter().map(|(call, pace)| rounds(*call) as f64 * (pace.unmeasured + pace.passes as f64 * pace.pass)).sum();
    Duration::from_nanos(nanos as u64)
}

struct Track<'a> {
    inbox: &'a Inbox,
    setup: &'a Setup<'a>,
    contest: &'a Contest,
    paces: Vec<Option<Pace>>,
    entrants: Vec<Entrant>,
    measured_ns: Nanos,
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
    let count = contest.entries.len();
    let entrant = |entry: &Entry| Entrant {
        name: entry.name.clone(),
        runs: Runs::default(),
        timed: Timed::InRounds,
        reason: None,
        disagrees: false,
        failed_after: None,
    };
    let mut track = Track {
        inbox,
        setup,
        contest,
        paces: paces(setup, contest, checks, options),
        entrants: contest.entries.iter().map(entrant).collect(),
        measured_ns: 0.0,
    };
    let mut race = Race::new(count, options.settings);
    options.beside.iter().enumerate().filter(|(_, beside)| **beside).for_each(|(at, _)| race.put_beside(at));
    for (at, checked) in checks.entries.iter().enumerate() {
        if checked.verdict != CheckedVerdict::Agrees || checked.probe.is_none() {
            race.fail(at);
            if checked.verdict == CheckedVerdict::Agrees {
                track.entrants[at].reason = Some("it cannot be timed".to_owned());
            }
        }
    }
    if options.settings.goal == Goal::Choice {
        track.leave_out(&mut race, checks, options, events)?;
    }
    let names: Vec<String> = contest.entries.iter().map(|entry| entry.name.clone()).collect();
    let racing = race.racing();
    let paces = track.paces.iter_mut().enumerate().filter(|(at, _)| racing.contains(at));
    balance(&mut paces.filter_map(|(_, pace)| pace.as_mut()).collect::<Vec<_>>());
    let begun = Instant::now();
    let pressure = Pressure::read();
    let mut loops = Vec::new();
    let mut random = Pcg64Mcg::seed_from_u64(options.seed);
    let mut lasted: Vec<Duration> = vec![Duration::ZERO; count];
    let mut interrupted = false;
    while race.rounds() < options.settings.most_rounds && !(race.is_decided() && track.keeps_limits(&race, options)) {
        let expected: Duration = race.running().iter().map(|&at| lasted[at]).sum();
        let left = options.time.saturating_sub(begun.elapsed());
        if race.rounds() > 0 && expected > left {
            break;
        }
        loops.push(reference_loop().as_nanos() as f64);
        events(Event::Round(RoundBegins { race: &race, names: &names, left, round: expected }));
        let round = race.rounds() as u64;
        match track.round(&mut race, round, options, &mut random, &mut lasted, events) {
            Ok(drops) => {
                let left = options.time.saturating_sub(begun.elapsed());
                let expected = race.running().iter().map(|&at| lasted[at]).sum();
                let now = RoundBegins { race: &race, names: &names, left, round: expected };
                drops.into_iter().for_each(|drop| events(Event::Dropped(&now, drop)));
            }
            Err(Trouble::Interrupted) => {
                interrupted = true;
                break;
            }
            Err(trouble) => return Err(trouble),
        }
    }
    let total = begun.elapsed();
    let last_round = race.running().iter().map(|&at| lasted[at]).sum();
    loops.push(reference_loop().as_nanos() as f64);
    let pressure = pressure.since();
    if interrupted && race.rounds() == 0 {
        return Err(Trouble::Interrupted);
    }
    if !interrupted {
        events(Event::Confirming);
        track.confirm(&mut race, checks)?;
    }
    track.look_for_contradictions(&mut race);
    Ok(RaceReport {
        race,
        entrants: track.entrants,
        total,
        last_round,
        measured: Duration::from_nanos(track.measured_ns as u64),
        reference_loop: loops,
        pressure,
        interrupted,
    })
}

impl Track<'_> {
    /// Leaves out contenders that are hopeless already in the check, once a repeat confirms it.
    fn leave_out(
        &mut self,
        race: &mut Race,
        checks: &Checks,
        options: &RaceOptions,
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<(), Trouble> {
        let call = |at: usize| Some((at, checks.entries[at].probe.as_ref()?.call_ns));
        let probes: Vec<(usize, f64)> = race.racing().into_iter().filter_map(call).collect();
        // Only one that may be chosen outclasses others.
        let is_beside = |at: usize| options.beside.get(at).copied().unwrap_or(false);
        let may_be_chosen = probes.iter().filter(|(at, _)| !is_beside(*at));
        let Some(best) = may_be_chosen.map(|(_, call)| *call).min_by(f64::total_cmp) else { return Ok(()) };
        let keep_below = options.settings.keep_below;
        let sets = self.contest.parameter_sets(self.setup, 0);
        for (at, call) in probes {
            if call <= OUTCLASSED_IN_CHECK * best || keep_below.is_some_and(|keep| call <= keep) {
                continue;
            }
            let again = Talk::start(self.inbox, self.setup, self.contest, &self.contest.entries[at]).and_then(|mut talk| {
                let cold = talk.run(Mode::Time, &sets[..1], 1, 1)?;
                Ok((cold, talk.run(Mode::Time, &sets, 1, 1)?))
            });
            match again {
                Ok((cold, timed)) => {
                    let spans = &timed.ran.spans_ns;
                    let repeat = spans.iter().sum::<u64>() as f64 / spans.len().max(1) as f64;
                    if repeat > OUTCLASSED_IN_CHECK * best {
                        self.entrants[at].timed = Timed::InCheck(repeat.min(call));
                        self.entrants[at].runs.cold = cold.ran.spans_ns.iter().map(|&span| span as f64).collect();
                        race.leave_out(at);
                        events(Event::LeftOut(&self.contest.entries[at].name, repeat.min(call) / best));
                    }
                }
                Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
                Err(trouble) => self.fail(race, at, &trouble, events),
            }
        }
        Ok(())
    }

    /// One round: everyone once, in random order, each in a fresh process.
    fn round(
        &mut self,
        race: &mut Race,
        round: u64,
        options: &RaceOptions,
        random: &mut Pcg64Mcg,
        lasted: &mut [Duration],
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<Vec<Departure>, Trouble> {
        let sets = self.contest.parameter_sets(self.setup, round);
        let mut order = race.running();
        order.shuffle(random);
        let mut taken: Vec<Option<Taken>> = vec![None; self.contest.entries.len()];
        for at in order {
            let begun = Instant::now();
            match self.run_once(at, &sets) {
                Ok(run) => taken[at] = Some(run),
                Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
                Err(trouble) => self.fail(race, at, &trouble, events),
            }
            lasted[at] = begun.elapsed();
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
            runs.ran.push(round as usize);
            race.hold(at, runs.is_open(&options.limits));
        }
        Ok(race.record(&values))
    }

    fn run_once(&self, at: usize, sets: &[Vec<Value>]) -> Result<Taken, Trouble> {
        let pace = self.paces[at].ok_or_else(|| Trouble::Refused("it was not probed".to_owned()))?;
        let mut talk = Talk::start(self.inbox, self.setup, self.contest, &self.contest.entries[at])?;
        let cold = talk.run(Mode::Time, &sets[..1], 1, 1)?;
        let cold_ns = cold.ran.spans_ns.first().map_or(0.0, |&span| span as f64);
        let settle = self.contest.entries[at].calls_to_settle(self.setup);
        if settle > 0 && cold_ns < LONG_CALL_NS {
            let some = &sets[..sets.len().min(settle as usize)];
            talk.run(Mode::Time, some, settle.div_ceil(some.len() as u64), 1)?;
        }
        let timed = talk.run(Mode::Time, sets, pace.passes, pace.calls_per_span)?;
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
    fn keeps_limits(&self, race: &Race, options: &RaceOptions) -> bool {
        let may_be_chosen = race.racing().into_iter().filter(|&at| !options.beside.get(at).copied().unwrap_or(false));
        !may_be_chosen.into_iter().any(|at| self.entrants[at].runs.is_open(&options.limits))
    }

    fn fail(&mut self, race: &mut Race, at: usize, trouble: &Trouble, events: &mut dyn FnMut(Event<'_>)) {
        race.fail(at);
        self.entrants[at].reason = Some(trouble.to_string());
        self.entrants[at].failed_after = Some(race.rounds());
        events(Event::Failed(&self.contest.entries[at].name, trouble.to_string()));
    }

    /// Asks every survivor once more, with parameters it has not seen.
    fn confirm(&mut self, race: &mut Race, checks: &Checks) -> Result<(), Trouble> {
        let unseen = self.contest.parameter_sets(self.setup, u64::from(u32::MAX));
        let fresh =
            if self.contest.parameters.is_empty() { None } else { Some(references(self.inbox, self.setup, self.contest, &unseen)?.0) };
        let expected = fresh.as_ref().unwrap_or(&checks.references);
        for at in race.racing() {
            let verdict = Talk::start(self.inbox, self.setup, self.contest, &self.contest.entries[at])
                .and_then(|talk| compared(talk, self.contest, &unseen, expected));
            let reason = match verdict {
                Ok(CheckedVerdict::Disagrees(..)) => {
                    self.entrants[at].disagrees = true;
                    "it gave another answer when asked again after the race".to_owned()
                }
                Ok(_) => continue,
                Err(Trouble::Interrupted) => return Ok(()),
                Err(trouble) => trouble.to_string(),
            };
            self.entrants[at].reason = Some(reason);
            self.entrants[at].failed_after = Some(race.rounds());
            race.fail(at);
        }
        Ok(())
    }

    /// A program whose runs last longer than it says, in every round, is not believed. Kampf's own contenders are its own code;
    /// what their runs last longer is the machine's doing, as one busy with other things shows.
    fn look_for_contradictions(&mut self, race: &mut Race) {
        for at in race.racing() {
            if matches!(self.contest.entries[at].way, EntryWay::Plan(_)) {
                continue;
            }
            let excess = self.entrants[at].runs.excess.iter().copied().fold(f64::INFINITY, f64::min);
            if excess.is_finite() && excess > 0.01 {
                let reason = format!("its runs last {:.0} % longer by the runner's clock than it reports", excess * 100.0);
                self.entrants[at].reason = Some(reason);
                self.entrants[at].failed_after = Some(race.rounds());
                race.fail(at);
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_of_a_round_is_measured_than_not_and_no_call_is_made_for_nothing() {
        let pace = |pass: f64, unmeasured: f64| Pace { passes: 1, calls_per_span: 1, pass, unmeasured };
        let (mut short, mut long) = (pace(30.0, 33.0), pace(70.0, 74.0));
        balance(&mut [&mut short, &mut long]);
        assert_eq!((short.passes, long.passes), (2, 1));
        let mut enough = pace(50.0, 10.0);
        balance(&mut [&mut enough]);
        assert_eq!(enough.passes, 1);
        balance(&mut []);
    }
}
