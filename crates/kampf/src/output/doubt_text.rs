//! `kampf fill --doubt`: what a person would not believe of the rows.

use kampf_doubt::{Doubt, MOST_ROWS, MOST_STEPS};
use kampf_schema::TableId;
use serde_json::json;

use super::{Look, Page, count, paint, print, print_json, shown};
use crate::arguments::{Format, General};
use crate::problem::Problem;
use crate::project::Project;

pub(crate) fn print_doubts(general: &General, project: &Project, doubts: &[Doubt]) -> Result<(), Problem> {
    match general.format {
        Format::Json => print_json(&json_of(project, doubts)),
        Format::Text => print(&text(project, doubts)),
    }
}

fn text(project: &Project, doubts: &[Doubt]) -> String {
    let mut page = Page::new();
    let tables = project.schema.tables.len();
    let (most, steps) = (count(MOST_ROWS as u64), count(MOST_STEPS as u64));
    let tables = format!("{tables} {}", if tables == 1 { "table" } else { "tables" });
    let of = format!("{tables} looked at, of each the first {most} rows at most, of a history {steps}.");
    if doubts.is_empty() {
        page.line(format!("{} {of}", paint(Look::Good, "Nothing to doubt.")));
        return page.into_text();
    }
    let doubts_text = format!("{} {}.", doubts.len(), if doubts.len() == 1 { "doubt" } else { "doubts" });
    page.line(format!("{} {of}", paint(Look::Title, &doubts_text)));
    let room = |text: fn(&Doubt) -> u64| doubts.iter().map(|doubt| count(text(doubt)).len()).max().unwrap_or(0);
    let (found, of) = (room(|doubt| doubt.found), room(|doubt| doubt.of));
    let mut last: Option<TableId> = None;
    for doubt in doubts {
        if last != Some(doubt.table) {
            page.blank();
            page.line(paint(Look::Strong, &shown(&project.schema.table(doubt.table).name)));
            last = Some(doubt.table);
        }
        let numbers = format!("  {:>found$} of {:>of$}", count(doubt.found), count(doubt.of));
        page.hung(&numbers, &shown(&doubt.what), numbers.chars().count() + 1);
        page.hung(&" ".repeat(numbers.chars().count()), &paint(Look::Quiet, &shown(&doubt.example)), numbers.chars().count() + 1);
    }
    page.blank();
    page.paragraph(
        "`kampf fill --preview TABLE` shows how a column is made and why; a line under [values] in kampf.toml says how else. A doubt goes by names: \
         what is meant as it is can stay.",
        0,
    );
    page.into_text()
}

fn json_of(project: &Project, doubts: &[Doubt]) -> String {
    let of = |doubt: &Doubt| {
        let table = project.schema.table(doubt.table);
        let columns: Vec<&str> = doubt.columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
        json!({
            "kind": doubt.kind.word(),
            "table": table.name,
            "columns": columns,
            "found": doubt.found,
            "of": doubt.of,
            "what": doubt.what,
            "example": doubt.example,
        })
    };
    format!("{:#}", json!({ "doubts": doubts.iter().map(of).collect::<Vec<_>>() }))
}
