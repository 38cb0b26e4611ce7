//! Do all contenders give the same answer?

use std::time::{Duration, Instant};

use kampf_contest::{Counter, Difference, Measured, Reference, evaluate};
use kampf_engine::GeneratedRows;
use kampf_protocol::{Counts, Mode};
use kampf_race::Nanos;
use kampf_schema::Value;

use crate::comparison::{Comparison, bytes_of};
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::event::Event;
use crate::inbox::Inbox;
use crate::process::Trouble;
use crate::talk::{Flow, Talk};

/// More generated rows than this, over all parameter sets, and the database itself gives the reference.
const PLAIN_EVALUATION_ROWS: u64 = 500_000;

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

/// Checks all contenders of a contest against one reference.
///
/// # Errors
/// The user's wish to stop, and a reference that cannot be had.
pub fn check(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    probe: bool,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Checks, Trouble> {
    let sets = contest.parameter_sets(setup, 0);
    let (references, reference_by) = references(inbox, setup, contest, &sets)?;
    let mut entries = Vec::with_capacity(contest.entries.len());
    for (at, entry) in contest.entries.iter().enumerate() {
        events(Event::Checking(&entry.name, at + 1, contest.entries.len()));
        let (verdict, probe) = match check_entry(inbox, setup, contest, entry, &sets, &references, probe) {
            Ok(checked) => checked,
            Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
            Err(trouble) => {
                events(Event::Failed(&entry.name, trouble.to_string()));
                (CheckedVerdict::Failed(trouble), None)
            }
        };
        entries.push(CheckedEntry { name: entry.name.clone(), verdict, probe });
    }
    Ok(Checks { references, reference_by, entries })
}

fn check_entry(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    entry: &Entry,
    sets: &[Vec<Value>],
    references: &[Reference],
    probe: bool,
) -> Result<(CheckedVerdict, Option<Probe>), Trouble> {
    let begun = Instant::now();
    let talk = Talk::start(inbox, setup, contest, entry)?;
    let start = begun.elapsed();
    let can_be_timed = talk.can(Mode::Time);
    let verdict = compared(talk, contest, sets, references)?;
    if !probe || verdict != CheckedVerdict::Agrees || !can_be_timed {
        return Ok((verdict, None));
    }
    // The answer is fetched and thrown away by another code path; a fresh process shows what a round will look like.
    let mut talk = Talk::start(inbox, setup, contest, entry)?;
    let cold = talk.run(Mode::Time, &sets[..1], 1, 1)?;
    let counts = if talk.can(Mode::Count) { talk.run(Mode::Count, sets, 1, 1)?.ran.counts } else { None };
    let later = talk.run(Mode::Time, sets, 1, 1)?;
    let mean = |spans: &[u64]| spans.iter().sum::<u64>() as f64 / spans.len().max(1) as f64;
    let by = Counter { is_program: matches!(entry.way, EntryWay::Program(_)), trips_are_modelled: setup.engine.trips_are_modelled() };
    let measured = Measured::of(counts.iter().flat_map(Counts::iter), by);
    Ok((verdict, Some(Probe { start, cold_ns: mean(&cold.ran.spans_ns), call_ns: mean(&later.ran.spans_ns), measured })))
}

/// Fetches a contender's answers and compares them with the right ones.
pub(crate) fn compared(
    talk: Talk<'_>,
    contest: &Contest,
    sets: &[Vec<Value>],
    references: &[Reference],
) -> Result<CheckedVerdict, Trouble> {
    let mut comparison = Comparison::new(references, contest.limit());
    talk.answers(sets, &mut |set, rows| comparison.take(set, rows))?;
    Ok(comparison.verdict())
}

/// Rows and bytes of values that an answer may have which is the reference itself.
const LARGEST_REFERENCE: (usize, u64) = (5_000_000, 1 << 30);

/// All answers of one contender, which others are to be compared with.
fn whole_answers(talk: Talk<'_>, sets: &[Vec<Value>]) -> Result<Vec<Vec<Vec<Value>>>, Trouble> {
    let mut answers: Vec<Vec<Vec<Value>>> = vec![Vec::new(); sets.len()];
    let (mut rows_so_far, mut bytes) = (0, 0);
    talk.answers(sets, &mut |set, rows| {
        rows_so_far += rows.len();
        bytes += bytes_of(&rows);
        answers[set].extend(rows);
        if rows_so_far > LARGEST_REFERENCE.0 || bytes > LARGEST_REFERENCE.1 {
            return Err(Trouble::Refused(format!(
                "the answer has more than {} rows or {} MiB, which is more than Kampf compares; add a limit",
                LARGEST_REFERENCE.0,
                LARGEST_REFERENCE.1 >> 20
            )));
        }
        Ok(Flow::More)
    })?;
    Ok(answers)
}

/// The right answer for each set, and who gave it.
pub(crate) fn references(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    sets: &[Vec<Value>],
) -> Result<(Vec<Reference>, String), Trouble> {
    if let Some(need) = &contest.need {
        let rows: u64 = need.tables().into_iter().map(|table| setup.blueprint.rows(table)).sum();
        if rows.saturating_mul(sets.len() as u64) <= PLAIN_EVALUATION_ROWS {
            let rows = GeneratedRows(setup.blueprint);
            let references = sets.iter().map(|set| evaluate(need, &rows, set)).collect();
            return Ok((references, "the plain evaluation of the generated rows".to_owned()));
        }
    }
    let (entry, keys) = match (&contest.reference, contest.entries.first()) {
        (Some((_, plan)), _) => {
            let way = EntryWay::Plan(Box::new(plan.clone()));
            (Entry { name: "reference".to_owned(), choices: None, way, by_hand: None }, true)
        }
        (None, Some(first)) => (first.clone(), false),
        (None, None) => return Err(Trouble::Refused("there is no contender".to_owned())),
    };
    let asked = match &contest.reference {
        Some((longer, _)) => &Contest { need: Some(longer.clone()), ..contest.clone() },
        None => contest,
    };
    let answers = whole_answers(Talk::start(inbox, setup, asked, &entry)?, sets)?;
    let references = answers.into_iter().map(|answer| reference_of(contest, answer, keys)).collect();
    let by = if keys { "the leanest derived contender, asked for its sort keys too".to_owned() } else { entry.name };
    Ok((references, by))
}

/// Splits the sort keys off, or makes the order itself the key.
fn reference_of(contest: &Contest, answer: Vec<Vec<Value>>, keys: bool) -> Reference {
    let Some(need) = contest.need.as_ref().filter(|_| keys) else {
        let ordered = contest.ordered && contest.need.is_none();
        let keys = (0..answer.len()).filter(|_| ordered).map(|row| vec![Value::Integer(i64::try_from(row).unwrap_or(i64::MAX))]).collect();
        return Reference { rows: answer, keys, complete: true };
    };
    let complete = need.limit.is_none_or(|limit| (answer.len() as u64) < more_than(limit));
    let width = need.give.len();
    let (mut rows, mut keys) = (Vec::with_capacity(answer.len()), Vec::with_capacity(answer.len()));
    for mut row in answer {
        let own_keys = row.split_off(width.min(row.len()));
        rows.push(row);
        keys.push(own_keys);
    }
    if need.order.is_empty() {
        keys.clear();
    }
    Reference { rows, keys, complete }
}

/// The larger limit of a reference, so that rows behind the cut are known.
pub fn more_than(limit: u64) -> u64 {
    // No engine takes a larger number.
    limit.saturating_mul(2).saturating_add(100).min(i64::MAX.unsigned_abs())
}
