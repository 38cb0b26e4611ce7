//! Do all contenders give the same answer?

use std::time::Duration;

use kampf_contest::{Difference, Measured, Reference, Unclear};
use kampf_protocol::{Counts, Mode};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::honesty::{ALLOWED, Account, Believed, believe, rows_are_right, timed};
use super::stage::{Asked, Done, Right, Stage};
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
    /// It cannot be told.
    Undecided(Unclear),
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
    /// Of a program: what a message to it and back costs.
    pub message_ns: Option<Nanos>,
    /// Calls that a span has at least.
    pub calls_per_span: u64,
    /// Nanoseconds that a run lasts at least.
    pub run_ns: Nanos,
    /// What was counted over a call.
    pub measured: Measured,
    /// How many bytes were held after how many rows of the counted call with the first parameter set; empty where nobody says.
    pub held: Vec<(u64, u64)>,
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
    let rows: Vec<u64> = references.iter().map(|reference| stage.rows_of(reference)).collect();
    let counter = stage.contestants()[at].counter;
    let cold = timed(stage, &sets[..1], 1, 1)?;
    rows_are_right(cold.ran.rows, 1, rows[0], "first call")?;
    let (measured, held) = if started.can.contains(&Mode::Count) { counted(stage, at, sets, &rows)? } else { Default::default() };
    let pass = rows.iter().sum();
    let probe = Probe { start: started.took, cold_ns: 0.0, call_ns: 0.0, message_ns: None, calls_per_span: 1, run_ns: 0.0, measured, held };
    if counter.is_program {
        let Believed { message, calls_per_span, run, call_ns } = believe(stage, sets, pass)?;
        let cold_ns = first_call(&cold, Some(message));
        return Ok((verdict, Some(Probe { cold_ns, call_ns, message_ns: Some(message), calls_per_span, run_ns: run, ..probe })));
    }
    let later = timed(stage, sets, 1, 1)?;
    rows_are_right(later.ran.rows, 1, pass, "timed pass")?;
    let call_ns = Account::of(&later, sets.len() as u64, None).call_ns();
    Ok((verdict, Some(Probe { cold_ns: first_call(&cold, None), call_ns, ..probe })))
}

/// What a run of one first call took. It may last longer than it says by a millisecond, which a process that has just begun may take
/// for anything.
pub(super) fn first_call(done: &Done, message: Option<Nanos>) -> Nanos {
    const BEGINNING_NS: Nanos = 1e6;
    // On a new connection nothing is kept.
    if let Some(kept) = done.ran.kept {
        return kept.miss_ns as Nanos;
    }
    let account = Account::of(done, 1, message.map(|message| message + BEGINNING_NS));
    if account.excess() > ALLOWED { account.call_ns() } else { done.ran.spans_ns.iter().sum::<u64>() as Nanos }
}

/// What is counted over one call with each parameter set.
fn counted(stage: &mut dyn Stage, at: usize, sets: &[Vec<Value>], rows: &[u64]) -> Result<(Measured, Vec<(u64, u64)>), Trouble> {
    let (mut calls, mut growth, mut held) = (Vec::with_capacity(sets.len()), Vec::new(), None);
    for (set, right) in sets.iter().zip(rows) {
        let done = stage.run(Asked { mode: Mode::Count, sets: std::slice::from_ref(set), passes: 1, calls_per_span: 1 })?;
        rows_are_right(done.ran.rows, 1, *right, "counted call")?;
        calls.push(done.ran.counts.unwrap_or_default());
        growth.extend(done.growth);
        held.get_or_insert(done.ran.held);
    }
    let mut measured = Measured::of(calls.iter().map(Counts::iter), stage.contestants()[at].counter);
    if growth.len() == sets.len() {
        measured.add_growth(&growth);
    }
    Ok((measured, held.unwrap_or_default()))
}
