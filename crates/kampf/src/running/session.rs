//! What checking, racing and tracing share: the project, its data, and the setup of contenders.

use std::collections::BTreeSet;

use kampf_engine::{LoadEvent, Scratch, Served};
use kampf_runner::{Contest, EntryWay, Keyed, Place, ScratchPlace, Setup, Trouble, wants_twin};

use super::forecast::forecast;
use crate::arguments::{Bounds, General};
use crate::output::{bytes, other_share_text, rows_of};
use crate::problem::Problem;
use crate::project::{Project, Variant, twin_name};
use crate::store::{Dataset, dataset};
use crate::tidings::{Listener, Tidings};

/// Opens the project and tells where what is loaded is other than the schema's file says, and what else was passed over.
pub(crate) fn open(general: &General, engine: Option<&str>, hear: &mut dyn Listener) -> Result<Project, Problem> {
    let project = Project::open(general, engine)?;
    hear.hear(Tidings::Warnings(&project.warnings));
    hear.hear(Tidings::PassedOver(&project.passed_over));
    Ok(project)
}

/// The engines that are asked for: none stands for the file's own. With `all`, those that can be had here.
pub(crate) fn engines(wanted: Option<&str>, hear: &mut dyn Listener) -> Vec<Option<String>> {
    match wanted {
        Some("all") => {
            let mut here = Vec::new();
            for name in kampf_engine::names() {
                match kampf_engine::engine(name).map(|engine| engine.version(None)) {
                    Some(Err(error)) => hear.said(format!("without {name}: {error}")),
                    _ => here.push(Some(name.to_owned())),
                }
            }
            here
        }
        other => vec![other.map(str::to_owned)],
    }
}

/// The variants that contests run on.
fn variants_of<'p, 'c>(project: &'p Project, contests: impl Iterator<Item = &'c Contest>) -> Vec<&'p Variant> {
    let names: BTreeSet<&String> = contests.flat_map(|contest| &contest.entries).filter_map(|entry| entry.variant.as_ref()).collect();
    project.variants.iter().filter(|variant| names.contains(&variant.name)).collect()
}

/// The project's data with what contests run on besides the plain schema, filled now when missing or stale.
pub(crate) fn filled<'c>(
    project: &Project,
    contests: impl Iterator<Item = &'c Contest>,
    hear: &mut dyn Listener,
) -> Result<Dataset, Problem> {
    filled_with(project, &variants_of(project, contests), hear)
}

/// The same with a twin where contests that are to be checked have too many rows to work all of them out.
pub(crate) fn filled_to_check<'c>(
    project: &Project,
    contests: impl Iterator<Item = &'c Contest> + Clone,
    hear: &mut dyn Listener,
) -> Result<Dataset, Problem> {
    let large: Vec<&Contest> = contests.clone().filter(|contest| wants_twin(contest, &project.blueprint)).collect();
    let mut variants = variants_of(project, contests);
    let twins = match large.is_empty() {
        true => Vec::new(),
        false => project.twins(&variants_of(project, large.into_iter())).unwrap_or_else(|error| {
            if !project.needs_no_twin() {
                hear.said(format!("no small twin of the data can be made to check answers on: {error}"));
            }
            Vec::new()
        }),
    };
    variants.extend(&twins);
    let mut dataset = filled_with(project, &variants, hear)?;
    dataset.twins = twins;
    Ok(dataset)
}

/// The project's data with some variants, filled now when missing or stale.
pub(crate) fn filled_with(project: &Project, variants: &[&Variant], hear: &mut dyn Listener) -> Result<Dataset, Problem> {
    hear.hear(Tidings::Fills);
    let dataset = dataset(project, variants, &mut |event| match event {
        LoadEvent::Begins => forecast(project).into_iter().for_each(|forecast| hear.said(forecast)),
        event => hear.hear(Tidings::Load(event)),
    });
    hear.hear(Tidings::Filled);
    let dataset = dataset?;
    if !dataset.reused {
        let rows: u64 = dataset.record.tables.iter().map(|table| table.rows).sum();
        let size: u64 = dataset.record.tables.iter().map(|table| table.bytes).sum();
        hear.said(format!("filled {}, {}, in {:.1} s", rows_of(rows), bytes(size), dataset.record.seconds));
        warn_of_shares(project, hear);
    }
    Ok(dataset)
}

/// Tells where the rows have another share of nulls than was asked for.
pub(crate) fn warn_of_shares(project: &Project, hear: &mut dyn Listener) {
    for table in project.schema.ids() {
        let others = project.blueprint.other_shares(&project.schema, table);
        others.iter().for_each(|other| hear.said(format!("warning: {}", other_share_text(project, table, other))));
    }
}

fn place(served: &dyn Served) -> Place {
    Place { url: served.url().to_owned(), tcp_url: served.tcp_url() }
}

/// The schema and rows of a variant with other keys.
fn keyed<'a>(project: &'a Project, name: &str) -> Option<(String, Keyed<'a>)> {
    let variant = project.variant(name)?;
    let blueprint = &variant.keys.as_ref()?.blueprint;
    Some((name.to_owned(), Keyed { schema: &variant.schema, blueprint }))
}

/// The setup of contenders.
pub(crate) fn setup<'a>(project: &'a Project, dataset: &'a Dataset, bounds: &Bounds) -> Result<Setup<'a>, Problem> {
    let binary =
        std::env::current_exe().map_err(|error| Problem::surroundings(format!("cannot find the own program: {error}")).because(error))?;
    let setup = Setup {
        binary,
        engine: project.engine,
        settings: project.settings.clone(),
        place: place(dataset.served.as_ref()),
        variants: dataset.variants.iter().map(|variant| (variant.name.clone(), place(variant.served.as_ref()))).collect(),
        keyed: dataset.variants.iter().filter_map(|data| keyed(project, &data.name)).collect(),
        connections: connections(project, dataset),
        simulated_trip: None,
        hit_rate: 0.9,
        core: None,
        schema: &project.schema,
        blueprint: &project.blueprint,
        twin: None,
        scratch: None,
        seed: project.race_seed,
        timeout: bounds.timeout,
        memory_limit: bounds.memory_limit,
    };
    Ok(Setup { twin: twin(dataset, &setup).map(Box::new), ..setup })
}

/// The same for contenders that write to a copy of the data.
pub(crate) fn setup_on<'a>(
    project: &'a Project,
    dataset: &'a Dataset,
    bounds: &Bounds,
    scratch: Option<&'a dyn Scratch>,
) -> Result<Setup<'a>, Problem> {
    let setup = setup(project, dataset, bounds)?;
    let Some(scratch) = scratch else { return Ok(setup) };
    let place = Place { url: scratch.url().to_owned(), tcp_url: None };
    Ok(Setup { place, scratch: Some(ScratchPlace { scratch, durable: project.config.durable }), twin: None, ..setup })
}

/// The copy of the data that a contest writes to; none where it reads.
pub(crate) fn scratch_for(project: &Project, dataset: &Dataset, contest: &Contest) -> Result<Option<Box<dyn Scratch>>, Problem> {
    contest.job.write().map(|job| dataset.scratch(project, job)).transpose()
}

/// How many more connections the server takes, of which one is left to others. What cannot be asked is not known.
fn connections(project: &Project, dataset: &Dataset) -> Option<usize> {
    let connection = project.engine.connect(dataset.served.url(), &project.settings).ok()?;
    Some(connection.room().ok()??.saturating_sub(1).max(1))
}

/// The setup of the same contenders on few rows, where there are any.
fn twin<'a>(dataset: &'a Dataset, whole: &Setup<'a>) -> Option<Setup<'a>> {
    let place_of = |name: &str| dataset.variants.iter().find(|data| data.name == name).map(|data| place(data.served.as_ref()));
    let rows_of = |name: &str| dataset.twins.iter().find(|twin| twin.name == name)?.twin.as_ref();
    let keyed = |(name, own): (&String, &Keyed<'a>)| {
        Some((name.clone(), Keyed { schema: own.schema, blueprint: rows_of(&twin_name(Some(name)))? }))
    };
    Some(Setup {
        binary: whole.binary.clone(),
        engine: whole.engine,
        settings: whole.settings.clone(),
        place: place_of(&twin_name(None))?,
        variants: whole.variants.keys().filter_map(|name| Some((name.clone(), place_of(&twin_name(Some(name)))?))).collect(),
        keyed: whole.keyed.iter().filter_map(keyed).collect(),
        connections: whole.connections,
        simulated_trip: None,
        hit_rate: whole.hit_rate,
        core: None,
        schema: whole.schema,
        blueprint: rows_of(&twin_name(None))?,
        twin: None,
        scratch: None,
        seed: whole.seed,
        timeout: whole.timeout,
        memory_limit: whole.memory_limit,
    })
}

/// Tells which programs of kampf.toml are going to be started: it is code, like a file of build rules. And tells where it is not only
/// Kampf's doing that contenders of the user's change nothing.
pub(crate) fn name_programs<'a>(dataset: &Dataset, contests: impl Iterator<Item = &'a Contest>, hear: &mut dyn Listener) {
    let mut own = false;
    for contest in contests {
        for entry in &contest.entries {
            own |= entry.choices.is_none();
            if let EntryWay::Program(program) = &entry.way {
                hear.said(format!("{}: `{}` starts the program {}", contest.name, entry.name, program.words.join(" ")));
            }
        }
    }
    if let Some(caution) = dataset.served.caution().filter(|_| own) {
        hear.said(caution);
    }
}

/// Trouble that concerns a whole contest.
pub(crate) fn trouble(contest: &str, trouble: &Trouble) -> Problem {
    let problem = match trouble {
        Trouble::Interrupted => Problem::surroundings("interrupted before there was a result"),
        // A matter of what is asked for, not of where.
        Trouble::TooLarge(what) => Problem::wrong(format!("the answer of `{contest}` cannot be checked: {what}")),
        other => Problem::surroundings(format!("the reference answer of `{contest}` cannot be had: {other}")),
    };
    problem.because(trouble.clone())
}
