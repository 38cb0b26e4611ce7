//! What is known of each choice by itself, however the race between the contenders ended.

use std::collections::BTreeSet;

use kampf_contest::{Choice, Opt};
use kampf_race::{Finding, Forecaster, Interval, LITTLE};

use crate::compared::compared;
use crate::facts::Facts;
use crate::placed::{Left, Outcome, Placed, Ratio};
use crate::replay::Replayed;

/// What is known of a choice: the option of the one that all is told around, and what the others cost against it.
#[derive(Clone, Debug, PartialEq)]
pub struct ByChoice {
    /// The choice.
    pub choice: Choice,
    /// The derived contender that all is told around: the anchor of the last heat, or the one to take.
    pub base: usize,
    /// Its option.
    pub option: Opt,
    /// The other options that were raced, from the naive one on.
    pub others: Vec<OtherOption>,
}

/// What another option of a choice costs.
#[derive(Clone, Debug, PartialEq)]
pub struct OtherOption {
    /// The option.
    pub option: Opt,
    /// The contender that has it and differs from the base in nothing else; where there is none, in as little as any.
    pub contender: usize,
    /// Its other options that the base does not have.
    pub also: Vec<Opt>,
    /// What it costs.
    pub cost: Cost,
}

/// What another option costs, as a ratio of times.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cost {
    /// Its contender is slower, by at least this.
    AtLeast(f64),
    /// Its contender is behind by at most this, which is no more than a tenth.
    AtMost(f64),
    /// Its contender surely takes less; the base is taken for another reason.
    Less(Interval),
    /// None of these is known.
    Open {
        /// Where the ratio of its contender surely lies; none with too few rounds.
        interval: Option<Interval>,
        /// Rounds in all after which it would be known, where that can be foretold.
        rounds: Option<usize>,
    },
}

/// What a choice comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChoiceEnd {
    /// The option of the base is to be taken: all others are slower, and one at least that differs in it alone.
    Decided,
    /// It makes no difference: no option costs more than the margin.
    NoDifference,
    /// No option is open; some cost little.
    Known,
    /// Of some option it is not known what it costs.
    Open,
}

/// An outclassed contender's fastest run is slower than the leader's slowest by more than this.
const OUTCLASSED: f64 = 3.0;

impl ByChoice {
    /// What it comes to.
    pub fn end(&self, margin: f64) -> ChoiceEnd {
        let all = |test: fn(&Cost, f64) -> bool| self.others.iter().all(|other| test(&other.cost, margin));
        let is_alone = self.others.iter().any(|other| other.also.is_empty());
        if is_alone && all(|cost, _| matches!(cost, Cost::AtLeast(_))) {
            ChoiceEnd::Decided
        } else if is_alone && all(|cost, margin| matches!(cost, Cost::AtMost(most) if *most <= 1.0 + margin)) {
            ChoiceEnd::NoDifference
        } else if all(|cost, _| matches!(cost, Cost::AtLeast(_) | Cost::AtMost(_) | Cost::Less(_))) {
            ChoiceEnd::Known
        } else {
            ChoiceEnd::Open
        }
    }
}

/// Whether a contender is one that by choice is told of: derived, timed, and to be chosen as far as that is no matter of its time.
fn may_be_told(facts: &Facts, placed: &[Placed], at: usize) -> bool {
    facts.contenders[at].is_eligible() && facts.contenders[at].choices.is_some() && placed[at].beside.is_none()
}

/// Around whom by choice and the ladder are told: the one to take; where that is nobody or not derived, the anchor of the last heat, and of one heat the
/// best of those that are.
pub(crate) fn told_around(facts: &Facts, placed: &[Placed], order: &[usize], choose: Option<usize>) -> Option<usize> {
    let may = |at: &usize| may_be_told(facts, placed, *at);
    let (anchor, chosen) = (facts.heats.last().map(|heat| heat.anchor).filter(may), choose.filter(may));
    let is_leader = |at: &usize| placed[*at].outcome == Outcome::Standing;
    let best = || order.iter().copied().filter(may).find(is_leader).or_else(|| order.iter().copied().find(may));
    chosen.or(anchor).or_else(best)
}

/// A derived contender against the base.
struct Rival {
    at: usize,
    ratio: f64,
    interval: Option<Interval>,
    /// How much slower at least, where it is slower for sure.
    slower: Option<f64>,
}

/// Works it out over derived contenders that may be chosen, against the one that all is told around.
pub(crate) fn by_choice(facts: &Facts, replayed: &Replayed, placed: &[Placed], order: &[usize], base: Option<usize>) -> Vec<ByChoice> {
    let derived: Vec<usize> = order.iter().copied().filter(|&at| may_be_told(facts, placed, at)).collect();
    let Some(base) = base.filter(|base| derived.contains(base)) else { return Vec::new() };
    let own = facts.contenders[base].choices.unwrap_or_default();
    let rivals: Vec<Rival> = derived.iter().filter(|&&at| at != base).filter_map(|&at| rival(facts, replayed, placed, at, base)).collect();
    let forecaster = (!replayed.decided).then(|| Forecaster::new(&replayed.race));
    let mut all: Vec<ByChoice> = Vec::new();
    for choice in Choice::ALL {
        if choice == Choice::Keys {
            all.extend(of_keys(facts, replayed, &derived));
            continue;
        }
        let option_of = |at: usize| facts.contenders[at].choices.and_then(|choices| choices.of(choice));
        let Some(option) = option_of(base) else { continue };
        let raced: BTreeSet<Opt> = rivals.iter().filter_map(|rival| option_of(rival.at)).filter(|other| *other != option).collect();
        let others = raced.into_iter().filter_map(|other| {
            // One that differs in this alone, else one that differs in as little as any: of those the fastest.
            let with = rivals.iter().filter(|rival| option_of(rival.at) == Some(other));
            let distance = |rival: &Rival| facts.contenders[rival.at].choices.map_or(usize::MAX, |choices| choices.distance(&own));
            let nearest = with.min_by(|one, other| distance(one).cmp(&distance(other)).then(one.ratio.total_cmp(&other.ratio)))?;
            let cost = match nearest.slower {
                Some(slower) => Cost::AtLeast(slower),
                None => known(nearest, || forecaster.as_ref()?.rounds_for(&replayed.race, nearest.at, base, facts.settings.margin)),
            };
            let options = facts.contenders[nearest.at].choices.unwrap_or_default();
            let also = options
                .options()
                .filter(|option| option.choice() != choice && own.of(option.choice()).is_some_and(|own| own != *option))
                .collect();
            Some(OtherOption { option: other, contender: nearest.at, also, cost })
        });
        let others: Vec<OtherOption> = others.collect();
        if !others.is_empty() {
            all.push(ByChoice { choice, base, option, others });
        }
    }
    all.sort_by_key(|one| one.choice.entry().turn);
    all
}

/// What other keys cost: told by the contenders that are compared, which differ in nothing else. What keys cost is little beside what else is
/// chosen, and they are raced at few members.
fn of_keys(facts: &Facts, replayed: &Replayed, derived: &[usize]) -> Option<ByChoice> {
    let option = |at: usize| facts.contenders[at].choices?.of(Choice::Keys);
    let pairs = compared((0..facts.contenders.len()).map(|at| facts.contenders[at].choices.filter(|_| derived.contains(&at))));
    let own = pairs.first()?.1;
    let on_others = || pairs.iter().map(|(at, _)| *at);
    let gap = |at: usize, base: usize| replayed.race.against_base(at, base);
    // The schema's own unless another is surely faster.
    let surely_less = |at: &usize| gap(*at, own).and_then(|gap| gap.interval).is_some_and(|sure| sure.high < 1.0);
    let ratio = |at: usize| gap(at, own).map_or(1.0, |gap| gap.ratio);
    let base = on_others().filter(surely_less).min_by(|&one, &other| ratio(one).total_cmp(&ratio(other))).unwrap_or(own);
    let cost = |at: usize| match gap(at, base) {
        _ if is_outclassed(facts, at, base) => Cost::AtLeast(OUTCLASSED),
        Some(gap) => match gap.interval {
            Some(sure) if sure.low > 1.0 && gap.ratio > 1.0 + facts.settings.margin => Cost::AtLeast(sure.low),
            Some(sure) if sure.high <= LITTLE => Cost::AtMost(sure.high.max(1.0)),
            interval => Cost::Open { interval, rounds: None },
        },
        None => Cost::Open { interval: None, rounds: None },
    };
    let rivals = std::iter::once(own).chain(on_others()).filter(|&at| at != base);
    let others = rivals.filter_map(|at| Some(OtherOption { option: option(at)?, contender: at, also: Vec::new(), cost: cost(at) }));
    let mut others: Vec<OtherOption> = others.collect();
    others.sort_by_key(|other| other.option);
    Some(ByChoice { choice: Choice::Keys, base, option: option(base)?, others })
}

fn known(best: &Rival, rounds: impl FnOnce() -> Option<usize>) -> Cost {
    match best.interval {
        Some(sure) if sure.high < 1.0 => Cost::Less(sure),
        Some(sure) if sure.high <= LITTLE => Cost::AtMost(sure.high),
        interval => Cost::Open { interval, rounds: rounds() },
    }
}

/// Whether the fastest run of one is slower than the slowest of another by more than any chance.
fn is_outclassed(facts: &Facts, at: usize, base: usize) -> bool {
    let fastest = facts.contenders[at].rounds.iter().copied().chain(facts.contenders[at].in_check).fold(f64::INFINITY, f64::min);
    let slowest = facts.contenders[base].rounds.iter().copied().fold(0.0, f64::max);
    slowest > 0.0 && fastest > OUTCLASSED * slowest
}

/// How much slower than a base one at least is that left the race, by what was sure of who led then, and by how far that is behind the base.
fn since_it_left(left: Left, placed: &[Placed], base: usize) -> Option<f64> {
    let than_leader = left.times.map(|_| OUTCLASSED).or(left.at_least).or((left.round == 0).then_some(OUTCLASSED))?;
    let leader_then = left.leader?;
    let than_base = if leader_then == base { 1.0 } else { placed[leader_then].behind.map_or(0.0, |behind| behind.low()) };
    Some(than_leader * than_base)
}

fn rival(facts: &Facts, replayed: &Replayed, placed: &[Placed], at: usize, base: usize) -> Option<Rival> {
    if placed[base].outcome == Outcome::Standing {
        let Ratio { ratio, interval } = placed[at].behind?;
        let is_slower = matches!(replayed.finding(at), Some(Finding::Slower | Finding::Outclassed));
        let least = match interval {
            _ if is_outclassed(facts, at, base) => Some(interval.map_or(OUTCLASSED, |sure| sure.low.max(OUTCLASSED))),
            Some(sure) => Some(sure.low),
            None => placed[at].left.and_then(|left| since_it_left(left, placed, base)),
        };
        let slower = least.filter(|least| is_slower && *least > 1.0);
        return Some(Rival { at, ratio, interval, slower });
    }
    // Another one leads: one's own SQL, or one that leaves more to do by hand.
    let outclassed = placed[at].outcome == Outcome::Outclassed && is_outclassed(facts, at, base);
    let Some((finding, gap)) = replayed.race.standing_beside(at, base) else {
        let ratio = placed[at].shown? / placed[base].shown?;
        return Some(Rival { at, ratio, interval: None, slower: outclassed.then_some(OUTCLASSED) });
    };
    let surely = gap.interval.filter(|_| finding == Finding::Slower).map(|sure| sure.low);
    // What was sure beside another one when it left says nothing of this base, be that before or behind it.
    let than_base = |left: Left| left.at_least.filter(|_| left.leader == Some(base));
    let since = || placed[at].left.filter(|_| gap.interval.is_none()).and_then(than_base).filter(|least| *least > 1.0);
    let slower = if outclassed { Some(surely.unwrap_or(OUTCLASSED).max(OUTCLASSED)) } else { surely.or_else(since) };
    Some(Rival { at, ratio: gap.ratio, interval: gap.interval, slower })
}
