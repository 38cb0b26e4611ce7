//! From what was run to a contest that was raced.

use std::collections::BTreeMap;
use std::time::Duration;

use kampf_contest::{Choice, Dialect};
use kampf_race::{Finding, Goal, RaceSettings, median};
use kampf_result::{AnswerPart, ChangePart, Circumstance, ContestKind, Course, EnginePart, Extra, KeysPart, RacedContest, VariantPart};
use kampf_runner::{
    CheckedEntry, CheckedVerdict, Checks, Contest, Entrant, EntrantFault, Entry, EntryWay, HeatRun, Inbox, RaceOptions, RaceReport, Runs,
    SeenBefore, Setup, Timed, Trouble,
};
use kampf_verdict::{ContenderFacts, Facts, Fault, FaultKind, HeatFacts, KeptFacts, Require, judge};

use super::arrangement::Arrangement;
use super::condition::empty_answer;
use super::plans::{Planned, planned, planning};
use crate::output::{checked_text, duration, halted_text, percent};
use crate::project::{ContestConfig, Project, VariantKeys};
use crate::store::{Dataset, VariantData};

/// Where a contest is raced.
#[derive(Clone, Copy)]
pub(crate) struct Stand<'a> {
    pub(crate) inbox: &'a Inbox,
    pub(crate) project: &'a Project,
    pub(crate) dataset: &'a Dataset,
    pub(crate) setup: &'a Setup<'a>,
    pub(crate) circumstance: &'a Circumstance,
    pub(crate) arrangement: &'a Arrangement,
}

/// A contest that was checked and raced.
pub(crate) struct Ran<'a> {
    pub(crate) checks: &'a Checks,
    /// How long the check took, and how long all was to take.
    pub(crate) checked: Duration,
    pub(crate) time: Duration,
    pub(crate) options: &'a RaceOptions,
    pub(crate) keeps_nothing: bool,
    pub(crate) require: &'a Require,
    pub(crate) report: &'a RaceReport,
}

/// The contest with everything that follows from the rounds.
pub(crate) fn raced_contest(on: &Stand<'_>, config: &ContestConfig, contest: &Contest, ran: &Ran<'_>) -> RacedContest {
    let Ran { checks, options, report, .. } = *ran;
    let variants = variants(on, contest);
    let facts = Facts {
        keeps_nothing: ran.keeps_nothing,
        require: ran.require.clone(),
        hit_rate: on.circumstance.hit_rate,
        variants: variants.iter().map(|(name, part)| (name.clone(), part.facts())).collect(),
        ..facts(contest, checks, options.settings, report)
    };
    let stopped = checks.entries.iter().zip(&report.entrants).filter_map(stopped_text);
    let halted = report.entrants.iter().filter(|entrant| entrant.is_halted).map(|entrant| halted_text(&entrant.name));
    let kept = checks.entries.iter().filter_map(kept_text);
    RacedContest {
        name: contest.name.clone(),
        about: config.about.clone(),
        need: contest.need_text.clone(),
        circumstance: on.circumstance.clone(),
        kind: if contest.job.write().is_some() { ContestKind::Write } else { ContestKind::Read },
        arranged: on.arrangement.found(),
        engine: EnginePart {
            name: on.project.engine.name().to_owned(),
            version: on.dataset.record.engine_version.clone(),
            settings: real_settings(on.project, on.dataset),
        },
        variants,
        dataset: on.dataset.record.fingerprint.clone(),
        warnings: empty_answer(on.project, contest, checks).into_iter().chain(stopped).chain(halted).chain(kept).collect(),
        course: Course {
            seconds: report.total.as_secs_f64(),
            check_seconds: ran.checked.as_secs_f64(),
            confirm_seconds: report.confirmed.as_secs_f64(),
            measured_seconds: report.measured.as_secs_f64(),
            interrupted: report.interrupted,
            not_confirmed: report.not_confirmed.clone(),
            reference: checked_text(checks),
            time_seconds: ran.time.as_secs_f64(),
            seed: options.seed,
            round_seconds: report.last_round.as_secs_f64(),
            reference_loop: report.reference_loop.clone(),
            cpu_pressure: report.pressure,
        },
        verdict: judge(&facts),
        facts,
        extras: extras(contest, checks, report, on.project.engine.dialect()),
    }
}

/// What was measured, without what the contest says of who is to be chosen.
pub(super) fn facts(contest: &Contest, checks: &Checks, settings: RaceSettings, report: &RaceReport) -> Facts {
    Facts {
        settings,
        rounds: report.race.rounds(),
        contenders: contenders(contest, checks, report),
        heats: report.heats.iter().map(heat).collect(),
        pair: (settings.goal == Goal::Pair && contest.entries.len() == 2).then_some((0, 1)),
        ..Facts::default()
    }
}

fn heat(run: &HeatRun) -> HeatFacts {
    HeatFacts { after: run.after, anchor: run.anchor, members: run.members.clone(), entered: run.entered }
}

/// The other schemas that a contest's contenders ran on.
fn variants(on: &Stand<'_>, contest: &Contest) -> BTreeMap<String, VariantPart> {
    let is_raced = |name: &str| contest.entries.iter().any(|entry| entry.variant.as_deref() == Some(name));
    let part = |data: &VariantData| {
        let variant = on.project.variant(&data.name);
        VariantPart {
            about: data.record.about.clone(),
            statements: variant.map(|variant| variant.statements(on.project.engine)).unwrap_or_default(),
            bytes: data.record.index_bytes(),
            seconds: data.record.index_seconds(),
            load_seconds: on.dataset.record.load_seconds,
            changes: if variant.is_some_and(|variant| variant.keys.is_some()) { Vec::new() } else { changes(on, contest, &data.name) },
            keys: variant.and_then(|variant| variant.keys.as_ref()).map(|keys| keys_part(on, data, keys)),
        }
    };
    on.dataset.variants.iter().filter(|data| is_raced(&data.name)).map(|data| (data.name.clone(), part(data))).collect()
}

/// Keys of another type, with what the dataset takes with them and without.
fn keys_part(on: &Stand<'_>, data: &VariantData, keys: &VariantKeys) -> KeysPart {
    let (own, record) = (&on.dataset.record, &data.record);
    KeysPart {
        key: keys.key_type.word().to_owned(),
        bytes: record.bytes(),
        index_bytes: record.all_index_bytes(),
        seconds: record.seconds,
        own_bytes: own.own_bytes(),
        own_index_bytes: own.own_index_bytes(),
        own_seconds: own.load_seconds,
    }
}

/// What the engine does otherwise on a variant: at the last contender, which is the most comfortable one, that runs on both.
fn changes(on: &Stand<'_>, contest: &Contest, variant: &str) -> Vec<ChangePart> {
    let is_same = |one: &Entry, other: &Entry| match (one.choices, other.choices) {
        (Some(one), Some(other)) => one.without(Choice::Index).without(Choice::Keys) == other.without(Choice::Index).without(Choice::Keys),
        _ => false,
    };
    let on_variant = contest.entries.iter().rev().filter(|entry| entry.variant.as_deref() == Some(variant));
    let before = |after: &Entry| contest.entries.iter().find(|entry| entry.variant.is_none() && is_same(entry, after));
    let mut both = on_variant.filter_map(|after| Some((after, before(after)?)));
    let Some((after, before)) = both.next() else { return Vec::new() };
    let plans = |entry| planned(on.project, on.setup, contest, entry, false);
    // The server may be gone by now; what was raced counts all the same.
    let (Ok(before), Ok(after)) = (plans(before), plans(after)) else { return Vec::new() };
    let telling = planning(on.project, contest);
    let telling = telling.telling();
    let of_shape = |one: &Planned| after.iter().find(|other| other.shape == one.shape).map(|other| telling.changes(&one.plan, &other.plan));
    let changes = before.iter().filter_map(of_shape).flatten();
    changes.map(|(before, after)| ChangePart { before, after }).collect()
}

/// The engine's settings as they really are, which on a server of somebody else's only the server knows.
fn real_settings(project: &Project, dataset: &Dataset) -> BTreeMap<String, String> {
    let settings = project.engine.connect(dataset.served.url(), &project.settings).and_then(|connection| connection.settings());
    let settings = match settings {
        Ok(settings) => settings,
        // The server may be gone by now; what was asked for is known.
        Err(_) => project.settings.clone(),
    };
    settings.into_iter().map(|setting| (setting.name, setting.value)).collect()
}

/// The contenders as they were measured.
fn contenders(contest: &Contest, checks: &Checks, report: &RaceReport) -> Vec<ContenderFacts> {
    let failed: Vec<usize> = report.race.standings().iter().filter(|one| one.finding == Finding::Failed).map(|one| one.contender).collect();
    let rows = checks.references.first().map(|reference| reference.answer(contest.job.limit()).len() as u64);
    let facts = |at: usize| {
        let (entry, entrant, checked) = (&contest.entries[at], &report.entrants[at], &checks.entries[at]);
        let kind = match &checked.verdict {
            CheckedVerdict::Disagrees(..) => Some(FaultKind::Disagrees),
            CheckedVerdict::Failed(Trouble::NotBelieved(_)) => Some(FaultKind::NotBelieved),
            CheckedVerdict::Failed(_) | CheckedVerdict::Undecided(_) => Some(FaultKind::Failed),
            CheckedVerdict::Agrees => match entrant.fault {
                Some(EntrantFault::Disagrees) => Some(FaultKind::Disagrees),
                Some(EntrantFault::NotBelieved) => Some(FaultKind::NotBelieved),
                Some(EntrantFault::Failed) => Some(FaultKind::Failed),
                // It cannot be timed.
                None => failed.contains(&at).then_some(FaultKind::Failed),
            },
        };
        let reason = || match (&entrant.reason, &checked.verdict) {
            (Some(reason), _) => reason.clone(),
            (None, CheckedVerdict::Agrees) => String::new(),
            (None, CheckedVerdict::Disagrees(..)) => "its answer differs; it was not timed".to_owned(),
            (None, CheckedVerdict::Undecided(why)) => why.to_string(),
            (None, CheckedVerdict::Failed(trouble)) => trouble.to_string(),
        };
        let runs = &entrant.runs;
        ContenderFacts {
            name: entry.name.clone(),
            choices: entry.choices,
            keeps_nothing: entry.keeps_nothing(),
            ran: runs.ran.clone(),
            cold_rounds: if runs.rounds.is_empty() { Vec::new() } else { runs.cold.clone() },
            rounds: runs.rounds.clone(),
            p95_rounds: runs.p95.clone(),
            in_check: match entrant.timed {
                Timed::InRounds => None,
                Timed::InCheck(nanos) => Some(nanos),
            },
            cold: median(&runs.cold),
            measured: checked.probe.as_ref().map(|probe| probe.measured.clone()).unwrap_or_default(),
            kept: kept(entry, runs),
            held: checked.probe.as_ref().map(|probe| probe.held.clone()).unwrap_or_default(),
            answer_rows: rows.filter(|_| checked.verdict == CheckedVerdict::Agrees),
            by_hand: entry.by_hand,
            fault: kind.map(|kind| Fault { kind, reason: reason(), after: entrant.failed_after.unwrap_or(0) }),
        }
    };
    (0..contest.entries.len()).map(facts).collect()
}

/// Times of calls where answers are kept.
fn kept(entry: &Entry, runs: &Runs) -> Option<KeptFacts> {
    let EntryWay::Plan(plan) = &entry.way else { return None };
    Some(KeptFacts { hit: median(&runs.hit)?, miss: median(&runs.miss)?, entries: plan.manner.entries })
}

/// What is said of one that did not start, as its answer took too long in the check.
fn stopped_text((checked, entrant): (&CheckedEntry, &Entrant)) -> Option<String> {
    let Timed::InCheck(nanos) = entrant.timed else { return None };
    checked.stopped_after.is_some().then(|| {
        format!(
            "{} takes {} a call and more: it was stopped in the check; that it gives the answer was proven on the twin",
            entrant.name,
            duration(nanos)
        )
    })
}

/// What is said of a program that seems to keep its answers.
fn kept_text(checked: &CheckedEntry) -> Option<String> {
    let SeenBefore { own, others } = checked.seen_before?;
    Some(format!(
        "{} takes {} of its time where it was asked with the same parameters before, and others take {}: it seems to keep its answers, which may then be \
         older than the data; what it takes here is partly what a kept one takes",
        checked.name,
        percent(own),
        percent(others)
    ))
}

/// What else is known of them.
fn extras(contest: &Contest, checks: &Checks, report: &RaceReport, dialect: &Dialect) -> Vec<Extra> {
    let answer = checks.references.first().map(|reference| {
        let answer = reference.answer(contest.job.limit());
        AnswerPart { rows: answer.len() as u64, digest: kampf_contest::digest(answer, reference.is_ordered(), &reference.forms) }
    });
    let names: Vec<String> = contest.parameters.iter().map(|parameter| parameter.name.clone()).collect();
    let extra = |at: usize| Extra {
        sql: match &contest.entries[at].way {
            EntryWay::Plan(plan) => plan.statements(dialect),
            EntryWay::Write(plan) => plan.statements(dialect, &names),
            EntryWay::Program(..) => Vec::new(),
        },
        cpu: median(&report.entrants[at].runs.cpu),
        answer: answer.clone().filter(|_| checks.entries[at].verdict == CheckedVerdict::Agrees),
    };
    (0..contest.entries.len()).map(extra).collect()
}
