//! The one to take.

use std::cmp::Ordering;

use kampf_contest::{ByHand, Measure};
use kampf_race::LITTLE;

use crate::facts::{Facts, RunsBeside};
use crate::placed::{Outcome, Placed};
use crate::replay::Replayed;
use crate::require::{Keeps, Nearest};
use crate::verdict::{End, Requirements};

/// A difference up to this is little, where it costs no more round trips.
const LITTLE_NS: f64 = 1e6;

/// Of those that are surely behind by little, the one that leaves least to do by hand; else the leader. Nobody where the race does not
/// say who is fastest.
pub(crate) fn to_take(facts: &Facts, placed: &[Placed], end: End) -> Option<usize> {
    if !matches!(end, End::Decided | End::Enough | End::Alone) {
        return None;
    }
    let leader = (0..placed.len()).find(|&at| placed[at].outcome == Outcome::Standing)?;
    let near = candidates(facts, placed).filter(|&at| at == leader || is_little(facts, placed, at, leader));
    near.min_by(|&one, &other| comfort(facts, placed, one, other)).or(Some(leader))
}

/// Who takes an anchor's place: one that would be taken of the two alone, wherever in its interval the truth lies. Of several the fastest.
pub(crate) fn takes_place(facts: &Facts, replayed: &Replayed, placed: &[Placed], anchor: usize) -> Option<usize> {
    let gap = |at: usize| replayed.race.standing_beside(at, anchor).map(|(_, gap)| gap);
    let time = placed[anchor].shown?;
    let is_taken = |at: usize, ratio: f64| is_taken_of_two(facts, at, anchor, ratio, time);
    let takes = |at: &usize| gap(*at).and_then(|gap| gap.interval).is_some_and(|sure| is_taken(*at, sure.low) && is_taken(*at, sure.high));
    let ratio = |at: usize| gap(at).map_or(f64::INFINITY, |gap| gap.ratio);
    let others = candidates(facts, placed).filter(|&at| at != anchor && facts.contenders[at].choices.is_some());
    others.filter(takes).min_by(|&one, &other| ratio(one).total_cmp(&ratio(other)))
}

/// Whether one would be taken rather than another, were its time over that one's surely this ratio; the other one's time is known.
fn is_taken_of_two(facts: &Facts, at: usize, other: usize, ratio: f64, other_ns: f64) -> bool {
    let by_hand = |at: usize| facts.contenders[at].by_hand.unwrap_or(EVERYTHING);
    let trips = |at: usize| facts.contenders[at].measured.get(Measure::RoundTrips);
    let is_faster = ratio < 1.0;
    let (fast, slow, behind) = if is_faster { (at, other, 1.0 / ratio) } else { (other, at, ratio) };
    let fast_ns = if is_faster { other_ns * ratio } else { other_ns };
    let no_more_trips = trips(slow).zip(trips(fast)).is_none_or(|(slow, fast)| slow <= fast);
    let hand = |at: usize| facts.contenders[at].by_hand.map(|hand| (hand.statements, hand.columns));
    let leaves_less = hand(slow).zip(hand(fast)).is_some_and(|(slow, fast)| slow < fast);
    let is_near = behind <= LITTLE || (fast_ns * (behind - 1.0) <= LITTLE_NS && no_more_trips && leaves_less);
    let taken = if is_near && by_hand(slow) < by_hand(fast) { slow } else { fast };
    taken == at
}

/// What a program leaves to do.
const EVERYTHING: ByHand = ByHand { statements: usize::MAX, columns: usize::MAX, characters: usize::MAX };

/// Those that may be chosen.
fn candidates<'a>(facts: &'a Facts, placed: &'a [Placed]) -> impl Iterator<Item = usize> + 'a {
    (0..placed.len()).filter(|&at| facts.contenders[at].is_eligible() && placed[at].beside.is_none())
}

/// Whether one is surely behind another by little: within a tenth, or within a millisecond with no more round trips and fewer
/// statements or columns to write; a few characters less are not worth being many times as slow.
fn is_little(facts: &Facts, placed: &[Placed], at: usize, leader: usize) -> bool {
    let trips = |at: usize| facts.contenders[at].measured.get(Measure::RoundTrips);
    let no_more_trips = trips(at).zip(trips(leader)).is_none_or(|(one, best)| one <= best);
    let high = placed[at].behind.map_or(f64::INFINITY, |behind| behind.high());
    let more = placed[leader].shown.unwrap_or(f64::INFINITY) * (high - 1.0);
    let hand = |at: usize| facts.contenders[at].by_hand.map(|hand| (hand.statements, hand.columns));
    let leaves_less = hand(at).zip(hand(leader)).is_some_and(|(one, best)| one < best);
    high <= LITTLE || (more <= LITTLE_NS && no_more_trips && leaves_less)
}

/// Order of comfort: least by hand (statements, then columns, then characters), then the faster. A program leaves everything.
fn comfort(facts: &Facts, placed: &[Placed], one: usize, other: usize) -> Ordering {
    let by_hand = |at: usize| facts.contenders[at].by_hand.unwrap_or(EVERYTHING);
    let shown = |at: usize| placed[at].shown.unwrap_or(f64::INFINITY);
    by_hand(one).cmp(&by_hand(other)).then(shown(one).total_cmp(&shown(other)))
}

/// With requirements: of those that surely meet them the one that leaves least to do by hand. None where nothing could be raced.
pub(crate) fn required(facts: &Facts, placed: &[Placed]) -> Option<(Option<usize>, Requirements)> {
    let eligible: Vec<usize> = (0..placed.len()).filter(|&at| facts.contenders[at].is_eligible()).collect();
    if eligible.is_empty() {
        return None;
    }
    let keeps_all = |at: &usize| placed[*at].readings.iter().all(|reading| reading.keeps == Keeps::Yes);
    let may_keep = |at: &usize| placed[*at].readings.iter().all(|reading| reading.keeps != Keeps::No);
    let mut possible: Vec<usize> = candidates(facts, placed).filter(may_keep).collect();
    possible.sort_by(|&one, &other| comfort(facts, placed, one, other));
    if let Some(choose) = possible.iter().position(keeps_all) {
        return Some((Some(possible[choose]), Requirements::Met { easier: possible[..choose].to_vec() }));
    }
    if !possible.is_empty() {
        return Some((None, Requirements::Provisional { contenders: possible }));
    }
    let nearest = nearest(facts, placed, &eligible);
    Some((None, Requirements::Missed { nearest }))
}

/// Who comes nearest to each requirement that nobody meets; where each is met by somebody, what is missed by the one that misses by least.
fn nearest(facts: &Facts, placed: &[Placed], eligible: &[usize]) -> Vec<Nearest> {
    let not_floor: Vec<usize> = eligible.iter().copied().filter(|&at| placed[at].beside != Some(RunsBeside::Floor)).collect();
    let missed = |at: usize| placed[at].readings.iter().filter(|reading| reading.keeps != Keeps::Yes);
    let shown = |at: usize| placed[at].shown.unwrap_or(f64::INFINITY);
    let met_by_nobody = facts.require.limits().filter_map(|(required, limit)| {
        let of = |at: usize| missed(at).find(|reading| reading.required == required);
        if not_floor.iter().any(|&at| of(at).is_none()) {
            return None;
        }
        let known = not_floor.iter().filter_map(|&at| Some((at, of(at)?.has?)));
        // Of equal ones the faster, whatever their order in the field.
        let (contender, has) =
            known.min_by(|(one, left), (other, right)| left.total_cmp(right).then(shown(*one).total_cmp(&shown(*other))))?;
        Some(Nearest { required, contender, has, limit })
    });
    let met_by_nobody: Vec<Nearest> = met_by_nobody.collect();
    if !met_by_nobody.is_empty() {
        return met_by_nobody;
    }
    let beyond = |at: usize| {
        let shares = missed(at).map(|reading| reading.has.map_or(f64::INFINITY, |has| has / reading.limit.max(f64::MIN_POSITIVE)));
        shares.fold(0.0, f64::max)
    };
    let least =
        not_floor.iter().copied().min_by(|&one, &other| beyond(one).total_cmp(&beyond(other)).then(shown(one).total_cmp(&shown(other))));
    let of = |contender: usize| {
        missed(contender)
            .filter_map(move |reading| Some(Nearest { required: reading.required, contender, has: reading.has?, limit: reading.limit }))
    };
    least.into_iter().flat_map(of).collect()
}
