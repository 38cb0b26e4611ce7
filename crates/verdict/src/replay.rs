//! The race again, from the values of its rounds.

use kampf_race::{Critical, Finding, Forecaster, Interval, LIMIT_LEVEL, Race, Standing, TimeLimits, Why, p95};

use crate::compared::compared;
use crate::facts::{Facts, FaultKind};
use crate::placed::{Forecast, Left, Outcome, Placed, Ratio};

/// Margins that a forecast is made for, besides the one asked for.
const MARGINS: [f64; 3] = [0.05, 0.1, 0.2];

/// A race that was run again.
pub(crate) struct Replayed {
    pub(crate) race: Race,
    standings: Vec<Standing>,
    /// Whether nobody who may be chosen is left open. Where only one has started there is nothing to tell, however well its time
    /// is known.
    pub(crate) decided: bool,
}

impl Replayed {
    pub(crate) fn of(facts: &Facts) -> Replayed {
        let contenders = &facts.contenders;
        let mut race = Race::new(facts.starters(), facts.settings);
        (0..facts.starters()).filter(|&at| facts.beside(at).is_some()).for_each(|at| race.put_beside(at));
        // Who was there from the beginning is compared so.
        let may_be_chosen = (0..facts.starters()).map(|at| contenders[at].choices.filter(|_| facts.beside(at).is_none()));
        compared(may_be_chosen).into_iter().for_each(|(one, base)| race.compare(one, base));
        does_not_start(&mut race, facts, 0..facts.starters());
        let values: Vec<Vec<f64>> = (0..contenders.len()).map(|at| facts.by_round(at)).collect();
        let counts = Critical::new(LIMIT_LEVEL, facts.rounds);
        for round in 0..facts.rounds {
            fail_after(&mut race, facts, round);
            begin_heats(&mut race, facts, round);
            let ran: Vec<Option<f64>> = values.iter().map(|values| Some(values[round]).filter(|value| !value.is_nan())).collect();
            hold(&mut race, facts, &counts, round);
            race.record(&ran);
        }
        fail_after(&mut race, facts, facts.rounds);
        begin_heats(&mut race, facts, facts.rounds);
        let decided = race.leader().is_some() && (race.is_told() || (race.starters() == 1 && facts.starters() == contenders.len()));
        Replayed { standings: race.standings(), race, decided }
    }

    /// What the rounds say about a contender.
    pub(crate) fn finding(&self, at: usize) -> Option<Finding> {
        self.standings.get(at).map(|standing| standing.finding)
    }

    /// How each contender stands, by its place.
    pub(crate) fn placed(&self, facts: &Facts) -> Vec<Placed> {
        let leader = self.race.leader();
        let best = leader.and_then(|leader| self.standings[leader].median);
        (0..facts.contenders.len()).map(|at| self.place(facts, at, leader, best)).collect()
    }

    fn place(&self, facts: &Facts, at: usize, leader: Option<usize>, best: Option<f64>) -> Placed {
        let (one, standing) = (&facts.contenders[at], &self.standings[at]);
        let median = standing.median.or(one.in_check);
        let in_rounds = standing.gap.map(|gap| Ratio { ratio: gap.ratio, interval: gap.interval });
        let behind = match (in_rounds, best) {
            _ if leader == Some(at) => Some(Ratio { ratio: 1.0, interval: Some(Interval { low: 1.0, high: 1.0 }) }),
            (Some(ratio), _) => Some(ratio),
            // One that ran no round with the leader is compared by its time in the check, or by what it ran.
            (None, Some(best)) => median.map(|median| Ratio { ratio: median / best, interval: None }),
            (None, None) => None,
        };
        let in_check = || one.in_check.map(|_| Left { round: 0, leader, at_least: None, times: None });
        let left = standing.left.map(|(left, gap)| Left {
            round: left.round,
            leader: Some(left.leader),
            at_least: gap.interval.map(|sure| sure.low),
            times: match left.why {
                Why::Outclassed { times } => Some(times),
                Why::Slower => None,
            },
        });
        Placed {
            outcome: outcome(one.fault.as_ref().map(|fault| fault.kind), standing.finding),
            beside: facts.beside(at),
            shown: behind.zip(best).map(|(behind, best)| behind.ratio * best).or(median),
            median,
            range: standing.interval.map(|Interval { low, high }| (low, high)).or(standing.range),
            p95: p95(&one.rounds, &one.p95_rounds),
            behind,
            common_rounds: standing.gap.map_or(0, |gap| gap.rounds),
            still_moving: standing.gap.is_some_and(|gap| gap.is_moving),
            left: left.or_else(in_check),
            trade_off: false,
            readings: Vec::new(),
        }
    }

    /// Rounds in all that a decision would take, for the margin asked for and for wider ones.
    pub(crate) fn forecasts(&self, margin: f64) -> Vec<Forecast> {
        let forecaster = Forecaster::new(&self.race);
        let margins = std::iter::once(margin).chain(MARGINS.into_iter().filter(|wider| *wider > margin));
        margins.map(|margin| Forecast { margin, rounds: forecaster.rounds(&self.race, margin) }).collect()
    }
}

/// Takes out those that ran no round.
fn does_not_start(race: &mut Race, facts: &Facts, those: std::ops::Range<usize>) {
    for at in those.filter(|&at| facts.contenders[at].rounds.is_empty()) {
        if facts.contenders[at].in_check.is_some() { race.leave_out(at) } else { race.fail(at) }
    }
}

/// Has those enter, and those heats begin, of which it is so after these rounds.
fn begin_heats(race: &mut Race, facts: &Facts, rounds: usize) {
    let mut there = facts.starters();
    for heat in &facts.heats {
        let entered = there..there + heat.entered;
        there = entered.end;
        if heat.after != rounds {
            continue;
        }
        for at in entered.clone() {
            if race.enter() == at && facts.beside(at).is_some() {
                race.put_beside(at);
            }
        }
        does_not_start(race, facts, entered);
        race.begin_heat(heat.anchor, &heat.members);
    }
}

/// Says of each that ran a round whether it was open then if it keeps the limits on times.
fn hold(race: &mut Race, facts: &Facts, counts: &Critical, round: usize) {
    let limits = facts.require.time_limits();
    for (at, one) in facts.contenders.iter().enumerate().filter(|_| limits != TimeLimits::default()) {
        let so_far = one.ran.partition_point(|ran| *ran <= round);
        let part = |values: &[f64]| values[..so_far.min(values.len())].to_vec();
        if one.ran.get(so_far.saturating_sub(1)) == Some(&round) {
            race.hold(at, limits.are_open(counts, &part(&one.rounds), &part(&one.p95_rounds), &part(&one.cold_rounds)));
        }
    }
}

/// Takes out those of which it was found after so many rounds that they fail, or give another answer.
fn fail_after(race: &mut Race, facts: &Facts, rounds: usize) {
    for (at, contender) in facts.contenders.iter().enumerate().filter(|(_, contender)| !contender.rounds.is_empty()) {
        if rounds > 0 && contender.fault.as_ref().is_some_and(|fault| fault.after == rounds) {
            race.fail(at);
        }
    }
}

fn outcome(fault: Option<FaultKind>, finding: Finding) -> Outcome {
    match (fault, finding) {
        (Some(FaultKind::Disagrees), _) => Outcome::Disagrees,
        (Some(FaultKind::NotBelieved), _) => Outcome::NotBelieved,
        (Some(FaultKind::Failed), _) | (None, Finding::Failed) => Outcome::Failed,
        (None, Finding::Leads) => Outcome::Standing,
        (None, Finding::Tied) => Outcome::Tied,
        (None, Finding::NotFaster) => Outcome::NotFaster,
        (None, Finding::Faster) => Outcome::Faster,
        (None, Finding::Slower) => Outcome::Slower,
        (None, Finding::Outclassed) => Outcome::Outclassed,
        (None, Finding::Open) => Outcome::Unresolved,
    }
}
