//! `kampf race`

use std::collections::BTreeMap;
use std::time::Duration;

use kampf_race::{Outcome as RaceOutcome, median, p95};
use kampf_runner::{CheckedVerdict, Checks, Contest, EntryWay, Inbox, Machine, RaceOptions, RaceReport, Setup, race};

use super::check::check_text;
use super::circumstances::Circumstances;
use super::session::{engines, filled, heed, open, setup, trouble};
use super::{Ending, print, say};
use crate::arguments::{Format, General, Race};
use crate::document::{
    AnswerPart, ContenderPart, ContestPart, DatasetPart, Document, EnginePart, Latency, Outcome, RacePart, TablePart, VerdictPart,
};
use crate::output::{Look, Page, RaceProgress, across, count, duration, paint, quiet_words, race_table, verdict_text};
use crate::problem::Problem;
use crate::project::{ContestConfig, Project, resolve};
use crate::store::{Dataset, save_result};
use crate::verdict::{Verdict, decide};

pub(super) fn run(general: &General, arguments: &Race) -> Result<Ending, Problem> {
    let inbox = Inbox::new();
    let mut machine = Machine::read();
    let mut raced = Raced { parts: Vec::new(), missed: false, nobody_finished: false, dataset: None };
    let mut home = None;
    for engine in engines(general)? {
        let project = open(general, engine.as_deref())?;
        raced.on(general, arguments, &inbox, &project)?;
        home.get_or_insert(project.folder);
        if inbox.is_interrupted() {
            break;
        }
    }
    machine.read_load();
    let (Some(home), Some(dataset)) = (home, raced.dataset) else {
        return Err(Problem::surroundings("interrupted before there was a result"));
    };
    if general.format == Format::Text {
        print(&side_by_side(&raced.parts))?;
    }
    let disagreement = raced.parts.iter().flat_map(|part| &part.contenders).any(|contender| contender.outcome == Outcome::Disagrees);
    let document = Document {
        format: "kampf-result".to_owned(),
        version: 1,
        kampf: env!("CARGO_PKG_VERSION").to_owned(),
        machine,
        dataset,
        contests: raced.parts,
    };
    let text =
        serde_json::to_string_pretty(&document).map_err(|error| Problem::surroundings(format!("the result cannot be written: {error}")))?;
    // A result that cannot be saved is still shown.
    match save_result(&home, &text) {
        Ok(path) => say(general.quiet, &format!("saved as {}", path.display())),
        Err(problem) => say(false, &format!("the result was not saved: {}", problem.message)),
    }
    if general.format == Format::Json {
        print(&format!("{text}\n"))?;
    }
    Ok(if disagreement || (arguments.require && raced.missed) {
        Ending::No
    } else if raced.nobody_finished {
        Ending::Failed
    } else {
        Ending::Done
    })
}

/// What was raced so far.
struct Raced {
    parts: Vec<ContestPart>,
    /// Whether a contest's requirements were met by nobody.
    missed: bool,
    /// Whether all that raced in a contest failed, as when its server went away.
    nobody_finished: bool,
    /// Of the first engine; the content is the same on all.
    dataset: Option<DatasetPart>,
}

impl Raced {
    /// Races the contests on one engine, once for each round trip.
    fn on(&mut self, general: &General, arguments: &Race, inbox: &Inbox, project: &Project) -> Result<(), Problem> {
        let mut selected = Vec::new();
        for config in project.contests(&arguments.contests)? {
            selected.push((config, resolve(project, config, &arguments.selection)?));
        }
        let dataset = filled(general, project)?;
        heed(inbox)?;
        self.dataset.get_or_insert_with(|| dataset_part(&dataset));
        let trips = if arguments.round_trip.is_empty() { &project.config.round_trips } else { &arguments.round_trip };
        let trips = if trips.is_empty() { &[Duration::ZERO][..] } else { trips };
        for (config, selected) in &selected {
            for name in &selected.left_out {
                say(general.quiet, &format!("{}: `{name}` has no SQL for {} and is left out", config.name, project.engine.name()));
            }
            for &trip in trips {
                if inbox.is_interrupted() {
                    return Ok(());
                }
                let mut setup = setup(project, &dataset, &arguments.bounds)?;
                let pin = arguments.pin || project.config.pin;
                let circumstances = Circumstances::arrange(project, &dataset, trip, pin, &mut setup)?;
                let on = On { general, arguments, inbox, setup: &setup, project, dataset: &dataset, circumstances: &circumstances };
                match one(&on, config, &selected.contest) {
                    Ok((part, verdict, finished)) => {
                        self.nobody_finished |= !finished;
                        self.missed |= verdict.required && verdict.choose.is_none();
                        self.parts.push(part);
                    }
                    // What other contests gave is kept.
                    Err(problem) if inbox.is_interrupted() && !self.parts.is_empty() => {
                        say(general.quiet, &format!("{}: {}", config.name, problem.message));
                        return Ok(());
                    }
                    Err(problem) => return Err(problem),
                }
            }
        }
        Ok(())
    }
}

/// Contests that were raced under several circumstances, each in one table.
fn side_by_side(parts: &[ContestPart]) -> String {
    let mut page = Page::new();
    let mut done: Vec<&str> = Vec::new();
    let engines = parts.iter().any(|part| part.engine.name != parts[0].engine.name);
    for part in parts {
        if done.contains(&part.name.as_str()) {
            continue;
        }
        done.push(&part.name);
        let columns: Vec<(String, &ContestPart)> = parts
            .iter()
            .filter(|other| other.name == part.name)
            .map(|other| {
                let trip = other.conditions.get("round_trip_ns").and_then(serde_json::Value::as_f64);
                let trip = trip.map_or_else(|| "no added trip time".to_owned(), |trip| format!("+{} a trip", duration(trip)));
                let label = match (engines, other.conditions.contains_key("round_trip_ns")) {
                    (true, false) => other.engine.name.clone(),
                    (true, true) => format!("{} {trip}", other.engine.name),
                    (false, _) => trip,
                };
                (label, other)
            })
            .collect();
        if columns.len() > 1 {
            across(&mut page, &part.name, &columns);
            page.blank();
        }
    }
    page.into_text()
}

/// What a contest runs on.
struct On<'a> {
    general: &'a General,
    arguments: &'a Race,
    inbox: &'a Inbox,
    setup: &'a Setup<'a>,
    project: &'a Project,
    dataset: &'a Dataset,
    circumstances: &'a Circumstances,
}

/// Checks and races one contest, and prints how it went. The truth tells whether any contender came to the end.
fn one(on: &On<'_>, config: &ContestConfig, contest: &Contest) -> Result<(ContestPart, Verdict, bool), Problem> {
    let On { general, arguments, inbox, setup, project, dataset, circumstances } = *on;
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
        conditions: circumstances.document(),
        variant: BTreeMap::new(),
        engine: EnginePart {
            name: project.engine.name().to_owned(),
            version: dataset.record.engine_version.clone(),
            settings: real_settings(project, dataset),
        },
        dataset: dataset.record.fingerprint.clone(),
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
        print(&contest_text(config, contest, &checks, &part, &verdict, circumstances))?;
    }
    let failed = report.standings.iter().any(|standing| standing.outcome == RaceOutcome::Failed);
    let finished = !failed || report.standings.iter().any(|standing| standing.outcome == RaceOutcome::Standing);
    Ok((part, verdict, finished))
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

fn contest_text(
    config: &ContestConfig,
    contest: &Contest,
    checks: &Checks,
    part: &ContestPart,
    verdict: &Verdict,
    given: &Circumstances,
) -> String {
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
    let given = given.words();
    if !given.is_empty() {
        page.paragraph(&quiet_words(&given), 0);
    }
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
