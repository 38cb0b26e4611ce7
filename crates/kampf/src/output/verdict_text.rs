//! The verdict in sentences.

use kampf_contest::{ByHand, How, Measure};
use kampf_result::numbers::{behind, between, count, duration, list, percent, wait};
use kampf_result::{RacedContest, Shown};
use kampf_result::{nearest_text, reading};
use kampf_verdict::{End, Keeps, Outcome, Ratio, Reading, Requirements, RunsBeside};

use super::forecast_text::forecast_text;
use super::page::Page;
use super::style::{Look, paint};

/// Nanoseconds of the round trip that the note under a verdict computes with.
const TRIP_NS: f64 = 0.5e6;
/// Names in a sentence at most; more are counted.
const NAMED: usize = 3;

/// Says whom to take, what the fastest would bring more, and what is open.
pub(crate) fn verdict_text(page: &mut Page, contest: &RacedContest) {
    let verdict = &contest.verdict;
    let chosen = verdict.choose.map(|at| contest.contender(at));
    match (&verdict.requirements, chosen) {
        _ if verdict.end == End::Nothing => page.paragraph(&paint(Look::Bad, "Nothing could be raced."), 0),
        (Some(Requirements::Missed { nearest }), _) => {
            // Where only who keeps nothing is left, nobody comes near.
            let what = if nearest.is_empty() { "" } else { " What comes nearest:" };
            page.paragraph(&format!("{}{what}", paint(Look::Bad, "No contender meets the requirements.")), 0);
            nearest.iter().for_each(|one| page.paragraph(&format!("  {}", nearest_text(one, contest.name_of(one.contender))), 4));
        }
        (Some(Requirements::Provisional { contenders }), _) => provisional(page, contest, contenders),
        (Some(Requirements::Met { easier }), Some(chosen)) => required(page, contest, chosen, easier),
        (_, Some(chosen)) => take(page, contest, chosen),
        (_, None) => undecided(page, contest),
    }
    if let Some(chosen) = chosen {
        if contest.facts.rounds == 1 {
            page.paragraph("There was one round alone: what it says of times is a first impression.", 2);
        }
        floor(page, contest, chosen);
        waiting(page, chosen);
    }
    moving(page, contest);
    if contest.circumstance.trip.is_none() {
        trips(page, contest);
    }
}

fn time(one: Shown<'_>) -> String {
    duration(one.placed.shown.unwrap_or(0.0))
}

fn good(one: Shown<'_>) -> String {
    paint(Look::Good, &one.facts.name)
}

fn strong(one: Shown<'_>) -> String {
    paint(Look::Strong, &one.facts.name)
}

/// Names, or how many there are.
fn named(contenders: &[Shown<'_>]) -> String {
    let names: Vec<String> = contenders.iter().take(NAMED).map(|one| strong(*one)).collect();
    match contenders.len() {
        few if few <= NAMED => list(&names),
        many => {
            let others = if many == NAMED + 1 { "other" } else { "others" };
            format!("{} and {} {others}", names.join(", "), many - NAMED)
        }
    }
}

/// The leader where somebody else is to be taken.
fn faster_leader<'a>(contest: &'a RacedContest, chosen: Shown<'_>) -> Option<Shown<'a>> {
    contest.verdict.leader.filter(|leader| *leader != chosen.at).map(|leader| contest.contender(leader))
}

fn take(page: &mut Page, contest: &RacedContest, chosen: Shown<'_>) {
    if contest.verdict.end == End::Alone {
        let range = chosen.placed.range.map(|(low, high)| format!(", between {} and {}", duration(low), duration(high)));
        let text = format!("{} takes {} a call{}; it was alone.", good(chosen), time(chosen), range.unwrap_or_default());
        return page.paragraph(&text, 2);
    }
    let leader = faster_leader(contest, chosen);
    let how = match (contest.verdict.end, leader) {
        (End::Decided, None) => format!(", and nobody is faster by more than {}", percent(contest.facts.settings.margin)),
        _ => String::new(),
    };
    let hand = left_to_do(chosen.facts.by_hand);
    page.paragraph(&format!("Take {}: {} a call{how}. It leaves you {hand}.", good(chosen), time(chosen)), 2);
    if let Some(leader) = leader {
        page.paragraph(&saving(chosen, leader), 2);
    }
    if contest.verdict.end == End::Enough {
        still_open(page, contest);
    }
}

/// What the fastest would bring more, and what for.
fn saving(chosen: Shown<'_>, leader: Shown<'_>) -> String {
    let less = chosen.placed.shown.unwrap_or(0.0) - leader.placed.shown.unwrap_or(0.0);
    let hand = left_to_do(leader.facts.by_hand);
    let Some(Ratio { ratio, interval }) = chosen.placed.behind else { return String::new() };
    let sure = interval.map_or(String::new(), |sure| format!(", {}", between(1.0 / sure.high, 1.0 / sure.low)));
    if less <= 0.0 {
        return format!("{} leads, but takes no less; it leaves you {hand}.", strong(leader));
    }
    format!("The fastest, {}, takes {} less ({}{sure}) and leaves you {hand}.", strong(leader), duration(less), behind(1.0 / ratio))
}

/// Those of whom it is open whether they are faster than the leader, the one that may be most first.
fn open(contest: &RacedContest) -> Vec<Shown<'_>> {
    let is_open = |one: &Shown<'_>| one.placed.outcome == Outcome::Unresolved && one.placed.beside.is_none();
    let mut open: Vec<Shown<'_>> = contest.contenders().filter(is_open).collect();
    let low = |one: &Shown<'_>| one.placed.behind.map_or(0.0, |behind| behind.low());
    open.sort_by(|one, other| low(one).total_cmp(&low(other)));
    open
}

/// How much faster some contenders may be than the leader, at most; none where that is not known.
fn at_most_faster(open: &[Shown<'_>]) -> Option<f64> {
    let low = open.iter().map(|one| one.placed.behind.map_or(0.0, |behind| behind.low())).fold(f64::INFINITY, f64::min);
    (low > 0.0 && low.is_finite()).then_some(1.0 - low)
}

/// What is not decided although somebody can be taken.
fn still_open(page: &mut Page, contest: &RacedContest) {
    let open = open(contest);
    if contest.verdict.is_told_around {
        let stand = if open.len() == 1 { "stands" } else { "stand" };
        let open = if open.is_empty() { String::new() } else { format!(" Beside the fastest it is open how {} {stand}.", named(&open)) };
        return page.paragraph(&format!("Nobody that differs from it in one choice is to be taken rather than it.{open}"), 2);
    }
    let Some(share) = at_most_faster(&open) else { return };
    let stopped = if contest.course.interrupted { "Interrupted" } else { "The time was up" };
    let text = format!("{stopped} with {} open: by at most {} faster than the leader. ", named(&open), percent(share.max(0.001)));
    page.paragraph(&format!("{text}{}", what_it_takes(contest)), 2);
}

/// The race ended before anybody could be taken: who leads, who may be faster, what more rounds would bring.
fn undecided(page: &mut Page, contest: &RacedContest) {
    let Some(leader) = contest.verdict.leader.map(|at| contest.contender(at)) else { return };
    let how = if contest.course.interrupted { "Interrupted" } else { "Not decided" };
    let rounds = match contest.facts.rounds {
        1 => "one round".to_owned(),
        rounds => format!("{} rounds", count(rounds as u64)),
    };
    let open = open(contest);
    let who = match at_most_faster(&open) {
        _ if open.is_empty() => format!("{} leads with {} a call", strong(leader), time(leader)),
        Some(share) => {
            format!("{} leads with {} a call, and {} may be faster by up to {}", strong(leader), time(leader), named(&open), percent(share))
        }
        None => {
            let who = if open.len() == 1 { "it is" } else { "they are" };
            format!(
                "{} leads with {} a call so far; of {} too few rounds tell whether {who} faster",
                strong(leader),
                time(leader),
                named(&open)
            )
        }
    };
    page.paragraph(&format!("{} after {rounds}: {who}.", paint(Look::Strong, how)), 2);
    page.paragraph(&what_it_takes(contest), 2);
}

/// What a decision would take, and how to ask for it.
fn what_it_takes(contest: &RacedContest) -> String {
    let (course, verdict, rounds) = (&contest.course, &contest.verdict, contest.facts.rounds);
    let needed = verdict.forecasts.first().and_then(|forecast| forecast.rounds);
    // A fifth more than foretold, since it is only foretold.
    let ask = needed.map_or(String::new(), |needed| {
        let more = needed.saturating_sub(rounds).max(1) as f64 * course.round_seconds;
        let time = wait((course.seconds + more) * 1.2).replace(' ', "");
        let needed = needed * 6 / 5;
        let most = if needed > contest.facts.settings.most_rounds { format!(" --rounds {needed}") } else { String::new() };
        format!(" (--time {time}{most})")
    });
    let text = forecast_text(&verdict.forecasts, rounds, course.round_seconds, &ask).unwrap_or_default();
    let first = text.chars().next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", text.get(1..).unwrap_or_default())
}

fn required(page: &mut Page, contest: &RacedContest, chosen: Shown<'_>, easier: &[usize]) {
    let meets = |one: &Shown<'_>| {
        one.facts.is_eligible() && one.placed.beside.is_none() && one.placed.readings.iter().all(|reading| reading.keeps == Keeps::Yes)
    };
    let met = contest.contenders().filter(meets).count();
    let among = match met {
        0 | 1 => "only it surely meets the requirements".to_owned(),
        met => format!("of the {met} that meet the requirements it leaves you the least to do"),
    };
    let hand = left_to_do(chosen.facts.by_hand);
    page.paragraph(&format!("Take {}: {among} ({hand}), at {} a call.", good(chosen), time(chosen)), 2);
    let fastest = contest
        .contenders()
        .filter(meets)
        .min_by(|one, other| one.placed.shown.unwrap_or(0.0).total_cmp(&other.placed.shown.unwrap_or(0.0)));
    if let Some(fastest) = fastest.filter(|fastest| fastest.at != chosen.at && fastest.placed.shown < chosen.placed.shown) {
        let hand = left_to_do(fastest.facts.by_hand);
        page.paragraph(&format!("What that comfort costs: {} takes {}, and leaves you {hand}.", strong(fastest), time(fastest)), 2);
    }
    if let Some(&first) = easier.first() {
        let one = contest.contender(first);
        page.paragraph(
            &format!("{} would leave you less, and may meet them too: {}; more rounds would tell.", strong(one), doubts(one)),
            2,
        );
    }
}

fn provisional(page: &mut Page, contest: &RacedContest, contenders: &[usize]) {
    let Some(first) = contenders.first().map(|&at| contest.contender(at)) else { return };
    let others = match contenders.len() {
        1 => String::new(),
        2 => " One other may, too.".to_owned(),
        many => format!(" {} others may, too.", many - 1),
    };
    page.paragraph(
        &format!(
            "{}: nobody surely meets the requirements with these rounds. Of those that may, {} leaves you the least to do ({}): {}.{others}",
            paint(Look::Strong, "Provisional"),
            strong(first),
            left_to_do(first.facts.by_hand),
            doubts(first)
        ),
        2,
    );
    page.paragraph("More rounds tell more: a longer --time, or a quieter machine.", 2);
}

/// Why it is not known whether a contender meets the requirements.
fn doubts(one: Shown<'_>) -> String {
    let doubts = one.placed.readings.iter().filter(|reading| reading.keeps == Keeps::Provisional);
    let words = doubts.map(|&Reading { required, has, interval, limit, .. }| {
        let word = required.word();
        let allowed = reading(required, limit);
        match (has, interval) {
            (_, Some(sure)) => {
                format!("{word} between {} and {}, {allowed} allowed", reading(required, sure.low), reading(required, sure.high))
            }
            (Some(has), None) => format!("{word} {} from too few rounds, {allowed} allowed", reading(required, has)),
            (None, None) => format!("{word} not known from so few calls, {allowed} allowed"),
        }
    });
    list(&words.collect::<Vec<_>>())
}

/// How far what is to be taken lies above the floor.
fn floor(page: &mut Page, contest: &RacedContest, chosen: Shown<'_>) {
    // Another way of asking is no floor of this one.
    let is_same = |one: &Shown<'_>| !chosen.extra.sql.is_empty() && one.extra.sql == chosen.extra.sql;
    let floors = contest.contenders().filter(|one| one.placed.beside == Some(RunsBeside::Floor) && one.facts.is_eligible() && is_same(one));
    let shown = |one: &Shown<'_>| one.placed.shown.unwrap_or(f64::INFINITY);
    let Some(lowest) = floors.min_by(|one, other| shown(one).total_cmp(&shown(other))) else { return };
    let above = shown(&chosen) / shown(&lowest);
    let lies = if above < 1.005 {
        "what you take is no slower".to_owned()
    } else {
        format!("what you take is {} above it", behind(above).trim_start_matches('+'))
    };
    page.paragraph(&format!("The floor, {}, takes {} and keeps nothing: {lies}.", strong(lowest), time(lowest)), 2);
}

/// How much of the call is not the layer's own work.
fn waiting(page: &mut Page, chosen: Shown<'_>) {
    // Of who keeps answers only a miss waits.
    let waits = chosen.facts.kept.is_none();
    let Some(waiting) = chosen.facts.measured.get(Measure::Waiting).filter(|_| waits) else { return };
    let share = waiting as f64 / 1_000.0;
    let text = format!(
        "Of its call {} is waiting, in the engine and on the way there and back; its own work is {}.",
        percent(share),
        percent(1.0 - share)
    );
    page.paragraph(&text, 2);
}

/// Finalists whose halves contradict each other.
fn moving(page: &mut Page, contest: &RacedContest) {
    let moving = contest.contenders().filter(|one| one.placed.left.is_none() && one.placed.still_moving);
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
    let modelled =
        contest.contenders().filter(|one| one.facts.is_eligible() && one.facts.measured.how(Measure::RoundTrips) == Some(How::Modelled));
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
        Some(ByHand { statements, columns, characters }) => {
            let mapped = if columns == 0 { String::new() } else { format!(", {} to map", plural(columns, "column", "columns")) };
            format!("{} of {}{mapped}", plural(statements, "statement", "statements"), plural(characters, "character", "characters"))
        }
    }
}
