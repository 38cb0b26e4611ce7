//! From the texts of a contest that writes to its field.

use kampf_contest::{
    ByHand, Commit, Effects, Field, OwnWrite, Write, WriteError, WriteText, derive_write, generated_key, own_write, resolve_write,
};
use kampf_fill::{Blueprint, FillSubject, MoreRows, NewNumbers};
use kampf_runner::{Contest, Entry, EntryWay, Job, JobRows, WriteJob};
use kampf_schema::{TableId, Value};
use serde_json::json;

use super::config::{ContestConfig, WriteConfig};
use super::file::OwnSql;
use super::own::OwnWay;
use super::parameters::parameters;
use super::selected::{Selected, chosen, only, unmatched};
use super::written::Written;
use super::{Project, need_part};
use crate::arguments::Selection;
use crate::problem::Problem;

/// Resolves a contest that writes and picks its field.
pub(super) fn resolve(project: &Project, config: &ContestConfig, of: &WriteConfig, selection: &Selection) -> Result<Selected, Problem> {
    let source = &project.config.source;
    let write = write(project, config, of)?;
    let (rows, new) = new_rows(project, config, of, &write)?;
    let touched = write.touched(&project.schema);
    let names = |&table: &TableId| {
        let model = project.schema.table(table);
        (table, (model.name.clone(), model.columns.iter().map(|column| column.name.clone()).collect()))
    };
    let job = WriteJob { names: touched.iter().map(names).collect(), touched, rows: JobRows(rows), new, write };
    let options = config.choices.clone();
    let dialect = project.engine.dialect();
    let field = Field::of_write(&project.schema, &job.write, dialect, &options);
    let bytes = bytes(project, &job);
    let mut entries = Vec::new();
    for choices in chosen(&field, selection) {
        let plan = derive_write(&project.schema, &job.write, dialect, &choices, &bytes).map_err(|why| {
            Problem::wrong(format!("`{}` cannot be written as statements: {} {why}", config.name, project.engine.name()))
                .at(source.place(config.span))
                .hint("say the condition otherwise, or write SQL of your own under [contest.….contender.…]")
        })?;
        let by_hand = Some(ByHand::of_write(&plan, dialect));
        entries.push(Entry {
            name: choices.to_string(),
            choices: Some(choices),
            way: EntryWay::Write(Box::new(plan)),
            by_hand,
            variant: None,
        });
    }
    let mut left_out = Vec::new();
    entries.extend(own(project, config, &job.write, &mut left_out)?);
    let unmatched = unmatched(selection, &field, &entries);
    let all = entries.len();
    only(selection, &mut entries);
    if entries.is_empty() {
        let problem = Problem::wrong(format!("no contender of `{}` fits what is asked for", config.name)).at(source.place(config.span));
        let hint = if all > 0 { "`kampf show CONTEST --all` lists them all" } else { "leave [contest.….choices] more to Kampf" };
        return Err(problem.hint(hint));
    }
    let contest = Contest {
        name: config.name.clone(),
        need_text: need_text(config, of),
        parameters: parameters(project, config, Some(&job.write.rows))?,
        entries,
        job: Job::Write(Box::new(job)),
    };
    if selection.exactly.is_empty() && !selection.names_only {
        holds(project, config, of, &contest)?;
    }
    Ok(Selected {
        contest,
        field,
        restriction: options,
        order_appended: Vec::new(),
        left_out,
        held_back: Vec::new(),
        unmatched,
        lacking: Vec::new(),
    })
}

fn write(project: &Project, config: &ContestConfig, of: &WriteConfig) -> Result<Write, Problem> {
    let texts = |all: &[Written]| all.iter().map(|one| one.value.clone()).collect();
    let text = WriteText {
        word: of.word.to_owned(),
        table: of.table.value.clone(),
        filter: config.filter.as_ref().map(|filter| filter.value.clone()),
        count: of.count.map(|(count, _)| count),
        set: texts(&of.set),
        also: texts(&of.also),
        parameters: config.parameters.iter().map(|(name, _)| name.clone()).collect(),
        sizes: of.sizes.clone(),
    };
    resolve_write(&project.schema, &project.relations, &text).map_err(|error| {
        let span = match (need_part(config, error.part), of.count) {
            (Some(written), _) => written.place(error.span),
            (None, Some((_, span))) => span,
            (None, None) => config.span,
        };
        Problem::wrong(error.message).at(project.config.source.place(span)).maybe_hint(error.hint)
    })
}

/// Rows behind the last ones of the tables, for those that are to be new.
fn new_rows(project: &Project, config: &ContestConfig, of: &WriteConfig, write: &Write) -> Result<(Blueprint, Vec<NewNumbers>), Problem> {
    let kampf_contest::Act::Insert { count, also, .. } = &write.act else { return Ok((project.blueprint.clone(), Vec::new())) };
    let made = |table: TableId| generated_key(&project.schema, table);
    let own = MoreRows { table: write.table(), count: *count, under: None, made: made(write.table()) };
    let others = also.iter().map(|more| MoreRows {
        table: more.table,
        count: more.each,
        under: Some((more.under, more.reference)),
        made: made(more.table),
    });
    let wanted: Vec<MoreRows> = std::iter::once(own).chain(others).collect();
    project.blueprint.with_more(&project.schema, &wanted).map_err(|error| {
        let place = match error.subject {
            FillSubject::Rows(table) => wanted.iter().position(|one| one.table == table).unwrap_or(0),
            _ => 0,
        };
        let span = place.checked_sub(1).and_then(|at| of.also.get(at)).map(|also| also.span).or(of.count.map(|(_, span)| span));
        let place = project.config.source.place(span.unwrap_or(config.span));
        Problem::wrong(error.message).at(place).maybe_hint(error.hint)
    })
}

/// About what a new row of each table holds.
fn bytes(project: &Project, job: &WriteJob) -> Vec<u64> {
    const LOOKED_AT: usize = 100;
    let of_table = |((table, _), numbers): ((TableId, u64), &kampf_fill::NewNumbers)| {
        let columns = project.schema.table(table).columns.len();
        let some = &numbers[..numbers.len().min(LOOKED_AT)];
        let sizes = some.iter().flat_map(|(row, _)| (0..columns).map(|column| job.rows.0.value(table, *row, column).as_ref().size()));
        sizes.sum::<u64>() / some.len().max(1) as u64
    };
    job.write.new_tables().into_iter().zip(&job.new).map(of_table).collect()
}

/// The user's own SQL.
fn own(project: &Project, config: &ContestConfig, write: &Write, left_out: &mut Vec<String>) -> Result<Vec<Entry>, Problem> {
    let source = &project.config.source;
    let names: Vec<String> = config.parameters.iter().map(|(name, _)| name.clone()).collect();
    let mut entries = Vec::new();
    for own in &config.contenders {
        let OwnWay::Sql(sql, _, commit) = &own.way else {
            return Err(Problem::wrong(format!("`{}` is a program, and programs take no part where rows are written", own.name))
                .at(source.place(config.span))
                .hint("give it `sql`, or make a contest of its own that reads"));
        };
        let Some(texts) = texts(project, write, sql)? else {
            left_out.push(own.name.clone());
            continue;
        };
        let by_table = !sql.by_table.is_empty();
        let said = match by_table {
            true => OwnWrite::ByTable(sql.by_table.iter().map(|(name, text)| (name.value.as_str(), text.value.as_str())).collect()),
            false => OwnWrite::InOrder(texts.iter().map(|text| text.value.as_str()).collect()),
        };
        let plan = own_write(&project.schema, write, &said, commit.unwrap_or(Commit::Once), &names).map_err(|(at, error)| {
            Problem::wrong(format!("nothing is bound to `{}{}`", if error.name.starts_with(['?', '$']) { "" } else { ":" }, error.name))
                .at(source.place(texts[at].place(error.span)))
                .hint(
                    "parameters of the contest have a value, and for new rows the columns of their table by their names, or all as `:rows`",
                )
        })?;
        let by_hand = Some(ByHand::of_written(texts.iter().map(|text| text.value.as_str())));
        entries.push(Entry { name: own.name.clone(), choices: None, way: EntryWay::Write(Box::new(plan)), by_hand, variant: None });
    }
    Ok(entries)
}

/// The texts of a developer's SQL for the engine; none where they are only for others.
fn texts<'s>(project: &'s Project, write: &Write, sql: &'s OwnSql) -> Result<Option<Vec<&'s Written>>, Problem> {
    let source = &project.config.source;
    let new: Vec<&str> = write.new_tables().iter().map(|(table, _)| project.schema.table(*table).name.as_str()).collect();
    let mut known: Vec<&str> = kampf_engine::names().collect();
    known.extend(&new);
    if let Some((name, _)) = sql.by_table.iter().find(|(name, _)| !new.contains(&name.value.as_str())) {
        return Err(Problem::wrong(format!("`{}` is neither an engine nor a table with new rows here", name.value))
            .at(source.place(name.span))
            .maybe_hint(kampf_schema::did_you_mean(&name.value, known.iter().copied())));
    }
    if !sql.by_table.is_empty() {
        return Ok(Some(sql.by_table.iter().map(|(_, text)| text).collect()));
    }
    Ok(sql.of(project.engine.name()).map(|first| std::iter::once(first).chain(&sql.more).collect()))
}

/// Rows that are looked at before anything is measured, set by set of parameters.
const ENOUGH_ROWS: u64 = 1_000_000;

/// Makes sure that the rows that are met with the parameters of the first round can be written as the contest says.
fn holds(project: &Project, config: &ContestConfig, of: &WriteConfig, contest: &Contest) -> Result<(), Problem> {
    let Some(job) = contest.job.write() else { return Ok(()) };
    let effects = Effects::of(&project.schema, &job.write, &job.rows, &job.new);
    let source = &project.config.source;
    let filter = config.filter.as_ref().map_or(config.span, |filter| filter.span);
    let (mut rows, mut looked_at) = (0, 0);
    for set in contest.parameter_sets_of(&project.blueprint, project.race_seed, 0) {
        match effects.with(&set) {
            Ok(effect) => {
                rows += effect.own_rows;
                looked_at += project.blueprint.rows(job.write.table());
                // The check works the others out too, and says the same of them.
                if rows > 0 && looked_at >= ENOUGH_ROWS {
                    break;
                }
            }
            Err(WriteError::Hangs { table, child }) => {
                let name = |table: TableId| project.schema.table(table).name.clone();
                let problem = Problem::wrong(format!("rows of `{}` hang on rows of `{}` that are deleted", name(child), name(table)));
                let hint = format!("delete them too: also = [\"{}\"], or have the schema say ON DELETE CASCADE", name(child));
                return Err(problem.at(source.place(of.table.span)).hint(hint));
            }
            Err(WriteError::Breaks(rule)) => {
                let span = of.set.first().map_or(config.span, |set| set.span);
                let with = with_text(contest, &set);
                return Err(Problem::wrong(format!("{rule}{with}"))
                    .at(source.place(span))
                    .hint("set it to something that the schema allows"));
            }
            Err(error) => {
                return Err(Problem::wrong(error.to_string()).at(source.place(filter)).hint("compare with a whole number or a text"));
            }
        }
    }
    if rows == 0 {
        return Err(Problem::wrong(format!("`{}` meets no row with any parameter that is drawn", config.name))
            .at(source.place(filter))
            .hint("`kampf fill --preview TABLE` shows what values there are"));
    }
    Ok(())
}

fn with_text(contest: &Contest, set: &[Value]) -> String {
    let one = |(parameter, value): (&kampf_runner::DrawnParameter, &Value)| format!("{} = {value}", parameter.name);
    let all: Vec<String> = contest.parameters.iter().zip(set).map(one).collect();
    if all.is_empty() { String::new() } else { format!(" (with {})", all.join(", ")) }
}

fn need_text(config: &ContestConfig, of: &WriteConfig) -> serde_json::Value {
    let texts = |all: &[Written]| all.iter().map(|one| one.value.clone()).collect::<Vec<_>>();
    json!({
        of.word: of.table.value,
        "where": config.filter.as_ref().map(|filter| &filter.value),
        "count": of.count.map(|(count, _)| count),
        "set": texts(&of.set),
        "also": texts(&of.also),
        "parameters": config.parameters.iter().map(|(name, _)| name).collect::<Vec<_>>(),
    })
}
