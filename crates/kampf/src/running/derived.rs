//! Indexes that are worked out for contests: what the need could use, and of that what the engine's plans do use.

use kampf_contest::{Choice, ChoiceOption, IndexCandidate, Work, candidates};
use kampf_runner::Entry;

use super::plans::planned;
use super::session::{filled_with, setup};
use crate::arguments::{Bounds, Selection};
use crate::output::list;
use crate::problem::Problem;
use crate::project::{DERIVED, Project, Variant, resolve, wants_derived};
use crate::store::{Dataset, engine_problem};
use crate::tidings::Listener;

/// Variants of one contest that are raced at most.
const MOST: usize = 4;

/// Works out indexes for those of some contests that want it, and makes variants of them that contenders can run on. The database is
/// filled for it: whether an index is used at all only the engine's plans tell.
pub(crate) fn derive_indexes(
    project: &mut Project,
    contests: &[String],
    selection: &Selection,
    hear: &mut dyn Listener,
) -> Result<(), Problem> {
    project.add_keys(&selection.keys)?;
    let wanting = project.contests(contests)?.into_iter().filter(|config| wants_derived(config, selection));
    let names: Vec<String> = wanting.map(|config| config.name.clone()).collect();
    for name in names {
        let (kept, said) = derived(project, &name, hear)?;
        said.iter().for_each(|what| hear.said(format!("{name}: {what}")));
        add(project, name, kept);
    }
    Ok(())
}

/// Notes what was worked out for a contest.
fn add(project: &mut Project, contest: String, variants: Vec<Variant>) {
    project.derived.insert(contest, variants.iter().map(|variant| variant.name.clone()).collect());
    let new: Vec<Variant> = variants.into_iter().filter(|variant| project.variant(&variant.name).is_none()).collect();
    project.variants.extend(new);
}

/// All indexes that could serve a contest, without asking an engine which of them it would use.
pub(crate) fn possible_indexes(project: &mut Project, contests: &[String], selection: &Selection) -> Result<(), Problem> {
    project.add_keys(&selection.keys)?;
    let wanting = project.contests(contests)?.into_iter().filter(|config| wants_derived(config, selection));
    let names: Vec<String> = wanting.map(|config| config.name.clone()).collect();
    for name in names {
        let variants = possible(project, &name)?;
        add(project, name, variants);
    }
    Ok(())
}

/// A variant for each candidate: the file's own, where it describes the same.
fn possible(project: &Project, contest: &str) -> Result<Vec<Variant>, Problem> {
    let plain = Selection { index: vec!["none".to_owned()], ..Selection::default() };
    let selected = resolve(project, project.contest(contest)?, &plain)?;
    let all = selected.contest.job.need().map(|need| candidates(&project.schema, need, project.engine.dialect())).unwrap_or_default();
    let mut variants: Vec<Variant> = Vec::new();
    for candidate in &all {
        let is_same = |variant: &&Variant| variant.is_alone(candidate.table, &candidate.index) && variant.lacks.is_none();
        if let Some(known) = project.variants.iter().find(is_same) {
            variants.push(known.clone());
            continue;
        }
        let name = free_name(project, &variants, candidate);
        variants.push(Variant::with(&name, &project.schema, vec![(candidate.table, candidate.index.clone())]));
    }
    Ok(variants)
}

/// The variants that are worth racing, and what is to be said of the others.
fn derived(project: &Project, contest: &str, hear: &mut dyn Listener) -> Result<(Vec<Variant>, Vec<String>), Problem> {
    let variants = possible(project, contest)?;
    if variants.is_empty() {
        return Ok((Vec::new(), vec!["no index could serve it that is not there".to_owned()]));
    }
    let selected = resolve(project, project.contest(contest)?, &Selection { index: vec!["none".to_owned()], ..Selection::default() })?;
    let Loaded { variants, dataset, mut said } = load(project, variants, hear)?;
    let setup = setup(project, &dataset, &Bounds { timeout: std::time::Duration::MAX, memory_limit: None })?;
    // In the application every row is wanted; there is nothing to look up.
    let in_database =
        |entry: &&Entry| entry.choices.is_none_or(|choices| choices.of(Choice::Work).is_none_or(|work| work == Work::Database.opt()));
    let mut kept: Vec<Variant> = Vec::new();
    let mut unused: Vec<String> = Vec::new();
    for variant in &variants {
        let mut is_used = false;
        for entry in selected.contest.entries.iter().filter(in_database) {
            let on_variant = Entry { variant: Some(variant.name.clone()), ..entry.clone() };
            let plans = planned(project, &setup, &selected.contest, &on_variant, false).map_err(|error| engine_problem(&error))?;
            if plans.iter().any(|one| one.plan.uses(&variant.name)) {
                is_used = true;
                break;
            }
        }
        if is_used { kept.push(variant.clone()) } else { unused.push(variant.about()) }
    }
    if !unused.is_empty() {
        said.push(format!("not raced, as no plan uses it: an index on {}", list(&unused)));
    }
    let together = together(project, &kept);
    let most = MOST - usize::from(together.is_some());
    if kept.len() > most {
        let rest: Vec<String> = kept.split_off(most).iter().map(Variant::about).collect();
        said.push(format!("not raced, as {MOST} are enough: an index on {}", list(&rest)));
    }
    kept.extend(together);
    Ok((kept, said))
}

/// Variants that are loaded.
struct Loaded {
    variants: Vec<Variant>,
    dataset: Dataset,
    /// What is to be said of those that could not be.
    said: Vec<String>,
}

/// Loads variants; an engine may refuse an index for what is in its rows, and the others go on without it.
fn load(project: &Project, variants: Vec<Variant>, hear: &mut dyn Listener) -> Result<Loaded, Problem> {
    let mut all = |variants: &[Variant]| filled_with(project, &variants.iter().collect::<Vec<_>>(), hear);
    if let Ok(dataset) = all(&variants) {
        return Ok(Loaded { variants, dataset, said: Vec::new() });
    }
    let (mut able, mut said) = (Vec::new(), Vec::new());
    // What has nothing to do with indexes fails without any too.
    all(&able)?;
    for variant in variants {
        match all(std::slice::from_ref(&variant)).map(drop) {
            Ok(()) => able.push(variant),
            Err(problem) => said.push(format!("not raced: {}", problem.message)),
        }
    }
    Ok(Loaded { dataset: all(&able)?, variants: able, said })
}

/// Where indexes on several tables are used, the first of each table together as one more variant.
fn together(project: &Project, kept: &[Variant]) -> Option<Variant> {
    let mut first: Vec<_> = Vec::new();
    for one in kept.iter().flat_map(|variant| &variant.added) {
        if !first.iter().any(|(table, _)| *table == one.0) {
            first.push(one.clone());
        }
    }
    let name = std::iter::once("together".to_owned()).chain((2..).map(|number| format!("together_{number}")));
    let name = name.into_iter().find(|name| project.variant(name).is_none())?;
    (first.len() > 1).then(|| Variant::with(&name, &project.schema, first))
}

/// A name for a variant that no other has: by its columns, with its table before them where that is not enough.
fn free_name(project: &Project, others: &[Variant], candidate: &IndexCandidate) -> String {
    let table = project.schema.table(candidate.table);
    let is_free = |name: &str| project.variant(name).is_none() && !others.iter().any(|other| other.name == name) && name != DERIVED;
    let word = |text: &str| text.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect::<String>();
    let terms = candidate.index.terms.iter().take(candidate.sought);
    let columns: Vec<String> = terms.flat_map(|term| term.what.column_set()).map(|at| word(&table.columns[at].name)).collect();
    let covering = if candidate.covers() { "_covering" } else { "" };
    let cut = |name: String| name.chars().take(28).collect::<String>();
    let plain = format!("{}{covering}", cut(format!("by_{}", columns.join("_"))));
    let long = format!("{}{covering}", cut(format!("by_{}_{}", word(&table.name), columns.join("_"))));
    let numbered = (2..).map(|number| format!("{plain}_{number}"));
    [plain.clone(), long].into_iter().chain(numbered).find(|name| is_free(name)).unwrap_or_default()
}
