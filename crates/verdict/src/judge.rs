//! From facts to the verdict.

use kampf_race::{Finding, Goal, LITTLE};

use crate::by_choice::{by_choice, told_around};
use crate::effects::effects;
use crate::facts::{Facts, RunsBeside};
use crate::ladder::ladder;
use crate::placed::{Outcome, Placed, Ratio};
use crate::readings::readings;
use crate::replay::Replayed;
use crate::require::Keeps;
use crate::take::{required, takes_place, to_take};
use crate::trade_offs::is_trade_off;
use crate::verdict::{End, Pair, PairFinding, Requirements, Verdict};
use crate::worth::worth;

/// Works out everything that follows from what was measured: how each contender stands, whom to take, what the choices did.
pub fn judge(facts: &Facts) -> Verdict {
    let replayed = Replayed::of(facts);
    let raced = replayed.placed(facts);
    let with_readings: Vec<Placed> = raced.iter().enumerate().map(|(at, placed)| with_readings(facts, at, placed)).collect();
    let marked = |at| Placed { trade_off: is_trade_off(facts, &with_readings, at), ..with_readings[at].clone() };
    let placed: Vec<Placed> = (0..with_readings.len()).map(marked).collect();
    let order = order(&placed);
    let end = end(facts, &replayed, &placed);
    let (choose, requirements) = match facts.require.is_empty() || end == End::Nothing {
        true => (anchored(facts, &replayed, &placed, end), None),
        false => required(facts, &placed).map(|(choose, requirements)| (choose, Some(requirements))).unwrap_or_default(),
    };
    let around = told_around(facts, &raced, &order, choose);
    let by_choice = if facts.pair.is_some() { Vec::new() } else { by_choice(facts, &replayed, &raced, &order, around) };
    let is_over = replayed.decided || end == End::Nothing;
    Verdict {
        end,
        leader: replayed.race.leader().filter(|&at| placed[at].beside != Some(RunsBeside::RuledOut)),
        fastest: replayed.race.leader(),
        choose,
        ladder: ladder(facts, &replayed, &placed, &order, choose.filter(|&at| facts.contenders[at].choices.is_some()).or(around)),
        effects: effects(facts, &placed, &order),
        worth: worth(facts, &placed, &order, &by_choice),
        by_choice,
        around,
        is_told_around: is_told_around(facts, &replayed, &placed),
        noise: replayed.race.noise(),
        forecasts: if is_over { Vec::new() } else { replayed.forecasts(facts.settings.margin) },
        pair: facts.pair.map(|(old, new)| pair(facts, &replayed, old, new)),
        requirements,
        placed,
        order,
    }
}

/// The anchor of the next heat, where one is to take the place of the last one's.
pub fn next_anchor(facts: &Facts) -> Option<usize> {
    let anchor = facts.heats.last()?.anchor;
    let verdict = judge(facts);
    if !facts.require.is_empty() {
        return verdict.choose.filter(|choose| *choose != anchor && facts.contenders[*choose].choices.is_some());
    }
    takes_place(facts, &Replayed::of(facts), &verdict.placed, anchor)
}

/// The one to take: the anchor of the last heat, which was found by the rule, unless one that ran beside it takes its place when there is no time for
/// another heat.
fn anchored(facts: &Facts, replayed: &Replayed, placed: &[Placed], end: End) -> Option<usize> {
    let by_rule = to_take(facts, placed, end)?;
    let is_left = |at: &usize| facts.contenders[*at].is_eligible() && placed[*at].beside.is_none();
    let Some(anchor) = facts.heats.last().map(|heat| heat.anchor).filter(is_left) else { return Some(by_rule) };
    takes_place(facts, replayed, placed, anchor).or(Some(anchor))
}

/// With what it has of what is required, and ruled out where it surely misses anything.
fn with_readings(facts: &Facts, at: usize, raced: &Placed) -> Placed {
    if !facts.contenders[at].is_eligible() {
        return raced.clone();
    }
    let readings = readings(facts, at, raced);
    let misses = readings.iter().any(|reading| reading.keeps == Keeps::No);
    let beside = if misses { raced.beside.or(Some(RunsBeside::RuledOut)) } else { raced.beside };
    let outcome = if misses { Outcome::RuledOut } else { raced.outcome };
    Placed { readings, outcome, beside, ..raced.clone() }
}

/// The places, by how far they are behind the leader; those without a time, or with a fault, last.
fn order(placed: &[Placed]) -> Vec<usize> {
    let key = |at: usize| match placed[at].outcome {
        outcome if outcome.is_fault() => (1, placed[at].shown.unwrap_or(f64::INFINITY)),
        _ => (0, placed[at].behind.map_or(f64::INFINITY, |behind| behind.ratio)),
    };
    let mut order: Vec<usize> = (0..placed.len()).collect();
    order.sort_by(|&left, &right| {
        let ((left_class, left), (right_class, right)) = (key(left), key(right));
        left_class.cmp(&right_class).then(left.total_cmp(&right))
    });
    order
}

fn end(facts: &Facts, replayed: &Replayed, placed: &[Placed]) -> End {
    if replayed.race.leader().is_none() {
        return End::Nothing;
    }
    if (0..placed.len()).filter(|&at| facts.contenders[at].is_eligible()).count() == 1 {
        return End::Alone;
    }
    if replayed.decided {
        return End::Decided;
    }
    // Of those that may be chosen and are open, nobody may be faster by more than a tenth.
    let may_be_faster = |at: usize| {
        let is_open = replayed.finding(at) == Some(Finding::Open) && placed[at].beside.is_none();
        is_open && placed[at].behind.is_none_or(|behind| behind.low() < 1.0 / LITTLE)
    };
    let is_enough = !(0..placed.len()).any(may_be_faster) || is_told_around(facts, replayed, placed);
    if facts.settings.goal == Goal::Choice && is_enough { End::Enough } else { End::Open }
}

/// Whether all that ran beside the anchor of the last heat are told from it, and nobody takes its place: it can be taken, be it open who is the fastest
/// of those that take less.
fn is_told_around(facts: &Facts, replayed: &Replayed, placed: &[Placed]) -> bool {
    let Some(anchor) = replayed.race.anchor().filter(|&at| facts.contenders[at].is_eligible() && placed[at].beside.is_none()) else {
        return false;
    };
    replayed.race.is_decided() && takes_place(facts, replayed, placed, anchor).is_none()
}

fn pair(facts: &Facts, replayed: &Replayed, old: usize, new: usize) -> Pair {
    let gap = replayed.race.between(new, old);
    let ratio = gap.map(|gap| Ratio { ratio: gap.ratio, interval: gap.interval });
    let bound = 1.0 + facts.settings.margin;
    let finding = match ratio.and_then(|ratio| ratio.interval) {
        Some(sure) if sure.low > 1.0 && ratio.is_some_and(|ratio| ratio.ratio > bound) => PairFinding::Slower,
        Some(sure) if sure.high < 1.0 && ratio.is_some_and(|ratio| ratio.ratio < 1.0 / bound) => PairFinding::Faster,
        Some(sure) if sure.low > 1.0 / bound && sure.high < bound => PairFinding::Same,
        _ => PairFinding::Open,
    };
    Pair { old, new, ratio, finding }
}

impl Verdict {
    /// Whether requirements were given and nobody meets them for sure.
    pub fn misses_requirements(&self) -> bool {
        self.requirements.as_ref().is_some_and(|requirements| !matches!(requirements, Requirements::Met { .. }))
    }

    /// Whether the race, or its having one contender only, says whom to take for the margin that was asked for.
    pub fn is_decided(&self) -> bool {
        matches!(self.end, End::Decided | End::Alone)
    }
}
