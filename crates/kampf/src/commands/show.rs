//! `kampf show`

mod writes;

use std::collections::{BTreeMap, BTreeSet};

use kampf_contest::{ChoiceOption, Loading, Plan, Reach, Reached, Telling, reached};
use kampf_engine::schema_sql;
use kampf_runner::{Entry, EntryWay};
use kampf_schema::{HopKind, did_you_mean};
use serde_json::json;

use super::{Ending, Teller, print, print_as};
use crate::arguments::{Bounds, Format, General, Show, is_of_keys};
use crate::output::{Column, Look, Page, count, paint, plan_text, words_text};
use crate::problem::Problem;
use crate::project::{Project, Selected, multiplied, resolve};
use crate::running::{
    Planned, Planning, derive_indexes, filled, left_to_app, open, planned, planning, possible_indexes, setup, taken, without_index,
};
use crate::store::engine_problem;

/// What the words of contenders' names stand for.
const WORDS: &str = include_str!("../../../../docs/words.md");

pub(super) fn run(general: &General, arguments: &Show) -> Result<Ending, Problem> {
    if arguments.words {
        print(&words_text(WORDS))?;
        return Ok(Ending::Done);
    }
    let hear = &mut Teller::of(general);
    let mut project = open(general, general.engine.as_deref(), hear)?;
    if let Some(variant) = &arguments.ddl {
        let text = ddl(&mut project, variant, general.format)?;
        print_as(general.format, &text)?;
        return Ok(Ending::Done);
    }
    if let Some(name) = &arguments.contest {
        let names = std::slice::from_ref(name);
        match arguments.plan {
            Some(_) => derive_indexes(&mut project, names, &arguments.selection, hear)?,
            None => possible_indexes(&mut project, names, &arguments.selection)?,
        }
    }
    let text = match &arguments.contest {
        _ if arguments.relations => relations(&project, general.format),
        None => contests(&project, general.format)?,
        Some(name) => contest(general, &project, name, arguments)?,
    };
    print_as(general.format, &text)?;
    Ok(Ending::Done)
}

fn contests(project: &Project, format: Format) -> Result<String, Problem> {
    if format == Format::Json {
        let list: Vec<_> = project.config.contests.iter().map(|contest| json!({"name": contest.name, "about": contest.about})).collect();
        return Ok(format!("{:#}\n", json!(list)));
    }
    let mut page = Page::new();
    let rows: Vec<_> = project
        .contests(&[])?
        .iter()
        .map(|contest| vec![(Look::Strong, contest.name.clone()), (Look::Quiet, contest.about.clone().unwrap_or_default())])
        .collect();
    page.table(&[Column::left("contest"), Column::left("about")], &rows);
    page.blank();
    page.line("`kampf show CONTEST` lists its contenders and their SQL, `kampf show --relations` the names of relations.");
    Ok(page.into_text())
}

/// What each relation gets, and by how much rows multiply.
fn notes(project: &Project, selected: &Selected, entry: &Entry, plan: &Plan) -> Vec<String> {
    let (Some(need), Some(choices)) = (selected.contest.job.need(), &entry.choices) else { return Vec::new() };
    let mut by: Vec<(&'static str, Vec<String>)> = Vec::new();
    for Reached { what, by: loading } in reached(&project.schema, need, project.engine.dialect(), choices) {
        match by.iter_mut().find(|(word, _)| *word == loading.word()) {
            Some((_, all)) => all.push(what),
            None => by.push((loading.word(), vec![what])),
        }
    }
    let mut notes = Vec::new();
    // Where everything gets what the name says, there is nothing to add.
    let own = choices.get::<Loading>().map(Loading::word);
    if by.iter().any(|(word, _)| Some(*word) != own) && own.is_some() {
        notes.push(by.iter().map(|(word, all)| format!("{word}: {}", all.join(", "))).collect::<Vec<_>>().join(" · "));
    }
    notes.extend(multiplied(project, need, plan).map(|multiplied| multiplied.text()));
    notes
}

/// The query plans of a contest's contenders, where they are asked for.
struct Plans<'p> {
    of: BTreeMap<String, Vec<Planned>>,
    telling: Planning<'p>,
}

impl Plans<'_> {
    fn of(&self, contender: &str) -> &[Planned] {
        self.of.get(contender).map_or(&[], Vec::as_slice)
    }
}

fn plans<'p>(general: &General, project: &'p Project, selected: &Selected, arguments: &Show) -> Result<Plans<'p>, Problem> {
    let mut plans = Plans { of: BTreeMap::new(), telling: planning(project, &selected.contest) };
    if arguments.plan.is_none() {
        return Ok(plans);
    }
    let dataset = filled(project, std::iter::once(&selected.contest), &mut Teller::of(general))?;
    let setup = setup(project, &dataset, &Bounds { timeout: std::time::Duration::MAX, memory_limit: None })?;
    for entry in &selected.contest.entries {
        let of = planned(project, &setup, &selected.contest, entry, false).map_err(|error| engine_problem(&error))?;
        plans.of.insert(entry.name.clone(), of);
    }
    dataset.verify()?;
    Ok(plans)
}

/// The variants that contenders run on, with the statements that make them; and which references of the need have no index.
fn variants_text(page: &mut Page, project: &Project, selected: &Selected) {
    let names: BTreeSet<&str> = selected.contest.entries.iter().filter_map(|entry| entry.variant.as_deref()).collect();
    for variant in names.into_iter().filter_map(|name| project.variant(name)) {
        page.hung(&format!("{} ", paint(Look::Strong, &format!("@{}", variant.name))), &variant.about(), 4);
        variant.statements(project.engine).iter().for_each(|statement| page.sql(&format!("{statement};"), 4));
    }
    if let Some(text) = without_index(project, &selected.contest) {
        page.paragraph(&text, 0);
    }
}

/// The statements that make the tables of the schema, or of a variant behind an at sign.
fn ddl(project: &mut Project, variant: &str, format: Format) -> Result<String, Problem> {
    let name = variant.strip_prefix('@').unwrap_or(variant);
    let found = if is_of_keys(name) {
        project.add_keys(&[name.to_owned()])?;
        project.keys_asked(name).first().copied()
    } else {
        project.variant(name)
    };
    let schema = match found {
        None if name.is_empty() => &project.schema,
        None => {
            let known = project.variants.iter().map(|variant| variant.name.as_str());
            return Err(Problem::wrong(format!("there is no variant `{name}`"))
                .hint("describe it under [index], or name a table and a type of keys: @hive:uuid7")
                .maybe_hint(did_you_mean(name, known)));
        }
        Some(variant) => match &variant.lacks {
            Some(lacks) => return Err(lacks.clone()),
            None => &variant.schema,
        },
    };
    let statements = schema_sql(project.engine.dialect(), schema).map_err(|error| engine_problem(&error))?;
    if format == Format::Json {
        return Ok(format!("{:#}\n", json!(statements)));
    }
    Ok(statements.iter().map(|statement| format!("{statement};\n\n")).collect::<String>().trim_end().to_owned() + "\n")
}

fn relations(project: &Project, format: Format) -> String {
    let schema = &project.schema;
    let mut all = Vec::new();
    for table in schema.ids() {
        for relation in project.relations.from(table) {
            let kind = if relation.hops.iter().any(|hop| hop.kind == HopKind::Many) { "many" } else { "one" };
            let target = relation.hops.last().map_or("", |hop| schema.table(hop.to).name.as_str());
            let hop = &relation.hops[0];
            let (child, columns) = if hop.kind == HopKind::One { (hop.from, &hop.from_columns) } else { (hop.to, &hop.to_columns) };
            let names: Vec<&str> = columns.iter().map(|&column| schema.table(child).columns[column].name.as_str()).collect();
            let by = format!("{}.{}", schema.table(child).name, names.join(", "));
            all.push((schema.table(table).name.clone(), relation.name.clone(), kind, target.to_owned(), by));
        }
    }
    if format == Format::Json {
        let list: Vec<_> = all
            .iter()
            .map(|(table, name, kind, target, by)| json!({"table": table, "name": name, "to": kind, "target": target, "by": by}))
            .collect();
        return format!("{:#}\n", json!(list));
    }
    let columns =
        [Column::left("from"), Column::left("relation"), Column::left("to"), Column::left("table"), Column::left("by").yielding(1)];
    let rows: Vec<_> = all
        .into_iter()
        .map(|(table, name, kind, target, by)| {
            vec![(Look::Quiet, table), (Look::Strong, name), (Look::Quiet, kind.to_owned()), (Look::Strong, target), (Look::Quiet, by)]
        })
        .collect();
    let mut page = Page::new();
    page.table(&columns, &rows);
    page.into_text()
}

/// What a contender leaves to the developer, in words.
fn by_hand_text(entry: &Entry) -> String {
    match entry.by_hand {
        Some(by_hand) if by_hand.statements + by_hand.columns > 0 => {
            format!("by hand: {} SQL, {} columns", by_hand.statements, by_hand.columns)
        }
        _ => "by hand: nothing".to_owned(),
    }
}

fn contest(general: &General, project: &Project, name: &str, arguments: &Show) -> Result<String, Problem> {
    let format = general.format;
    let config = project.contest(name)?;
    let selected = resolve(project, config, &arguments.selection)?;
    let telling = Telling { schema: &project.schema, rows: &|table| project.blueprint.rows(table), number: &count };
    let job = &selected.contest.job;
    let sentence = job.need().map(|need| telling.sentence(need)).or(job.write().map(|job| telling.write(&job.write)));
    let names: Vec<String> = config.parameters.iter().map(|(name, _)| name.clone()).collect();
    let left = left_to_app(project, &selected.contest);
    let plans = plans(general, project, &selected, arguments)?;
    if format == Format::Json {
        let list: Vec<_> = selected
            .contest
            .entries
            .iter()
            .map(|entry| match &entry.way {
                EntryWay::Plan(plan) => {
                    {
                    let need = selected.contest.job.need().zip(entry.choices);
                    let by = need.map(|(need, choices)| reached(&project.schema, need, project.engine.dialect(), &choices));
                    let by: Vec<_> = by.into_iter().flatten().map(|one| json!({"what": one.what, "loading": one.by.word()})).collect();
                    let query_plans: Vec<_> = plans.of(&entry.name).iter().map(|one| json!({"sql": one.shape, "plan": one.plan})).collect();
                    json!({"name": entry.name, "choices": entry.choices, "sql": plan.statements(project.engine.dialect()), "by_hand": entry.by_hand,
                        "reached": by, "query_plans": query_plans})
                }
                }
                EntryWay::Write(plan) => json!({"name": entry.name, "choices": entry.choices, "by_hand": entry.by_hand,
                    "sql": plan.statements(project.engine.dialect(), &names), "does": selected.contest.job.write().map(|job| writes::notes(plan, job))}),
                EntryWay::Program(program) => json!({"name": entry.name, "command": program.words}),
            })
            .collect();
        let not_derived: Vec<_> =
            selected.field.not_derived.iter().map(|not| json!({"name": not.choices.to_string(), "reason": not.reason})).collect();
        let condition =
            taken(project, &selected.contest).map(|taken| taken.shares()).map(|(least, most)| json!({"least": least, "most": most}));
        let all = json!({"contest": name, "contenders": list, "in_words": sentence, "left_to_the_application": left,
            "not_derived": not_derived, "combinations": selected.field.count(), "condition_takes": condition});
        return Ok(format!("{all:#}\n"));
    }
    let mut page = Page::new();
    page.hung(&format!("{} ", paint(Look::Title, name)), config.about.as_deref().unwrap_or_default(), 2);
    if let Some(sentence) = &sentence {
        page.paragraph(sentence, 0);
    }
    if !selected.order_appended.is_empty() {
        let were = if selected.order_appended.len() == 1 { "was" } else { "were" };
        let added = selected.order_appended.join(", ");
        let why =
            if config.order.is_empty() { "There is no order, and what is cut wants one" } else { "The order does not end in a unique key" };
        page.paragraph(&format!("{why}, so {added} {were} added to it."), 0);
    }
    if let Some(taken) = taken(project, &selected.contest) {
        page.paragraph(&taken.text(), 0);
    }
    for what in &left {
        page.paragraph(what, 0);
    }
    variants_text(&mut page, project, &selected);
    for what in selected.passed_over(project.engine.name()) {
        page.paragraph(&format!("{what}."), 0);
    }
    let mut last: Option<Vec<String>> = None;
    for entry in &selected.contest.entries {
        page.blank();
        match &entry.way {
            EntryWay::Program(program) => {
                page.line(format!("{}  a program: {}", paint(Look::Strong, &entry.name), program.words.join(" ")));
            }
            EntryWay::Write(plan) => {
                let statements = plan.statements(project.engine.dialect(), &names);
                page.line(format!("{}  {}", paint(Look::Strong, &entry.name), paint(Look::Quiet, &by_hand_text(entry))));
                for note in selected.contest.job.write().into_iter().flat_map(|job| writes::notes(plan, job)) {
                    page.paragraph(&format!("  {note}"), 4);
                }
                if last.as_ref() == Some(&statements) {
                    page.line(paint(Look::Quiet, "  sends the same SQL as the one above"));
                } else {
                    statements.iter().for_each(|statement| page.sql(statement, 4));
                }
                last = Some(statements);
            }
            EntryWay::Plan(plan) => {
                let sent = plan.named(project.engine.dialect(), &names);
                let statements: Vec<String> = sent.iter().map(|(text, _)| text.clone()).collect();
                page.line(format!("{}  {}", paint(Look::Strong, &entry.name), paint(Look::Quiet, &by_hand_text(entry))));
                for note in notes(project, &selected, entry, plan) {
                    page.paragraph(&format!("  {note}"), 4);
                }
                if let Some(form) = arguments.plan {
                    for one in plans.of(&entry.name) {
                        page.sql(&one.shape, 4);
                        plan_text(&mut page, &plans.telling.telling(), form, &one.plan, one.answer);
                    }
                } else if last.as_ref() == Some(&statements) {
                    page.line(paint(Look::Quiet, "  sends the same SQL as the one above"));
                } else {
                    for (statement, reach) in &sent {
                        let how = match reach {
                            None => None,
                            Some(Reach::Lazy) => Some("then, for each parent touched:"),
                            Some(_) => Some("then, for all keys:"),
                        };
                        how.into_iter().for_each(|how| page.line(paint(Look::Quiet, &format!("  {how}"))));
                        page.sql(statement, 4);
                    }
                }
                last = Some(statements);
            }
        }
    }
    page.blank();
    if arguments.selection.all {
        let (all, usual) = (selected.field.count(), selected.field.valid.len());
        if all > usual {
            let text = format!(
                "{} combinations in their usual manner, and {} in all manners: how rows are fetched, statements sent, calls held together and \
                 answers kept. --all --only PATTERN looks for names among all of them.",
                count(usual as u64),
                count(all as u64)
            );
            page.paragraph(&text, 0);
            page.blank();
        }
        if !selected.field.not_derived.is_empty() {
            page.line(paint(Look::Title, "not derived"));
        }
        for not in &selected.field.not_derived {
            page.paragraph(&format!("  {}: {}", not.choices, not.reason), 4);
        }
    } else {
        let entered = selected.contest.entries.iter().filter(|entry| entry.choices.is_some()).count();
        let more = selected.field.count().saturating_sub(entered) as u64;
        if more > 0 {
            let text = format!(
                "{} more combinations are valid; --all shows those in their usual manner, and why others are not derived",
                count(more)
            );
            page.paragraph(&text, 0);
        }
    }
    Ok(page.into_text())
}
