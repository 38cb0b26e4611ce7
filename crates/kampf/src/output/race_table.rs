//! The table of a race: best first, bars against the best.

use super::numbers::{behind, bytes, count, duration, interval};
use super::page::{Column, Page};
use super::style::{Look, paint, quiet_words};
use crate::document::{ContenderPart, ContestPart, Outcome};

/// Cells of the best contender's bar; a bar four times as long is the longest, and longer ones end in an arrow.
const BEST_CELLS: f64 = 3.0;
const MOST_CELLS: f64 = 12.0;

/// Counts that carry over to any language, and those that belong to Kampf's own layers.
const ANYWHERE: &str = "│ in any language";
const HERE: &str = "│ in this build";

/// The table and what belongs right under it.
pub(crate) fn race_table(page: &mut Page, contest: &ContestPart) {
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
    let shown: Vec<&ContenderPart> = contest.contenders.iter().filter(|contender| contender.latency_ns.median.is_some()).collect();
    let best = shown.iter().filter_map(|contender| contender.latency_ns.median).min_by(f64::total_cmp).unwrap_or(1.0);
    let mut rows: Vec<Vec<(Look, String)>> = shown.iter().map(|contender| row(contender, contest, best)).collect();
    // Without a wire there is nothing to show of it.
    if let Some(at) =
        columns.iter().position(|column| column.title == "on the wire").filter(|_| shown.iter().all(|one| one.wire_bytes.is_none()))
    {
        columns.remove(at);
        rows.iter_mut().for_each(|row| drop(row.remove(at)));
    }
    page.table(&columns, &rows);
    page.blank();
    legend(page, contest);
    for contender in &contest.contenders {
        if let Some(reason) = &contender.reason {
            let look = if matches!(contender.outcome, Outcome::Disagrees | Outcome::Failed) { Look::Bad } else { Look::Quiet };
            page.paragraph(&format!("  {} {}", paint(look, &format!("{}:", contender.name)), reason), 4);
        }
    }
}

fn row(contender: &ContenderPart, contest: &ContestPart, best: f64) -> Vec<(Look, String)> {
    let latency = &contender.latency_ns;
    let median = latency.median.unwrap_or(best);
    let leads = contest.verdict.leader.as_ref() == Some(&contender.name);
    let chosen = [&contest.verdict.choose, &contest.verdict.comfortable].contains(&&Some(contender.name.clone()));
    let out = matches!(contender.outcome, Outcome::Outclassed | Outcome::RuledOut | Outcome::Disagrees | Outcome::Failed);
    let look = if chosen {
        Look::Good
    } else if out {
        Look::Quiet
    } else {
        Look::Strong
    };
    let plain = if out { Look::Quiet } else { Look::Plain };
    let time = |nanos: Option<f64>| nanos.map_or_else(|| "-".to_owned(), duration);
    let number = |number: Option<u64>| number.map_or_else(|| "-".to_owned(), count);
    let size = |number: Option<u64>| number.map_or_else(|| "-".to_owned(), bytes);
    let against = contender.against.as_ref();
    let behind = match (contender.outcome, behind(against.map_or(median / best, |against| against.ratio))) {
        _ if leads => "best".to_owned(),
        (Outcome::Unresolved, behind) => format!("? {behind}"),
        (Outcome::Tied, behind) => format!("= {behind}"),
        (_, behind) => behind,
    };
    let sure = against.and_then(|against| Some(interval(against.low?, against.high?)));
    let name = format!("{}{}", contender.name, if contender.trade_off { " ◆" } else { "" });
    vec![
        (look, name),
        (if out { Look::Quiet } else { Look::Bar }, bar(median / best)),
        (plain, duration(median)),
        (plain, behind),
        (Look::Quiet, sure.unwrap_or_else(|| "-".to_owned())),
        (Look::Quiet, time(latency.p95)),
        (Look::Quiet, time(latency.cold)),
        (plain, number(contender.statements)),
        (plain, number(contender.round_trips)),
        (plain, number(contender.rows)),
        (plain, size(contender.bytes)),
        (plain, size(contender.wire_bytes)),
        (plain, size(contender.heap_peak_bytes)),
        (Look::Quiet, number(contender.objects)),
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

fn legend(page: &mut Page, contest: &ContestPart) {
    let has = |outcome| contest.contenders.iter().any(|contender| contender.outcome == outcome);
    let mut notes = vec!["Statements, trips, rows and bytes are the same in any language; time and memory are those of Kampf's compiled layers, and usually larger elsewhere.".to_owned()];
    let says = |name: &str, how: &str| contest.contenders.iter().any(|contender| contender.counted.get(name).is_some_and(|way| way == how));
    if says("round_trips", "modelled") {
        notes.push("Trips are what a server would need; this engine has none.".to_owned());
    }
    if says("heap_peak_bytes", "resident") {
        notes.push("For programs, memory is the growth of the whole process.".to_owned());
    }
    if has(Outcome::Unresolved) {
        notes.push("? cannot be told from the best with these rounds.".to_owned());
    }
    if has(Outcome::Tied) {
        notes.push(format!("= differs from the best by less than {}, surely.", super::numbers::percent(contest.race.margin)));
    }
    if contest.contenders.iter().any(|contender| contender.trade_off) {
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
