//! The table of a race, by how far each is behind.

use kampf_contest::{How, Measure};
use kampf_result::numbers::{behind, duration, interval, quantity};
use kampf_result::{ContestKind, RacedContest, Shown};
use kampf_result::{miss_text, reading};
use kampf_verdict::{FaultKind, Keeps, Outcome, Reading, Required, RunsBeside};

use super::out::one_line;
use super::page::Page;
use super::style::{Look, paint};
use super::table::{Column, shown_columns};

/// Cells of the best contender's bar; a bar four times as long is the longest, and longer ones end in an arrow.
const BEST_CELLS: f64 = 3.0;
const MOST_CELLS: f64 = 12.0;

/// Counts that carry over to any language, and those that belong to Kampf's own layers.
const ANYWHERE: &str = "│ in any language";
const HERE: &str = "│ in this build";

/// Behind what is a program's word, or the growth of its process.
pub(super) const SAID: &str = "°";

/// A cell's text and look.
type Cell = (Look, String);

/// A column with what it shows of a contender.
struct Shows<'a> {
    column: Column,
    cell: Box<dyn Fn(Shown<'_>) -> Cell + 'a>,
}

/// The table, and below it why somebody is not in it, or not to be chosen.
pub(crate) fn race_table(page: &mut Page, contest: &RacedContest) {
    let (columns, rows) = cells(contest);
    if !rows.is_empty() {
        page.table(&columns, &rows);
    }
    for Shown { facts, placed, .. } in contest.contenders() {
        let misses: Vec<String> = placed.readings.iter().filter(|reading| reading.keeps == Keeps::No).map(miss_text).collect();
        let (look, reason) = match &facts.fault {
            Some(fault) if fault.kind == FaultKind::NotBelieved => (Look::Bad, format!("not believed, as {}", one_line(&fault.reason))),
            Some(fault) => (Look::Bad, one_line(&fault.reason)),
            None => (Look::Quiet, misses.join("; ")),
        };
        if !reason.is_empty() {
            page.paragraph(&format!("  {} {reason}", paint(look, &format!("{}:", facts.name))), 4);
        }
    }
}

/// The columns for which there is room, by their titles.
pub(super) fn titles(contest: &RacedContest) -> Vec<String> {
    let (columns, rows) = cells(contest);
    if rows.is_empty() {
        return Vec::new();
    }
    shown_columns(&columns, &rows).into_iter().map(|at| columns[at].title.clone()).collect()
}

/// All columns, and a row for each contender that there is something to show of.
fn cells(contest: &RacedContest) -> (Vec<Column>, Vec<Vec<Cell>>) {
    let shown: Vec<Shown<'_>> = contest.contenders().filter(|one| one.placed.shown.is_some()).collect();
    let columns = columns(contest, &shown);
    let rows = shown.iter().map(|one| columns.iter().map(|shows| (shows.cell)(*one)).collect()).collect();
    (columns.into_iter().map(|shows| shows.column).collect(), rows)
}

fn columns<'a>(contest: &'a RacedContest, shown: &[Shown<'_>]) -> Vec<Shows<'a>> {
    let shows = |column, cell: Box<dyn Fn(Shown<'_>) -> Cell + 'a>| Shows { column, cell };
    let mut columns = vec![
        shows(Column::left("contender"), Box::new(|one| name(contest, one))),
        shows(Column::left("").yielding(5), Box::new(bar_cell)),
        shows(
            Column::right("a call takes").yielding(1),
            Box::new(|one| (plain(one), one.placed.shown.map_or_else(|| "-".to_owned(), duration))),
        ),
        shows(Column::right("behind").yielding(2), Box::new(|one| (plain(one), behind_text(contest, one)))),
        shows(Column::left("stands"), Box::new(|one| (plain(one), stands(one).to_owned()))),
        shows(Column::right("surely").yielding(6), Box::new(|one| (Look::Quiet, surely(contest, one)))),
    ];
    let required: Vec<Required> = contest.facts.require.limits().map(|(required, _)| required).collect();
    let times = [
        (Required::P95, 11, Box::new(|one: Shown<'_>| one.placed.p95) as Box<dyn Fn(Shown<'_>) -> Option<f64>>),
        (Required::FirstCall, 12, Box::new(|one: Shown<'_>| one.facts.cold)),
        (Required::Median, 13, Box::new(|one: Shown<'_>| one.placed.median)),
    ];
    for (time, yields, of) in times {
        if required.contains(&time) {
            columns.push(shows(Column::right(time.word()), Box::new(move |one| required_cell(one, time))));
        } else if time != Required::Median {
            let cell = move |one: Shown<'_>| (Look::Quiet, of(one).map_or_else(|| "-".to_owned(), duration));
            columns.push(shows(Column::right(time.word()).yielding(yields), Box::new(cell)));
        }
    }
    for measure in Measure::ALL {
        let entry = measure.entry();
        let numbers = || shown.iter().filter_map(|one| one.facts.measured.get(measure));
        // Who only writes gets no rows.
        let is_known = numbers().next().is_some() && (contest.kind == ContestKind::Read || numbers().any(|number| number > 0));
        let Some(title) = entry.column.filter(|_| is_known) else { continue };
        let group = if entry.travels { ANYWHERE } else { HERE };
        if required.contains(&Required::Count(measure)) {
            let cell = Box::new(move |one: Shown<'_>| required_cell(one, Required::Count(measure)));
            columns.push(shows(Column::right(title).group(group), cell));
        } else {
            let look = if entry.yields > 9 { Look::Quiet } else { Look::Plain };
            let cell = move |one: Shown<'_>| (if is_out(one) { Look::Quiet } else { look }, number(one, measure));
            columns.push(shows(Column::right(title).yielding(entry.yields + 3).group(group), Box::new(cell)));
        }
    }
    columns
}

fn name(contest: &RacedContest, Shown { at, facts, placed, .. }: Shown<'_>) -> Cell {
    let look = match placed.outcome {
        _ if contest.verdict.choose == Some(at) => Look::Good,
        outcome if outcome.is_fault() || matches!(outcome, Outcome::Outclassed | Outcome::RuledOut) => Look::Quiet,
        _ if placed.beside.is_some() => Look::Quiet,
        _ => Look::Strong,
    };
    (look, format!("{}{}", facts.name, if placed.trade_off { " ◆" } else { "" }))
}

/// Whether a contender is shown faintly: it is out, or not to be chosen.
fn is_out(one: Shown<'_>) -> bool {
    let outcome = one.placed.outcome;
    outcome.is_fault() || matches!(outcome, Outcome::Outclassed | Outcome::RuledOut) || one.placed.beside.is_some()
}

fn plain(one: Shown<'_>) -> Look {
    if is_out(one) { Look::Quiet } else { Look::Plain }
}

fn bar_cell(one: Shown<'_>) -> Cell {
    let ratio = one.placed.behind.map_or(1.0, |behind| behind.ratio);
    (if is_out(one) { Look::Quiet } else { Look::Bar }, bar(ratio))
}

fn behind_text(contest: &RacedContest, one: Shown<'_>) -> String {
    match one.placed.behind {
        _ if contest.verdict.fastest == Some(one.at) => if counts_from_base(contest) { "base" } else { "best" }.to_owned(),
        Some(ratio) => behind(ratio.ratio),
        None => "-".to_owned(),
    }
}

/// Whether the one from which the others count is out, or somebody may be faster, so that it is not the best.
pub(crate) fn counts_from_base(contest: &RacedContest) -> bool {
    let verdict = &contest.verdict;
    verdict.fastest.is_some() && (verdict.leader != verdict.fastest || !is_best(contest))
}

/// Whether nobody who may be chosen takes less in the rounds that there were.
fn is_best(contest: &RacedContest) -> bool {
    let takes_less = |one: &Shown<'_>| one.placed.behind.is_some_and(|behind| behind.ratio < 1.0);
    !contest.contenders().any(|one| one.facts.is_eligible() && one.placed.beside.is_none() && takes_less(&one))
}

/// How a contender stands, in a word.
pub(crate) fn stands(Shown { placed, .. }: Shown<'_>) -> &'static str {
    match (placed.outcome, placed.beside) {
        (Outcome::Disagrees, _) => "differs",
        (Outcome::Failed, _) => "failed",
        (Outcome::NotBelieved, _) => "not believed",
        (_, Some(RunsBeside::Floor)) => "floor",
        (_, Some(RunsBeside::Stale)) => "not fresh",
        (_, Some(RunsBeside::RuledOut)) | (Outcome::RuledOut, _) => "ruled out",
        (Outcome::Standing, _) => "leads",
        (Outcome::Tied, _) => "tied",
        (Outcome::NotFaster, _) => "not faster",
        (Outcome::Faster, _) => "faster",
        (Outcome::Slower, _) => "slower",
        (Outcome::Outclassed, _) => "outclassed",
        (Outcome::Unresolved, _) => "open",
    }
}

fn surely(contest: &RacedContest, one: Shown<'_>) -> String {
    let ratio = one.placed.behind.filter(|_| contest.verdict.fastest != Some(one.at));
    ratio.and_then(|ratio| ratio.interval).map_or_else(|| "-".to_owned(), |sure| interval(sure.low, sure.high))
}

/// What a contender has of something that is required, and whether that is enough.
fn required_cell(one: Shown<'_>, required: Required) -> Cell {
    match one.placed.readings.iter().find(|reading| reading.required == required) {
        Some(Reading { has, keeps, .. }) => {
            let text = has.map_or_else(|| "-".to_owned(), |has| reading(required, has));
            match keeps {
                Keeps::Yes => (Look::Good, text),
                Keeps::Provisional => (Look::Plain, format!("{text} ?")),
                Keeps::No => (Look::Bad, text),
            }
        }
        None => (Look::Quiet, "-".to_owned()),
    }
}

/// From this ratio on it is said how far calls with different parameters differ in what varies a little anyway.
const APART: f64 = 1.1;

/// A count: of calls with several parameter sets the mean, or where they differ the least and the most; marked where it is a program's
/// word.
fn number(one: Shown<'_>, measure: Measure) -> String {
    let say = |value| quantity(measure.entry().unit, value);
    let Some(counted) = one.facts.measured.counted(measure) else { return "-".to_owned() };
    let differs = if measure.is_exact() { counted.differs() } else { counted.most as f64 > APART * counted.least as f64 };
    let (least, most) = (say(counted.least), say(counted.most));
    let text = match least.split_once(' ').zip(most.split_once(' ')) {
        _ if !differs || least == most => say(counted.mean.round() as u64),
        Some(((number, unit), (_, same))) if unit == same => format!("{number}-{most}"),
        _ => format!("{least}-{most}"),
    };
    if matches!(counted.how, How::Reported | How::Resident) { format!("{text}{SAID}") } else { text }
}

fn bar(ratio: f64) -> String {
    let cells = ratio * BEST_CELLS;
    if cells > MOST_CELLS {
        return format!("{}▶", "█".repeat(MOST_CELLS as usize - 1));
    }
    let eighths = (cells * 8.0).round() as usize;
    let rest = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"][eighths % 8];
    format!("{}{rest}", "█".repeat(eighths / 8))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_grow_with_the_ratio_and_end_in_an_arrow() {
        assert_eq!([1.0, 1.5, 1.05, 4.0].map(bar), ["███", "████▌", "███▏", "████████████"]);
        assert_eq!(bar(5.0), "███████████▶");
    }
}
