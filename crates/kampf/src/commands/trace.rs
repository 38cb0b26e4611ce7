//! `kampf trace`

mod relations;
mod writes;

use kampf_contest::{Execution, Observed, QueryPlan, Session, Touch, value_to_json};
use kampf_runner::EntryWay;
use kampf_schema::{ValueRef, did_you_mean};
use relations::{Counting, Relation, relations};
use serde_json::json;

use super::{Ending, Teller, print_as};
use crate::arguments::{Bounds, Format, General, PlanForm, Selection, Trace, is_of_keys};
use crate::output::{Column, Look, Page, PlanTelling, count, duration, paint, plan_text, rows_of};
use crate::problem::Problem;
use crate::project::{DERIVED, Variant, resolve};
use crate::running::{derive_indexes, filled_with, open, planning, setup, shape_of, without_index};

/// Single statements shown without `-v`.
const SHOWN: usize = 6;

/// All statements of one shape.
struct Shape {
    sql: String,
    /// The first of them.
    first: Observed,
    count: u64,
    nanos: u64,
    rows: u64,
    /// How many different parameter lists there were.
    lists: u64,
    plan: QueryPlan,
}

/// One call as it went.
struct Traced {
    observed: Vec<Observed>,
    shapes: Vec<Shape>,
    /// Rows of the answer.
    answer: u64,
    relations: Vec<Relation>,
    /// How long it took, in nanoseconds.
    whole: f64,
}

pub(super) fn run(general: &General, arguments: &Trace) -> Result<Ending, Problem> {
    let hear = &mut Teller::of(general);
    let mut project = open(general, general.engine.as_deref(), hear)?;
    let mut selection = Selection { all: true, named: vec![arguments.contender.clone()], ..Selection::default() };
    if let Some((_, variant)) = arguments.contender.split_once('@') {
        // One that the file does not describe was worked out.
        let is_known = is_of_keys(variant) || project.variant(variant).is_some();
        selection.name_variant(if is_known { variant } else { DERIVED });
    }
    derive_indexes(&mut project, std::slice::from_ref(&arguments.contest), &selection, hear)?;
    let config = project.contest(&arguments.contest)?;
    let selected = resolve(&project, config, &selection)?;
    let names = || selected.contest.entries.iter().map(|entry| entry.name.as_str());
    let entry = selected.contest.entries.iter().find(|entry| entry.name == arguments.contender).ok_or_else(|| {
        let problem = Problem::wrong(format!("`{}` has no contender `{}`", config.name, arguments.contender));
        problem.hint(format!("`kampf show {} --all` lists them", config.name)).maybe_hint(did_you_mean(&arguments.contender, names()))
    })?;
    if let (EntryWay::Write(plan), Some(job)) = (&entry.way, selected.contest.job.write()) {
        let text = writes::traced(general, &project, &selected.contest, (entry, plan, job), hear)?;
        print_as(general.format, &text)?;
        return Ok(Ending::Done);
    }
    let EntryWay::Plan(plan) = &entry.way else {
        return Err(Problem::wrong(format!("`{}` is a program, whose statements Kampf cannot see", entry.name))
            .hint("trace a derived contender or one of your own SQL"));
    };
    let variants: Vec<&Variant> = entry.variant.iter().filter_map(|name| project.variant(name)).collect();
    let dataset = filled_with(&project, &variants, hear)?;
    let bounds = Bounds { timeout: std::time::Duration::MAX, memory_limit: None };
    let setup = setup(&project, &dataset, &bounds)?;
    let sets = selected.contest.parameter_sets(&setup, 0);
    let parameters = selected.contest.sets_on(&setup, entry.variant.as_deref(), &sets).swap_remove(0);
    let engine_problem =
        |error: kampf_contest::EngineError| Problem::surroundings(format!("`{}` failed: {error}", entry.name)).because(error);
    let place = setup.place_of(entry).ok_or_else(|| Problem::surroundings("the data of its variant was not loaded"))?;
    let connection = project.engine.connect(&place.url, &project.settings).map_err(engine_problem)?;
    let mut session = connection.session();
    let mut execution = Execution::new((**plan).clone(), project.engine.dialect());
    // The first call prepares and warms up, where nothing can be written; the second is the one that is shown.
    session.begin_reading().map_err(engine_problem)?;
    execution.call(session.as_mut(), &parameters, &mut Touch::default()).map_err(engine_problem)?;
    session.end_reading().map_err(engine_problem)?;
    session.observe();
    let mut counting = Counting::default();
    let begun = std::time::Instant::now();
    execution.call(session.as_mut(), &parameters, &mut counting).map_err(engine_problem)?;
    let whole = begun.elapsed().as_nanos() as f64;
    let observed = session.observed();
    let shapes = shapes(session.as_mut(), &observed).map_err(engine_problem)?;
    drop(session);
    dataset.verify()?;
    let relations = relations(plan, project.engine.dialect(), &shapes, &counting);
    let traced = Traced { observed, shapes, answer: counting.rows(), relations, whole };
    let text = if general.format == Format::Json {
        as_json(&arguments.contest, &entry.name, &traced)
    } else {
        let telling = planning(&project, &selected.contest);
        as_text(
            &AsText {
                verbose: general.verbose,
                form: arguments.plan,
                telling: &telling.telling(),
                without_index: without_index(&project, &selected.contest),
            },
            &arguments.contest,
            &entry.name,
            &traced,
        )
    };
    print_as(general.format, &text)?;
    Ok(Ending::Done)
}

/// Groups statements that differ only in how many keys they list.
fn shapes(session: &mut dyn Session, observed: &[Observed]) -> Result<Vec<Shape>, kampf_contest::EngineError> {
    let mut shapes: Vec<Shape> = Vec::new();
    for statement in observed {
        let sql = shape_of(&statement.sql);
        match shapes.iter_mut().find(|shape| shape.sql == sql) {
            Some(shape) => {
                shape.count += 1;
                shape.nanos += statement.nanos;
                shape.rows += statement.rows;
                shape.lists += u64::from(shape.first.parameters != statement.parameters);
            }
            None => shapes.push(Shape {
                sql,
                first: statement.clone(),
                count: 1,
                nanos: statement.nanos,
                rows: statement.rows,
                lists: 1,
                plan: QueryPlan::default(),
            }),
        }
    }
    for shape in &mut shapes {
        let parameters: Vec<ValueRef<'_>> = shape.first.parameters.iter().map(|value| value.as_ref()).collect();
        // BEGIN and COMMIT have no plan.
        if shape.sql.contains(char::is_whitespace) {
            shape.plan = session.explain(&shape.first.sql, &parameters, true)?;
        }
    }
    Ok(shapes)
}

fn repeated(shape: &Shape) -> bool {
    shape.count > 2 && shape.lists > 2
}

fn as_json(contest: &str, contender: &str, Traced { observed, shapes, answer, relations, .. }: &Traced) -> String {
    let statements: Vec<_> = observed
        .iter()
        .map(|statement| {
            let parameters: Vec<_> = statement.parameters.iter().map(|value| value_to_json(value.as_ref())).collect();
            json!({"sql": statement.sql, "parameters": parameters, "ns": statement.nanos, "rows": statement.rows})
        })
        .collect();
    let shapes: Vec<_> = shapes
        .iter()
        .map(|shape| {
            json!({
                "sql": shape.sql, "statements": shape.count, "ns": shape.nanos, "rows": shape.rows,
                "repeated_per_parent": repeated(shape), "plan": shape.plan,
            })
        })
        .collect();
    let rows: u64 = observed.iter().map(|statement| statement.rows).sum();
    let relations: Vec<_> = relations
        .iter()
        .map(|relation| {
            json!({
                "table": relation.table, "level": relation.level, "reached": relation.reach, "rows_needed": relation.needed,
                "statements": relation.read.map(|(statements, _)| statements), "rows_read": relation.read.map(|(_, rows)| rows),
            })
        })
        .collect();
    let document = json!({
        "contest": contest, "contender": contender, "rows_read": rows, "rows_needed": answer, "relations": relations, "shapes": shapes,
        "statements": statements,
    });
    format!("{document:#}\n")
}

/// How a trace is told.
struct AsText<'a> {
    verbose: bool,
    form: PlanForm,
    telling: &'a PlanTelling<'a>,
    /// The references of the need that have no index, in a sentence.
    without_index: Option<String>,
}

fn as_text(how: &AsText<'_>, contest: &str, contender: &str, traced: &Traced) -> String {
    let Traced { observed, shapes, answer, relations, whole } = traced;
    let mut page = Page::new();
    page.line(format!("{}  {}", paint(Look::Title, contest), paint(Look::Strong, contender)));
    let rows: u64 = observed.iter().map(|statement| statement.rows).sum();
    let sql: u64 = observed.iter().map(|statement| statement.nanos).sum();
    page.paragraph(
        &format!(
            "{} {}, {} of {} spent in them; {} read for an answer of {}{}",
            count(observed.len() as u64),
            if observed.len() == 1 { "statement" } else { "statements" },
            duration(sql as f64),
            duration(*whole),
            rows_of(rows),
            count(*answer),
            match rows.checked_div(*answer) {
                Some(times) if times >= 2 => format!(", {} for each row needed", count(times)),
                _ => String::new(),
            }
        ),
        0,
    );
    if relations.len() > 1 {
        page.blank();
        let columns = ["relation", "reached", "statements", "rows read", "rows needed"];
        let columns: Vec<Column> =
            columns.iter().enumerate().map(|(at, name)| if at < 2 { Column::left(*name) } else { Column::right(*name) }).collect();
        page.table(&columns, &relations.iter().map(relation_row).collect::<Vec<_>>());
    }
    if let Some(text) = &how.without_index {
        page.blank();
        page.paragraph(text, 0);
    }
    for (number, shape) in shapes.iter().enumerate() {
        page.blank();
        let times = if shape.count == 1 { "once".to_owned() } else { format!("{} times", count(shape.count)) };
        page.line(format!(
            "{} sent {times}, {} in all, {}",
            paint(Look::Strong, &format!("{}.", number + 1)),
            duration(shape.nanos as f64),
            rows_of(shape.rows)
        ));
        if repeated(shape) {
            let per = duration(shape.nanos as f64 / shape.count as f64);
            page.paragraph(&format!("   {} the same statement for one parent after the other, {per} each", paint(Look::Bad, "N+1:")), 3);
        }
        page.sql(&shape.sql, 5);
        let parameters = parameters_text(&shape.first);
        if !parameters.is_empty() {
            page.line(paint(Look::Quiet, &format!("     {} {parameters}", if shape.count == 1 { "with" } else { "first with" })));
        }
        plan_text(&mut page, how.telling, how.form, &shape.plan, shape.rows as f64 / shape.count as f64);
    }
    page.blank();
    page.line(paint(Look::Title, "in order"));
    let shown = if how.verbose { observed.len() } else { SHOWN.min(observed.len()) };
    for (at, statement) in observed.iter().take(shown).enumerate() {
        let shape = shapes.iter().position(|shape| shape.sql == shape_of(&statement.sql)).map_or(0, |at| at + 1);
        let rows = rows_of(statement.rows);
        let parameters = parameters_text(statement);
        let with = if parameters.is_empty() { String::new() } else { format!("  with {parameters}") };
        page.line(format!(
            "{:>6}  statement {shape}  {:>8}  {rows}{}",
            at + 1,
            duration(statement.nanos as f64),
            paint(Look::Quiet, &with)
        ));
    }
    if shown < observed.len() {
        page.line(format!("        … and {} more (-v lists all)", count((observed.len() - shown) as u64)));
    }
    page.into_text()
}

/// A relation as a line of a table, moved in by its level.
fn relation_row(relation: &Relation) -> Vec<(Look, String)> {
    let (statements, rows) = relation.read.map_or_else(Default::default, |(statements, rows)| (count(statements), count(rows)));
    // One statement for each of several parents is N+1, on every level by itself.
    let is_repeated = relation.reach == Some("lazy") && relation.read.is_some_and(|(statements, _)| statements > 2);
    let reach = match (relation.reach, is_repeated) {
        (None, _) => "root".to_owned(),
        (Some(reach), true) => format!("{reach}, N+1"),
        (Some(reach), false) => reach.to_owned(),
    };
    let wasted = relation.read.is_some_and(|(_, rows)| rows > relation.needed.saturating_mul(2));
    vec![
        (Look::Strong, format!("{}{}", "  ".repeat(relation.level), relation.table)),
        (if is_repeated { Look::Bad } else { Look::Quiet }, reach),
        (Look::Strong, if statements.is_empty() { "with it".to_owned() } else { statements }),
        (if wasted { Look::Bad } else { Look::Strong }, if rows.is_empty() { "-".to_owned() } else { rows }),
        (Look::Strong, count(relation.needed)),
    ]
}

fn parameters_text(statement: &Observed) -> String {
    let shown: Vec<String> = statement.parameters.iter().take(6).map(|value| value.to_string().chars().take(30).collect()).collect();
    let more = statement.parameters.len().saturating_sub(6);
    let tail = if more > 0 { format!(", … {} more", count(more as u64)) } else { String::new() };
    format!("{}{tail}", shown.join(", "))
}
