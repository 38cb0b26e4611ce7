//! The table of a race: best first, bars against the best.

use kampf_contest::{How, Measure};
use kampf_verdict::Outcome;

use super::numbers::{behind, bytes, count, duration, interval};
use super::page::{Column, Page};
use super::require_text::miss_text;
use super::style::{Look, paint, quiet_words};
use crate::raced::{RacedContest, Shown};

/// Cells of the best contender's bar; a bar four times as long is the longest, and longer ones end in an arrow.
const BEST_CELLS: f64 = 3.0;
const MOST_CELLS: f64 = 12.0;

/// Counts that carry over to any language, and those that belong to Kampf's own layers.
const ANYWHERE: &str = "│ in any language";
const HERE: &str = "│ in this build";

/// The table and what belongs right under it.
pub(crate) fn race_table(page: &mut Page, contest: &RacedContest) {
    let mut columns = vec![
        Column::left("contender"),
        Column::left("a call takes").yielding(3),
        Column::right("median"),
        Column::right("behind"),
        Column::right("surely").yielding(4),
        Column::right("p95").yielding(8),
        Column::right("first call").yielding(9),
        Column::right("statements").group(ANYWHERE),
        Column::right("trips").yielding(6).group(ANYWHERE),
        Column::right("rows").group(ANYWHERE),
        Column::right("bytes").yielding(5).group(ANYWHERE),
        Column::right("on the wire").yielding(7).group(ANYWHERE),
        Column::right("held at most").group(HERE),
        Column::right("objects").yielding(7).group(HERE),
    ];
    let shown: Vec<Shown<'_>> = contest.contenders().filter(|one| one.placed.median.is_some()).collect();
    let best = shown.iter().filter_map(|one| one.placed.median).min_by(f64::total_cmp).unwrap_or(1.0);
    let mut rows: Vec<Vec<(Look, String)>> = shown.iter().map(|one| row(*one, contest, best)).collect();
    // Without a wire there is nothing to show of it.
    if let Some(at) = columns
        .iter()
        .position(|column| column.title == "on the wire")
        .filter(|_| shown.iter().all(|one| one.facts.measured.get(Measure::WireBytes).is_none()))
    {
        columns.remove(at);
        rows.iter_mut().for_each(|row| drop(row.remove(at)));
    }
    page.table(&columns, &rows);
    page.blank();
    legend(page, contest);
    for Shown { facts, placed, .. } in contest.contenders() {
        let misses: Vec<String> = placed.misses.iter().map(miss_text).collect();
        let (look, reason) = match &facts.fault {
            Some(fault) => (Look::Bad, fault.reason.clone()),
            None => (Look::Quiet, misses.join("; ")),
        };
        if !reason.is_empty() {
            page.paragraph(&format!("  {} {reason}", paint(look, &format!("{}:", facts.name))), 4);
        }
    }
}

fn row(contender: Shown<'_>, contest: &RacedContest, best: f64) -> Vec<(Look, String)> {
    let Shown { at, facts, placed, .. } = contender;
    let median = placed.median.unwrap_or(best);
    let leads = contest.verdict.leader == Some(at);
    let chosen = [contest.verdict.choose, contest.verdict.comfortable].contains(&Some(at));
    let out = matches!(placed.outcome, Outcome::Outclassed | Outcome::RuledOut | Outcome::Disagrees | Outcome::Failed);
    let look = if chosen {
        Look::Good
    } else if out {
        Look::Quiet
    } else {
        Look::Strong
    };
    let plain = if out { Look::Quiet } else { Look::Plain };
    let time = |nanos: Option<f64>| nanos.map_or_else(|| "-".to_owned(), duration);
    let number = |measure| facts.measured.get(measure).map_or_else(|| "-".to_owned(), count);
    let size = |measure| facts.measured.get(measure).map_or_else(|| "-".to_owned(), bytes);
    let against = placed.against.as_ref();
    let behind = match (placed.outcome, behind(against.map_or(median / best, |against| against.ratio.ratio))) {
        _ if leads => "best".to_owned(),
        (Outcome::Unresolved, behind) => format!("? {behind}"),
        (Outcome::Tied, behind) => format!("= {behind}"),
        (_, behind) => behind,
    };
    let sure = against.and_then(|against| against.ratio.interval).map(|sure| interval(sure.low, sure.high));
    let name = format!("{}{}", facts.name, if placed.trade_off { " ◆" } else { "" });
    vec![
        (look, name),
        (if out { Look::Quiet } else { Look::Bar }, bar(median / best)),
        (plain, duration(median)),
        (plain, behind),
        (Look::Quiet, sure.unwrap_or_else(|| "-".to_owned())),
        (Look::Quiet, time(placed.p95)),
        (Look::Quiet, time(facts.cold)),
        (plain, number(Measure::Statements)),
        (plain, number(Measure::RoundTrips)),
        (plain, number(Measure::Rows)),
        (plain, size(Measure::Bytes)),
        (plain, size(Measure::WireBytes)),
        (plain, size(Measure::HeapPeak)),
        (Look::Quiet, number(Measure::Objects)),
    ]
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

fn legend(page: &mut Page, contest: &RacedContest) {
    let has = |outcome| contest.contenders().any(|one| one.placed.outcome == outcome);
    let mut notes = vec!["Statements, trips, rows and bytes are the same in any language; time and memory are those of Kampf's compiled layers, and usually larger elsewhere.".to_owned()];
    let says = |measure, how| contest.contenders().any(|one| one.facts.measured.how(measure) == Some(how));
    if says(Measure::RoundTrips, How::Modelled) {
        notes.push("Trips are what a server would need; this engine has none.".to_owned());
    }
    if says(Measure::HeapPeak, How::Resident) {
        notes.push("For programs, memory is the growth of the whole process.".to_owned());
    }
    if has(Outcome::Unresolved) {
        notes.push("? cannot be told from the best with these rounds.".to_owned());
    }
    if has(Outcome::Tied) {
        notes.push(format!("= differs from the best by less than {}, surely.", super::numbers::percent(contest.facts.rules.margin)));
    }
    if contest.contenders().any(|one| one.placed.trade_off) {
        notes.push("◆ nobody beats it on time, memory and statements at once.".to_owned());
    }
    if has(Outcome::Outclassed) {
        notes.push("Faint ones were so far behind that they were not run to the end.".to_owned());
    }
    page.paragraph(&quiet_words(&notes.join(" ")), 0);
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
