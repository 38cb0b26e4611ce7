//! The verdict in sentences.

use kampf_contest::ByHand;

use super::numbers::{behind, count, duration};
use super::page::Page;
use super::style::{Look, paint};
use crate::document::{ContenderPart, ContestPart};
use crate::verdict::Verdict;

/// Nanoseconds of the round trip that the note under a verdict computes with.
const TRIP_NS: f64 = 0.5e6;

/// Says what to choose, and what it costs or saves.
pub(crate) fn verdict_text(page: &mut Page, contest: &ContestPart, verdict: &Verdict) {
    let contenders = &contest.contenders;
    let median = |contender: &ContenderPart| duration(contender.latency_ns.median.unwrap_or(0.0));
    let good = |contender: &ContenderPart| paint(Look::Good, &contender.name);
    match verdict.choose.map(|at| &contenders[at]) {
        None if verdict.required => {
            page.paragraph(&format!("{} What comes nearest:", paint(Look::Bad, "No contender meets the requirements.")), 0);
            verdict.nearest.iter().for_each(|nearest| page.paragraph(&format!("  {nearest}"), 4));
        }
        None => page.paragraph(&paint(Look::Bad, "Nothing could be raced."), 0),
        Some(chosen) if verdict.required => {
            let met = contenders.iter().filter(|contender| contender.latency_ns.median.is_some() && contender.reason.is_none()).count();
            page.paragraph(
                &format!(
                    "Choose {}: of {} it leaves you the least to do ({}), and takes {} a call.",
                    good(chosen),
                    if met > 1 { "those that meet the requirements" } else { "all contenders only it meets the requirements;" },
                    left_to_do(chosen.by_hand),
                    median(chosen)
                ),
                2,
            );
        }
        Some(chosen) if !verdict.alike.is_empty() => {
            let names: Vec<String> = verdict.alike.iter().map(|&at| paint(Look::Strong, &contenders[at].name)).collect();
            let others = if names.len() <= 3 { list(&names) } else { format!("the {} marked with ?", names.len()) };
            page.paragraph(
                &format!(
                    "Not decided in {}: {} leads with {}, but {others} cannot be told from it. Take any of them, or give it more time (--time).",
                    rounds(contest.race.rounds),
                    paint(Look::Strong, &chosen.name),
                    median(chosen),
                ),
                2,
            );
        }
        Some(chosen) => page.paragraph(&format!("Choose {}: {} a call, the fastest here.", good(chosen), median(chosen)), 2),
    }
    if let (Some(chosen), Some(comfortable)) = (verdict.choose, verdict.comfortable) {
        let (chosen, comfortable) = (&contenders[chosen], &contenders[comfortable]);
        let (fast, easy) = (chosen.latency_ns.median.unwrap_or(0.0), comfortable.latency_ns.median.unwrap_or(0.0));
        page.paragraph(
            &format!(
                "Or choose {}: it leaves you {} instead of {}, and takes {} more ({}).",
                good(comfortable),
                left_to_do(comfortable.by_hand),
                left_to_do(chosen.by_hand),
                duration(easy - fast),
                behind(comfortable.latency_ns.behind.unwrap_or(easy / fast))
            ),
            2,
        );
    }
    if !contest.conditions.contains_key("round_trip_ns") {
        trips(page, contest);
    }
}

/// What round trips would add on a server, where they were only modelled.
fn trips(page: &mut Page, contest: &ContestPart) {
    let modelled = contest.contenders.iter().filter(|contender| contender.counted.get("round_trips").is_some_and(|how| how == "modelled"));
    let mut kinds: Vec<(u64, Vec<&str>)> = Vec::new();
    for contender in modelled {
        let Some(trips) = contender.round_trips else { continue };
        match kinds.iter_mut().find(|(known, _)| *known == trips) {
            Some((_, names)) => names.push(&contender.name),
            None => kinds.push((trips, vec![&contender.name])),
        }
    }
    kinds.sort();
    if kinds.len() < 2 {
        return;
    }
    let parts = kinds.iter().map(|(trips, names)| {
        let who = if names.len() <= 2 { names.join(" and ") } else { format!("{} contenders", names.len()) };
        format!("{who} +{} ({} {})", duration(*trips as f64 * TRIP_NS), count(*trips), if *trips == 1 { "trip" } else { "trips" })
    });
    let text = parts.collect::<Vec<_>>().join(", ");
    page.paragraph(&format!("On a server the trips would add, computed, not measured, at {} each: {text}.", duration(TRIP_NS)), 2);
}

fn left_to_do(by_hand: Option<ByHand>) -> String {
    let plural = |number: usize, one: &str, many: &str| format!("{} {}", count(number as u64), if number == 1 { one } else { many });
    match by_hand {
        None => "a program".to_owned(),
        Some(ByHand { statements: 0, columns: 0, .. }) => "no SQL".to_owned(),
        Some(ByHand { statements: 0, columns, .. }) => format!("{} to list", plural(columns, "column", "columns")),
        Some(ByHand { statements, columns, characters }) => format!(
            "{} of {} with {} to map",
            plural(statements, "statement", "statements"),
            plural(characters, "character", "characters"),
            plural(columns, "column", "columns")
        ),
    }
}

fn rounds(rounds: usize) -> String {
    if rounds == 1 { "one round".to_owned() } else { format!("{rounds} rounds") }
}

fn list(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [head @ .., last] => format!("{} and {last}", head.join(", ")),
    }
}
