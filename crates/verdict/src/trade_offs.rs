//! Contenders that nobody beats on everything at once.

use kampf_contest::{How, Measure};

use crate::facts::{ContenderFacts, Facts};
use crate::placed::{Outcome, Placed};

/// Memory that differs by less than this share is the same: it depends on the rows of a round.
const SAME_MEMORY: f64 = 0.01;

/// Whether what counts here was counted by Kampf itself: nobody is ranked by a program's word, nor by the growth of a process.
fn is_known(one: &ContenderFacts) -> bool {
    let how = |measure| one.measured.how(measure);
    [Measure::HeapPeak, Measure::Statements].into_iter().all(|measure| !matches!(how(measure), Some(How::Reported | How::Resident)))
}

/// Whether no other contender beats one on latency, memory and statements at once: by being no worse on any, and better on one.
/// Times within the margin are the same. A program takes no part.
pub(crate) fn is_trade_off(facts: &Facts, placed: &[Placed], at: usize) -> bool {
    let measured = &facts.contenders[at].measured;
    // Of one that was stopped before anything was counted nobody knows.
    let is_counted = measured.get(Measure::HeapPeak).is_some() && measured.get(Measure::Statements).is_some();
    let in_question =
        is_counted && facts.contenders[at].is_eligible() && is_known(&facts.contenders[at]) && placed[at].outcome != Outcome::RuledOut;
    in_question && !(0..placed.len()).any(|other| beats(facts, placed, other, at))
}

fn beats(facts: &Facts, placed: &[Placed], one: usize, other: usize) -> bool {
    let (left, right) = (&facts.contenders[one], &facts.contenders[other]);
    let comparable = left.is_eligible() && right.is_eligible() && is_known(left);
    let readings = |at: usize| {
        let measured = &facts.contenders[at].measured;
        Some([
            (placed[at].shown?, facts.settings.margin),
            (measured.get(Measure::HeapPeak)? as f64, SAME_MEMORY),
            (measured.get(Measure::Statements)? as f64, 0.0),
        ])
    };
    let (Some(one), Some(other)) = (readings(one), readings(other)) else { return false };
    let pairs = || one.iter().zip(&other);
    let no_worse = pairs().all(|((one, same), (other, _))| *one <= other * (1.0 + same));
    let better = pairs().any(|((one, same), (other, _))| one * (1.0 + same) < *other);
    comparable && no_worse && better
}
