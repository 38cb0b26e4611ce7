//! How often each contender is called in a round.

use std::time::Duration;

use kampf_race::{Goal, Turns, least_rounds};
use kampf_schema::Value;

use super::check::{Checks, Probe};
use super::honesty::Believed;
use super::race::{OUTCLASSED_IN_CHECK, RaceOptions};
use super::stage::{Contestant, Stage, has_parameters};

/// A measured part lasts at least this long, so that clock and pipe do not count.
pub(super) const SHORTEST_RUN_NS: f64 = 10e6;
/// Shorter calls are measured in blocks of at least this length.
pub(super) const SHORTEST_SPAN_NS: f64 = 10e3;
/// Calls that last longer are not made again only to settle the engine.
pub(crate) const LONG_CALL_NS: f64 = 1e9;

/// A slice lasts at least this long, so that waking a contender up does not count.
const SHORTEST_SLICE_NS: f64 = 1e6;
/// Waking a contender up and hearing of it takes about as long.
const TURNING_NS: f64 = 60e3;
/// A program's slice lasts so many times as long as a message to it, whose cost is known but not how it varies.
const SLICE_TO_MESSAGE: f64 = 25.0;

/// How often a contender is called in a round.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pace {
    pub(crate) calls_per_span: u64,
    /// Nanoseconds of a call.
    pub(super) call: f64,
    /// Nanoseconds that are measured in a round at least, and in a slice.
    measured: f64,
    slice: f64,
    /// Calls that are measured in a round at least.
    least_calls: u64,
    /// Nanoseconds of what is not measured in a round.
    unmeasured: f64,
}

impl Pace {
    fn of(probe: &Probe, one: &Contestant, options: &RaceOptions) -> Pace {
        let call = probe.call_ns.max(50.0);
        let settling = if probe.cold_ns < LONG_CALL_NS { one.calls_to_settle as f64 * call } else { 0.0 };
        let unmeasured = probe.start.as_nanos() as f64 + probe.cold_ns + settling;
        let kept = options.settings.keep_below.is_none_or(|keep| call <= keep);
        let least_calls = if kept { options.least_calls } else { 1 };
        if one.writes {
            // A slice is one call, however short: what it has written is taken back before the next one.
            return Pace { calls_per_span: 1, call, measured: 0.0, slice: 0.0, least_calls, unmeasured };
        }
        Pace {
            calls_per_span: (SHORTEST_SPAN_NS / call).ceil().max(probe.calls_per_span as f64).max(1.0) as u64,
            call,
            measured: 1.05 * SHORTEST_RUN_NS.max(probe.run_ns),
            slice: SHORTEST_SLICE_NS.max(SLICE_TO_MESSAGE * probe.message_ns.unwrap_or(0.0)),
            least_calls,
            unmeasured,
        }
    }

    fn span(&self) -> f64 {
        self.call * self.calls_per_span as f64
    }

    /// Spans of a slice.
    pub(crate) fn spans(&self, turns: Turns) -> u64 {
        let count = turns.count() as f64;
        let long_enough = (self.slice.max(self.measured / count) / self.span()).ceil().max(1.0) as u64;
        long_enough.max(self.least_calls.div_ceil(turns.count() as u64 * self.calls_per_span))
    }

    /// Nanoseconds that are measured in a round.
    fn measures(&self, turns: Turns) -> f64 {
        self.spans(turns) as f64 * self.span() * turns.count() as f64
    }

    /// Makes runs of a program as long as it turns out that they have to be to be believed.
    pub(crate) fn lengthen(&mut self, believed: &Believed) {
        self.calls_per_span = self.calls_per_span.max(believed.calls_per_span);
        self.measured = self.measured.max(1.05 * believed.run);
        self.slice = self.slice.max(SLICE_TO_MESSAGE * believed.message);
    }
}

/// How often each contender is called in a round; none for one that was not probed.
pub(crate) fn paces(stage: &dyn Stage, checks: &Checks, options: &RaceOptions) -> Vec<Option<Pace>> {
    let pace = |probe: &Probe, one: &Contestant| Pace::of(probe, one, options);
    checks.entries.iter().zip(stage.contestants()).map(|(checked, one)| Some(pace(checked.probe.as_ref()?, one))).collect()
}

/// A decision usually takes so many times the rounds that can bring one at all; and however many there were, some more are to fit in.
const ROUNDS_TO_LEAST: f64 = 1.5;
const SOME_ROUNDS: f64 = 8.0;

/// How many nanoseconds a round may last, so that those fit in that a decision between so many usually takes.
pub(crate) fn longest_round(left: Duration, contenders: usize, rounds: usize) -> f64 {
    let wanted = (ROUNDS_TO_LEAST * least_rounds(contenders) as f64 - rounds as f64).max(SOME_ROUNDS);
    left.as_nanos() as f64 / wanted
}

/// The turns of a round in which some run, which may last so many nanoseconds.
pub(crate) fn turns<'p>(paces: impl Iterator<Item = &'p Pace> + Clone, sets: &[Vec<Value>], longest: f64) -> Turns {
    let unmeasured = paces.clone().map(|pace| pace.unmeasured).sum::<f64>();
    if has_parameters(sets) {
        let turns = Turns::over(sets.len(), paces.clone().map(|pace| pace.call).fold(0.0, f64::max));
        let turning = paces.clone().count() as f64 * turns.count() as f64 * TURNING_NS;
        let lasts = unmeasured + turning + paces.map(|pace| pace.measures(turns)).sum::<f64>();
        // Several sets share a phase of the machine in one pass already; more rounds are worth more than more passes where time is short.
        return if lasts > longest { Turns { passes: 1, ..turns } } else { turns };
    }
    let pass = |passes: usize| {
        let turns = Turns { sets: 1, passes };
        paces.clone().map(|pace| pace.spans(turns) as f64 * pace.span() + TURNING_NS).sum()
    };
    Turns::soonest(unmeasured, pass, longest)
}

/// About how long the least rounds take that can decide a race of this field, as far as the check can tell: those that are far
/// behind leave after two or three.
pub(crate) fn least_time(stage: &dyn Stage, checks: &Checks, options: &RaceOptions) -> Duration {
    let paces: Vec<Pace> = paces(stage, checks, options).into_iter().flatten().collect();
    let rounds_wanted = ROUNDS_TO_LEAST * least_rounds(paces.len()) as f64;
    let turns = turns(paces.iter(), &stage.sets(0), options.time.as_nanos() as f64 / rounds_wanted);
    let best = paces.iter().map(|pace| pace.call).fold(f64::INFINITY, f64::min);
    let rounds = |call: f64| match call / best {
        _ if options.settings.goal != Goal::Choice => least_rounds(paces.len()),
        far if far > OUTCLASSED_IN_CHECK => 0,
        far if far > 8.0 => 2,
        far if far > 3.0 => 3,
        _ => least_rounds(paces.len()),
    };
    let nanos: f64 = paces.iter().map(|pace| rounds(pace.call) as f64 * (pace.unmeasured + pace.measures(turns))).sum();
    Duration::from_nanos(nanos as u64)
}

#[cfg(test)]
mod tests {
    use super::*;

    const FIVE: Turns = Turns { sets: 1, passes: 5 };

    fn pace(call: f64, measured: f64, unmeasured: f64) -> Pace {
        Pace { calls_per_span: 1, call, measured, slice: SHORTEST_SLICE_NS, least_calls: 1, unmeasured }
    }

    #[test]
    fn with_parameters_there_is_one_pass_where_the_time_is_short() {
        let sets: Vec<Vec<Value>> = (0..8).map(|set| vec![Value::Integer(set)]).collect();
        let field = [pace(50e3, 10e6, 5e6), pace(80e3, 10e6, 5e6)];
        // Two times 24 slices of a millisecond, with starts and waking up, are about 60 ms.
        assert_eq!(turns(field.iter(), &sets, 100e6), Turns { sets: 8, passes: 3 });
        assert_eq!(turns(field.iter(), &sets, 40e6), Turns { sets: 8, passes: 1 });
    }

    #[test]
    fn slices_are_a_millisecond_long_and_together_what_is_to_be_measured() {
        assert_eq!(pace(1e3, 0.0, 0.0).spans(FIVE), 1_000);
        assert_eq!(pace(1e6, 10e6, 0.0).spans(FIVE), 2);
        assert_eq!(pace(20e6, 10e6, 0.0).spans(FIVE), 1);
        let in_blocks = Pace { calls_per_span: 10, ..pace(1e3, 0.0, 0.0) };
        assert_eq!(in_blocks.spans(FIVE), 100);
        let many = Pace { least_calls: 101, ..pace(1e6, 5e6, 0.0) };
        assert_eq!((many.spans(FIVE), many.spans(Turns { sets: 8, passes: 3 })), (21, 5));
    }
}
