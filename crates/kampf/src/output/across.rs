//! One contest under several circumstances side by side: where does the choice change?

use kampf_contest::Measure;
use kampf_result::numbers::duration;
use kampf_result::{Circumstance, RacedContest, Shown};
use kampf_verdict::Outcome;

use super::keys_text::keys_across;
use super::legend::legend;
use super::page::Page;
use super::style::{Look, paint, quiet_words};
use super::summary::{pair_text, summary};
use super::table::Column;

/// What is to be said of all contests together.
pub(crate) fn together(page: &mut Page, parts: &[RacedContest]) {
    if parts.iter().any(|part| part.facts.pair.is_some()) {
        return pair_text(page, parts);
    }
    side_by_side(page, parts);
    if parts.iter().any(|part| part.name != parts[0].name) {
        summary(page, parts);
    }
    legend(page, parts);
}

/// Contests that were raced under several circumstances, each in one table.
fn side_by_side(page: &mut Page, parts: &[RacedContest]) {
    let mut done: Vec<&str> = Vec::new();
    for part in parts {
        if done.contains(&part.name.as_str()) {
            continue;
        }
        done.push(&part.name);
        let of_contest: Vec<&RacedContest> = parts.iter().filter(|other| other.name == part.name).collect();
        let given: Vec<&Circumstance> = of_contest.iter().map(|one| &one.circumstance).collect();
        let columns: Vec<(String, &RacedContest)> = of_contest.iter().map(|one| (one.circumstance.label_among(&given), *one)).collect();
        if columns.len() > 1 {
            across(page, &part.name, &columns);
            page.blank();
        }
    }
}

/// A table of medians, a column per circumstance, and the choice under each.
fn across(page: &mut Page, name: &str, columns: &[(String, &RacedContest)]) {
    page.line(format!("{}  side by side", paint(Look::Title, name)));
    page.blank();
    let mut names: Vec<&str> = Vec::new();
    for (_, contest) in columns {
        for contender in contest.contenders() {
            if !names.contains(&contender.facts.name.as_str()) {
                names.push(&contender.facts.name);
            }
        }
    }
    let mut heads = vec![Column::left("contender"), Column::right("trips")];
    heads.extend(columns.iter().map(|(label, _)| Column::right(label.clone())));
    let rows: Vec<_> = names
        .iter()
        .map(|name| {
            let trips = columns.iter().find_map(|(_, contest)| contest.find(name)?.facts.measured.get(Measure::RoundTrips));
            let mut row =
                vec![(Look::Strong, (*name).to_owned()), (Look::Plain, trips.map_or_else(|| "-".to_owned(), kampf_result::numbers::count))];
            row.extend(columns.iter().map(|(_, contest)| match contest.find(name) {
                Some(contender) => cell(contest, contender),
                None => (Look::Quiet, "-".to_owned()),
            }));
            row
        })
        .collect();
    page.table(&heads, &rows);
    page.blank();
    page.paragraph(&quiet_words("Medians of a call; ◂ the choice, ? may be as fast as the fastest."), 0);
    for (label, contest) in columns {
        let verdict = &contest.verdict;
        let others = |others: usize| format!("{others} {} that may be as fast", if others == 1 { "other" } else { "others" });
        let alike = contest
            .contenders()
            .filter(|one| {
                one.placed.beside.is_none() && matches!(one.placed.outcome, Outcome::Tied | Outcome::NotFaster | Outcome::Unresolved)
            })
            .count();
        let choice = match (verdict.choose, verdict.leader) {
            (Some(at), _) => paint(Look::Good, contest.name_of(at)),
            (None, Some(at)) if verdict.requirements.is_none() => {
                format!("not decided: {}, or {}", paint(Look::Strong, contest.name_of(at)), others(alike))
            }
            (None, _) => paint(Look::Bad, "none"),
        };
        page.paragraph(&format!("  {label}: {choice}"), 4);
    }
    changes(page, columns);
    keys_across(page, columns);
}

/// Between which circumstances the choice is another: one that is neither chosen nor among those alike any more.
fn changes(page: &mut Page, columns: &[(String, &RacedContest)]) {
    for pair in columns.windows(2) {
        let ((before, old), (after, new)) = (&pair[0], &pair[1]);
        let (Some(was), Some(is)) = (old.verdict.choose, new.verdict.choose) else { continue };
        let (was, is) = (old.name_of(was), new.name_of(is));
        let among = |contest: &RacedContest, name: &str| {
            contest.find(name).is_some_and(|one| matches!(one.placed.outcome, Outcome::Standing | Outcome::Tied | Outcome::NotFaster))
        };
        if was != is && !among(new, was) && !among(old, is) {
            page.paragraph(&format!("The choice changes between {before} and {after}: {was} gives way to {is}."), 2);
        }
    }
}

fn cell(contest: &RacedContest, contender: Shown<'_>) -> (Look, String) {
    let chosen = contest.verdict.choose == Some(contender.at);
    let time = contender.placed.shown.map(duration);
    match (contender.placed.outcome, time) {
        (Outcome::Disagrees, _) => (Look::Bad, "differs".to_owned()),
        (Outcome::Failed, _) => (Look::Bad, "failed".to_owned()),
        (Outcome::NotBelieved, _) => (Look::Bad, "not believed".to_owned()),
        (_, None) => (Look::Quiet, "-".to_owned()),
        (_, Some(time)) if chosen => (Look::Good, format!("{time} ◂")),
        (Outcome::Unresolved, Some(time)) if contender.placed.beside.is_none() => (Look::Plain, format!("{time} ?")),
        (Outcome::Outclassed | Outcome::RuledOut, Some(time)) => (Look::Quiet, format!("{time}  ")),
        (_, Some(time)) => (Look::Plain, format!("{time}  ")),
    }
}
