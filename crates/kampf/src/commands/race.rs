//! `kampf race`

use std::time::Duration;

use kampf_race::RaceSettings;
use kampf_runner::{CheckedVerdict, Contest, Inbox, Machine, RaceOptions, Setup, race};

use super::check::check_text;
use super::{Ending, print, print_json, say, self_test};
use crate::arguments::{Format, General, Race};
use crate::document::{DatasetPart, Document, TablePart};
use crate::output::{Page, RaceProgress, across, contest_text, duration};
use crate::problem::Problem;
use crate::project::{ContestConfig, Project, resolve};
use crate::raced::{RacedContest, RacedRun};
use crate::running::{Circumstances, Surroundings, engines, filled, heed, inbox, name_programs, open, raced_contest, setup, trouble};
use crate::store::{Dataset, save_result};
use kampf_verdict::{FaultKind, Require, Required};

pub(super) fn run(general: &General, arguments: &Race) -> Result<Ending, Problem> {
    if arguments.self_test {
        return self_test::run(general, arguments);
    }
    let inbox = inbox()?;
    let mut machine = Machine::read();
    let mut raced = Raced::default();
    let mut home = None;
    for engine in engines(general)? {
        let mut project = open(general, engine.as_deref())?;
        project.race_seed = arguments.seed.unwrap_or(project.race_seed);
        let ended = raced.on(general, arguments, &inbox, &project);
        home.get_or_insert(project.folder);
        if let Err(problem) = ended {
            // What was raced before is kept.
            raced.fails(problem);
            break;
        }
        if inbox.is_interrupted() {
            break;
        }
    }
    machine.read_load();
    let (Some(home), Some(dataset), false) = (home, raced.dataset.take(), raced.parts.is_empty()) else {
        return Err(raced.problem.unwrap_or_else(|| Problem::surroundings("interrupted before there was a result")));
    };
    if general.format == Format::Text {
        raced.print(&side_by_side(&raced.parts));
    }
    let disagreement = raced
        .parts
        .iter()
        .flat_map(|part| &part.facts.contenders)
        .any(|one| one.fault.as_ref().is_some_and(|fault| fault.kind == FaultKind::Disagrees));
    let run = RacedRun { kampf: env!("CARGO_PKG_VERSION").to_owned(), machine, dataset, contests: raced.parts };
    let text = serde_json::to_string_pretty(&Document::of(&run))
        .map_err(|error| Problem::surroundings(format!("the result cannot be written: {error}")))?;
    // A result that cannot be saved is still shown.
    match save_result(&home, &text) {
        Ok(path) => say(general.quiet, &format!("saved as {}", path.display())),
        Err(problem) => say(false, &format!("the result was not saved: {}", problem.message)),
    }
    if general.format == Format::Json {
        print_json(&text)?;
    }
    if let Some(problem) = raced.problem {
        return Err(problem);
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
#[derive(Default)]
struct Raced {
    parts: Vec<RacedContest>,
    /// Whether a contest's requirements were met by nobody.
    missed: bool,
    /// Whether all that raced in a contest failed, as when its server went away.
    nobody_finished: bool,
    /// Of the first engine; the content is the same on all.
    dataset: Option<DatasetPart>,
    /// What went wrong first. It does not lose what was raced.
    problem: Option<Problem>,
}

impl Raced {
    fn fails(&mut self, problem: Problem) {
        self.problem.get_or_insert(problem);
    }

    /// Prints; where that cannot be, the race goes on and is saved.
    fn print(&mut self, text: &str) {
        if let Err(problem) = print(text) {
            self.fails(problem);
        }
    }

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
        name_programs(general, &dataset, selected.iter().map(|(_, picked)| &picked.contest));
        for (at, (config, picked)) in selected.iter().enumerate() {
            for name in &picked.left_out {
                say(general.quiet, &format!("{}: `{name}` has no SQL for {} and is left out", config.name, project.engine.name()));
            }
            for &trip in trips {
                if inbox.is_interrupted() {
                    return Ok(());
                }
                let mut setup = setup(project, &dataset, &arguments.bounds)?;
                let pin = arguments.pin || project.config.pin;
                let circumstances = Circumstances::arrange(project, &dataset, trip, pin, &mut setup)?;
                // Of a time for all, each takes twice the share of those after it: the first ones are shown first.
                let after = (selected.len() - at) * trips.len();
                let time = match arguments.together {
                    Some(together) => {
                        together.saturating_sub(Duration::from_secs_f64(self.parts.iter().map(|part| part.course.seconds).sum())) * 2
                            / (after as u32 + 1)
                    }
                    None => arguments.time,
                };
                let on = On { general, arguments, inbox, setup: &setup, project, dataset: &dataset, circumstances: &circumstances };
                match one(&on, time, config, &picked.contest) {
                    Ok((part, finished, text)) => {
                        dataset.verify()?;
                        self.print(&text);
                        self.nobody_finished |= !finished;
                        self.missed |= part.verdict.requirements_met == Some(false);
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
fn side_by_side(parts: &[RacedContest]) -> String {
    let mut page = Page::new();
    let mut done: Vec<&str> = Vec::new();
    let engines = parts.iter().any(|part| part.engine.name != parts[0].engine.name);
    for part in parts {
        if done.contains(&part.name.as_str()) {
            continue;
        }
        done.push(&part.name);
        let columns: Vec<(String, &RacedContest)> = parts
            .iter()
            .filter(|other| other.name == part.name)
            .map(|other| {
                let trip = other.conditions.round_trip();
                let trip = trip.map_or_else(|| "no added trip time".to_owned(), |trip| format!("+{} a trip", duration(trip)));
                let label = match (engines, other.conditions.round_trip_ns.is_some()) {
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

/// Checks and races one contest. The truth tells whether any contender came to the end, the text how it went.
fn one(on: &On<'_>, time: Duration, config: &ContestConfig, contest: &Contest) -> Result<(RacedContest, bool, String), Problem> {
    let On { general, arguments, inbox, setup, .. } = *on;
    let mut progress = RaceProgress::new(&contest.name, general.quiet, arguments.margin);
    let checks = kampf_runner::check(inbox, setup, contest, true, &mut |event| progress.take(&event))
        .map_err(|error| trouble(&contest.name, &error))?;
    let options = options(arguments, time, &config.require, setup.seed);
    let report = race(inbox, setup, contest, &checks, &options, &mut |event| progress.take(&event))
        .map_err(|error| trouble(&contest.name, &error))?;
    drop(progress);
    let surroundings = Surroundings { project: on.project, dataset: on.dataset, circumstances: on.circumstances };
    let part = raced_contest(&surroundings, config, contest, &checks, &options, &report);
    let mut page = Page::new();
    if general.format == Format::Text {
        if checks.entries.iter().any(|entry| entry.verdict != CheckedVerdict::Agrees) {
            check_text(&mut page, contest, &checks);
        }
        contest_text(&mut page, &part);
    }
    let failed = part.facts.contenders.iter().any(|one| one.fault.as_ref().is_some_and(|fault| fault.kind == FaultKind::Failed));
    let finished = !failed || part.verdict.leader.is_some();
    Ok((part, finished, page.into_text()))
}

/// How a contest is raced.
pub(super) fn options(arguments: &Race, time: Duration, require: &Require, seed: u64) -> RaceOptions {
    let settings = RaceSettings {
        margin: arguments.margin,
        most_rounds: arguments.rounds as usize,
        exact: arguments.exact,
        keep_below: require.shortest_time(),
        ..RaceSettings::default()
    };
    RaceOptions { settings, time, least_calls: if require.limit(Required::P95).is_some() { 20 } else { 1 }, seed }
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
