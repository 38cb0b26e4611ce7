//! The ladder from the most naive contender to the chosen one.

use std::collections::VecDeque;

use kampf_contest::Choices;
use kampf_race::Interval;

use crate::facts::Facts;
use crate::replay::Replayed;
use crate::verdict::{Outcome, Placed, Ratio, Step};

/// A contender that was measured, by its place, with its options.
pub(crate) type Derived = (usize, Choices);

/// The derived contenders that were measured, best first.
pub(crate) fn derived(facts: &Facts, order: &[usize]) -> Vec<Derived> {
    let eligible = order.iter().copied().filter(|&at| facts.contenders[at].is_eligible());
    eligible.filter_map(|at| Some((at, facts.contenders[at].choices?))).collect()
}

/// The shortest way by single changes. Empty where the contenders that were raced are not linked that way.
pub(crate) fn ladder(facts: &Facts, replayed: &Replayed, placed: &[Placed], order: &[usize], choose: Option<usize>) -> Vec<Step> {
    let measured = derived(facts, order);
    let start = (0..measured.len()).min_by_key(|&at| measured[at].1.ranks().iter().sum::<usize>());
    let (Some(start), Some(goal)) = (start, goal(placed, &measured, choose)) else { return Vec::new() };
    let way = shortest(&measured, start, goal);
    way.windows(2).filter_map(|pair| step(replayed, placed, measured[pair[0]], measured[pair[1]])).collect()
}

/// Where the ladder leads: to the chosen contender; where that is not a derived one, or nobody, to the best of them.
fn goal(placed: &[Placed], measured: &[Derived], choose: Option<usize>) -> Option<usize> {
    let chosen = choose.and_then(|choose| measured.iter().position(|(at, _)| *at == choose));
    let best = || measured.iter().position(|(at, _)| placed[*at].beside.is_none() && placed[*at].outcome != Outcome::RuledOut);
    chosen.or_else(best).or_else(|| (!measured.is_empty()).then_some(0))
}

/// Places on the shortest way, both ends included; of several, the one that changes choices in their turn (breadth-first search).
fn shortest(measured: &[Derived], start: usize, goal: usize) -> Vec<usize> {
    let mut came_from: Vec<Option<usize>> = vec![None; measured.len()];
    came_from[start] = Some(start);
    let mut waiting = VecDeque::from([start]);
    while let Some(at) = waiting.pop_front().filter(|&at| at != goal) {
        let from = &measured[at].1;
        let turn = |to: usize| from.difference(&measured[to].1).map(|(option, _)| option.choice().entry().turn);
        let mut next: Vec<usize> =
            (0..measured.len()).filter(|&to| came_from[to].is_none() && from.distance(&measured[to].1) == 1).collect();
        next.sort_by_key(|&to| turn(to));
        for to in next {
            came_from[to] = Some(at);
            waiting.push_back(to);
        }
    }
    if came_from[goal].is_none() {
        return Vec::new();
    }
    let mut way = vec![goal];
    while let Some(before) = came_from[way[way.len() - 1]].filter(|_| way[way.len() - 1] != start) {
        way.push(before);
    }
    way.reverse();
    way
}

fn step(replayed: &Replayed, placed: &[Placed], (from, before): Derived, (to, after): Derived) -> Option<Step> {
    let (before, after) = before.difference(&after)?;
    let (before_ns, after_ns) = (placed[from].shown?, placed[to].shown?);
    let ratio = after_ns / before_ns;
    // Medians of pairs do not multiply: the interval is widened where the ratio of what is shown lies beside it.
    let pair = known(replayed, placed, from, to);
    let interval = pair.map(|sure| Interval { low: sure.low.min(ratio), high: sure.high.max(ratio) });
    Some(Step { from, to, before, after, before_ns, after_ns, ratio: Ratio { ratio, interval } })
}

/// Where the time of one over another surely lies: what stands in the table, where one of them leads; else over the rounds that both
/// ran.
fn known(replayed: &Replayed, placed: &[Placed], from: usize, to: usize) -> Option<Interval> {
    let leader = replayed.race.leader();
    let against_leader = |at: usize| placed[at].behind.and_then(|behind| behind.interval);
    if leader == Some(from) {
        against_leader(to)
    } else if leader == Some(to) {
        against_leader(from).map(|sure| Interval { low: 1.0 / sure.high, high: 1.0 / sure.low })
    } else {
        replayed.race.between(to, from).and_then(|gap| gap.interval)
    }
}
