//! One call of a contender that writes, as it went; it is taken back with the copy that it wrote to.

use std::time::{Duration, Instant};

use kampf_contest::{Effects, NewRow, Observed, WriteExecution, WritePlan, value_to_json};
use kampf_runner::{Contest, Entry, WriteJob};
use serde_json::json;

use super::{SHOWN, parameters_text, shape_of};
use crate::arguments::{Bounds, Format, General};
use crate::output::{Look, Page, count, counted, duration, paint};
use crate::problem::Problem;
use crate::project::Project;
use crate::running::{filled_with, scratch_for, setup_on};
use crate::tidings::Listener;

/// All statements of one shape.
struct Sent {
    sql: String,
    first: Observed,
    count: u64,
    nanos: u64,
    /// Values that are bound to the one with the most.
    most_values: usize,
}

/// Carries a call out twice, on copies of the data, and tells of the second.
pub(super) fn traced(
    general: &General,
    project: &Project,
    contest: &Contest,
    (entry, plan, job): (&Entry, &WritePlan, &WriteJob),
    hear: &mut dyn Listener,
) -> Result<String, Problem> {
    let dataset = filled_with(project, &[], hear)?;
    let failed = |error: kampf_contest::EngineError| Problem::surroundings(format!("`{}` failed: {error}", entry.name)).because(error);
    let bounds = Bounds { timeout: Duration::MAX, memory_limit: None };
    let effects = Effects::of(&project.schema, &job.write, &job.rows, &job.new);
    let set = contest.parameter_sets_of(&project.blueprint, project.race_seed, 0).swap_remove(0);
    let effect = effects.with(&set).map_err(|error| Problem::wrong(error.to_string()))?;
    let new: Vec<Vec<NewRow>> = job.write.new_tables().iter().map(|(table, _)| effect.tables[table].new.clone()).collect();
    let scratch = scratch_for(project, &dataset, contest)?;
    let setup = setup_on(project, &dataset, &bounds, scratch.as_deref())?;
    let Some(on) = setup.scratch else { return Err(Problem::surroundings("there is no copy of the data to write to")) };
    let touched: Vec<String> = job.names.values().map(|(name, _)| name.clone()).collect();
    let connection = project.engine.connect_scratch(on.scratch.url(), &project.settings, on.durable, Some(&touched)).map_err(failed)?;
    let mut session = connection.session();
    let mut execution = WriteExecution::new(plan.clone(), project.engine.dialect());
    session.observe();
    let begun = Instant::now();
    let written = execution.call(session.as_mut(), &set, &new).map_err(failed)?;
    let whole = begun.elapsed().as_nanos() as f64;
    let observed = session.observed();
    drop(session);
    let mut sent: Vec<Sent> = Vec::new();
    for statement in &observed {
        let sql = shape_of(&statement.sql);
        let values = statement.parameters.len();
        match sent.iter_mut().find(|one| one.sql == sql) {
            Some(one) => {
                (one.count, one.nanos, one.most_values) = (one.count + 1, one.nanos + statement.nanos, one.most_values.max(values));
            }
            None => sent.push(Sent { sql, first: statement.clone(), count: 1, nanos: statement.nanos, most_values: values }),
        }
    }
    if general.format == Format::Json {
        let statements: Vec<_> = observed
            .iter()
            .map(|one| {
                let parameters: Vec<_> = one.parameters.iter().map(|value| value_to_json(value.as_ref())).collect();
                json!({"sql": one.sql, "parameters": parameters, "ns": one.nanos, "rows": one.rows})
            })
            .collect();
        let shapes: Vec<_> = sent.iter().map(|one| json!({"sql": one.sql, "statements": one.count, "ns": one.nanos})).collect();
        let document = json!({
            "contest": contest.name, "contender": entry.name, "rows_written": written.rows, "own_rows": written.own_rows, "shapes": shapes,
            "statements": statements,
        });
        return Ok(format!("{document:#}\n"));
    }
    let mut page = Page::new();
    page.line(format!("{}  {}", paint(Look::Title, &contest.name), paint(Look::Strong, &entry.name)));
    let inside: u64 = observed.iter().map(|one| one.nanos).sum();
    page.paragraph(
        &format!(
            "{}, {} of {} spent in them; {} written as they say. The first call, which prepares its statements, on a copy that is gone now",
            counted(observed.len() as u64, "statement", "statements"),
            duration(inside as f64),
            duration(whole),
            counted(written.rows, "row", "rows"),
        ),
        0,
    );
    for (number, one) in sent.iter().enumerate() {
        page.blank();
        let times = if one.count == 1 { "once".to_owned() } else { format!("{} times", count(one.count)) };
        let values = match one.most_values {
            0 => String::new(),
            most => {
                format!(", {} bound to {}", counted(most as u64, "value", "values"), if one.count == 1 { "it" } else { "each at most" })
            }
        };
        page.line(format!(
            "{} sent {times}, {} in all{values}",
            paint(Look::Strong, &format!("{}.", number + 1)),
            duration(one.nanos as f64)
        ));
        page.sql(&one.sql, 5);
        let parameters = parameters_text(&one.first);
        if !parameters.is_empty() {
            page.line(paint(Look::Quiet, &format!("     {} {parameters}", if one.count == 1 { "with" } else { "first with" })));
        }
    }
    page.blank();
    page.line(paint(Look::Title, "in order"));
    let shown = if general.verbose { observed.len() } else { SHOWN.min(observed.len()) };
    for (at, statement) in observed.iter().take(shown).enumerate() {
        let shape = sent.iter().position(|one| one.sql == shape_of(&statement.sql)).map_or(0, |at| at + 1);
        let parameters = parameters_text(statement);
        let with = if parameters.is_empty() { String::new() } else { format!("  with {parameters}") };
        page.line(format!("{:>6}  statement {shape}  {:>8}{}", at + 1, duration(statement.nanos as f64), paint(Look::Quiet, &with)));
    }
    if shown < observed.len() {
        page.line(format!("        … and {} more (-v lists all)", count((observed.len() - shown) as u64)));
    }
    Ok(page.into_text())
}
