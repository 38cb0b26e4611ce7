//! Several contests in one table, and races of two in one of differences.

use kampf_result::RacedContest;
use kampf_result::numbers::{behind, count, duration, interval, percent};
use kampf_verdict::{End, PairFinding, Requirements};

use super::page::Page;
use super::style::{Look, paint, quiet_words};
use super::table::Column;

/// What came of each contest, in a line.
pub(crate) fn summary(page: &mut Page, contests: &[RacedContest]) {
    let columns = [
        Column::left("contest"),
        Column::left("take"),
        Column::right("a call"),
        Column::right("the fastest").yielding(2),
        Column::right("rounds").yielding(4),
        Column::right("time").yielding(3),
        Column::left("end").yielding(1),
    ];
    let rows: Vec<_> = contests.iter().map(row).collect();
    page.line(format!("{}  {} contests", paint(Look::Title, "Together"), count(contests.len() as u64)));
    page.table(&columns, &rows);
    page.blank();
}

fn row(contest: &RacedContest) -> Vec<(Look, String)> {
    let verdict = &contest.verdict;
    let time = |at: Option<usize>| at.and_then(|at| verdict.placed[at].shown).map_or_else(|| "-".to_owned(), duration);
    let take = match (verdict.choose, verdict.leader) {
        (Some(at), _) => (Look::Good, contest.name_of(at).to_owned()),
        (None, Some(at)) if verdict.requirements.is_none() => (Look::Quiet, format!("{} leads", contest.name_of(at))),
        (None, _) => (Look::Bad, "none".to_owned()),
    };
    let fastest = verdict.choose.and_then(|at| verdict.placed[at].behind).filter(|_| verdict.choose != verdict.fastest);
    vec![
        (Look::Strong, contest.name.clone()),
        take,
        (Look::Plain, time(verdict.choose.or(verdict.leader).or(verdict.fastest))),
        (Look::Plain, fastest.map_or_else(|| "-".to_owned(), |ratio| behind(1.0 / ratio.ratio))),
        (Look::Quiet, count(contest.facts.rounds as u64)),
        (Look::Quiet, format!("{:.1} s", contest.course.seconds)),
        end(contest),
    ]
}

/// How a contest ended, in a few words.
fn end(contest: &RacedContest) -> (Look, String) {
    let gate = contest.verdict.requirements.as_ref().map(|requirements| match requirements {
        Requirements::Met { .. } => Gate::Met,
        Requirements::Provisional { .. } => Gate::Provisional,
        Requirements::Missed { .. } => Gate::Missed,
    });
    end_words(gate, contest.verdict.end, contest.course.interrupted)
}

/// What came of requirements.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Gate {
    Met,
    Provisional,
    Missed,
}

/// An end in a few words.
pub(crate) fn end_words(gate: Option<Gate>, end: End, interrupted: bool) -> (Look, String) {
    let interrupted = if interrupted { ", interrupted" } else { "" };
    let (look, words) = match (gate, end) {
        (_, End::Nothing) => (Look::Bad, "nothing could be raced"),
        (Some(Gate::Missed), _) => (Look::Bad, "requirements missed"),
        (Some(Gate::Provisional), _) => (Look::Bad, "provisional"),
        (Some(Gate::Met), _) => (Look::Good, "requirements met"),
        (None, End::Alone) => (Look::Plain, "alone"),
        (None, End::Decided) => (Look::Good, "decided"),
        (None, End::Enough) => (Look::Good, "known well enough"),
        (None, End::Open) => (Look::Bad, "not decided"),
    };
    (look, format!("{words}{interrupted}"))
}

/// Two contenders against each other, over one contest or many.
pub(crate) fn pair_text(page: &mut Page, contests: &[RacedContest]) {
    let Some((old, new)) =
        contests.iter().find_map(|contest| contest.facts.pair.map(|(old, new)| (contest.name_of(old), contest.name_of(new))))
    else {
        return;
    };
    page.line(format!("{}  against {}", paint(Look::Title, new), paint(Look::Strong, old)));
    page.blank();
    let columns = [
        Column::left("contest"),
        Column::right(old).yielding(3),
        Column::right(new).yielding(2),
        Column::right("difference"),
        Column::right("surely").yielding(1),
        Column::left("it is"),
        Column::right("rounds").yielding(4),
    ];
    let rows: Vec<_> = contests.iter().map(pair_row).collect();
    page.table(&columns, &rows);
    page.blank();
    let margin = contests.first().map_or(0.0, |contest| contest.facts.settings.margin);
    let found =
        |finding: PairFinding| contests.iter().filter(|contest| contest.verdict.pair.is_some_and(|pair| pair.finding == finding)).count();
    let contests_word = |number: usize| format!("{number} {}", if number == 1 { "contest" } else { "contests" });
    let kinds =
        [(PairFinding::Slower, "slower"), (PairFinding::Faster, "faster"), (PairFinding::Same, "the same"), (PairFinding::Open, "open")];
    let said: Vec<String> = kinds
        .into_iter()
        .filter(|(finding, _)| found(*finding) > 0)
        .map(|(finding, word)| format!("{word} in {}", contests_word(found(finding))))
        .collect();
    page.paragraph(&format!("{} is {}.", paint(Look::Strong, new), said.join(", ")), 2);
    let legend = format!(
        "Slower or faster: surely, and by more than {0}. The same: surely within {0}. Open: the rounds do not say.",
        percent(margin)
    );
    page.paragraph(&quiet_words(&legend), 0);
}

fn pair_row(contest: &RacedContest) -> Vec<(Look, String)> {
    let time = |at: usize| contest.verdict.placed[at].shown.map_or_else(|| "-".to_owned(), duration);
    let (old, new) = contest.facts.pair.map_or_else(|| ("-".to_owned(), "-".to_owned()), |(old, new)| (time(old), time(new)));
    let pair = contest.verdict.pair;
    let ratio = pair.and_then(|pair| pair.ratio);
    let (look, word) = match pair.map(|pair| pair.finding) {
        Some(PairFinding::Slower) => (Look::Bad, "slower"),
        Some(PairFinding::Faster) => (Look::Good, "faster"),
        Some(PairFinding::Same) => (Look::Plain, "the same"),
        Some(PairFinding::Open) | None => (Look::Quiet, "open"),
    };
    let failed = contest.contenders().find_map(|one| one.facts.fault.as_ref().map(|_| one.facts.name.clone()));
    let (look, word) = failed.map_or((look, word.to_owned()), |name| (Look::Bad, format!("open: {name} fails")));
    vec![
        (Look::Strong, contest.name.clone()),
        (Look::Plain, old),
        (Look::Plain, new),
        (look, ratio.map_or_else(|| "-".to_owned(), |ratio| behind(ratio.ratio))),
        (Look::Quiet, ratio.and_then(|ratio| ratio.interval).map_or_else(|| "-".to_owned(), |sure| interval(sure.low, sure.high))),
        (look, word),
        (Look::Quiet, count(contest.facts.rounds as u64)),
    ]
}
