//! From facts to the verdict.

use crate::comfort::{comfort, is_less_work};
use crate::effects::effects;
use crate::facts::Facts;
use crate::ladder::ladder;
use crate::replay::Replayed;
use crate::require::{Miss, Required};
use crate::trade_offs::is_trade_off;
use crate::verdict::{Nearest, Outcome, Placed, Verdict};

/// A contender is hardly slower than the fastest within a tenth, or within a millisecond.
const HARDLY_SHARE: f64 = 1.10;
const HARDLY_NS: f64 = 1e6;

/// Works out everything that follows from what was measured: how each contender stands, what to choose, what the choices did.
pub fn judge(facts: &Facts) -> Verdict {
    let replayed = Replayed::of(facts);
    let raced = replayed.placed(facts);
    let required: Vec<Placed> = raced.iter().enumerate().map(|(at, placed)| rule_out(facts, at, placed)).collect();
    let placed: Vec<Placed> =
        (0..required.len()).map(|at| Placed { trade_off: is_trade_off(facts, &required, at), ..required[at].clone() }).collect();
    let order = replayed.order(&raced);
    let choice = if facts.require.is_empty() { by_speed(facts, &placed, replayed.decided) } else { by_requirements(facts, &placed) };
    Verdict {
        decided: replayed.decided,
        leader: replayed.race.leader(),
        choose: choice.choose,
        comfortable: choice.comfortable,
        requirements_met: choice.requirements_met,
        nearest: choice.nearest,
        ladder: ladder(facts, &placed, &order, choice.choose),
        effects: effects(facts, &placed, &order),
        noise: replayed.race.noise(),
        forecasts: if replayed.decided { Vec::new() } else { replayed.forecasts(facts.rules.margin) },
        placed,
        order,
    }
}

/// What is chosen.
#[derive(Default)]
struct Choice {
    choose: Option<usize>,
    comfortable: Option<usize>,
    requirements_met: Option<bool>,
    nearest: Vec<Nearest>,
}

/// With what it misses of what is required, and ruled out where that is anything.
fn rule_out(facts: &Facts, at: usize, raced: &Placed) -> Placed {
    if !facts.contenders[at].is_eligible() {
        return raced.clone();
    }
    let misses: Vec<Miss> = facts
        .require
        .limits()
        .map(|(required, limit)| Miss { required, has: has(facts, raced, at, required), limit })
        .filter(|miss| miss.has.is_none_or(|has| has > miss.limit))
        .collect();
    let outcome = if misses.is_empty() { raced.outcome } else { Outcome::RuledOut };
    Placed { misses, outcome, ..raced.clone() }
}

/// What a contender has of something that can be required.
fn has(facts: &Facts, placed: &Placed, at: usize, required: Required) -> Option<f64> {
    match required {
        Required::P95 => placed.p95,
        Required::Median => placed.median,
        Required::FirstCall => facts.contenders[at].cold,
        Required::Count(measure) => facts.contenders[at].measured.get(measure).map(|count| count as f64),
    }
}

/// Among those that meet the requirements the one that leaves least to do.
fn by_requirements(facts: &Facts, placed: &[Placed]) -> Choice {
    let eligible: Vec<usize> = (0..placed.len()).filter(|&at| facts.contenders[at].is_eligible()).collect();
    let meeting = eligible.iter().copied().filter(|&at| placed[at].misses.is_empty());
    let choose =
        meeting.min_by(|&left, &right| comfort((&facts.contenders[left], &placed[left]), (&facts.contenders[right], &placed[right])));
    let nearest = facts.require.limits().filter_map(|(required, limit)| {
        let has = eligible.iter().filter_map(|&at| Some((at, has(facts, &placed[at], at, required)?)));
        let (contender, has) = has.min_by(|(_, left), (_, right)| left.total_cmp(right))?;
        Some(Nearest { required, contender, has, limit })
    });
    let nearest = if choose.is_some() { Vec::new() } else { nearest.collect() };
    Choice { choose, comfortable: None, requirements_met: Some(choose.is_some()), nearest }
}

/// The fastest; of several that are tied the one that leaves least to do. Nobody where the race did not decide.
fn by_speed(facts: &Facts, placed: &[Placed], decided: bool) -> Choice {
    let least =
        |left: &usize, right: &usize| comfort((&facts.contenders[*left], &placed[*left]), (&facts.contenders[*right], &placed[*right]));
    let with = |outcome: &[Outcome]| (0..placed.len()).filter(|&at| outcome.contains(&placed[at].outcome)).collect::<Vec<_>>();
    let first = with(&[Outcome::Standing, Outcome::Tied]);
    let Some(choose) = first.into_iter().min_by(least).filter(|_| decided) else { return Choice::default() };
    let best = with(&[Outcome::Standing]).first().and_then(|&best| placed[best].median).unwrap_or(f64::INFINITY);
    let near = (0..placed.len()).filter(|&at| facts.contenders[at].is_eligible() && is_hardly_slower(&placed[at], best));
    let comfortable = near.min_by(least).filter(|&near| {
        near != choose && facts.contenders[near].by_hand.is_some() && is_less_work(&facts.contenders[near], &facts.contenders[choose])
    });
    Choice { choose: Some(choose), comfortable, ..Choice::default() }
}

/// Whether a contender takes hardly longer than so many nanoseconds.
fn is_hardly_slower(placed: &Placed, best: f64) -> bool {
    placed.median.is_some_and(|median| median <= (best * HARDLY_SHARE).max(best + HARDLY_NS))
}
