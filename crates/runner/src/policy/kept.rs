//! Programs whose calls are far quicker with parameters that they were asked before: as if they kept their answers.

use kampf_race::{Nanos, median};
use kampf_schema::Value;

use super::check::CheckedEntry;
use super::honesty::timed;
use super::stage::{Stage, has_parameters};
use crate::trouble::Trouble;

/// So often it has to be seen, each time in a fresh process.
const TIMES: usize = 3;
/// A call with parameters that were asked before takes less than this of one with new ones, and less than this of what it takes others.
const FAR_LESS: f64 = 0.5;
/// Calls with so many different parameters are looked at at least, and more where they take no longer than this.
const LEAST_SETS: usize = 2;
const LONGEST_NS: Nanos = 500e6;
/// The rounds whose parameters nobody was asked before.
const UNSEEN: std::ops::Range<u64> = u32::MAX as u64 - 9..u32::MAX as u64 - 1;

/// What calls with parameters that were asked before take, as shares of calls with new ones.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SeenBefore {
    /// Those of the program.
    pub own: f64,
    /// Those of Kampf's own contenders, which keep nothing.
    pub others: f64,
}

/// Looks at the programs of a field that was checked for a race. Time alone proves nothing; it is pointed out.
pub(super) fn look_at_programs(stage: &mut dyn Stage, entries: &mut [CheckedEntry]) -> Result<(), Trouble> {
    let is_program = |stage: &dyn Stage, at: usize| stage.contestants()[at].counter.is_program;
    let call = |entries: &[CheckedEntry], at: usize| entries[at].probe.as_ref().map(|probe| probe.call_ns);
    let timed = (0..entries.len()).filter(|&at| call(entries, at).is_some());
    let (programs, own): (Vec<usize>, Vec<usize>) = timed.partition(|&at| is_program(stage, at));
    if programs.is_empty() || !has_parameters(&stage.sets(0)) {
        return Ok(());
    }
    // Of the quickest: it has the least that could hide what data that is cold costs.
    let quickest = own.into_iter().filter(|&at| stage.contestants()[at].leads);
    let quickest = quickest.min_by(|&one, &other| call(entries, one).unwrap_or(0.0).total_cmp(&call(entries, other).unwrap_or(0.0)));
    let others = match quickest {
        Some(at) => share(stage, at, call(entries, at))?.unwrap_or(1.0),
        None => 1.0,
    };
    for at in programs {
        let mut most: f64 = 0.0;
        for _ in 0..TIMES {
            most = most.max(share(stage, at, call(entries, at))?.unwrap_or(f64::INFINITY));
            if most >= FAR_LESS * others.min(1.0) {
                break;
            }
        }
        if most < FAR_LESS * others.min(1.0) {
            entries[at].seen_before = Some(SeenBefore { own: most, others });
        }
    }
    Ok(())
}

/// Parameters that are all different.
fn new_sets(stage: &dyn Stage) -> Vec<Vec<Value>> {
    let mut sets: Vec<Vec<Value>> = Vec::new();
    for set in UNSEEN.flat_map(|round| stage.sets(round)) {
        if !sets.contains(&set) {
            sets.push(set);
        }
    }
    sets
}

/// What calls take with parameters that were asked before, as a share of calls with new ones before and after them: who gets warm with time is slow
/// before alone. None where it cannot be run any more, which is a matter of the race.
fn share(stage: &mut dyn Stage, at: usize, call: Option<Nanos>) -> Result<Option<f64>, Trouble> {
    // Who is slow is asked for few.
    let most = (LONGEST_NS / call.unwrap_or(0.0).max(1.0)) as usize;
    let mut new = new_sets(stage).into_iter();
    let mut some = |all: usize| new.by_ref().take(all.max(LEAST_SETS)).collect::<Vec<_>>();
    let all = stage.sets(0).len().min(most);
    let (first, later, warm) = (some(all), some(all), some(all));
    if first.len().min(later.len()) < LEAST_SETS {
        // There are hardly any other parameters.
        return Ok(None);
    }
    let asked = stage.start(at).and_then(|_| {
        let mut spans = |sets: &[Vec<Value>]| -> Result<Vec<Nanos>, Trouble> {
            Ok(timed(stage, at, sets, 1, 1)?.ran.spans_ns.iter().map(|&span| span as Nanos).collect())
        };
        if !warm.is_empty() {
            spans(&warm)?;
        }
        let (new, again, other) = (spans(&first)?, spans(&first)?, spans(&later)?);
        let over = |new: &[Nanos]| median(&again.iter().zip(new).map(|(again, new)| again / new.max(1.0)).collect::<Vec<_>>());
        Ok(over(&new).zip(over(&other)).map(|(before, after)| before.max(after)))
    });
    stage.end(at);
    match asked {
        Err(Trouble::Interrupted) => Err(Trouble::Interrupted),
        Err(_) => Ok(None),
        share => share,
    }
}
