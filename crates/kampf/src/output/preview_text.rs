//! `kampf fill --preview`: some rows of a table, and how each of its columns is made and why.

use kampf_fill::ties::made;
use kampf_fill::{Blueprint, OtherShare, Steps, Way};
use kampf_schema::{ColumnForm, TableId, Value, did_you_mean};

use super::{Column, Look, Page, count, paint, print, print_json, rows_of, shown, width};
use crate::arguments::{Format, General};
use crate::problem::Problem;
use crate::project::Project;

/// Rows that are shown.
const ROWS: u64 = 4;
/// A cell is not made narrower than this.
const NARROWEST: usize = 10;
/// Nor is a value in a line wider than this.
const ROOM_OF_CELL: usize = 40;

pub(crate) fn preview(general: &General, project: &Project, name: &str) -> Result<(), Problem> {
    let table = project.schema.find(name).ok_or_else(|| {
        Problem::wrong(format!("there is no table `{name}`"))
            .maybe_hint(did_you_mean(name, project.schema.tables.iter().map(|table| table.name.as_str())))
    })?;
    // Steps are read one after the other.
    let steps = project.blueprint.steps(&project.schema, table, ROWS).filter(|steps| !steps.steps.is_empty());
    let rows = steps.as_ref().map_or_else(|| shown_rows(&project.blueprint, table), |steps| steps.steps.clone());
    if general.format == Format::Json {
        return print_json(&json(project, table, &rows));
    }
    print(&text(project, table, &rows, steps.as_ref()))
}

/// Whose steps are shown.
fn steps_text(project: &Project, steps: &Steps) -> String {
    let of = project.schema.table(steps.of);
    let said: Vec<String> = (0..of.columns.len())
        .filter(|&at| of.primary_key == [at] || steps.state == Some(at) || made(&project.schema, steps.of) == Some(at))
        .map(|at| format!("{} {}", of.columns[at].name, cell(&project.blueprint.value(steps.of, steps.row, at), ROOM_OF_CELL).1))
        .collect();
    format!("the steps of one row of {}: {}", of.name, said.join(", "))
}

/// Rows from all over the table; those that the schema file gives are known already.
fn shown_rows(blueprint: &Blueprint, table: TableId) -> Vec<u64> {
    let (given, rows) = (blueprint.given(table), blueprint.rows(table));
    let from = if rows > given { given } else { 0 };
    let shown = ROWS.min(rows - from);
    (0..shown).map(|at| from + at * (rows - from) / shown).collect()
}

fn text(project: &Project, table: TableId, rows: &[u64], steps: Option<&Steps>) -> String {
    let model = project.schema.table(table);
    let blueprint = &project.blueprint;
    let mut page = Page::new();
    let given = match blueprint.given(table) {
        0 => String::new(),
        given => format!(", {} of them from the schema file", count(given)),
    };
    page.line(format!("{}: {}{given}", model.name, rows_of(blueprint.rows(table))));
    if let Some(steps) = steps {
        page.paragraph(&shown(&steps_text(project, steps)), 0);
    }
    page.blank();
    let name = model.columns.iter().map(|column| column.name.chars().count()).max().unwrap_or(0);
    let room = width().saturating_sub(name) / rows.len().max(1);
    let room = room.saturating_sub(2).max(NARROWEST);
    let mut columns = vec![Column::left("column")];
    columns.extend(rows.iter().map(|row| Column::left(format!("row {}", count(row + 1)))));
    let lines: Vec<_> = (0..model.columns.len())
        .map(|at| {
            let mut line = vec![(Look::Strong, model.columns[at].name.clone())];
            line.extend(rows.iter().map(|&row| cell(&blueprint.value(table, row, at), room)));
            line
        })
        .collect();
    page.table(&columns, &lines);
    page.blank();
    let columns = [
        Column::left("column"),
        Column::left("type").yielding(2),
        Column::right("null").yielding(1),
        Column::left("made"),
        Column::left("why"),
    ];
    let others = blueprint.other_shares(&project.schema, table);
    let type_of = |at: usize| match model.columns[at].form {
        ColumnForm::Plain => model.columns[at].kind.to_string(),
        other => format!("{} as text", form_name(other)),
    };
    let why = (0..model.columns.len()).map(|at| blueprint.way(table, at).why.chars().count()).max().unwrap_or(0);
    let made_room = width().saturating_sub(name + why + 4).max(24);
    let lines: Vec<_> = (0..model.columns.len())
        .map(|at| {
            let way: &Way = blueprint.way(table, at);
            let nulls = match others.iter().find(|other| other.column == at) {
                Some(other) => format!("{:.0} %", other.comes * 100.0),
                None if way.null_share == 0 => String::new(),
                None => format!("{} %", (way.null_share + 500) / 1000),
            };
            vec![
                (Look::Strong, model.columns[at].name.clone()),
                (Look::Quiet, type_of(at)),
                (Look::Plain, nulls),
                (Look::Plain, cut(&format!("{}{}", way.how, way.more), made_room)),
                (if way.why == "set" { Look::Good } else { Look::Quiet }, way.why.clone()),
            ]
        })
        .collect();
    page.table(&columns, &lines);
    page.blank();
    // What the table had no room for, whole, so that it can be copied.
    for at in 0..model.columns.len() {
        let way = blueprint.way(table, at);
        let how = format!("{}{}", way.how, way.more);
        if how.chars().count() > made_room {
            page.hung(&paint(Look::Strong, &shown(&model.columns[at].name)), &shown(&how), 2);
            page.blank();
        }
    }
    for other in &others {
        page.paragraph(&other_share_text(project, table, other), 0);
        page.blank();
    }
    if let Some(example) = (0..model.columns.len()).find(|&at| blueprint.way(table, at).is_recipe) {
        let way = blueprint.way(table, example);
        let null = if way.null_share == 0 { String::new() } else { format!(" or null {}%", way.null_share / 1000) };
        page.paragraph(
            &shown(&format!(
                "Recipes can be set under [values] in kampf.toml, like \"{}.{}\" = \"{}{null}\"",
                model.name, model.columns[example].name, way.how
            )),
            0,
        );
    }
    page.into_text()
}

/// That a column's nulls come more or less often than they were asked for, and why.
pub(crate) fn other_share_text(project: &Project, table: TableId, other: &OtherShare) -> String {
    let model = project.schema.table(table);
    let percent = |share: f64| format!("{:.0} %", share * 100.0);
    let (comes, asked) = (percent(other.comes), percent(other.asked));
    let check = other.check.as_ref().map_or_else(|| "the checks".to_owned(), |check| format!("the check `{}`", cut(check, 80)));
    let why = if other.comes > other.asked { "lets little else pass of what is made" } else { "lets few nulls pass" };
    let column = format!("{}.{}", model.name, model.columns[other.column].name);
    shown(&format!("`{column}` is null in {comes} of its rows and not in {asked}: {check} {why}"))
}

fn cell(value: &Value, room: usize) -> (Look, String) {
    match value {
        Value::Null => (Look::Quiet, "null".to_owned()),
        other => {
            let text = other.to_string().replace(char::is_control, " ");
            // Whole seconds are shown as such.
            let text = if let Value::Timestamp(_) = other { text.trim_end_matches(".000000") } else { &text };
            (Look::Plain, cut(text, room))
        }
    }
}

fn cut(text: &str, room: usize) -> String {
    if text.chars().count() <= room { text.to_owned() } else { text.chars().take(room.saturating_sub(1)).chain(['…']).collect() }
}

fn form_name(form: ColumnForm) -> String {
    match form {
        ColumnForm::Plain => "plain".to_owned(),
        ColumnForm::Array(of) => format!("array of {of}"),
        other => format!("{other:?}").to_lowercase(),
    }
}

fn json(project: &Project, table: TableId, rows: &[u64]) -> String {
    let model = project.schema.table(table);
    let blueprint = &project.blueprint;
    let others = blueprint.other_shares(&project.schema, table);
    let columns: Vec<serde_json::Value> = (0..model.columns.len())
        .map(|at| {
            let way = blueprint.way(table, at);
            let comes = others.iter().find(|other| other.column == at).map_or(f64::from(way.null_share) / 1000.0, |other| other.comes * 100.0);
            let values: Vec<serde_json::Value> = rows
                .iter()
                .map(|&row| match blueprint.value(table, row, at) {
                    Value::Null => serde_json::Value::Null,
                    other => other.to_string().into(),
                })
                .collect();
            serde_json::json!({
                "name": model.columns[at].name, "type": model.columns[at].kind.to_string(), "null_percent": f64::from(way.null_share) / 1000.0,
                "null_percent_made": comes,
                "made": way.how, "more": way.more.trim_start_matches(", "), "is_recipe": way.is_recipe, "why": way.why, "values": values,
            })
        })
        .collect();
    let document =
        serde_json::json!({ "table": model.name, "rows": blueprint.rows(table), "given": blueprint.given(table), "columns": columns });
    format!("{document:#}\n")
}
