//! What reading in portions is good for, in a table.

use kampf_contest::{Choice, Measure};
use kampf_result::numbers::{bytes, count, duration};
use kampf_result::{RacedContest, Shown};
use kampf_verdict::{FetchWorth, Required};

use super::page::Page;
use super::style::width;
use super::style::{Look, paint};
use super::table::Column;

/// Cells of a picture at most, and at least where there is little room.
const CELLS: usize = 32;
const FEWEST_CELLS: usize = 12;
/// Columns of the terminal that stand beside the picture.
const BESIDE: usize = 60;

/// The ways of fetching that were raced with everything else the same, each with the memory it held over the rows that were read.
pub(crate) fn fetch_text(page: &mut Page, contest: &RacedContest) {
    let Some(worth) = &contest.verdict.worth.fetch else { return };
    let FetchWorth { rows, most, .. } = *worth;
    let cells = width().saturating_sub(BESIDE).clamp(FEWEST_CELLS, CELLS);
    page.blank();
    page.line(paint(Look::Title, "Fetch"));
    let a_cell = count(rows.div_ceil(cells as u64));
    page.paragraph(&format!("  Memory held while {} rows are read, a bar for each {a_cell} of them:", count(rows)), 2);
    let columns = [
        Column::left("  fetch"),
        Column::left("memory over rows"),
        Column::right("held at most"),
        Column::right("a call takes"),
        Column::right("statements"),
        Column::right("trips"),
    ];
    let lines: Vec<Vec<(Look, String)>> = worth
        .contenders
        .iter()
        .map(|&at| {
            let one = contest.contender(at);
            let number = |measure| one.facts.measured.get(measure);
            let text = |known: Option<u64>, say: fn(u64) -> String| known.map_or_else(|| "-".to_owned(), say);
            vec![
                (Look::Strong, format!("  {}", option(one))),
                (Look::Bar, picture(&one.facts.held, rows, most, cells)),
                (Look::Plain, text(number(Measure::HeapPeak), bytes)),
                (Look::Plain, one.placed.shown.map_or_else(|| "-".to_owned(), duration)),
                (Look::Plain, text(number(Measure::Statements), count)),
                (Look::Plain, text(number(Measure::RoundTrips), count)),
            ]
        })
        .collect();
    page.table(&columns, &lines);
    if let Some(text) = fits(contest, worth) {
        page.paragraph(&format!("  {text}"), 2);
    }
}

fn option(one: Shown<'_>) -> String {
    one.facts.choices.and_then(|choices| choices.of(Choice::Fetch)).map(|option| option.to_string()).unwrap_or_default()
}

/// A bar for each so many rows: how much was held of the most that anybody held.
fn picture(held: &[(u64, u64)], rows: u64, most: u64, cells: usize) -> String {
    const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let mut highest = vec![None::<u64>; cells];
    for &(row, bytes) in held {
        let cell = ((row.saturating_sub(1)) as usize * cells / rows.max(1) as usize).min(cells - 1);
        highest[cell] = highest[cell].max(Some(bytes));
    }
    // Where no row was looked at it is as it was before.
    let mut last = 0;
    let bar = |bytes: Option<u64>| {
        last = bytes.unwrap_or(last);
        let eighth = (last as f64 / most as f64 * BARS.len() as f64).ceil() as usize;
        BARS[eighth.clamp(1, BARS.len()) - 1]
    };
    highest.into_iter().map(bar).collect()
}

/// At how many rows an answer that is read whole no longer fits what is required, or how much it holds a row.
fn fits(contest: &RacedContest, worth: &FetchWorth) -> Option<String> {
    let each = format!("Read whole, a row of the answer holds {}", bytes(worth.row_bytes?.round() as u64));
    let limit = contest.facts.require.limit(Required::Count(Measure::HeapPeak));
    Some(match limit.zip(worth.fitting) {
        Some((limit, fitting)) => {
            let (limit, fitting_text) = (bytes(limit as u64), count(fitting));
            let answer = worth.contenders.first().and_then(|&whole| contest.facts.contenders[whole].answer_rows).unwrap_or(0);
            let verb = if answer > fitting { "no more than about" } else { "up to about" };
            format!("{each}: {verb} {fitting_text} rows fit the {limit} that are allowed.")
        }
        None => format!("{each}; read in portions, an answer holds what a portion needs, however many rows there are."),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_picture_shows_what_was_held_over_the_rows() {
        let growing: Vec<(u64, u64)> = (0..8).map(|at| (1 + at * 10, 100 * (at + 1))).collect();
        assert_eq!(picture(&growing, 80, 800, 8), "▁▂▃▄▅▆▇█");
        assert_eq!(picture(&[(1, 100), (41, 100)], 80, 800, 4), "▁▁▁▁");
        assert_eq!(picture(&[], 80, 800, 2), "▁▁");
    }
}
