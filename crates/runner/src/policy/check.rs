//! Do all contenders give the same answer?

use std::ops::Range;
use std::time::Duration;

use kampf_contest::{Difference, Measured, Reference, Unclear};
use kampf_protocol::{Counts, Mode};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::honesty::{ALLOWED, Account, Believed, believe, rows_are_right, timed};
use super::kept::{SeenBefore, look_at_programs};
use super::race::OUTCLASSED_IN_CHECK;
use super::stage::{Compared, Done, Right, RunOrder, Stage};
use crate::event::{Checking, Event};
use crate::trouble::Trouble;

/// The outcome of a check.
#[derive(Clone, Debug, Default)]
pub struct Checks {
    /// The right answer for each parameter set.
    pub references: Vec<Reference>,
    /// How they are known.
    pub known: Known,
    /// What contenders proved before on few rows, where they had to.
    pub twin: Option<Twin>,
    /// Each contender's outcome, in the order of the field.
    pub entries: Vec<CheckedEntry>,
    /// Where derived contenders differ and nobody knows who is right.
    pub contradiction: Option<Contradiction>,
}

/// How right answers are known.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Known {
    /// By the meaning of the need, over all rows.
    #[default]
    Plainly,
    /// By a derived contender, whose answers hold for so many root rows that were worked out by themselves.
    Sampled(u64),
    /// By a contender of this name.
    By(String),
}

/// The dataset of few rows on which contenders proved themselves.
#[derive(Clone, Debug, PartialEq)]
pub struct Twin {
    /// How many rows it has.
    pub rows: u64,
    /// What it does not show of the need, in words.
    pub not_proven: Vec<&'static str>,
}

/// One contender's outcome.
#[derive(Clone, Debug, PartialEq)]
pub struct CheckedEntry {
    /// Its name.
    pub name: String,
    /// What came of it.
    pub verdict: CheckedVerdict,
    /// Whether that came of it on the twin, so that it was not asked on the dataset.
    pub on_twin: bool,
    /// How long it was waited for, where it was stopped before its first answer was whole: that it agrees was proven on the twin.
    pub stopped_after: Option<Duration>,
    /// How long it took, where that was asked for.
    pub probe: Option<Probe>,
    /// Of a program that seems to keep its answers between calls, by what they take.
    pub seen_before: Option<SeenBefore>,
}

/// Two derived contenders that answer differently, one of which must be wrong.
#[derive(Clone, Debug, PartialEq)]
pub struct Contradiction {
    /// One that answers otherwise than the leanest derived contender, which was asked for its sort keys too.
    pub name: String,
    /// For which parameter set.
    pub set: usize,
    /// The first difference: as the leanest has it, and as the other has it.
    pub difference: Box<Difference>,
}

/// What is known of a field from a dataset of few rows.
pub(crate) struct Proof {
    twin: Twin,
    verdicts: Vec<CheckedVerdict>,
    /// How long the first answer of each took.
    first: Vec<Duration>,
}

/// What a check is for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Purpose {
    /// Whether a race comes after it, for which is counted and timed what answers right.
    pub is_for_race: bool,
    /// Whoever has proven itself on few rows is stopped where an answer takes longer than this, and many times as long as the best: it would not
    /// start in a race. None where everybody is to come to the end.
    pub stop_above: Option<Duration>,
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

/// Has every contender from a place on prove itself on the twin, whose right answers are known by plain evaluation.
pub(crate) fn prove(stage: &mut dyn Stage, from: usize, events: &mut dyn FnMut(Event<'_>)) -> Result<Proof, Trouble> {
    let usual = stage.sets(0);
    // What an application never asks for is no matter of a contender that somebody wrote for it.
    let sets: Vec<Vec<Value>> = usual.iter().cloned().chain(stage.edges()).collect();
    let Right { references, .. } = stage.right(&sets)?;
    let contestants = stage.contestants().to_vec();
    let (mut verdicts, mut first) = (vec![CheckedVerdict::Agrees; from], vec![Duration::MAX; contestants.len()]);
    for (at, contestant) in contestants.iter().enumerate().skip(from) {
        events(Event::Proving(&contestant.name, at + 1 - from, contestants.len() - from));
        let asked = if contestant.is_derived { sets.len() } else { usual.len() };
        let (sets, references) = (&sets[..asked], &references[..asked]);
        let verdict = stage.start(at).and_then(|_| {
            let Compared { verdict, took } = stage.compare(at, &sets[..1], &references[..1], None)?;
            first[at] = took;
            if verdict != CheckedVerdict::Agrees || sets.len() == 1 {
                return Ok(verdict);
            }
            // A way that is slow on few rows is asked for some usual answers and those at the edges.
            let skipped = if took > LONG_ANSWER { usual.len().saturating_sub(FEW_SETS) } else { 0 };
            let rest: Vec<usize> = (1..asked).filter(|set| !(FEW_SETS..FEW_SETS + skipped).contains(set)).collect();
            let sets: Vec<Vec<Value>> = rest.iter().map(|&set| sets[set].clone()).collect();
            let references: Vec<Reference> = rest.iter().map(|&set| references[set].clone()).collect();
            Ok(match stage.compare(at, &sets, &references, None)?.verdict {
                CheckedVerdict::Disagrees(set, difference) => CheckedVerdict::Disagrees(rest[set], difference),
                verdict => verdict,
            })
        });
        stage.end(at);
        verdicts.push(match verdict {
            Ok(verdict) => verdict,
            Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
            Err(trouble) => CheckedVerdict::Failed(trouble),
        });
    }
    let not_proven = stage.remarks(&references[..usual.len()]);
    Ok(Proof { twin: Twin { rows: stage.all_rows(), not_proven }, verdicts, first })
}

/// Checks all contenders of a field against one reference. Where that is only a contender's word, what they proved on a twin counts first, and derived
/// ones that differ from it are a reason to doubt it.
pub(crate) fn check(
    stage: &mut dyn Stage,
    proof: Option<&Proof>,
    purpose: Purpose,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Checks, Trouble> {
    let sets = stage.sets(0);
    let Right { references, known } = stage.right(&sets)?;
    let mut entries = entries(stage, (&sets, &references), None, proof, purpose, events)?;
    if purpose.is_for_race {
        look_at_programs(stage, &mut entries)?;
    }
    let mut checks = Checks { references, known, twin: None, entries, contradiction: None };
    // Where all rows are worked out it is only for who may be stopped.
    checks.twin = proof.filter(|_| checks.known != Known::Plainly).map(|proof| proof.twin.clone());
    let is_doubtful = matches!(checks.known, Known::Sampled(_));
    let Some(contradiction) = contradiction(stage, &checks).filter(|_| is_doubtful) else { return Ok(checks) };
    match stage.decide(&sets)? {
        Some(truth) => {
            let stands = truth.iter().zip(&checks.references).all(|(truth, reference)| stage.agree(truth, reference));
            if !stands {
                checks.entries = self::entries(stage, (&sets, &truth), None, proof, purpose, events)?;
            }
            (checks.references, checks.known) = (truth, Known::Plainly);
        }
        None => {
            for entry in &mut checks.entries {
                if matches!(entry.verdict, CheckedVerdict::Agrees | CheckedVerdict::Disagrees(..)) && !entry.on_twin {
                    (entry.verdict, entry.probe) = (CheckedVerdict::Undecided(Unclear::NobodyKnows), None);
                }
            }
            checks.contradiction = Some(contradiction);
        }
    }
    Ok(checks)
}

/// Checks those that a field has behind those that were checked before, against what is right by that check. Derived ones that differ from it are
/// no reason to doubt it: it stood.
pub(crate) fn check_more(
    stage: &mut dyn Stage,
    before: &Checks,
    proof: Option<&Proof>,
    purpose: Purpose,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Checks, Trouble> {
    let sets = stage.sets(0);
    let more = entries(stage, (&sets, &before.references), Some(before), proof, purpose, events)?;
    let mut checks = before.clone();
    checks.entries.extend(more);
    Ok(checks)
}

/// The first derived contender that answers otherwise than the reference.
fn contradiction(stage: &dyn Stage, checks: &Checks) -> Option<Contradiction> {
    let derived = stage.contestants().iter().zip(&checks.entries).filter(|(contestant, entry)| contestant.is_derived && !entry.on_twin);
    derived.into_iter().find_map(|(_, entry)| match &entry.verdict {
        CheckedVerdict::Disagrees(set, difference) => {
            Some(Contradiction { name: entry.name.clone(), set: *set, difference: difference.clone() })
        }
        _ => None,
    })
}

/// The outcome of each contender of a field that was not checked before.
fn entries(
    stage: &mut dyn Stage,
    (sets, references): (&[Vec<Value>], &[Reference]),
    before: Option<&Checks>,
    proof: Option<&Proof>,
    purpose: Purpose,
    events: &mut dyn FnMut(Event<'_>),
) -> Result<Vec<CheckedEntry>, Trouble> {
    let contestants = stage.contestants().to_vec();
    let mut entries: Vec<Option<CheckedEntry>> = vec![None; contestants.len()];
    let from = before.map_or(0, |before| before.entries.len());
    let calls = before.iter().flat_map(|before| before.entries.iter().zip(&contestants)).filter(|(_, contestant)| contestant.leads);
    let mut best: Option<Nanos> = calls.filter_map(|(entry, _)| Some(entry.probe.as_ref()?.call_ns)).min_by(f64::total_cmp);
    for (checked_before, at) in soonest_first(from..contestants.len(), proof).into_iter().enumerate() {
        let contestant = &contestants[at];
        let name = contestant.name.clone();
        let on_twin = proof.map(|proof| &proof.verdicts[at]);
        let longest = match purpose.stop_above {
            Some(above) if on_twin == Some(&CheckedVerdict::Agrees) && !contestant.counter.is_program => {
                best.map(|best| above.max(Duration::from_nanos((1.05 * OUTCLASSED_IN_CHECK * best) as u64)))
            }
            _ => None,
        };
        let at_most = longest.map(|longest| longest * (contestants.len() - from - checked_before) as u32);
        events(Event::Checking(Checking { name: &name, at: checked_before + 1, all: contestants.len() - from, at_most }));
        let hopeless = best.map_or(Duration::MAX, |best| Duration::from_nanos((OUTCLASSED_IN_CHECK * best) as u64));
        let asking = Asking { sets, references, purpose, longest, hopeless, is_proven: on_twin == Some(&CheckedVerdict::Agrees) };
        let checked = match on_twin {
            None | Some(CheckedVerdict::Agrees | CheckedVerdict::Undecided(_)) => check_entry(stage, at, asking),
            // A program that answers from the dataset when it is given the twin's address.
            Some(CheckedVerdict::Disagrees(..)) if contestant.counter.is_program => {
                let answers = Purpose { is_for_race: false, ..purpose };
                check_entry(stage, at, Asking { purpose: answers, ..asking }).and_then(|checked| match checked.verdict {
                    CheckedVerdict::Agrees => Err(Trouble::NotBelieved("it does not use the address it was given".to_owned())),
                    _ => Ok(checked),
                })
            }
            Some(verdict) => {
                if let CheckedVerdict::Failed(trouble) = verdict {
                    events(Event::Failed(&name, trouble.to_string()));
                }
                entries[at] = Some(CheckedEntry {
                    name,
                    verdict: verdict.clone(),
                    on_twin: true,
                    stopped_after: None,
                    probe: None,
                    seen_before: None,
                });
                continue;
            }
        };
        let Checked { verdict, stopped_after, probe, answer } = match checked {
            Ok(checked) => checked,
            Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
            Err(trouble) => {
                events(Event::Failed(&name, trouble.to_string()));
                Checked { verdict: CheckedVerdict::Failed(trouble), ..Checked::default() }
            }
        };
        stage.end(at);
        if verdict == CheckedVerdict::Agrees && contestant.leads {
            let call = probe.as_ref().map_or(answer.as_nanos() as Nanos, |probe| probe.call_ns);
            best = Some(best.map_or(call, |best| best.min(call)));
        }
        entries[at] = Some(CheckedEntry { name, verdict, on_twin: false, stopped_after, probe, seen_before: None });
    }
    Ok(entries.into_iter().flatten().collect())
}

/// In which order a field is checked, so that it is known soon how long an answer need take: those that are quick on few rows first. Where there are
/// no few rows, the leanest: the field begins with the naive end.
fn soonest_first(contenders: Range<usize>, proof: Option<&Proof>) -> Vec<usize> {
    let mut order: Vec<usize> = contenders.rev().collect();
    if let Some(proof) = proof {
        order.sort_by_key(|&at| proof.first[at]);
    }
    order
}

/// What a contender is asked for in the check.
#[derive(Clone, Copy)]
struct Asking<'a> {
    sets: &'a [Vec<Value>],
    references: &'a [Reference],
    purpose: Purpose,
    /// How long an answer may take before it is stopped.
    longest: Option<Duration>,
    /// From here on one would not start.
    hopeless: Duration,
    /// Whether it has proven itself on few rows.
    is_proven: bool,
}

/// What came of it.
struct Checked {
    verdict: CheckedVerdict,
    stopped_after: Option<Duration>,
    probe: Option<Probe>,
    /// How long its first answer took.
    answer: Duration,
}

impl Default for Checked {
    fn default() -> Checked {
        Checked { verdict: CheckedVerdict::Agrees, stopped_after: None, probe: None, answer: Duration::ZERO }
    }
}

fn check_entry(stage: &mut dyn Stage, at: usize, asking: Asking<'_>) -> Result<Checked, Trouble> {
    let Asking { sets, references, purpose, longest, hopeless, is_proven } = asking;
    let started = stage.start(at)?;
    let unknown = |cold: Duration| Probe {
        start: started.took,
        cold_ns: cold.as_nanos() as Nanos,
        call_ns: cold.as_nanos() as Nanos,
        message_ns: None,
        calls_per_span: 1,
        run_ns: 0.0,
        measured: Measured::default(),
        held: Vec::new(),
    };
    let first = match stage.compare(at, &sets[..1], &references[..1], longest) {
        // It has proven itself where that was no question of time.
        Err(Trouble::TimedOut(limit)) if Some(limit) == longest => {
            let probe = purpose.is_for_race.then(|| unknown(limit));
            return Ok(Checked { stopped_after: Some(limit), probe, answer: limit, ..Checked::default() });
        }
        first => first?,
    };
    // A way that is slow is asked for fewer answers before a race: it is the sets of all rounds that it is held against.
    let fit = SOME_ANSWERS.as_nanos().checked_div(first.took.as_nanos()).map_or(sets.len(), |fit| fit as usize);
    let few = if purpose.is_for_race { fit.max(if is_proven { 1 } else { FEW_SETS }).min(sets.len()) } else { sets.len() };
    let verdict = match first.verdict {
        CheckedVerdict::Agrees if few > 1 => match stage.compare(at, &sets[1..few], &references[1..few], None)?.verdict {
            CheckedVerdict::Disagrees(set, difference) => CheckedVerdict::Disagrees(set + 1, difference),
            verdict => verdict,
        },
        verdict => verdict,
    };
    let answered = Checked { verdict, answer: first.took, ..Checked::default() };
    if !purpose.is_for_race || answered.verdict != CheckedVerdict::Agrees || !started.can.contains(&Mode::Time) {
        return Ok(answered);
    }
    let few = match first.took {
        took if took > hopeless && took > LONG_ANSWER => 1,
        took if took > LONG_ANSWER => few.min(FEW_SETS),
        _ => few,
    };
    let rows: Vec<u64> = references.iter().map(|reference| stage.rows_of(reference)).collect();
    let (sets, rows) = (&sets[..few], &rows[..few]);
    let counter = stage.contestants()[at].counter;
    let can_count = started.can.contains(&Mode::Count);
    let unknown = unknown(first.took);
    if !counter.is_program {
        // Its own code says how long the calls took that were counted beside others: no call is made only to learn a time.
        let CountedCall { measured, held, call_ns } = counted(stage, at, sets, rows)?;
        let probe = Probe { call_ns: call_ns.unwrap_or(unknown.cold_ns), measured, held, ..unknown };
        return Ok(Checked { probe: Some(probe), ..answered });
    }
    // The answer is fetched and thrown away by another code path; a fresh process shows what a round will look like.
    stage.start(at)?;
    let cold = timed(stage, at, &sets[..1], 1, 1)?;
    rows_are_right(cold.ran.rows, 1, rows[0], "first call")?;
    let CountedCall { measured, held, .. } = if can_count { counted(stage, at, sets, rows)? } else { CountedCall::default() };
    let Believed { message, calls_per_span, run, call_ns } = believe(stage, at, sets, rows.iter().sum())?;
    let cold_ns = first_call(&cold, Some(message));
    let probe = Probe { cold_ns, call_ns, message_ns: Some(message), calls_per_span, run_ns: run, measured, held, ..unknown };
    Ok(Checked { probe: Some(probe), ..answered })
}

/// From here on an answer takes long, and so many parameter sets have to do then.
const LONG_ANSWER: Duration = Duration::from_millis(50);
const FEW_SETS: usize = 2;
/// Before a race answers are compared over as many sets as fit into this.
const SOME_ANSWERS: Duration = Duration::from_millis(500);

/// What a run of one first call took. It may last longer than it says by a millisecond, which a process that has just begun may take
/// for anything.
pub(super) fn first_call(done: &Done, message: Option<Nanos>) -> Nanos {
    const BEGINNING_NS: Nanos = 1e6;
    // On a new connection nothing is kept.
    if let Some(&miss) = done.ran.kept.as_ref().and_then(|kept| kept.misses_ns.first()) {
        return miss as Nanos;
    }
    let account = Account::of(done, 1, message.map(|message| message + BEGINNING_NS));
    if account.excess() > ALLOWED { account.call_ns() } else { done.ran.spans_ns.iter().sum::<u64>() as Nanos }
}

/// What was counted over one call with each parameter set.
#[derive(Default)]
struct CountedCall {
    measured: Measured,
    held: Vec<(u64, u64)>,
    /// Nanoseconds of a call, where its own code says so.
    call_ns: Option<Nanos>,
}

fn counted(stage: &mut dyn Stage, at: usize, sets: &[Vec<Value>], rows: &[u64]) -> Result<CountedCall, Trouble> {
    let (mut calls, mut growth, mut held, mut spans) = (Vec::with_capacity(sets.len()), Vec::new(), None, Vec::new());
    for (set, right) in sets.iter().zip(rows) {
        let done = stage.run(at, RunOrder { mode: Mode::Count, sets: std::slice::from_ref(set), passes: 1, calls_per_span: 1 })?;
        rows_are_right(done.ran.rows, 1, *right, "counted call")?;
        calls.push(done.ran.counts.unwrap_or_default());
        growth.extend(done.growth);
        spans.extend(done.ran.spans_ns.first().map(|&span| span as Nanos));
        held.get_or_insert(done.ran.held);
    }
    let mut measured = Measured::of(calls.iter().map(Counts::iter), stage.contestants()[at].counter);
    if growth.len() == sets.len() {
        measured.add_growth(&growth);
    }
    let call_ns = (spans.len() == sets.len()).then(|| spans.iter().sum::<Nanos>() / sets.len().max(1) as Nanos);
    Ok(CountedCall { measured, held: held.unwrap_or_default(), call_ns })
}
