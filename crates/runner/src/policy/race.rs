//! Rounds until the time is up.

use std::time::Duration;

use kampf_race::{Critical, Goal, LIMIT_LEVEL, Nanos, Race, RaceSettings, TimeLimits};
use kampf_schema::Value;
use rand_pcg::Pcg64Mcg;

use super::check::{CheckedVerdict, Checks, first_call};
use super::honesty::{Account, timed};
use super::log::Log;
use super::pace::Pace;
use super::stage::Stage;
use crate::event::{Event, RoundBegins};
use crate::trouble::Trouble;

/// How a race is run.
#[derive(Clone, Debug, PartialEq)]
pub struct RaceOptions {
    /// How it is decided, and at most how many rounds there are.
    pub settings: RaceSettings,
    /// No round begins that cannot end in this time, with asking the survivors once more after it.
    pub time: Duration,
    /// At least so many measured calls of a contender that may be good enough, in every round.
    pub least_calls: u64,
    /// Seed of the order within rounds.
    pub seed: u64,
    /// Whether each entry only runs beside the race, as it is not to be chosen.
    pub beside: Vec<bool>,
    /// Pairs of entries of which the first is compared with the second whoever leads: while it is open what it costs, a decided race goes on.
    pub compared: Vec<(usize, usize)>,
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
    /// From the first round to the last.
    pub total: Duration,
    /// How long it took to ask the survivors once more.
    pub confirmed: Duration,
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
    /// Why the survivors were not all asked once more, where they were not.
    pub not_confirmed: Option<String>,
    /// The heats after the first.
    pub heats: Vec<HeatRun>,
}

/// A heat after the first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HeatRun {
    /// After how many rounds it began.
    pub after: usize,
    /// Around whom, by its place.
    pub anchor: usize,
    /// Who ran beside it, by their places, those that entered for it included.
    pub members: Vec<usize>,
    /// How many entered for it, behind all others.
    pub entered: usize,
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
    /// What kind of reason that is, where it was found after the check.
    pub fault: Option<EntrantFault>,
    /// After how many rounds it was found.
    pub failed_after: Option<usize>,
    /// Whether it worked while others had their turn, so that it was stopped meanwhile.
    pub is_halted: bool,
}

/// What was found to be wrong with a contender after the check.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EntrantFault {
    /// It could not be run.
    Failed,
    /// It gave another answer.
    Disagrees,
    /// What it says of its runs is not so. The race is as if it had never been there.
    NotBelieved,
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
    /// Of one that keeps answers, nanoseconds of a call that finds its answer kept, per round.
    pub hit: Vec<Nanos>,
    /// The same of a call that does not.
    pub miss: Vec<Nanos>,
    /// The rounds that it ran, by their numbers from 0.
    pub ran: Vec<usize>,
    /// How many of the last rounds, one after the other, the runner's clock did not bear out.
    pub(super) doubts: usize,
}

impl Runs {
    /// Whether it is open if these runs keep limits on times.
    pub(super) fn is_open(&self, limits: &TimeLimits) -> bool {
        limits.are_open(&Critical::new(LIMIT_LEVEL, self.rounds.len()), &self.rounds, &self.p95, &self.cold)
    }
}

/// A contender so many times slower than the best in the check is not raced.
pub(crate) const OUTCLASSED_IN_CHECK: f64 = 20.0;
/// How slow one is whose calls last longer is known by two of them.
const LONG_ENOUGH_NS: Nanos = 50e6;
/// A race that is being run, on a stage with a field that was checked with probes. What the machine does meanwhile is not known here.
pub(super) struct Track<'a> {
    pub(super) stage: &'a mut dyn Stage,
    pub(super) checks: &'a Checks,
    pub(super) options: &'a RaceOptions,
    pub(super) state: State,
}

/// All that is known of a race between its heats.
#[derive(Clone, Debug)]
pub(crate) struct State {
    pub(super) race: Race,
    /// All that the race was told.
    pub(super) log: Log,
    pub(super) entrants: Vec<Entrant>,
    /// Whether each only runs beside the race.
    pub(super) beside: Vec<bool>,
    pub(super) paces: Vec<Option<Pace>>,
    /// What a message to a program and back costs.
    pub(super) messages: Vec<Option<Nanos>>,
    /// How many may be alive at once, and the groups that are still to run where those that run are more.
    pub(super) most_alive: usize,
    pub(super) dealt: Vec<Vec<usize>>,
    /// Who works while others have their turn, and is stopped meanwhile.
    pub(super) halted: Vec<bool>,
    /// How long each took in its last round.
    pub(super) lasted: Vec<Duration>,
    pub(super) measured_ns: Nanos,
    /// Whether somebody was forgotten since this was last looked at.
    pub(super) has_forgotten: bool,
    pub(super) random: Pcg64Mcg,
    /// Nanoseconds of the reference loop before each round.
    pub(super) loops: Vec<Nanos>,
    /// Time of all rounds so far, and of what is between heats.
    pub(super) spent: Duration,
    pub(super) between: Duration,
    /// Whether the user wants to stop.
    pub(super) interrupted: bool,
    /// Whether it was asked what the next heat is, and this one goes on.
    pub(super) has_asked: bool,
}

impl RaceOptions {
    pub(super) fn is_beside(&self, at: usize) -> bool {
        self.beside.get(at).copied().unwrap_or(false)
    }
}

impl Track<'_> {
    /// Rounds until the race, or the heat that is run, is over, or its time is up; false where the user wants to stop.
    pub(super) fn rounds(&mut self, events: &mut dyn FnMut(Event<'_>)) -> Result<bool, Trouble> {
        let names: Vec<String> = self.state.entrants.iter().map(|entrant| entrant.name.clone()).collect();
        let begun = self.stage.now();
        let ended = self.rounds_since(begun, &names, events);
        self.state.spent += self.stage.now() - begun;
        ended
    }

    fn rounds_since(&mut self, begun: Duration, names: &[String], events: &mut dyn FnMut(Event<'_>)) -> Result<bool, Trouble> {
        let options = self.options;
        // A value of each of those that race is owed, however little time is left.
        let is_owed = |track: &Track<'_>| track.state.race.running().iter().any(|&at| track.state.entrants[at].runs.rounds.is_empty());
        while self.state.race.rounds() < options.settings.most_rounds && (is_owed(self) || !self.is_over()) {
            let round = self.state.next_lasts();
            let left = self.left(begun);
            if self.state.race.rounds() > 0 && round > left.saturating_sub(self.kept_for_others()) && !is_owed(self) {
                break;
            }
            let machine = self.stage.reference_loop();
            self.state.loops.push(machine);
            events(Event::Round(RoundBegins { race: &self.state.race, names, left, round }));
            match self.round(left, events) {
                Ok(drops) => {
                    let left = self.left(begun);
                    let now = RoundBegins { race: &self.state.race, names, left, round: self.state.next_lasts() };
                    drops.into_iter().for_each(|drop| events(Event::Dropped(&now, drop)));
                }
                Err(Trouble::Interrupted) => return Ok(false),
                Err(trouble) => return Err(trouble),
            }
        }
        Ok(true)
    }

    /// Whether there is nothing more to find out: in a heat also where somebody beats its anchor, for which the next one is asked then.
    fn is_over(&self) -> bool {
        let race = &self.state.race;
        // Around whom the next heat is to be run is known as soon as one could be taken.
        let is_first_of_several = self.options.settings.entrants > 0 && self.state.log.heats().is_empty();
        let asks = !self.state.has_asked
            && if race.anchor().is_some() {
                race.beats_anchor()
            } else {
                is_first_of_several && race.is_known_enough() && self.keeps_limits()
            };
        asks || (race.is_decided() && self.keeps_limits() && race.has_compared())
    }

    /// After how many rounds the heat began that is run.
    pub(super) fn heat_began(&self) -> usize {
        self.state.log.heats().last().map_or(0, |heat| heat.after)
    }

    /// Of what is left, the time of heats to come: half of all where the first heat may be followed by others.
    fn kept_for_others(&self) -> Duration {
        let is_first = self.options.settings.entrants > 0 && self.state.log.heats().is_empty() && !self.state.has_asked;
        if is_first { self.options.time / 2 } else { Duration::ZERO }
    }

    /// Time that is left for rounds of all heats: asking the survivors once more is to fit in as well.
    fn left(&self, begun: Duration) -> Duration {
        let sets = self.checks.references.len() as f64;
        let once_more =
            |at: usize| Some(self.checks.entries[at].probe.as_ref()?.start + Duration::from_nanos((sets * self.in_check(at)?) as u64));
        let all: Duration = self.state.race.racing().into_iter().filter_map(once_more).sum();
        self.options.time.saturating_sub(self.state.spent + self.state.between + (self.stage.now() - begun) + all)
    }

    /// Who of those from a place on takes part, and how often each is called.
    pub(super) fn line_up(&mut self, from: usize, events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        for (at, checked) in self.checks.entries.iter().enumerate().skip(from) {
            if checked.verdict == CheckedVerdict::Agrees && checked.probe.is_some() {
                continue;
            }
            self.state.log.fails(at, self.state.race.rounds());
            self.state.race.fail(at);
            if checked.verdict == CheckedVerdict::Agrees {
                self.state.entrants[at].reason = Some("it cannot be timed".to_owned());
            }
        }
        if self.options.settings.goal == Goal::Choice {
            self.leave_out(from, events)?;
        }
        Ok(())
    }

    /// Nanoseconds of a call in the check.
    pub(super) fn in_check(&self, at: usize) -> Option<Nanos> {
        self.checks.entries[at].probe.as_ref().map(|probe| probe.call_ns)
    }

    /// The time from which on one is hopeless in the check: only one that may be chosen outclasses others.
    pub(super) fn hopeless(&self) -> Nanos {
        let leads = |at: &usize| !self.state.beside[*at] && self.state.entrants[*at].fault.is_none();
        let calls = (0..self.state.entrants.len()).filter(leads).filter_map(|at| self.in_check(at));
        OUTCLASSED_IN_CHECK * calls.min_by(f64::total_cmp).unwrap_or(f64::INFINITY)
    }

    /// Leaves out contenders that are hopeless already in the check, once a repeat confirms it.
    fn leave_out(&mut self, from: usize, events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        let hopeless = self.hopeless();
        let keep_below = self.options.settings.keep_below;
        let sets = self.stage.sets(0);
        for at in self.state.race.racing().into_iter().filter(|at| *at >= from) {
            let Some(call) = self.in_check(at) else { continue };
            if call <= hopeless || keep_below.is_some_and(|keep| call <= keep) {
                continue;
            }
            // Of a long call two in the check are enough, the first of which was slow too.
            let first = self.checks.entries[at].probe.as_ref().map_or(0.0, |probe| probe.cold_ns);
            let again = if first.min(call) > LONG_ENOUGH_NS.max(hopeless) { Ok((first, first)) } else { self.once_more(at, &sets) };
            match again {
                Ok((cold_ns, again)) if again > hopeless => {
                    self.state.entrants[at].timed = Timed::InCheck(again.min(call));
                    self.state.entrants[at].runs.cold = vec![cold_ns];
                    self.state.log.leaves_out(at);
                    self.state.race.leave_out(at);
                    events(Event::LeftOut(&self.state.entrants[at].name));
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
        let message = self.state.messages[at];
        let cold = timed(self.stage, at, &sets[..1], 1, 1)?;
        let cold_ns = first_call(&cold, message);
        let later = timed(self.stage, at, sets, 1, 1)?;
        self.stage.end(at);
        Ok((cold_ns, Account::of(&later, sets.len() as u64, message).call_ns()))
    }

    /// Whether it is known of all that may be chosen if they keep the limits on times.
    fn keeps_limits(&self) -> bool {
        let may_be_chosen = self.state.race.racing().into_iter().filter(|&at| !self.state.beside[at]);
        !may_be_chosen.into_iter().any(|at| self.state.entrants[at].runs.is_open(&self.options.limits))
    }

    /// Takes somebody out of the race for trouble with it.
    pub(super) fn fail(&mut self, at: usize, trouble: &Trouble, events: &mut dyn FnMut(Event<'_>)) {
        match trouble {
            Trouble::NotBelieved(_) if self.stage.contestants()[at].counter.is_program => {
                self.forget(at, EntrantFault::NotBelieved, trouble.to_string());
            }
            Trouble::NotBelieved(_) => self.take_out(at, EntrantFault::Disagrees, trouble.to_string()),
            _ => self.take_out(at, EntrantFault::Failed, trouble.to_string()),
        }
        events(Event::Failed(&self.state.entrants[at].name, trouble.to_string()));
    }

    /// Takes somebody out of the race. What is not derived may have outclassed everybody by not doing what was asked: who left because of it is
    /// back.
    pub(super) fn take_out(&mut self, at: usize, fault: EntrantFault, reason: String) {
        if !self.stage.contestants()[at].is_derived {
            return self.forget(at, fault, reason);
        }
        let rounds = self.state.race.rounds();
        self.state.log.fails(at, rounds);
        self.state.race.fail(at);
        let entrant = &mut self.state.entrants[at];
        (entrant.fault, entrant.reason, entrant.failed_after) = (Some(fault), Some(reason), Some(rounds));
    }
}
