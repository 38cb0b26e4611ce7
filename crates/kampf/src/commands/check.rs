//! `kampf check`

use kampf_contest::{Difference, Form, Item, value_to_json};
use kampf_runner::{CheckedVerdict, Checks, Contest, Contradiction, Inbox, Purpose, Setup, Trouble, most_rows};
use kampf_schema::{LogicalType, Value};
use serde_json::json;

use super::interrupts::{heed, inbox};
use super::{Ending, Teller, print, print_json, say};
use crate::arguments::{Check, Format, General};
use crate::output::{Column, Look, Page, answer_text, checked_text, count, not_proven_text, one_line, paint, quiet_words, rows_of, wait};
use crate::problem::Problem;
use crate::project::{Project, resolve};
use crate::running::{
    LONG_ANSWER, derive_indexes, empty_answer, engines, filled_to_check, name_programs, open, scratch_for, setup_on, taken, trouble,
};
use crate::tidings::{Listener, Tidings};

pub(super) fn run(general: &General, arguments: &Check) -> Result<Ending, Problem> {
    let inbox = inbox()?;
    let (mut all_agree, mut json) = (true, Vec::new());
    let hear = &mut Teller::of(general);
    let engines = engines(general.engine.as_deref(), hear);
    for engine in &engines {
        let mut project = open(general, engine.as_deref(), hear)?;
        derive_indexes(&mut project, &arguments.contests, &arguments.selection, hear)?;
        if engines.len() > 1 {
            say(general.quiet, &format!("on {}", project.engine.name()));
        }
        all_agree &= check((general, arguments), &inbox, &project, &mut json, hear)?;
    }
    if general.format == Format::Json && !arguments.answer {
        print_json(&format!("{:#}", json!({"contests": json})))?;
    }
    Ok(if all_agree { Ending::Done } else { Ending::No })
}

/// Checks the contests on one engine; whether all contenders agree.
fn check(
    (general, arguments): (&General, &Check),
    inbox: &Inbox,
    project: &Project,
    json: &mut Vec<serde_json::Value>,
    hear: &mut Teller,
) -> Result<bool, Problem> {
    let contests = project.contests(&arguments.contests)?;
    if arguments.answer && contests.len() != 1 {
        return Err(Problem::wrong("--answer prints the answer of one contest").hint("name the contest: `kampf check CONTEST --answer`"));
    }
    let mut selected = Vec::new();
    for config in contests {
        let picked = resolve(project, config, &arguments.selection.within(&arguments.bounds))?;
        picked.passed_over(project.engine.name()).iter().for_each(|what| say(general.quiet, &format!("{}: {what}", config.name)));
        selected.push(picked.contest);
    }
    let dataset = filled_to_check(project, selected.iter(), hear)?;
    heed(inbox)?;
    name_programs(&dataset, selected.iter(), hear);
    let mut all_agree = true;
    for contest in &selected {
        let scratch = scratch_for(project, &dataset, contest)?;
        let setup = setup_on(project, &dataset, &arguments.bounds, scratch.as_deref())?;
        hear.hear(Tidings::Races(&contest.name, 0.0));
        let purpose = Purpose { is_for_race: false, stop_above: (!arguments.whole).then_some(LONG_ANSWER) };
        let checks = kampf_runner::check(inbox, &setup, contest, purpose, &mut |event| hear.hear(Tidings::Race(&event)));
        hear.hear(Tidings::Raced);
        let checks = checks.map_err(|error| trouble(&contest.name, &error))?;
        dataset.verify()?;
        let agree = checks.entries.iter().all(|entry| entry.verdict == CheckedVerdict::Agrees);
        all_agree &= agree;
        if general.format == Format::Json && !arguments.answer {
            json.push(as_json(project, contest, &checks));
            continue;
        }
        let mut page = Page::new();
        check_text(&mut page, contest, &contest.parameter_sets(&setup, 0), &checks);
        if let Some(taken) = taken(project, contest) {
            page.paragraph(&format!("  {}", quiet_words(&taken.text())), 4);
        }
        if let Some(empty) = empty_answer(project, contest, &checks) {
            page.paragraph(&format!("  {} {}", paint(Look::Bad, "!"), one_line(&empty)), 4);
        }
        if arguments.answer {
            if !agree {
                say(general.quiet, page.into_text().trim_end());
            }
            match general.format {
                Format::Json => print_json(&answer_lines(contest, &checks))?,
                Format::Text => print(&answer(contest, &setup, &checks))?,
            }
        } else {
            page.blank();
            print(&page.into_text())?;
        }
    }
    Ok(all_agree)
}

/// The agreed answer for people, by parameter set where there are several.
fn answer(contest: &Contest, setup: &Setup<'_>, checks: &Checks) -> String {
    let mut page = Page::new();
    let sets = contest.parameter_sets(setup, 0);
    for (at, reference) in checks.references.iter().enumerate() {
        if let Some(set) = sets.get(at).filter(|set| !set.is_empty()) {
            page.paragraph(&paint(Look::Title, &format!("with {}", set_text(contest, set))), 2);
        }
        match reference.came(contest.job.limit()) {
            Some(came) => page.line(format!("{} came", rows_of(came))),
            None => {
                let rows = reference.answer(contest.job.limit());
                answer_text(&mut page, &named_items(contest, rows), rows);
            }
        }
        if at + 1 < checks.references.len() {
            page.blank();
        }
    }
    page.into_text()
}

/// The parameters of a set by their names.
fn set_text(contest: &Contest, set: &[Value]) -> String {
    let one = |(name, value): (&String, &Value)| format!("{name} = {}", shortened(&one_line(&value.to_string())));
    contest.parameters.iter().map(|parameter| &parameter.name).zip(set).map(one).collect::<Vec<_>>().join(", ")
}

/// What rows hold: what the need gives, or of own SQL without one a value for each column, by its number.
fn named_items(contest: &Contest, rows: &[Vec<Value>]) -> Vec<Item> {
    match contest.job.need() {
        Some(_) => items(contest),
        None => {
            let columns = rows.first().map_or(0, Vec::len);
            (1..=columns).map(|at| Item { name: format!("column {at}"), form: Form::Value(LogicalType::TEXT) }).collect()
        }
    }
}

/// What a need gives; empty for own SQL without one.
fn items(contest: &Contest) -> Vec<Item> {
    let given = contest.job.need().into_iter().flat_map(|need| &need.give);
    given.map(|given| Item { name: given.name.clone(), form: given.form.clone() }).collect()
}

/// The agreed answer: a line of JSON a row, or how many rows came where that is not as expected.
fn answer_lines(contest: &Contest, checks: &Checks) -> String {
    let row = |row: &Vec<Value>| {
        let values: Vec<_> = row.iter().map(|value| value_to_json(value.as_ref())).collect();
        format!("{}\n", json!(values))
    };
    let lines = |reference: &kampf_contest::Reference| match reference.came(contest.job.limit()) {
        Some(came) => format!("{}\n", json!({"came": came})),
        None => reference.answer(contest.job.limit()).iter().map(row).collect(),
    };
    checks.references.iter().map(lines).collect()
}

fn as_json(project: &Project, contest: &Contest, checks: &Checks) -> serde_json::Value {
    let entries = checks.entries.iter().map(|entry| match &entry.verdict {
        CheckedVerdict::Agrees => {
            json!({"name": entry.name, "agrees": true, "stopped_after_seconds": entry.stopped_after.map(|after| after.as_secs_f64())})
        }
        CheckedVerdict::Undecided(why) => json!({"name": entry.name, "agrees": null, "reason": why.to_string()}),
        CheckedVerdict::Failed(trouble) => json!({"name": entry.name, "agrees": false, "reason": trouble.to_string()}),
        CheckedVerdict::Disagrees(set, difference) => {
            let mut differs = difference_json(contest, difference);
            differs["name"] = json!(entry.name);
            differs["agrees"] = json!(false);
            differs["on_twin"] = json!(entry.on_twin);
            differs["parameter_set"] = json!(set);
            differs
        }
    });
    let condition = taken(project, contest).map(|taken| taken.shares()).map(|(least, most)| json!({"least": least, "most": most}));
    json!({
        "name": contest.name, "engine": project.engine.name(), "checked": checked_text(checks),
        "not_proven": checks.twin.as_ref().map(|twin| &twin.not_proven), "contenders": entries.collect::<Vec<_>>(),
        "contradiction": checks.contradiction.as_ref().map(|contradiction| {
            let mut differs = difference_json(contest, &contradiction.difference);
            differs["name"] = json!(contradiction.name);
            differs["parameter_set"] = json!(contradiction.set);
            differs
        }),
        "condition_takes": condition, "warning": empty_answer(project, contest, checks),
    })
}

/// A difference as JSON, with the one inside of a list where that is where rows differ.
fn difference_json(contest: &Contest, difference: &Difference) -> serde_json::Value {
    let row = |row: &Option<Vec<Value>>| row.as_ref().map(|row| row.iter().map(|value| value_to_json(value.as_ref())).collect::<Vec<_>>());
    let mut differs = json!({
        "row": difference.row, "column": difference.column, "expected_rows": difference.expected_rows, "found_rows": difference.found_rows,
        "expected": row(&difference.expected), "found": row(&difference.found),
    });
    if let Some((name, _)) = difference.table.and_then(|table| contest.job.write()?.names.get(&table)) {
        differs["table"] = json!(name);
    }
    if let Some(inside) = &difference.inside {
        differs["inside"] = difference_json(contest, inside);
    }
    differs
}

/// How the contenders of a contest answered, differences side by side.
pub(super) fn check_text(page: &mut Page, contest: &Contest, asked: &[Vec<Value>], checks: &Checks) {
    let rows: usize = checks.references.iter().map(|reference| reference.answer(contest.job.limit()).len()).sum();
    let sets = match checks.references.len() {
        0 | 1 => String::new(),
        sets => format!(" over {sets} parameter sets"),
    };
    let rows = rows_of(rows as u64);
    page.paragraph(&format!("{}  {rows}{sets}, checked {}", paint(Look::Title, &contest.name), checked_text(checks)), 2);
    if let Some(text) = not_proven_text(checks) {
        page.paragraph(&format!("  {}", quiet_words(&text)), 4);
    }
    if let Some(text) = unexpected(contest, checks) {
        page.paragraph(&format!("  {text}"), 2);
    }
    if let Some(contradiction) = &checks.contradiction {
        contradiction_text(page, contest, asked, contradiction);
    }
    let agreeing: Vec<&str> =
        checks.entries.iter().filter(|entry| entry.verdict == CheckedVerdict::Agrees).map(|entry| entry.name.as_str()).collect();
    if agreeing.len() == checks.entries.len() {
        let does = if contest.job.write().is_some() { "leave the tables like this" } else { "give this answer" };
        page.line(format!("  {}", paint(Look::Good, &format!("all {} contenders {does}", agreeing.len()))));
        stopped_text(page, checks);
        return;
    }
    for entry in &checks.entries {
        match &entry.verdict {
            CheckedVerdict::Agrees => page.line(format!("  {}  {}", paint(Look::Good, "agrees"), entry.name)),
            CheckedVerdict::Undecided(why) => page.paragraph(&format!("  {}  {}: {why}", paint(Look::Bad, "open"), entry.name), 10),
            CheckedVerdict::Failed(trouble) => {
                let word = if matches!(trouble, Trouble::NotBelieved(_)) { "not believed" } else { "failed" };
                let reason = one_line(&trouble.to_string());
                page.paragraph(&format!("  {}  {}: {reason}", paint(Look::Bad, word), entry.name), 10);
            }
            CheckedVerdict::Disagrees(set, difference) => {
                let place = match (entry.on_twin, asked.get(*set).filter(|values| !values.is_empty())) {
                    (true, None) => ", on the twin".to_owned(),
                    (true, Some(_)) => format!(", on the twin, with parameter set {}", set + 1),
                    (false, None) => String::new(),
                    (false, Some(values)) => format!(", with {}", set_text(contest, values)),
                };
                page.paragraph(&format!("  {} {}{place}", paint(Look::Bad, "differs"), entry.name), 4);
                difference_text(page, contest, difference, RIGHT);
            }
        }
    }
    stopped_text(page, checks);
}

/// Whose answer was not waited for, as it was proven on few rows.
fn stopped_text(page: &mut Page, checks: &Checks) {
    let stopped: Vec<&str> = checks.entries.iter().filter(|entry| entry.stopped_after.is_some()).map(|entry| entry.name.as_str()).collect();
    let longest = checks.entries.iter().filter_map(|entry| entry.stopped_after).max();
    if let Some(longest) = longest {
        let text = format!(
            "  {} of them proven on few rows, and stopped here after {}: {}; --whole waits for them",
            stopped.len(),
            wait(longest.as_secs_f64()),
            stopped.join(", ")
        );
        page.paragraph(&quiet_words(&text), 4);
    }
}

/// For how many parameter sets not so many rows come as are expected, in words.
fn unexpected(contest: &Contest, checks: &Checks) -> Option<String> {
    let expect = contest.job.need()?.expect;
    let came: Vec<u64> = checks.references.iter().filter_map(|reference| reference.came(contest.job.limit())).collect();
    let first = came.first()?;
    let sets = match (came.len(), checks.references.len()) {
        (_, 1) => String::new(),
        (many, all) => format!(" for {many} of {all} parameter sets"),
    };
    Some(format!("{}{sets}: that is the answer then, and all must agree on it", expect.failure(*first)))
}

/// What the rows of a difference are called: of which one is right, and of two that nobody can choose between.
type Titles = [&'static str; 2];
const RIGHT: Titles = ["right", "this one"];
const EITHER: Titles = ["the leanest", "this one"];

/// Two answers of which one must be wrong.
fn contradiction_text(page: &mut Page, contest: &Contest, asked: &[Vec<Value>], contradiction: &Contradiction) {
    let Contradiction { name, set, difference } = contradiction;
    let set = asked
        .get(*set)
        .filter(|values| !values.is_empty())
        .map_or_else(String::new, |values| format!(" with {}", set_text(contest, values)));
    let text = format!(
        "  {}  derived contenders differ from each other{set}, and nothing decides which of them is right: nobody is taken at their word. {name} \
         against the leanest:",
        paint(Look::Bad, "nobody knows")
    );
    page.paragraph(&text, 2);
    difference_text(page, contest, difference, EITHER);
}

/// The first difference of an answer, the right row above the contender's.
fn difference_text(page: &mut Page, contest: &Contest, difference: &Difference, titles: Titles) {
    if let (Some((right, found)), Some(need)) = (difference.came, contest.job.need()) {
        let told = |came: u64| if need.expect.holds(came) { format!("{} as expected", rows_of(came)) } else { need.expect.failure(came) };
        page.line(format!("    {}: {}", if titles == RIGHT { "right is" } else { titles[0] }, told(right)));
        page.line(format!("    {}: {}", titles[1], told(found)));
        return;
    }
    let Some((name, columns)) = difference.table.and_then(|table| contest.job.write()?.names.get(&table)) else {
        return rows_text(page, &items(contest), difference, titles, "    ");
    };
    let [expected, found] = [difference.expected_rows, difference.found_rows].map(|rows| rows_of(rows as u64));
    match (difference.came, &difference.expected, &difference.found) {
        (Some((right, said)), ..) => {
            page.line(format!("    it says that it has written {} of {name}, and right are {}", rows_of(said), rows_of(right)));
        }
        (None, None, None) if expected == found => {
            page.line(format!("    among the other rows of {name} some are not as they were"));
        }
        (None, None, None) => page.line(format!("    {name} has {found} besides those that are written, where there must be {expected}")),
        _ => {
            page.line(format!("    in {name}:"));
            let items: Vec<Item> = columns.iter().map(|name| Item { name: name.clone(), form: Form::Value(LogicalType::TEXT) }).collect();
            rows_text(page, &items, difference, titles, "    ");
        }
    }
}

/// The rows that differ, and behind them those of a list in which they do.
fn rows_text(page: &mut Page, items: &[Item], difference: &Difference, titles: Titles, indent: &str) {
    if difference.expected_rows != difference.found_rows {
        // One that has far more rows than are right was not taken to its end.
        let most = most_rows(difference.expected_rows);
        let found = match difference.found_rows > most {
            true => format!("more than {}", count(most as u64)),
            false => count(difference.found_rows as u64),
        };
        let of = if titles == RIGHT { "are right".to_owned() } else { format!("are those of {}", titles[0]) };
        page.line(format!("{indent}{found} rows, where {} {of}", count(difference.expected_rows as u64)));
    }
    let width = difference.expected.iter().chain(&difference.found).map(Vec::len).max().unwrap_or(0);
    let name = |at: usize| items.get(at).map_or_else(|| format!("{}", at + 1), |item| item.name.clone());
    let mut columns = vec![Column::left(format!("{indent}row {}", difference.row + 1))];
    columns.extend((0..width).map(|at| Column::left(name(at))));
    let row = |title: &str, values: &Option<Vec<Value>>, marked: Look| {
        let mut cells = vec![(Look::Quiet, format!("{indent}{title}"))];
        cells.extend((0..width).map(|at| {
            let text = match values.as_ref().and_then(|values| values.get(at)) {
                Some(Value::List(rows)) => format!("[{}]", rows_of(rows.len() as u64)),
                Some(value) => shortened(&value.to_string()),
                None => "(none)".to_owned(),
            };
            (if difference.column == Some(at) { marked } else { Look::Strong }, text)
        }));
        cells
    };
    page.table(&columns, &[row(titles[0], &difference.expected, Look::Good), row(titles[1], &difference.found, Look::Bad)]);
    if let (Some(inside), Some(at)) = (&difference.inside, difference.column) {
        let list = items.get(at).and_then(|item| item.form.list()).map(|list| list.items.as_slice()).unwrap_or_default();
        page.line(format!("{indent}in its {}:", name(at)));
        rows_text(page, list, inside, titles, &format!("{indent}  "));
    }
}

fn shortened(text: &str) -> String {
    let plain: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    if plain.chars().count() <= 40 { plain } else { plain.chars().take(39).chain(['…']).collect() }
}
