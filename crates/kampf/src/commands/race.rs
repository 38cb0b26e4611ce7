//! `kampf race`

use kampf_race::Goal;
use kampf_result::{DatasetPart, Document, RacedContest, RacedRun, TablePart};
use kampf_runner::{CheckedVerdict, Inbox};
use kampf_schema::did_you_mean;
use kampf_verdict::FaultKind;

use super::check::check_text;
use super::interrupts::{heed, inbox};
use super::{Ending, Teller, print, print_json, say, self_test};
use crate::arguments::{Format, General, Race, Selection};
use crate::output::{Page, contest_text, together};
use crate::problem::Problem;
use crate::project::{ContestConfig, Project, Selected, resolve};
use crate::running::{Alone, OneRace, RaceWish, Series, derive_indexes, engines, filled_to_check, machine, name_programs, open, read_load};
use crate::store::{Dataset, save_result};

pub(super) fn run(general: &General, arguments: &Race) -> Result<Ending, Problem> {
    if arguments.self_test {
        return self_test::run(general, arguments);
    }
    let inbox = inbox()?;
    let mut machine = machine();
    let mut raced = Raced::default();
    let mut home = None;
    let hear = &mut Teller::of(general);
    for engine in engines(general.engine.as_deref(), hear) {
        let mut project = open(general, engine.as_deref(), hear)?;
        project.race_seed = arguments.seed.unwrap_or(project.race_seed);
        let mut of_pair = Selection::default();
        arguments.pair.iter().filter_map(|name| name.split_once('@')).for_each(|(_, variant)| of_pair.name_variant(variant));
        let ended = derive_indexes(&mut project, &arguments.contests, &arguments.selection, hear)
            .and_then(|()| project.add_keys(&of_pair.keys))
            .and_then(|()| raced.on(general, arguments, &inbox, &project, hear));
        home.get_or_insert(project.home);
        if let Err(problem) = ended {
            // What was raced before is kept.
            raced.fails(problem);
            break;
        }
        if inbox.is_interrupted() {
            break;
        }
    }
    read_load(&mut machine);
    let (Some(home), Some(dataset), false) = (home, raced.dataset.take(), raced.parts.is_empty()) else {
        return Err(raced.problem.unwrap_or_else(|| Problem::surroundings("interrupted before there was a result")));
    };
    if general.format == Format::Text {
        let mut page = Page::new();
        together(&mut page, &raced.parts);
        raced.print(&page.into_text());
    }
    let disagreement = raced
        .parts
        .iter()
        .flat_map(|part| &part.facts.contenders)
        .any(|one| one.fault.as_ref().is_some_and(|fault| fault.kind == FaultKind::Disagrees));
    let run = RacedRun { kampf: env!("CARGO_PKG_VERSION").to_owned(), machine, dataset, contests: raced.parts };
    let text = serde_json::to_string_pretty(&Document::of(&run))
        .map_err(|error| Problem::surroundings(format!("the result cannot be written: {error}")).because(error))?;
    // A result that cannot be saved is still shown, and who only looks at the exit status is told.
    let saved = save_result(&home, &text);
    match &saved {
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
    } else if raced.nobody_finished || saved.is_err() {
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
    /// Taken when the first race begins: a mistake in what is asked for is answered without a look at others.
    alone: Option<Alone>,
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

    /// Races the contests on one engine, under each of their circumstances.
    fn on(&mut self, general: &General, arguments: &Race, inbox: &Inbox, project: &Project, hear: &mut Teller) -> Result<(), Problem> {
        let contests = select(general, arguments, project)?;
        let dataset = filled_to_check(project, contests.iter().map(|(_, picked)| &picked.contest), hear)?;
        heed(inbox)?;
        self.alone.get_or_insert_with(|| Alone::or_warn(hear));
        self.dataset.get_or_insert_with(|| dataset_part(&dataset));
        name_programs(&dataset, contests.iter().map(|(_, picked)| &picked.contest), hear);
        let wish = wish(arguments);
        let series = Series { inbox, project, dataset: &dataset, wish: &wish, contests: &contests };
        series.run(hear, &mut |config, raced| match raced {
            Ok(raced) => {
                if general.format == Format::Text {
                    self.print(&text(&raced));
                }
                self.nobody_finished |= !raced.is_finished();
                self.missed |= raced.part.verdict.misses_requirements();
                self.parts.push(raced.part);
                Ok(())
            }
            // What other contests gave is kept.
            Err(problem) if inbox.is_interrupted() && !self.parts.is_empty() => {
                say(general.quiet, &format!("{}: {}", config.name, problem.message));
                Ok(())
            }
            // So is what those after it give, unless that is the user's wish to stop.
            Err(problem) if !inbox.is_interrupted() => {
                say(general.quiet, &format!("{}: {}", config.name, problem.message));
                self.fails(problem);
                Ok(())
            }
            Err(problem) => Err(problem),
        })
    }
}

/// How contests are to be raced by the command line.
fn wish(arguments: &Race) -> RaceWish {
    RaceWish {
        margin: arguments.margin,
        most_rounds: arguments.rounds as usize,
        goal: match arguments.exact {
            true => Goal::Exact,
            false if !arguments.pair.is_empty() => Goal::Pair,
            false => Goal::Choice,
        },
        time: arguments.time,
        together: arguments.together,
        round_trips: arguments.round_trip.clone(),
        pin: arguments.pin,
        selection: arguments.selection.clone(),
        bounds: arguments.bounds.clone(),
    }
}

/// What is shown of a contest as soon as it was raced.
fn text(raced: &OneRace) -> String {
    let OneRace { part, contest, checks, sets } = raced;
    let mut page = Page::new();
    if checks.entries.iter().any(|entry| entry.verdict != CheckedVerdict::Agrees) {
        check_text(&mut page, contest, sets, checks);
        page.blank();
    }
    if part.facts.pair.is_none() {
        contest_text(&mut page, part);
    }
    page.into_text()
}

/// The contests to race, each with its field.
fn select<'a>(general: &General, arguments: &Race, project: &'a Project) -> Result<Vec<(&'a ContestConfig, Selected)>, Problem> {
    let configs = project.contests(&arguments.contests)?;
    if arguments.pair.is_empty() {
        return configs
            .into_iter()
            .map(|config| Ok((config, resolve(project, config, &arguments.selection.within(&arguments.bounds))?)))
            .collect();
    }
    let [old, new] = arguments.pair.as_slice() else {
        return Err(Problem::wrong("--pair takes two contenders").hint("with a comma between them: --pair OLD,NEW"));
    };
    if old == new {
        return Err(Problem::wrong(format!("--pair takes two different contenders, not `{old}` twice"))
            .hint("whether equals are told apart, `kampf race --self-test` shows"));
    }
    let mut selected = Vec::new();
    let mut every = Selection { all: true, only: Vec::new(), named: vec![old.clone(), new.clone()], ..arguments.selection.clone() };
    // What stands behind an at sign says on which schema; one that was worked out is asked for by --index derived.
    if every.index.is_empty() && every.keys.is_empty() {
        [old, new].iter().filter_map(|name| name.split_once('@')).for_each(|(_, variant)| every.name_variant(variant));
    }
    for config in configs {
        let mut picked = resolve(project, config, &every)?;
        let find = |name: &String| picked.contest.entries.iter().find(|entry| entry.name == *name).cloned();
        match (find(old), find(new)) {
            (Some(old), Some(new)) => {
                picked.contest.entries = vec![old, new];
                selected.push((config, picked));
            }
            // Where contests were not named, those that know both are meant.
            (old_found, _) if arguments.contests.is_empty() => {
                let missing = if old_found.is_none() { old } else { new };
                say(general.quiet, &format!("{}: there is no contender `{missing}`, so it is left out", config.name));
            }
            (old_found, _) => {
                let missing = if old_found.is_none() { old } else { new };
                let names = picked.contest.entries.iter().map(|entry| entry.name.as_str());
                return Err(
                    Problem::wrong(format!("`{}` has no contender `{missing}`", config.name)).maybe_hint(did_you_mean(missing, names))
                );
            }
        }
    }
    if selected.is_empty() {
        return Err(Problem::wrong(format!("no contest has both `{old}` and `{new}`"))
            .hint("`kampf show CONTEST --all` lists the contenders of a contest"));
    }
    Ok(selected)
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
