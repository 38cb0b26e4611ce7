//! What `kampf new` guessed of how rows hang together.

use kampf_fill::Guesses;
use kampf_schema::{ColumnId, TableId};

use super::{Page, shown};
use crate::project::Project;

/// Lives that are told of; of more it is only said how many there are.
const LIVES: usize = 4;

/// A few lines, so that a person sees what to correct; none where nothing was guessed.
pub(crate) fn guesses_text(project: &Project, guesses: &Guesses) -> Option<String> {
    let name = |table: TableId| project.schema.table(table).name.as_str();
    let column = |table: TableId, at: ColumnId| project.schema.table(table).columns[at].name.as_str();
    let tenants = guesses.tenants.iter().map(|(tenant, tables)| {
        let tables: Vec<&str> = tables.iter().map(|&table| name(table)).collect();
        format!("{} (in {})", name(*tenant), tables.join(", "))
    });
    let histories = guesses.histories.iter().map(|&(steps, of)| format!("{} of {}", name(steps), name(of)));
    let answers = guesses
        .answers
        .iter()
        .map(|&(table, by, thing)| format!("{}.{} to one of the same {}", name(table), column(table, by), name(thing)));
    let lives = guesses.lives.iter().map(|(table, life)| {
        let times: Vec<&str> = life.iter().map(|&at| column(*table, at)).collect();
        format!("{} ({})", name(*table), times.join(", "))
    });
    let mut lives: Vec<String> = lives.collect();
    // The longest tell most.
    lives.sort_by_key(|life| std::cmp::Reverse(life.matches(", ").count()));
    let more = lives.len().saturating_sub(LIVES);
    lives.truncate(LIVES);
    if more > 0 {
        lives.push(format!("and {more} more"));
    }
    let kinds: [(&str, Vec<String>); 4] = [
        ("rows refer to rows of the same", tenants.collect()),
        ("steps that end in their row's state", histories.collect()),
        ("answers", answers.collect()),
        ("times in order", lives),
    ];
    if kinds.iter().all(|(_, found)| found.is_empty()) {
        return None;
    }
    let mut page = Page::new();
    page.line("guessed of how rows hang together:");
    for (what, found) in kinds.iter().filter(|(_, found)| !found.is_empty()) {
        page.hung(&format!("  {what}:"), &shown(&found.join("; ")), 4);
    }
    page.paragraph(
        "`kampf fill --preview TABLE` shows each with its recipe, `kampf fill --doubt` what a person would not believe of the rows; a line under \
         [values] in kampf.toml says otherwise",
        0,
    );
    Some(page.into_text())
}
