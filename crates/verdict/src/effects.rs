//! Each choice by itself.

use kampf_contest::Opt;
use kampf_race::{Interval, paired};

use crate::facts::Facts;
use crate::ladder::derived;
use crate::placed::{Placed, Ratio};
use crate::verdict::Effect;

/// The chance that any interval of the effects is wrong.
const ALPHA: f64 = 0.05;

/// For each choice, from the most naive of its options that was raced to each other: the geometric mean over all pairs that
/// differ in it alone. Its interval goes from the mean of the pairs' lower ends to that of their upper ends, each at a level
/// shared among the pairs; it holds as soon as those of all pairs do.
pub(crate) fn effects(facts: &Facts, placed: &[Placed], order: &[usize]) -> Vec<Effect> {
    let measured = derived(facts, order);
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
    let pairs = |kind| {
        let all = measured.iter().flat_map(|from| measured.iter().map(move |to| (from, to)));
        all.filter(move |((_, from), (_, to))| from.difference(to) == Some(kind))
            .map(|((from, _), (to, _))| (*from, *to))
            .collect::<Vec<_>>()
    };
    kinds.into_iter().filter_map(|kind| effect(facts, placed, kind, &pairs(kind))).collect()
}

fn effect(facts: &Facts, placed: &[Placed], (before, after): (Opt, Opt), pairs: &[(usize, usize)]) -> Option<Effect> {
    let level = ALPHA / 2.0 / pairs.len().max(1) as f64;
    let mut ratios = Vec::new();
    let mut ends: Option<Vec<Interval>> = Some(Vec::new());
    for &(from, to) in pairs {
        let pair = paired(&facts.by_round(to), &facts.by_round(from), level);
        ratios.push(pair.map(|pair| pair.ratio).or_else(|| Some(placed[to].shown? / placed[from].shown?))?);
        ends = ends.zip(pair.and_then(|pair| pair.interval)).map(|(mut ends, interval)| {
            ends.push(interval);
            ends
        });
    }
    let mean = |values: &mut dyn Iterator<Item = f64>| (values.map(f64::ln).sum::<f64>() / pairs.len() as f64).exp();
    let interval = ends.map(|ends| Interval {
        low: mean(&mut ends.iter().map(|interval| interval.low)),
        high: mean(&mut ends.iter().map(|interval| interval.high)),
    });
    Some(Effect {
        before,
        after,
        pairs: pairs.len(),
        ratio: Ratio { ratio: mean(&mut ratios.iter().copied()), interval },
        least: ratios.iter().copied().fold(f64::INFINITY, f64::min),
        most: ratios.iter().copied().fold(0.0, f64::max),
    })
}
