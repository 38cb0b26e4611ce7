//! The ladder from the most naive contender to the chosen one.

use kampf_contest::{Choice, Choices, Opt};
use kampf_race::Interval;

use crate::facts::Facts;
use crate::placed::{Outcome, Placed, Ratio};
use crate::replay::Replayed;
use crate::verdict::{OptionChange, Step};

/// A contender that was measured, by its place, with its options.
pub(crate) type Derived = (usize, Choices);

/// The derived contenders that were measured, best first.
pub(crate) fn derived(facts: &Facts, order: &[usize]) -> Vec<Derived> {
    let eligible = order.iter().copied().filter(|&at| facts.contenders[at].is_eligible());
    eligible.filter_map(|at| Some((at, facts.contenders[at].choices?))).collect()
}

/// From the naive end to the goal over contenders that were raced: each step makes the choice that gains most of those left, so that none looks
/// worse only because it stands before another. Where nobody was raced that makes one choice alone, several are made in one step.
pub(crate) fn ladder(facts: &Facts, replayed: &Replayed, placed: &[Placed], order: &[usize], choose: Option<usize>) -> Vec<Step> {
    let measured = derived(facts, order);
    // In what manner it is carried out makes nobody naive: the naive end is that in the usual manner.
    let naivety = |choices: &Choices| {
        let ways = choices.options().filter(|option| !option.choice().entry().is_manner).map(Opt::rank).sum::<usize>();
        let unusual = choices.options().filter(|option| option.choice().entry().usual.is_some_and(|usual| usual != option.rank())).count();
        (ways, unusual, choices.ranks())
    };
    let start = (0..measured.len()).min_by_key(|&at| naivety(&measured[at].1));
    let (Some(start), Some(goal)) = (start, goal(placed, &measured, choose)) else { return Vec::new() };
    let way = way(placed, &measured, start, goal);
    way.windows(2).filter_map(|pair| step(replayed, placed, measured[pair[0]], measured[pair[1]])).collect()
}

/// Where the ladder leads: to the chosen contender; where that is not a derived one, or nobody, to the best of them.
fn goal(placed: &[Placed], measured: &[Derived], choose: Option<usize>) -> Option<usize> {
    let chosen = choose.and_then(|choose| measured.iter().position(|(at, _)| *at == choose));
    let best = || measured.iter().position(|(at, _)| placed[*at].beside.is_none() && placed[*at].outcome != Outcome::RuledOut);
    chosen.or_else(best).or_else(|| (!measured.is_empty()).then_some(0))
}

/// The choices in which two differ.
fn changes(from: &Choices, to: &Choices) -> Vec<OptionChange> {
    let change = |choice| OptionChange { choice, before: from.of(choice), after: to.of(choice) };
    let mut changes: Vec<OptionChange> = Choice::ALL.into_iter().map(change).filter(|change| change.before != change.after).collect();
    changes.sort_by_key(|change| change.choice.entry().turn);
    changes
}

/// Whether a change leads to an option, or to one between by rank: what the user names has no order.
fn is_between(change: &OptionChange, end: Option<Opt>) -> bool {
    let rank = |option: Option<Opt>| option.filter(|option| option.label().is_none() && option.size().is_none()).map(Opt::rank);
    let (Some(before), Some(after), Some(last)) = (rank(change.before), rank(change.after), rank(end)) else { return change.after == end };
    change.after == end || (before.min(last) < after && after < before.max(last))
}

/// Places on the way, both ends included.
fn way(placed: &[Placed], measured: &[Derived], start: usize, goal: usize) -> Vec<usize> {
    let mut way = vec![start];
    let shown = |at: usize| placed[measured[at].0].shown.unwrap_or(f64::INFINITY);
    let mut at = start;
    while at != goal {
        let (from, end) = (measured[at].1, measured[goal].1);
        // It has of every choice what is had already, or what there is in the end, or an option between the two.
        let is_on_the_way = |change: &OptionChange| is_between(change, end.of(change.choice));
        let on_the_way = |to: &usize| *to != at && changes(&from, &measured[*to].1).iter().all(is_on_the_way);
        // What is between is come to only where nobody has what there is in the end with as few changes.
        let effort = |to: usize| {
            let changes = changes(&from, &measured[to].1);
            (changes.len(), changes.iter().any(|change| change.after != end.of(change.choice)))
        };
        let next = (0..measured.len())
            .filter(on_the_way)
            .min_by(|&one, &other| effort(one).cmp(&effort(other)).then(shown(one).total_cmp(&shown(other))));
        // Another one with the very same options leads nowhere.
        let Some(next) = next.filter(|next| !way.contains(next)) else { return Vec::new() };
        way.push(next);
        at = next;
    }
    way
}

fn step(replayed: &Replayed, placed: &[Placed], (from, before): Derived, (to, after): Derived) -> Option<Step> {
    let (before_ns, after_ns) = (placed[from].shown?, placed[to].shown?);
    let ratio = after_ns / before_ns;
    // Medians of pairs do not multiply: the interval is widened where the ratio of what is shown lies beside it.
    let pair = known(replayed, placed, from, to);
    let interval = pair.map(|sure| Interval { low: sure.low.min(ratio), high: sure.high.max(ratio) });
    Some(Step { from, to, changes: changes(&before, &after), before_ns, after_ns, ratio: Ratio { ratio, interval } })
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
        // As by choice tells the one before of the one that is come to.
        let beside = replayed.race.standing_beside(from, to).and_then(|(_, gap)| gap.interval);
        beside.map(|sure| Interval { low: 1.0 / sure.high, high: 1.0 / sure.low })
    }
}
