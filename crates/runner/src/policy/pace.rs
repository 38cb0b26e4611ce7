//! How often each contender is called in a round.

use std::time::Duration;

use kampf_race::{Goal, least_rounds};

use super::check::{Checks, Probe};
use super::honesty::Believed;
use super::race::{OUTCLASSED_IN_CHECK, RaceOptions};
use super::stage::{Contestant, Stage};

/// A measured part lasts at least this long, so that clock and pipe do not count.
pub(super) const SHORTEST_RUN_NS: f64 = 10e6;
/// A measured part lasts at least this share of the unmeasured part of its process.
const LEAST_MEASURED: f64 = 0.7;
/// Over all contenders together the measured parts last so many times as long as the rest; a little more than as long, since what
/// the probe says of the rest is not all.
const MEASURED_TO_REST: f64 = 1.15;
/// Shorter calls are measured in blocks of at least this length.
pub(super) const SHORTEST_SPAN_NS: f64 = 10e3;
/// Calls that last longer are not made again only to settle the engine.
pub(crate) const LONG_CALL_NS: f64 = 1e9;

/// How often a contender is called in a round.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pace {
    pub(crate) passes: u64,
    pub(crate) calls_per_span: u64,
    /// Nanoseconds of one pass, and of what is not measured in a round.
    pass: f64,
    unmeasured: f64,
}

impl Pace {
    fn of(probe: &Probe, sets: usize, settle: u64, options: &RaceOptions) -> Pace {
        let call = probe.call_ns.max(50.0);
        let settling = if probe.cold_ns < LONG_CALL_NS { settle as f64 * call } else { 0.0 };
        let unmeasured = probe.start.as_nanos() as f64 + probe.cold_ns + settling;
        let calls_per_span = (SHORTEST_SPAN_NS / call).ceil().max(probe.calls_per_span as f64).max(1.0);
        let pass = call * calls_per_span * sets as f64;
        let shortest = SHORTEST_RUN_NS.max(probe.run_ns);
        let passes = (LEAST_MEASURED * unmeasured).max(1.05 * shortest) / pass;
        let passes = passes.ceil().max(1.0);
        let kept = options.settings.keep_below.is_none_or(|keep| call <= keep);
        let least = if kept { options.least_calls.div_ceil(sets as u64) } else { 1 };
        Pace { passes: (passes as u64).max(least), calls_per_span: calls_per_span as u64, pass, unmeasured }
    }
}

impl Pace {
    /// Makes runs of a program as long as it turns out that they have to be to be believed.
    pub(crate) fn lengthen(&mut self, believed: &Believed) {
        let calls = self.pass / self.calls_per_span as f64;
        self.calls_per_span = self.calls_per_span.max(believed.calls_per_span);
        self.pass = calls * self.calls_per_span as f64;
        self.passes = self.passes.max((1.05 * believed.run / self.pass).ceil() as u64);
    }
}

/// Adds passes until more of a round is measured than not. Those that lack most get one more first; a call of a long kind that is
/// made once more only lengthens the round, and rounds are what a decision is made of.
pub(crate) fn balance(paces: &mut [&mut Pace]) {
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
pub(crate) fn paces(stage: &dyn Stage, checks: &Checks, options: &RaceOptions) -> Vec<Option<Pace>> {
    let sets = stage.sets(0).len();
    let pace = |probe: &Probe, one: &Contestant| Pace::of(probe, sets, one.calls_to_settle, options);
    checks.entries.iter().zip(stage.contestants()).map(|(checked, one)| Some(pace(checked.probe.as_ref()?, one))).collect()
}

/// About how long the least rounds take that can decide a race of this field, as far as the check can tell: those that are far
/// behind leave after two or three.
pub(crate) fn least_time(stage: &dyn Stage, checks: &Checks, options: &RaceOptions) -> Duration {
    let mut paces: Vec<Option<Pace>> = paces(stage, checks, options);
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
