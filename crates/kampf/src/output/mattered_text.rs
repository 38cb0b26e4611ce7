//! What the choices did, as a table of steps.

use kampf_contest::{Measure, Opt};
use kampf_result::numbers::{behind, bytes, count, duration, interval, share};
use kampf_result::{RacedContest, Shown};
use kampf_verdict::{OptionChange, Step};

use super::page::Page;
use super::style::{Look, paint};
use super::table::Column;

/// The ladder from the most naive contender to the one to take.
pub(crate) fn mattered_text(page: &mut Page, part: &RacedContest) {
    let steps = &part.verdict.ladder;
    let (Some(first), Some(last)) = (steps.first(), steps.last()) else { return };
    page.blank();
    page.paragraph(
        &format!(
            "What mattered, from {} to {}, each time by what gains most of what is left:",
            paint(Look::Strong, part.name_of(first.from)),
            paint(Look::Strong, part.name_of(last.to))
        ),
        2,
    );
    let columns = [
        Column::left("  choice"),
        Column::left(""),
        Column::right("a call takes"),
        Column::right("gain").yielding(1),
        Column::left("").yielding(2),
        Column::right("statements").yielding(3),
        Column::right("rows").yielding(5),
        Column::right("objects").yielding(6),
        Column::right("held at most").yielding(4),
    ];
    let rows: Vec<_> = steps.iter().flat_map(|step| step_rows(part, step, columns.len())).collect();
    page.table(&columns, &rows);
}

fn option(option: Option<Opt>) -> String {
    option.map_or_else(|| "-".to_owned(), |option| option.to_string())
}

/// The rows of a step: the first change with what came of all, the others below it.
fn step_rows(part: &RacedContest, step: &Step, columns: usize) -> Vec<Vec<(Look, String)>> {
    let (from, to) = (part.contender(step.from), part.contender(step.to));
    let (look, gain, how) = gain(step, part.facts.settings.margin);
    let has = |one: Shown<'_>, measure| one.facts.measured.get(measure);
    let number = |measure: Measure, say: fn(u64) -> String| match (has(from, measure), has(to, measure)) {
        (Some(before), Some(after)) if say(before) == say(after) => (Look::Quiet, "same".to_owned()),
        (Some(before), Some(after)) => (Look::Plain, format!("{} → {}", say(before), say(after))),
        _ => (Look::Quiet, "-".to_owned()),
    };
    let figures = vec![
        (Look::Plain, format!("{} → {}", duration(step.before_ns), duration(step.after_ns))),
        (look, gain),
        (Look::Quiet, how),
        number(Measure::Statements, count),
        number(Measure::Rows, count),
        number(Measure::Objects, count),
        number(Measure::HeapPeak, bytes),
    ];
    let mut figures = Some(figures);
    let row = |change: &OptionChange| {
        let mut row = vec![
            (Look::Strong, format!("  {}", change.choice.word())),
            (Look::Plain, format!("{} → {}", option(change.before), option(change.after))),
        ];
        row.extend(figures.take().unwrap_or_else(|| vec![(Look::Plain, String::new()); columns - 2]));
        row
    };
    step.changes.iter().map(row).collect()
}

/// What a step gains, absolute and relative, and how sure that is.
fn gain(step: &Step, margin: f64) -> (Look, String, String) {
    // From the ratio within rounds, so that what the machine did meanwhile is not in it.
    let (ratio, moved) = (step.ratio.ratio, step.before_ns * (step.ratio.ratio - 1.0));
    let absolute = format!("{}{}", if moved < 0.0 { "-" } else { "+" }, duration(moved.abs()));
    match step.ratio.interval.map(|sure| (sure.low, sure.high)) {
        Some((low, high)) if low > 1.0 / (1.0 + margin) && high < 1.0 + margin => {
            (Look::Quiet, "nothing".to_owned(), format!("({} at most)", share((high - 1.0).max(1.0 - low)).trim_start_matches('+')))
        }
        Some((low, high)) if low <= 1.0 && high >= 1.0 => (Look::Quiet, "cannot be told".to_owned(), format!("({})", interval(low, high))),
        Some((low, high)) => {
            let look = if moved < 0.0 { Look::Good } else { Look::Bad };
            (look, absolute, format!("{} ({})", behind(ratio), interval(low, high)))
        }
        None => (Look::Plain, absolute, format!("about {}", behind(ratio))),
    }
}
