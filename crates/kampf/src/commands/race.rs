//! `kampf race`

use std::time::{Duration, Instant};

use kampf_race::{Goal, RaceSettings};
use kampf_result::{Circumstance, DatasetPart, Document, LongerTrip, RacedContest, RacedRun, TablePart, TripBy};
use kampf_runner::{CheckedVerdict, Checks, Contest, Entry, Event, Inbox, Purpose, RaceOptions, RaceReport, Setup, least_time, race};
use kampf_schema::did_you_mean;

use super::check::check_text;
use super::{Ending, print, print_json, say, self_test};
use crate::arguments::{Format, General, Race, Selection};
use crate::output::{Page, RaceProgress, contest_text, counted, together, wait};
use crate::problem::Problem;
use crate::project::{ContestConfig, Project, Selected, resolve};
use crate::running::{
    Alone, Arrangement, Heats, Ran, Surroundings, derive_indexes, engines, entrants, filled_to_check, heed, inbox, machine, name_programs,
    open, raced_contest, read_load, setup, trouble,
};
use crate::store::{Dataset, save_result};
use kampf_verdict::{Candidate, Facts, FaultKind, Require, Required, beside, compared};

pub(super) fn run(general: &General, arguments: &Race) -> Result<Ending, Problem> {
    if arguments.self_test {
        return self_test::run(general, arguments);
    }
    let inbox = inbox()?;
    let mut machine = machine();
    let mut raced = Raced::default();
    let mut home = None;
    for engine in engines(general)? {
        let mut project = open(general, engine.as_deref())?;
        project.race_seed = arguments.seed.unwrap_or(project.race_seed);
        let mut of_pair = Selection::default();
        arguments.pair.iter().filter_map(|name| name.split_once('@')).for_each(|(_, variant)| of_pair.name_variant(variant));
        let ended = derive_indexes(general, &mut project, &arguments.contests, &arguments.selection)
            .and_then(|()| project.add_keys(&of_pair.keys))
            .and_then(|()| raced.on(general, arguments, &inbox, &project));
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
        .map_err(|error| Problem::surroundings(format!("the result cannot be written: {error}")))?;
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

    /// Races the contests on one engine, once for each round trip.
    fn on(&mut self, general: &General, arguments: &Race, inbox: &Inbox, project: &Project) -> Result<(), Problem> {
        let selected = select(general, arguments, project)?;
        let dataset = filled_to_check(general, project, selected.iter().map(|(_, picked)| &picked.contest))?;
        heed(inbox)?;
        self.alone.get_or_insert_with(|| Alone::or_warn(general));
        self.dataset.get_or_insert_with(|| dataset_part(&dataset));
        name_programs(general, &dataset, selected.iter().map(|(_, picked)| &picked.contest));
        let begun = Instant::now();
        for (at, (config, picked)) in selected.iter().enumerate() {
            for what in picked.passed_over(project.engine.name()) {
                say(general.quiet, &format!("{}: {what}", config.name));
            }
            let circumstances = circumstances(project, arguments, &picked.contest);
            for circumstance in &circumstances {
                if inbox.is_interrupted() {
                    return Ok(());
                }
                let mut setup = setup(project, &dataset, &arguments.bounds)?;
                let arrangement = Arrangement::of(circumstance, project, &dataset, &mut setup)?;
                // Of a time for all, each has its part of what is left. Where one of slow ways has taken more than that, the others get some all the same.
                let after = (selected.len() - at) * circumstances.len();
                let spent = begun.elapsed();
                let share = arguments.together.map(|together| (together.saturating_sub(spent) / after as u32).max(LEAST_SHARE));
                let on =
                    On { general, arguments, inbox, setup: &setup, project, dataset: &dataset, circumstance, arrangement: &arrangement };
                match one(&on, share, config, picked) {
                    Ok((part, finished, text)) => {
                        dataset.verify()?;
                        self.print(&text);
                        self.nobody_finished |= !finished;
                        self.missed |= part.verdict.misses_requirements();
                        self.parts.push(part);
                    }
                    // What other contests gave is kept.
                    Err(problem) if inbox.is_interrupted() && !self.parts.is_empty() => {
                        say(general.quiet, &format!("{}: {}", config.name, problem.message));
                        return Ok(());
                    }
                    // So is what those after it give, unless that is the user's wish to stop.
                    Err(problem) if !inbox.is_interrupted() => {
                        say(general.quiet, &format!("{}: {}", config.name, problem.message));
                        self.fails(problem);
                    }
                    Err(problem) => return Err(problem),
                }
            }
        }
        Ok(())
    }
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

/// Under what a contest is raced on an engine: every round trip with every share of kept answers, for which only those have a use that keep some.
fn circumstances(project: &Project, arguments: &Race, contest: &Contest) -> Vec<Circumstance> {
    let trips = if arguments.round_trip.is_empty() { &project.config.round_trips } else { &arguments.round_trip };
    let trips = if trips.is_empty() { &[Duration::ZERO][..] } else { trips };
    let by = if project.engine.trips_are_modelled() { TripBy::Simulated } else { TripBy::Relay };
    let longer = |trip: Duration| Some(LongerTrip { ns: u64::try_from(trip.as_nanos()).ok()?, by }).filter(|trip| trip.ns > 0);
    let rates: Vec<Option<f64>> = match contest.entries.iter().any(Entry::keeps_answers) {
        false => vec![None],
        true if project.config.hit_rates.is_empty() => vec![Some(USUAL_HIT_RATE)],
        true => project.config.hit_rates.iter().copied().map(Some).collect(),
    };
    let given = |trip: Duration, hit_rate| Circumstance {
        engine: project.engine.name().to_owned(),
        trip: longer(trip),
        hit_rate,
        is_pinned: arguments.pin || project.config.pin,
        in_transaction: false,
    };
    trips.iter().flat_map(|&trip| rates.iter().map(move |&rate| given(trip, rate))).collect()
}

/// What a contest runs on.
struct On<'a> {
    general: &'a General,
    arguments: &'a Race,
    inbox: &'a Inbox,
    setup: &'a Setup<'a>,
    project: &'a Project,
    dataset: &'a Dataset,
    circumstance: &'a Circumstance,
    arrangement: &'a Arrangement,
}

/// Checks and races one contest, where a share of a time for all is given in that. The truth tells whether any contender came to the
/// end, the text how it went.
fn one(on: &On<'_>, share: Option<Duration>, config: &ContestConfig, picked: &Selected) -> Result<(RacedContest, bool, String), Problem> {
    let contest = &picked.contest;
    let On { general, arguments, inbox, setup, .. } = *on;
    let manner = Manner::of(arguments, config);
    let begun = Instant::now();
    let time = share.or(arguments.time);
    let contenders = contest.entries.len();
    let together = wait(time.unwrap_or(USUAL_TIME).as_secs_f64());
    say(
        general.quiet,
        &format!("{}: {}, {together} at most with their check", contest.name, counted(contenders as u64, "contender", "contenders")),
    );
    let mut progress = RaceProgress::new(&contest.name, general.quiet, manner.margin);
    let purpose = Purpose { is_for_race: true, stop_above: manner.stop_above() };
    let checks = kampf_runner::check(inbox, setup, contest, purpose, &mut |event| progress.take(&event))
        .map_err(|error| trouble(&contest.name, &error))?;
    let checked = begun.elapsed();
    let mut options = manner.options(contest, &checks, setup.seed);
    options.settings.entrants = entrants(picked, &arguments.selection, &options.settings);
    let least = least_time(inbox, setup, contest, &checks, &options);
    let needs = checked + least;
    let words = wait(needs.as_secs_f64());
    let time = time.unwrap_or_else(|| needs.clamp(USUAL_TIME, MOST_TIME));
    if arguments.time.is_some() && share.is_none() && time < needs {
        let time = wait(time.as_secs_f64());
        say(
            general.quiet,
            &format!("{}: the check and the least rounds that can decide need about {words}; {time} may be too little", contest.name),
        );
    } else if arguments.time.is_none() && time > USUAL_TIME {
        say(general.quiet, &format!("{}: the least rounds that can decide need more: about {words} in all", contest.name));
    }
    let rounds = time.saturating_sub(checked).max(if share.is_some() { LEAST_SHARE } else { Duration::ZERO });
    let options = RaceOptions { time: rounds, ..options };
    let mut heats = Heats {
        inbox,
        setup,
        project: on.project,
        config,
        selection: arguments.selection.within(&arguments.bounds),
        field: &picked.field,
        restriction: &picked.restriction,
        purpose,
        contest: contest.clone(),
        checks: checks.clone(),
        checked,
    };
    let beside = |contest: &Contest, checks: &Checks| manner.beside(contest, checks);
    let about = |facts| Facts { keeps_nothing: manner.keeps_nothing, require: manner.require.clone(), ..facts };
    let mut next = |report: &RaceReport, left: Duration, events: &mut dyn FnMut(Event<'_>)| {
        heats.next((report, left), &options, &beside, &about, events)
    };
    let (report, last) = race(inbox, setup, contest, &checks, &options, &mut next, &mut |event| progress.take(&event))
        .map_err(|error| trouble(&contest.name, &error))?;
    drop(progress);
    let checked = heats.checked;
    let (contest, checks) = last.as_ref().map_or((contest, &checks), |heat| (&heat.contest, &heat.checks));
    let surroundings =
        Surroundings { project: on.project, dataset: on.dataset, setup, circumstance: on.circumstance, arrangement: on.arrangement };
    let raced =
        Ran { checks, checked, time, options: &options, keeps_nothing: manner.keeps_nothing, require: &manner.require, report: &report };
    let part = raced_contest(&surroundings, config, contest, &raced);
    let mut page = Page::new();
    if general.format == Format::Text {
        if checks.entries.iter().any(|entry| entry.verdict != CheckedVerdict::Agrees) {
            check_text(&mut page, contest, &contest.parameter_sets(setup, 0), checks);
            page.blank();
        }
        if part.facts.pair.is_none() {
            contest_text(&mut page, &part);
        }
    }
    let failed = part.facts.contenders.iter().any(|one| one.fault.as_ref().is_some_and(|fault| fault.kind == FaultKind::Failed));
    let finished = !failed || part.verdict.fastest.is_some();
    Ok((part, finished, page.into_text()))
}

/// Time for a contest where none is given, and the most that a large field is given.
const USUAL_TIME: Duration = Duration::from_secs(30);
/// What the rounds of each contest have at least of a time for all.
const LEAST_SHARE: Duration = Duration::from_secs(3);
/// An answer of the check that takes no longer is never stopped.
pub(super) const LONG_ANSWER: Duration = Duration::from_secs(1);
const MOST_TIME: Duration = Duration::from_secs(60);
/// The share of calls that are answered from what is kept, where none is given.
const USUAL_HIT_RATE: f64 = 0.9;
/// Margins where none is given; a planted difference of 5 % could never be found at a margin of 5 %.
const MARGIN: f64 = 0.05;
const SELF_TEST_MARGIN: f64 = 0.02;
/// Calls of a round where a 95th percentile is required.
const CALLS_FOR_P95: u64 = 20;

/// How a contest is to be raced.
pub(super) struct Manner {
    margin: f64,
    most_rounds: usize,
    goal: Goal,
    keeps_nothing: bool,
    require: Require,
}

impl Manner {
    /// As the command line and the contest say.
    fn of(arguments: &Race, config: &ContestConfig) -> Manner {
        // Two that are to be compared are compared, whatever they keep or miss.
        let is_pair = !arguments.pair.is_empty();
        Manner {
            margin: arguments.margin.unwrap_or(MARGIN),
            most_rounds: arguments.rounds as usize,
            goal: match arguments.exact {
                true => Goal::Exact,
                false if is_pair => Goal::Pair,
                false => Goal::Choice,
            },
            keeps_nothing: config.keeps_nothing || is_pair,
            require: if is_pair { Require::default() } else { config.require.clone() },
        }
    }

    /// For a self-test: nobody is dropped before the end.
    pub(super) fn of_self_test(arguments: &Race) -> Manner {
        let margin = arguments.margin.unwrap_or(SELF_TEST_MARGIN);
        let most_rounds = arguments.rounds as usize;
        Manner { margin, most_rounds, goal: Goal::Exact, keeps_nothing: true, require: Require::default() }
    }

    /// An answer that takes longer than this in the check, and many times as long as the best, is of one that would not start. None where
    /// everybody runs to the end.
    fn stop_above(&self) -> Option<Duration> {
        let enough = self.require.shortest_time().map_or(Duration::ZERO, |nanos| Duration::from_nanos(nanos as u64));
        (self.goal == Goal::Choice).then_some(LONG_ANSWER.max(enough))
    }

    /// For a field that was checked.
    pub(super) fn options(&self, contest: &Contest, checks: &Checks, seed: u64) -> RaceOptions {
        let settings = RaceSettings {
            margin: self.margin,
            most_rounds: self.most_rounds,
            goal: self.goal,
            // Where a time is required, who rests would never be known to keep it.
            rests: self.goal == Goal::Choice && !self.require.limits().any(|(required, _)| required.is_time()),
            keep_below: self.require.shortest_time(),
            ..RaceSettings::default()
        };
        let beside = self.beside(contest, checks);
        let may_be_chosen = contest.entries.iter().zip(&beside).map(|(entry, beside)| entry.choices.filter(|_| !beside));
        RaceOptions {
            settings,
            time: USUAL_TIME,
            least_calls: if self.require.limit(Required::P95).is_some() { CALLS_FOR_P95 } else { 1 },
            seed,
            compared: compared(may_be_chosen),
            beside,
            limits: self.require.time_limits(),
        }
    }

    /// Of each contender that was checked whether it only runs beside the race, as it is not to be chosen.
    fn beside(&self, contest: &Contest, checks: &Checks) -> Vec<bool> {
        let is_beside = |(at, entry): (usize, &Entry)| {
            let measured = checks.entries[at].probe.as_ref().map(|probe| probe.measured.clone()).unwrap_or_default();
            let of = Candidate { keeps_nothing: entry.keeps_nothing(), keeps_answers: entry.keeps_answers(), measured: &measured };
            beside(&self.require, self.keeps_nothing, of).is_some()
        };
        contest.entries.iter().enumerate().map(is_beside).collect()
    }
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
