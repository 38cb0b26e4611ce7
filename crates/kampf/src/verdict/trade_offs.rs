//! Contenders that nobody beats on everything at once.

use super::is_eligible;
use crate::document::{ContenderPart, Outcome};

/// Memory that differs by less than this share is the same: it depends on the rows of a round.
const SAME_MEMORY: f64 = 0.01;

/// Marks the contenders that no other beats on latency, memory and statements at once: by being no worse on any, and better on
/// one. Times within the margin are the same; memory of a whole process is not compared with that of a heap.
pub(super) fn mark(contenders: &mut [ContenderPart], margin: f64) {
    let beaten: Vec<bool> = contenders.iter().map(|one| contenders.iter().any(|other| beats(other, one, margin))).collect();
    for (contender, beaten) in contenders.iter_mut().zip(beaten) {
        contender.trade_off = is_eligible(contender) && contender.outcome != Outcome::RuledOut && !beaten;
    }
}

fn beats(one: &ContenderPart, other: &ContenderPart, margin: f64) -> bool {
    let comparable = is_eligible(one) && is_eligible(other) && one.counted.get("heap_peak_bytes") == other.counted.get("heap_peak_bytes");
    let readings = |contender: &ContenderPart| {
        Some([
            (contender.latency_ns.median?, margin),
            (contender.heap_peak_bytes? as f64, SAME_MEMORY),
            (contender.statements? as f64, 0.0),
        ])
    };
    let (Some(one), Some(other)) = (readings(one), readings(other)) else { return false };
    let pairs = || one.iter().zip(&other);
    let no_worse = pairs().all(|((one, same), (other, _))| *one <= other * (1.0 + same));
    let better = pairs().any(|((one, same), (other, _))| one * (1.0 + same) < *other);
    comparable && no_worse && better
}
