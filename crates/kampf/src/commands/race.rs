//! `kampf race`

use std::collections::BTreeMap;

use kampf_race::{Outcome as RaceOutcome, median, p95};
use kampf_runner::{CheckedVerdict, Checks, Contest, EntryWay, Inbox, Machine, RaceOptions, RaceReport, Setup, race};

use super::check::check_text;
use super::session::{filled, inbox, open, setup, trouble};
use super::{Ending, print, say};
use crate::arguments::{Format, General, Race};
use crate::document::{
    AnswerPart, ContenderPart, ContestPart, DatasetPart, Document, EnginePart, Latency, Outcome, RacePart, TablePart, VerdictPart,
};
use crate::output::{Look, Page, RaceProgress, count, paint, race_table, verdict_text};
use crate::problem::Problem;
use crate::project::{ContestConfig, Project, resolve};
use crate::store::{Dataset, save_result};
use crate::verdict::{Verdict, decide};

pub(super) fn run(general: &General, arguments: &Race) -> Result<Ending, Problem> {
    let project = open(general, general.engine.as_deref())?;
    let contests = project.contests(&arguments.contests)?;
    let mut selected = Vec::new();
    for config in contests {
        selected.push((config, resolve(&project, config, &arguments.selection)?.contest));
    }
    let dataset = filled(general, &project)?;
    let inbox = inbox()?;
    let setup = setup(&project, &dataset, &arguments.bounds)?;
    let mut machine = Machine::read();
    let mut parts: Vec<ContestPart> = Vec::new();
    let (mut disagreement, mut missed) = (false, false);
    for (config, contest) in &selected {
        if inbox.is_interrupted() {
            break;
        }
        match one(general, arguments, &inbox, &setup, &project, &dataset, config, contest) {
            Ok((part, verdict)) => {
                disagreement |= part.contenders.iter().any(|contender| contender.outcome == Outcome::Disagrees);
                missed |= verdict.required && verdict.choose.is_none();
                parts.push(part);
            }
            // What other contests gave is kept.
            Err(problem) if inbox.is_interrupted() && !parts.is_empty() => {
                say(general.quiet, &format!("{}: {}", contest.name, problem.message));
                break;
            }
            Err(problem) => return Err(problem),
        }
    }
    machine.read_load();
    let document = Document {
        format: "kampf-result".to_owned(),
        version: 1,
        kampf: env!("CARGO_PKG_VERSION").to_owned(),
        machine,
        dataset: dataset_part(&dataset),
        contests: parts,
    };
    let text =
        serde_json::to_string_pretty(&document).map_err(|error| Problem::surroundings(format!("the result cannot be written: {error}")))?;
    // A result that cannot be saved is still shown.
    match save_result(&project, &text) {
        Ok(path) => say(general.quiet, &format!("saved as {}", path.display())),
        Err(problem) => say(false, &format!("the result was not saved: {}", problem.message)),
    }
    if general.format == Format::Json {
        print(&format!("{text}\n"))?;
    }
    Ok(if disagreement || (arguments.require && missed) { Ending::No } else { Ending::Done })
}

/// Checks and races one contest, and prints how it went.
fn one(
    general: &General,
    arguments: &Race,
    inbox: &Inbox,
    setup: &Setup<'_>,
    project: &Project,
    dataset: &Dataset,
    config: &ContestConfig,
    contest: &Contest,
) -> Result<(ContestPart, Verdict), Problem> {
    let mut progress = RaceProgress::new(&contest.name, general.quiet);
    let checks = kampf_runner::check(inbox, setup, contest, true, &mut |event| progress.take(&event))
        .map_err(|error| trouble(&contest.name, &error))?;
    let limits = [config.require.p95, config.require.median];
    let options = RaceOptions {
        rounds: arguments.rounds as usize,
        time: arguments.time,
        exact: arguments.exact,
        keep_below: limits.iter().flatten().min().map(|limit| limit.as_nanos() as f64),
        least_calls: if config.require.p95.is_some() { 20 } else { 1 },
    };
    let report = race(inbox, setup, contest, &checks, &options, &mut |event| progress.take(&event))
        .map_err(|error| trouble(&contest.name, &error))?;
    drop(progress);
    let mut contenders = contender_parts(contest, &checks, &report, project.engine.trips_are_modelled());
    let verdict = decide(&mut contenders, &config.require);
    let name = |at: Option<usize>| at.map(|at| contenders[at].name.clone());
    let verdict_part = VerdictPart {
        choose: name(verdict.choose),
        comfortable: name(verdict.comfortable),
        alike: verdict.alike.iter().map(|&at| contenders[at].name.clone()).collect(),
        requirements_met: verdict.required.then_some(verdict.choose.is_some()),
    };
    let part = ContestPart {
        name: contest.name.clone(),
        kind: "read".to_owned(),
        need: contest.need_text.clone(),
        conditions: BTreeMap::from([("transaction".to_owned(), project.config.transaction.into())]),
        variant: BTreeMap::new(),
        engine: EnginePart {
            name: project.engine.name().to_owned(),
            version: dataset.record.engine_version.clone(),
            settings: project.settings.iter().map(|setting| (setting.name.clone(), setting.value.clone())).collect(),
        },
        race: RacePart {
            rounds: report.rounds,
            seconds: report.total.as_secs_f64(),
            measured_seconds: report.measured.as_secs_f64(),
            interrupted: report.interrupted,
            reference: checks.reference_by.clone(),
        },
        contenders,
        verdict: verdict_part,
    };
    if general.format == Format::Text {
        print(&contest_text(config, contest, &checks, &part, &verdict))?;
    }
    Ok((part, verdict))
}

fn contest_text(config: &ContestConfig, contest: &Contest, checks: &Checks, part: &ContestPart, verdict: &Verdict) -> String {
    let mut page = Page::new();
    page.line(format!("{}  {}", paint(Look::Title, &contest.name), config.about.as_deref().unwrap_or_default()));
    let agreed = checks.entries.iter().filter(|entry| entry.verdict == CheckedVerdict::Agrees).count();
    if agreed < checks.entries.len() {
        check_text(&mut page, contest, checks);
    }
    let rows: usize = checks.references.iter().map(|reference| reference.answer(contest.limit()).len()).sum();
    let ended = if part.race.interrupted { ", interrupted" } else { "" };
    let measured = part.race.measured_seconds / part.race.seconds.max(1e-9) * 100.0;
    page.line(paint(
        Look::Quiet,
        &format!(
            "{agreed} contenders agree on {} rows; {} rounds in {:.1} s, {measured:.0} % of it measured{ended}",
            count(rows as u64),
            part.race.rounds,
            part.race.seconds
        ),
    ));
    page.blank();
    race_table(&mut page, part);
    page.blank();
    verdict_text(&mut page, part, verdict);
    page.blank();
    page.into_text()
}

/// The contenders of the document, best first.
fn contender_parts(contest: &Contest, checks: &Checks, report: &RaceReport, modelled_trips: bool) -> Vec<ContenderPart> {
    let digest = checks.references.first().map(|reference| {
        let answer = reference.answer(contest.limit());
        AnswerPart { rows: answer.len() as u64, digest: kampf_contest::digest(answer, reference.is_ordered()) }
    });
    let mut parts: Vec<ContenderPart> = report
        .standings
        .iter()
        .map(|standing| {
            let at = standing.contender;
            let (entry, entrant, checked) = (&contest.entries[at], &report.entrants[at], &checks.entries[at]);
            let outcome = match (&checked.verdict, standing.outcome) {
                (CheckedVerdict::Disagrees(..), _) => Outcome::Disagrees,
                _ if entrant.disagrees => Outcome::Disagrees,
                (CheckedVerdict::Failed(_) | CheckedVerdict::Undecided, _) | (_, RaceOutcome::Failed) => Outcome::Failed,
                (_, RaceOutcome::Standing) => Outcome::Standing,
                (_, RaceOutcome::Slower) => Outcome::Slower,
                (_, RaceOutcome::Outclassed) => Outcome::Outclassed,
                (_, RaceOutcome::Unresolved) => Outcome::Unresolved,
            };
            let reason = entrant.reason.clone().or_else(|| match &checked.verdict {
                CheckedVerdict::Agrees => None,
                CheckedVerdict::Disagrees(..) => Some("its answer differs; it was not timed".to_owned()),
                CheckedVerdict::Undecided => Some("its answer cannot be decided; add an order term".to_owned()),
                CheckedVerdict::Failed(trouble) => Some(trouble.to_string()),
            });
            let raced = &entrant.raced;
            let range = |pick: fn(f64, f64) -> f64| raced.rounds.iter().copied().reduce(pick);
            let mut part = ContenderPart {
                name: entry.name.clone(),
                choices: entry.choices,
                sql: match &entry.way {
                    EntryWay::Plan(plan) => plan.statements(),
                    EntryWay::Program(..) => Vec::new(),
                },
                outcome,
                reason,
                rounds: raced.rounds.clone(),
                latency_ns: Latency {
                    median: median(&raced.rounds),
                    low: range(f64::min),
                    high: range(f64::max),
                    p95: p95(&raced.calls),
                    cold: median(&raced.cold),
                    behind: standing.behind,
                },
                cpu_ns: median(&raced.cpu),
                statements: None,
                round_trips: None,
                rows: None,
                bytes: None,
                wire_bytes: None,
                objects: None,
                heap_peak_bytes: None,
                allocations: None,
                engine_bytes: None,
                counted: BTreeMap::new(),
                answer: digest.clone().filter(|_| checked.verdict == CheckedVerdict::Agrees),
                by_hand: entry.by_hand,
            };
            if let Some(counts) = &raced.counts {
                part.take_counts(counts, matches!(entry.way, EntryWay::Program(..)), modelled_trips);
            }
            part
        })
        .collect();
    let place = |part: &ContenderPart| {
        let out = matches!(part.outcome, Outcome::Disagrees | Outcome::Failed);
        (out, part.latency_ns.median.unwrap_or(f64::INFINITY))
    };
    parts.sort_by(|left, right| {
        let ((left_out, left), (right_out, right)) = (place(left), place(right));
        left_out.cmp(&right_out).then(left.total_cmp(&right))
    });
    parts
}

fn dataset_part(dataset: &Dataset) -> DatasetPart {
    let record = &dataset.record;
    let table = |table: &crate::store::TableRecord| TablePart {
        name: table.name.clone(),
        rows: table.rows,
        bytes: table.bytes,
        digest: table.digest.clone(),
    };
    DatasetPart { fingerprint: record.fingerprint.clone(), tables: record.tables.iter().map(table).collect() }
}
