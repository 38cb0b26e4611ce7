//! A round: all who run in it are alive, and called by turns.

use std::time::Duration;

use kampf_protocol::KeptTimes;
use kampf_race::{Departure, Nanos, Turns, median, percentile};
use kampf_schema::Value;
use rand::seq::{IndexedRandom, SliceRandom};

use super::check::first_call;
use super::honesty::{Account, timed};
use super::log::Round;
use super::pace::{LONG_CALL_NS, longest_round, turns};
use super::race::Track;
use crate::event::Event;
use crate::trouble::Trouble;

/// Calls that a round must have for a 95th percentile of its own.
const ENOUGH_FOR_P95: usize = 20;

/// What a round gave of one that ran it to the end.
#[derive(Clone, Debug)]
pub(super) struct RoundRun {
    /// Nanoseconds of a call in each slice, by turns.
    pub(super) slices: Vec<Nanos>,
    /// Nanoseconds in all spans together.
    spans_ns: Nanos,
    p95: Option<Nanos>,
    cold_ns: Nanos,
    /// Processor nanoseconds of a call.
    cpu_ns: Nanos,
    kept: Option<KeptTimes>,
    /// Whether the runner's clock does not bear it out.
    pub(super) is_doubtful: bool,
    /// Rows of the first call, and of all timed calls: of so many passes.
    pub(super) first_rows: u64,
    pub(super) rows: u64,
    pub(super) repeats: u64,
}

/// A contender that is called by turns.
struct Playing {
    spans_a_slice: u64,
    calls_per_span: u64,
    cold_ns: Nanos,
    first_rows: u64,
    slices: Vec<Slice>,
    /// Nanoseconds of processor time that it has used between its slices, and in spans.
    idle_ns: Nanos,
    spans_ns: Nanos,
}

/// By so much, as a share of its spans, a program may use the processor while others have their turn.
const IDLE: f64 = 0.02;

/// What a slice gave.
struct Slice {
    /// Nanoseconds of each span.
    spans: Vec<Nanos>,
    account: Account,
    cpu_ns: u64,
    idle_ns: Nanos,
    rows: u64,
    kept: Option<KeptTimes>,
}

/// What came of having all play: whose slices they were, one after the other, and what each gave.
type Played = (Vec<usize>, Vec<Option<RoundRun>>);

impl Track<'_> {
    /// One round: those of a group start afresh, in random order, and are called by turns, each turn in another order.
    pub(super) fn round(&mut self, left: Duration, events: &mut dyn FnMut(Event<'_>)) -> Result<Vec<Departure>, Trouble> {
        let number = self.state.race.rounds();
        let all_sets = self.stage.sets(number as u64);
        let longest = longest_round(left, self.state.race.running().len(), number - self.heat_began());
        let (sets, turns, (played, mut taken)) = loop {
            let mut there = self.next_group();
            let turns = turns(there.iter().filter_map(|&at| self.state.paces[at].as_ref()), &all_sets, longest);
            let sets = &all_sets[..turns.sets];
            there.shuffle(&mut self.state.random);
            let played = match self.state.most_alive {
                1 => self.at_a_stretch(&there, sets, turns, events),
                _ => self.by_turns(&there, sets, turns, events),
            };
            there.iter().for_each(|&at| self.stage.end(at));
            let Some(played) = played? else { continue };
            let blamed = self.stage.see_state(&there)?;
            if blamed.is_empty() {
                break (sets, turns, played);
            }
            // What others have measured meanwhile was measured over rows that were not as they should be.
            let trouble = Trouble::NotBelieved("it changes more than it is asked to".to_owned());
            blamed.into_iter().for_each(|at| self.fail(at, &trouble, events));
            return Ok(Vec::new());
        };
        self.see_rows(sets, &mut taken, events)?;
        self.see_clock(&mut taken, events)?;
        let slices: Vec<Option<Vec<Nanos>>> = taken.iter().map(|run| Some(run.as_ref()?.slices.clone())).collect();
        let values = turns.values(&played, &slices);
        let mut held = Vec::new();
        for (at, (run, value)) in taken.into_iter().zip(&values).enumerate() {
            let Some((run, value)) = run.zip(*value) else { continue };
            self.state.measured_ns += run.spans_ns;
            let runs = &mut self.state.entrants[at].runs;
            runs.rounds.push(value);
            runs.p95.extend(run.p95);
            runs.cold.push(run.cold_ns);
            runs.cpu.push(run.cpu_ns);
            runs.hit.extend(run.kept.as_ref().and_then(|kept| middle(&kept.hits_ns)));
            runs.miss.extend(run.kept.as_ref().and_then(|kept| middle(&kept.misses_ns)));
            runs.ran.push(number);
            held.push((at, runs.is_open(&self.options.limits)));
        }
        held.iter().for_each(|&(at, is_open)| self.state.race.hold(at, is_open));
        let round = Round { values, held };
        let departures = self.state.race.record(&round.values);
        self.state.log.records(round);
        Ok(departures)
    }

    /// The next group of those that run: all of them, where they can be alive at once. More are dealt into groups, by chance and anew once all have
    /// run, with the leader in each; before there is one, with one of the best of the check.
    fn next_group(&mut self) -> Vec<usize> {
        let running = self.state.race.running();
        if running.len() <= self.state.most_alive.max(1) || self.state.most_alive < 2 {
            self.state.dealt.clear();
            return running;
        }
        // In a heat all are compared with its anchor.
        let leads = self.state.race.anchor().or(self.state.race.leader()).filter(|leader| running.contains(leader));
        let leads = leads.unwrap_or_else(|| self.one_of_the_best(&running));
        loop {
            if self.state.dealt.is_empty() {
                let mut others: Vec<usize> = running.iter().copied().filter(|&at| at != leads).collect();
                others.shuffle(&mut self.state.random);
                let groups = others.len().div_ceil(self.state.most_alive - 1);
                self.state.dealt = others.chunks(others.len().div_ceil(groups)).map(<[usize]>::to_vec).collect();
            }
            // Some may have left since, or lead.
            let mut group = self.state.dealt.pop().unwrap_or_default();
            group.retain(|at| running.contains(at) && *at != leads);
            if !group.is_empty() {
                group.push(leads);
                return group;
            }
        }
    }

    fn one_of_the_best(&mut self, running: &[usize]) -> usize {
        const BEST: usize = 3;
        let mut by_call: Vec<usize> = running.to_vec();
        by_call.sort_by(|&one, &other| self.in_check(one).unwrap_or(f64::MAX).total_cmp(&self.in_check(other).unwrap_or(f64::MAX)));
        by_call.truncate(BEST);
        by_call.choose(&mut self.state.random).copied().unwrap_or_default()
    }

    /// Has all play by turns. Who cannot be run leaves the race. None where not so many can be alive at once; that is heeded from then on.
    fn by_turns(
        &mut self,
        there: &[usize],
        sets: &[Vec<Value>],
        turns: Turns,
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<Option<Played>, Trouble> {
        let mut playing: Vec<Option<Playing>> = std::iter::repeat_with(|| None).take(self.state.entrants.len()).collect();
        for (before, &at) in there.iter().enumerate() {
            self.state.lasted[at] = Duration::ZERO;
            let begun = self.stage.now();
            let begins = self.begins(at, sets, turns);
            self.state.lasted[at] = self.stage.now() - begun;
            match begins {
                Ok(begun) => playing[at] = Some(begun),
                Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
                Err(_) if before > 0 && self.stage.may_be_crowded() => {
                    // Alone it may be able to: a server takes so many connections and no more.
                    there.iter().for_each(|&other| self.stage.end(other));
                    if self.one(at, events, |track| track.begins(at, sets, turns))?.is_some() {
                        self.state.most_alive = before;
                    }
                    return Ok(None);
                }
                Err(trouble) => {
                    self.stage.end(at);
                    self.fail(at, &trouble, events);
                }
            }
        }
        let (mut order, mut played) = (there.to_vec(), Vec::with_capacity(there.len() * turns.count()));
        for turn in 0..turns.count() {
            order.retain(|&at| playing[at].is_some());
            order.shuffle(&mut self.state.random);
            let set = &sets[turns.set(turn)..=turns.set(turn)];
            events(Event::Turn(turn + 1, turns.count()));
            for &at in &order {
                let Some(mut own) = playing[at].take() else { continue };
                if let Some(slice) = self.one(at, events, |track| track.slice(at, &own, set))? {
                    own.idle_ns += slice.idle_ns;
                    own.spans_ns += slice.spans.iter().sum::<Nanos>();
                    if !self.state.halted[at] && !own.slices.is_empty() && own.idle_ns > IDLE * own.spans_ns {
                        self.state.halted[at] = true;
                        events(Event::Halted(&self.state.entrants[at].name));
                    }
                    if self.state.halted[at] {
                        self.stage.halt(at);
                    }
                    own.slices.push(slice);
                    playing[at] = Some(own);
                    played.push(at);
                }
            }
        }
        let taken = playing.into_iter().map(|own| own.map(|own| own.taken(turns))).collect();
        Ok(Some((played, taken)))
    }

    /// Has each play all of its slices, one contender after the other, where no two can be alive at once.
    fn at_a_stretch(
        &mut self,
        there: &[usize],
        sets: &[Vec<Value>],
        turns: Turns,
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<Option<Played>, Trouble> {
        let (mut played, mut taken) = (Vec::new(), vec![None; self.state.entrants.len()]);
        for &at in there {
            self.state.lasted[at] = Duration::ZERO;
            let own = self.one(at, events, |track| {
                let mut own = track.begins(at, sets, turns)?;
                for turn in 0..turns.count() {
                    own.slices.push(track.slice(at, &own, &sets[turns.set(turn)..=turns.set(turn)])?);
                }
                Ok(own)
            })?;
            self.stage.end(at);
            played.extend(own.iter().flat_map(|own| vec![at; own.slices.len()]));
            taken[at] = own.map(|own| own.taken(turns));
        }
        Ok(Some((played, taken)))
    }

    /// Has one contender do something; none where it cannot, for which it leaves the race.
    fn one<T>(
        &mut self,
        at: usize,
        events: &mut dyn FnMut(Event<'_>),
        what: impl FnOnce(&mut Self) -> Result<T, Trouble>,
    ) -> Result<Option<T>, Trouble> {
        let begun = self.stage.now();
        let done = what(self);
        self.state.lasted[at] += self.stage.now() - begun;
        match done {
            Ok(done) => Ok(Some(done)),
            Err(Trouble::Interrupted) => Err(Trouble::Interrupted),
            Err(trouble) => {
                self.stage.end(at);
                self.fail(at, &trouble, events);
                Ok(None)
            }
        }
    }

    /// Starts one and has it make its first call, and those that settle the engine.
    fn begins(&mut self, at: usize, sets: &[Vec<Value>], turns: Turns) -> Result<Playing, Trouble> {
        let pace = self.state.paces[at].ok_or_else(|| Trouble::Refused("it was not probed".to_owned()))?;
        let settle = self.stage.contestants()[at].calls_to_settle;
        self.stage.start(at)?;
        let cold = timed(self.stage, at, &sets[..1], 1, 1)?;
        let cold_ns = first_call(&cold, self.state.messages[at]);
        if settle > 0 && cold_ns < LONG_CALL_NS {
            let some = &sets[..sets.len().min(settle as usize)];
            timed(self.stage, at, some, settle.div_ceil(some.len() as u64), 1)?;
        }
        let (spans_a_slice, calls_per_span) = (pace.spans(turns), pace.calls_per_span);
        Ok(Playing {
            spans_a_slice,
            calls_per_span,
            cold_ns,
            first_rows: cold.ran.rows,
            slices: Vec::with_capacity(turns.count()),
            idle_ns: 0.0,
            spans_ns: 0.0,
        })
    }

    fn slice(&mut self, at: usize, own: &Playing, set: &[Vec<Value>]) -> Result<Slice, Trouble> {
        let done = timed(self.stage, at, set, own.spans_a_slice, own.calls_per_span)?;
        let account = Account::of(&done, own.spans_a_slice * own.calls_per_span, self.state.messages[at]);
        let spans = done.ran.spans_ns.iter().map(|&span| span as Nanos).collect();
        let idle_ns = done.idle_ns.unwrap_or(0) as Nanos;
        Ok(Slice { spans, account, cpu_ns: done.ran.cpu_ns, idle_ns, rows: done.ran.rows, kept: done.ran.kept })
    }
}

impl Playing {
    /// All slices together are believed or not: one alone may be little longer than what a message to the program varies by.
    fn taken(self, turns: Turns) -> RoundRun {
        let calls = (self.spans_a_slice * self.calls_per_span).max(1);
        let all = self.slices.iter().map(|slice| slice.account).reduce(Account::and).unwrap_or_default();
        let factor = all.factor();
        // Which slice took how long is the clock's word of a program, else it could put the time of all into one that the median passes over.
        let slices = self.slices.iter().map(|slice| all.share_of(slice.account)).collect();
        let each: Vec<Nanos> =
            self.slices.iter().flat_map(|slice| &slice.spans).map(|span| factor * span / self.calls_per_span as Nanos).collect();
        let kept = self.slices.iter().filter_map(|slice| slice.kept.clone()).reduce(|mut all, own| {
            all.hits_ns.extend(own.hits_ns);
            all.misses_ns.extend(own.misses_ns);
            all
        });
        let p95 = match &kept {
            Some(kept) => p95_of_kept(kept),
            None => percentile(&each, 0.95),
        };
        let all_calls = calls * self.slices.len() as u64;
        RoundRun {
            slices,
            spans_ns: all.call_ns() * all_calls as Nanos,
            p95: p95.filter(|_| each.len() >= ENOUGH_FOR_P95),
            cold_ns: self.cold_ns,
            cpu_ns: self.slices.iter().map(|slice| slice.cpu_ns as Nanos).sum::<Nanos>() / all_calls.max(1) as Nanos,
            is_doubtful: !all.is_believed(),
            first_rows: self.first_rows,
            rows: self.slices.iter().map(|slice| slice.rows).sum(),
            repeats: calls * turns.passes as u64,
            kept,
        }
    }
}

fn middle(values: &[u64]) -> Option<Nanos> {
    median(&values.iter().map(|&value| value as Nanos).collect::<Vec<_>>())
}

/// The 95th percentile of calls of which so many find their answer kept: those are shorter than the others, and the first so many of all.
fn p95_of_kept(kept: &KeptTimes) -> Option<Nanos> {
    const SHARE: f64 = 0.95;
    let times = |values: &[u64]| values.iter().map(|&value| value as Nanos).collect::<Vec<_>>();
    match kept.hit_rate {
        rate if SHARE <= rate => percentile(&times(&kept.hits_ns), SHARE / rate),
        rate => percentile(&times(&kept.misses_ns), (SHARE - rate) / (1.0 - rate)),
    }
}
