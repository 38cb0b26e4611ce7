//! What the choices did: the ladder from the most naive contender to the chosen one, and each choice by itself.

use std::collections::VecDeque;

use kampf_contest::{Choices, Opt};
use kampf_race::{median, paired};

use super::is_eligible;
use crate::document::{ContenderPart, ContestPart, Effect, Mattered, Outcome, Step};

/// The chance that any interval of the ladder, or of the effects, is wrong.
const ALPHA: f64 = 0.05;

/// Works out both from the contenders that were measured.
pub(super) fn work_out(part: &ContestPart) -> Mattered {
    let measured: Vec<(&ContenderPart, Choices)> =
        part.contenders.iter().filter(|contender| is_eligible(contender)).filter_map(|one| Some((one, one.choices?))).collect();
    Mattered { ladder: ladder(part, &measured), effects: effects(&measured) }
}

/// Where the ladder leads, as a place: to the chosen contender; where that is not a derived one, or nobody, to the best of them.
fn goal(part: &ContestPart, measured: &[(&ContenderPart, Choices)]) -> Option<usize> {
    let chosen = part.verdict.choose.as_ref().and_then(|name| measured.iter().position(|(contender, _)| contender.name == *name));
    let best = || measured.iter().position(|(contender, _)| contender.outcome != Outcome::RuledOut);
    chosen.or_else(best).or_else(|| (!measured.is_empty()).then_some(0))
}

/// The shortest way by single changes. Empty where the contenders that were raced are not linked that way.
fn ladder(part: &ContestPart, measured: &[(&ContenderPart, Choices)]) -> Vec<Step> {
    let start = (0..measured.len()).min_by_key(|&at| measured[at].1.ranks().iter().sum::<usize>());
    let (Some(start), Some(goal)) = (start, goal(part, measured)) else { return Vec::new() };
    let way = shortest(measured, start, goal);
    let level = ALPHA / 2.0 / way.len().saturating_sub(1).max(1) as f64;
    way.windows(2).filter_map(|pair| step(measured[pair[0]], measured[pair[1]], level)).collect()
}

/// Places on the shortest way, both ends included; of several, the one that changes choices in their turn (breadth-first search).
fn shortest(measured: &[(&ContenderPart, Choices)], start: usize, goal: usize) -> Vec<usize> {
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

fn step((from, before): (&ContenderPart, Choices), (to, after): (&ContenderPart, Choices), level: f64) -> Option<Step> {
    let (before, after) = before.difference(&after)?;
    let pair = paired(&to.rounds, &from.rounds, level);
    let shared = |contender: &ContenderPart| {
        let rounds = pair.map_or(0, |pair| pair.rounds);
        median(&contender.rounds[..rounds]).or(contender.latency_ns.median)
    };
    let (before_ns, after_ns) = (shared(from)?, shared(to)?);
    Some(Step {
        from: from.name.clone(),
        to: to.name.clone(),
        choice: before.choice().word().to_owned(),
        before: before.word().to_owned(),
        after: after.word().to_owned(),
        before_ns,
        after_ns,
        ratio: pair.map_or(after_ns / before_ns, |pair| pair.ratio),
        low: pair.and_then(|pair| Some(pair.interval?.low)),
        high: pair.and_then(|pair| Some(pair.interval?.high)),
    })
}

/// For each choice, from the most naive of its options that was raced to each other: the geometric mean over all pairs that
/// differ in it alone. Its interval goes from the mean of the pairs' lower ends to that of their upper ends, each at a level
/// shared among the pairs; it holds as soon as those of all pairs do.
fn effects(measured: &[(&ContenderPart, Choices)]) -> Vec<Effect> {
    let mut kinds: Vec<(Opt, Opt)> = Vec::new();
    let mut naive_first: Vec<_> = measured.iter().collect();
    naive_first.sort_by_key(|(_, choices)| choices.ranks());
    for (_, from) in &naive_first {
        for (_, to) in &naive_first {
            let Some((before, after)) = from.difference(to).filter(|_| from.ranks() < to.ranks()) else { continue };
            let known = |&(naive, other): &(Opt, Opt)| naive.choice() == before.choice() && (naive != before || other == after);
            if !kinds.iter().any(known) {
                kinds.push((before, after));
            }
        }
    }
    kinds.sort_by_key(|(before, _)| before.choice().entry().turn);
    kinds.into_iter().filter_map(|kind| effect(measured, kind)).collect()
}

fn effect(measured: &[(&ContenderPart, Choices)], kind: (Opt, Opt)) -> Option<Effect> {
    let pairs: Vec<(&ContenderPart, &ContenderPart)> = measured
        .iter()
        .flat_map(|from| measured.iter().map(move |to| (from, to)))
        .filter(|((_, from), (_, to))| from.difference(to) == Some(kind))
        .map(|((from, _), (to, _))| (*from, *to))
        .collect();
    let level = ALPHA / 2.0 / pairs.len().max(1) as f64;
    let mut ratios = Vec::new();
    let mut ends: Option<Vec<(f64, f64)>> = Some(Vec::new());
    for (from, to) in &pairs {
        let pair = paired(&to.rounds, &from.rounds, level);
        ratios.push(pair.map(|pair| pair.ratio).or_else(|| Some(to.latency_ns.median? / from.latency_ns.median?))?);
        let interval = pair.and_then(|pair| pair.interval);
        ends = ends.zip(interval).map(|(mut ends, interval)| {
            ends.push((interval.low, interval.high));
            ends
        });
    }
    let mean = |values: &mut dyn Iterator<Item = f64>| (values.map(f64::ln).sum::<f64>() / pairs.len() as f64).exp();
    Some(Effect {
        choice: kind.0.choice().word().to_owned(),
        before: kind.0.word().to_owned(),
        after: kind.1.word().to_owned(),
        pairs: pairs.len(),
        ratio: mean(&mut ratios.iter().copied()),
        low: ends.as_ref().map(|ends| mean(&mut ends.iter().map(|(low, _)| *low))),
        high: ends.as_ref().map(|ends| mean(&mut ends.iter().map(|(_, high)| *high))),
        least: ratios.iter().copied().fold(f64::INFINITY, f64::min),
        most: ratios.iter().copied().fold(0.0, f64::max),
    })
}
