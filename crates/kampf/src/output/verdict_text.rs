//! The verdict in sentences.

use kampf_contest::{ByHand, How, Measure};
use kampf_verdict::{Forecast, Outcome};

use super::numbers::{about, behind, count, duration, percent, wait};
use super::page::Page;
use super::require_text::nearest_text;
use super::style::{Look, paint};
use crate::raced::{RacedContest, Shown};

/// Nanoseconds of the round trip that the note under a verdict computes with.
const TRIP_NS: f64 = 0.5e6;
/// A forecast that takes longer is not one to wait for.
const PATIENCE: f64 = 1800.0;
/// Contenders that may differ by more than this are not to be taken one for the other.
const CLOSE: f64 = 0.25;
/// Noise of one run from which on a small margin is too much to ask.
const NOISY: f64 = 0.05;

/// Says what to choose, and what it costs or saves.
pub(crate) fn verdict_text(page: &mut Page, contest: &RacedContest) {
    let verdict = &contest.verdict;
    let chosen = verdict.choose.map(|at| contest.contender(at));
    let eligible = contest.contenders().any(|one| one.facts.is_eligible());
    match (chosen, verdict.requirements_met) {
        _ if !eligible => page.paragraph(&paint(Look::Bad, "Nothing could be raced."), 0),
        (None, Some(_)) => {
            page.paragraph(&format!("{} What comes nearest:", paint(Look::Bad, "No contender meets the requirements.")), 0);
            verdict
                .nearest
                .iter()
                .for_each(|nearest| page.paragraph(&format!("  {}", nearest_text(nearest, contest.name_of(nearest.contender))), 4));
        }
        (None, None) => undecided(page, contest),
        (Some(chosen), Some(_)) => required(page, contest, chosen),
        (Some(chosen), None) if contest.contenders().any(|one| one.placed.outcome == Outcome::Tied) => tied(page, contest, chosen),
        (Some(chosen), None) => fastest(page, contest, chosen),
    }
    if let (Some(chosen), Some(easy)) = (chosen, verdict.comfortable.map(|at| contest.contender(at))) {
        comfortable(page, chosen, easy);
    }
    moving(page, contest);
    if contest.conditions.round_trip_ns.is_none() {
        trips(page, contest);
    }
}

fn median(contender: Shown<'_>) -> String {
    duration(contender.placed.median.unwrap_or(0.0))
}

fn good(contender: Shown<'_>) -> String {
    paint(Look::Good, &contender.facts.name)
}

fn required(page: &mut Page, contest: &RacedContest, chosen: Shown<'_>) {
    let met = contest.contenders().filter(|one| one.facts.is_eligible() && one.placed.outcome != Outcome::RuledOut).count();
    let among = if met > 1 {
        format!("of the {met} that meet the requirements it leaves you the least to do ({})", left_to_do(chosen.facts.by_hand))
    } else {
        format!("only it meets the requirements; it leaves you {}", left_to_do(chosen.facts.by_hand))
    };
    page.paragraph(&format!("Choose {}: {among}, and takes {} a call.", good(chosen), median(chosen)), 2);
}

fn tied(page: &mut Page, contest: &RacedContest, chosen: Shown<'_>) {
    let all: Vec<Shown<'_>> = contest.contenders().filter(|one| matches!(one.placed.outcome, Outcome::Standing | Outcome::Tied)).collect();
    let others: Vec<String> = all.iter().filter(|one| one.at != chosen.at).map(|one| paint(Look::Strong, &one.facts.name)).collect();
    let others = if others.len() <= 3 { list(&others) } else { format!("The {} others marked with = or best", others.len()) };
    page.paragraph(
        &format!(
            "Choose {}: {} a call. {others} {} no different, surely within {}; of them all it leaves you the least to do ({}).",
            good(chosen),
            median(chosen),
            if all.len() > 2 { "are" } else { "is" },
            percent(contest.facts.rules.margin),
            left_to_do(chosen.facts.by_hand)
        ),
        2,
    );
}

fn fastest(page: &mut Page, contest: &RacedContest, chosen: Shown<'_>) {
    if contest.contenders().filter(|one| one.facts.is_eligible()).count() == 1 {
        let between = chosen.placed.range.map(|(low, high)| format!(", between {} and {}", duration(low), duration(high)));
        let text = format!("{} takes {} a call{}; it was alone.", good(chosen), median(chosen), between.unwrap_or_default());
        return page.paragraph(&text, 2);
    }
    let next = contest.contenders().find(|one| one.placed.outcome == Outcome::Slower);
    let next = next.and_then(|next| {
        let ratio = next.placed.against.as_ref()?.ratio;
        let more = chosen.placed.median? * (ratio.ratio - 1.0);
        let sure = (ratio.interval?.high / ratio.ratio).max(ratio.ratio / ratio.interval?.low) - 1.0;
        let (more, behind, sure) = (duration(more), behind(ratio.ratio), percent(sure));
        Some(format!(" The next, {}, takes {more} more, {behind}, sure to {sure}.", paint(Look::Strong, &next.facts.name)))
    });
    page.paragraph(&format!("Choose {}: {} a call, the fastest here.{}", good(chosen), median(chosen), next.unwrap_or_default()), 2);
}

/// The race ended before everybody could be told from the leader: which are left, how far apart they may be, what more rounds
/// would bring.
fn undecided(page: &mut Page, contest: &RacedContest) {
    let course = &contest.course;
    let stands = |outcome: Outcome| contest.contenders().filter(move |one| one.placed.outcome == outcome);
    let (alike, tied) = (stands(Outcome::Unresolved), stands(Outcome::Tied));
    let left: Vec<Shown<'_>> = stands(Outcome::Standing).chain(alike).chain(tied).collect();
    let Some(&leader) = left.first() else { return };
    let names: Vec<String> = left.iter().map(|one| paint(Look::Strong, &one.facts.name)).collect();
    let who = if names.len() <= 4 {
        list(&names)
    } else {
        format!("the {} marked with {}", names.len(), if stands(Outcome::Tied).next().is_none() { "? or best" } else { "?, = or best" })
    };
    let apart = left[1..].iter().map(|contender| {
        let sure = contender.placed.against.as_ref()?.ratio.interval?;
        Some(sure.high.max(1.0 / sure.low) - 1.0)
    });
    let apart: Option<f64> = apart.collect::<Option<Vec<f64>>>().map(|all| all.into_iter().fold(0.0, f64::max));
    let how = if course.interrupted { "Interrupted" } else { "Not decided" };
    let rounds = if contest.facts.rounds == 1 { "one round".to_owned() } else { format!("{} rounds", contest.facts.rounds) };
    let mut text = match (left.len(), apart) {
        (1, _) => format!("{how} after {rounds}: {who} is the only one left, at {} a call.", median(leader)),
        (_, Some(apart)) if apart <= CLOSE => {
            format!("{how} after {rounds}. Take any of {who}: they differ by less than {}.", percent(apart))
        }
        (_, Some(apart)) => format!("{how} after {rounds}: {who} may still differ by {}.", percent(apart)),
        (_, None) => format!("{how} after {rounds}, too few to tell {who} apart."),
    };
    if left.len() > 1 {
        text += &format!(" {} leads with {} a call.", leader.facts.name, median(leader));
    }
    page.paragraph(&text, 2);
    page.paragraph(&more_rounds(contest), 2);
}

/// What it would take to decide.
fn more_rounds(contest: &RacedContest) -> String {
    let (rounds, rules, course) = (contest.facts.rounds, &contest.facts.rules, &contest.course);
    let more = |forecast: &Forecast| {
        let more = forecast.rounds.saturating_sub(rounds).max(1);
        (more, more as f64 * course.round_seconds, forecast.margin)
    };
    let waits: Vec<(usize, f64, f64)> = contest.verdict.forecasts.iter().map(more).filter(|(_, seconds, _)| *seconds <= PATIENCE).collect();
    let noisy = contest.verdict.noise.filter(|noise| *noise >= NOISY && rules.margin < NOISY);
    let mut text = noisy.map_or(String::new(), |noise| {
        format!("It is noisy here: one run varies by {}, which is much for a margin of {}. ", percent(noise), percent(rules.margin))
    });
    match waits.first() {
        None if contest.verdict.forecasts.is_empty() && rounds < 5 => text += "Give it more time (--time).",
        None => {
            let wider =
                if rules.margin < NOISY { "take a wider margin (--margin 5%) or a quieter machine" } else { "take a quieter machine" };
            text += &format!("No number of rounds that one would wait for settles this; {wider}.");
        }
        Some((more, seconds, margin)) => {
            let settles = |more: usize, seconds: f64, margin: f64| {
                let rounds = if more == 1 { "round" } else { "rounds" };
                format!("about {} more {rounds} ({}) would settle {}", count(about(more)), wait(seconds), percent(margin))
            };
            let first = settles(*more, *seconds, *margin);
            text += &first[..1].to_uppercase();
            text += &first[1..];
            let wider = waits.iter().skip(1).find(|(other, _, _)| *other * 2 < *more);
            if let Some((more, seconds, margin)) = wider {
                text += &format!(", {}", settles(*more, *seconds, *margin));
            }
            // A fifth more than foretold, since it is only foretold.
            let needed = (rounds + more) * 6 / 5;
            let mut options = format!("--time {}", wait((course.seconds + seconds) * 1.2).replace(' ', ""));
            if needed > rules.most_rounds {
                options += &format!(" --rounds {}", about(needed));
            }
            if wider.is_some() || *margin > rules.margin {
                options += &format!(", or --margin {:.0}%", wider.map_or(*margin, |(_, _, margin)| *margin) * 100.0);
            }
            text += &format!(": {options}.");
        }
    }
    text
}

fn comfortable(page: &mut Page, chosen: Shown<'_>, easy: Shown<'_>) {
    let (fast, slow) = (chosen.placed.median.unwrap_or(0.0), easy.placed.median.unwrap_or(0.0));
    let cost = if slow > fast {
        let ratio =
            easy.placed.against.as_ref().filter(|against| against.leader == chosen.at).map_or(slow / fast, |against| against.ratio.ratio);
        format!("takes {} more ({})", duration(slow - fast), behind(ratio))
    } else {
        "takes no longer".to_owned()
    };
    page.paragraph(
        &format!(
            "Or choose {}: it leaves you {} instead of {}, and {cost}.",
            good(easy),
            left_to_do(easy.facts.by_hand),
            left_to_do(chosen.facts.by_hand)
        ),
        2,
    );
}

/// Finalists whose halves contradict each other.
fn moving(page: &mut Page, contest: &RacedContest) {
    let moving = contest
        .contenders()
        .filter(|one| one.placed.left.is_none() && one.placed.against.as_ref().is_some_and(|against| against.still_moving));
    let names: Vec<String> = moving.map(|one| one.facts.name.clone()).collect();
    if !names.is_empty() {
        let (verb, them) = if names.len() == 1 { ("was", "it") } else { ("were", "them") };
        page.paragraph(
            &format!(
                "{} {verb} still moving: the first half of the rounds says something else of {them} than the second. Race again.",
                list(&names)
            ),
            2,
        );
    }
}

/// What round trips would add on a server, where they were only modelled.
fn trips(page: &mut Page, contest: &RacedContest) {
    let modelled = contest.contenders().filter(|one| one.facts.measured.how(Measure::RoundTrips) == Some(How::Modelled));
    let mut kinds: Vec<(u64, Vec<&str>)> = Vec::new();
    for contender in modelled {
        let Some(trips) = contender.facts.measured.get(Measure::RoundTrips) else { continue };
        match kinds.iter_mut().find(|(known, _)| *known == trips) {
            Some((_, names)) => names.push(&contender.facts.name),
            None => kinds.push((trips, vec![&contender.facts.name])),
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

fn list(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [head @ .., last] => format!("{} and {last}", head.join(", ")),
    }
}
