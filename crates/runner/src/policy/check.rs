//! Do all contenders give the same answer?

use std::time::Duration;

use kampf_contest::{Difference, Measured, Reference};
use kampf_protocol::{Counts, Mode};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::stage::{Asked, Right, Stage};
use crate::event::Event;
use crate::trouble::Trouble;

/// The outcome of a check.
#[derive(Clone, Debug, Default)]
pub struct Checks {
    /// The right answer for each parameter set.
    pub references: Vec<Reference>,
    /// Who gave it.
    pub reference_by: String,
    /// Each contender's outcome, in the order of the field.
    pub entries: Vec<CheckedEntry>,
}

/// One contender's outcome.
#[derive(Clone, Debug, PartialEq)]
pub struct CheckedEntry {
    /// Its name.
    pub name: String,
    /// What came of it.
    pub verdict: CheckedVerdict,
    /// How long it took, where that was asked for.
    pub probe: Option<Probe>,
}

/// What came of checking a contender.
#[derive(Clone, Debug, PartialEq)]
pub enum CheckedVerdict {
    /// It gives the right answer.
    Agrees,
    /// It does not: for the parameter set at a place, this is the first difference.
    Disagrees(usize, Box<Difference>),
    /// It cannot be told; a sort term is missing.
    Undecided,
    /// It could not be run.
    Failed(Trouble),
}

/// Times taken in the check, to plan the race by.
#[derive(Clone, Debug, PartialEq)]
pub struct Probe {
    /// From starting the process to its readiness.
    pub start: Duration,
    /// The first call on the new connection.
    pub cold_ns: Nanos,
    /// A later call.
    pub call_ns: Nanos,
    /// What was counted over a call.
    pub measured: Measured,
}

/// Checks all contenders of a field against one reference.
pub(crate) fn check(stage: &mut dyn Stage, probe: bool, events: &mut dyn FnMut(Event<'_>)) -> Result<Checks, Trouble> {
    let sets = stage.sets(0);
    let Right { references, by } = stage.right(&sets)?;
    let names: Vec<String> = stage.contestants().iter().map(|contestant| contestant.name.clone()).collect();
    let mut entries = Vec::with_capacity(names.len());
    for (at, name) in names.iter().enumerate() {
        events(Event::Checking(name, at + 1, names.len()));
        let (verdict, probe) = match check_entry(stage, at, &sets, &references, probe) {
            Ok(checked) => checked,
            Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
            Err(trouble) => {
                events(Event::Failed(name, trouble.to_string()));
                (CheckedVerdict::Failed(trouble), None)
            }
        };
        stage.end();
        entries.push(CheckedEntry { name: name.clone(), verdict, probe });
    }
    Ok(Checks { references, reference_by: by, entries })
}

fn check_entry(
    stage: &mut dyn Stage,
    at: usize,
    sets: &[Vec<Value>],
    references: &[Reference],
    probe: bool,
) -> Result<(CheckedVerdict, Option<Probe>), Trouble> {
    let started = stage.start(at)?;
    let verdict = stage.compare(sets, references)?;
    if !probe || verdict != CheckedVerdict::Agrees || !started.can.contains(&Mode::Time) {
        return Ok((verdict, None));
    }
    // The answer is fetched and thrown away by another code path; a fresh process shows what a round will look like.
    stage.start(at)?;
    let cold = stage.run(Asked { mode: Mode::Time, sets: &sets[..1], passes: 1, calls_per_span: 1 })?;
    let counts = match started.can.contains(&Mode::Count) {
        true => stage.run(Asked { mode: Mode::Count, sets, passes: 1, calls_per_span: 1 })?.ran.counts,
        false => None,
    };
    let later = stage.run(Asked { mode: Mode::Time, sets, passes: 1, calls_per_span: 1 })?;
    let mean = |spans: &[u64]| spans.iter().sum::<u64>() as f64 / spans.len().max(1) as f64;
    let measured = Measured::of(counts.iter().flat_map(Counts::iter), stage.contestants()[at].counter);
    Ok((verdict, Some(Probe { start: started.took, cold_ns: mean(&cold.ran.spans_ns), call_ns: mean(&later.ran.spans_ns), measured })))
}
