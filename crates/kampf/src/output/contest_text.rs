//! A contest's result as a whole, from what the document says alone.

use kampf_result::numbers::{counted, duration, percent, rows_of};
use kampf_result::{ContestKind, RacedContest, Shown};
use kampf_verdict::Outcome;

use super::cache_text::cache_text;
use super::choices_text::choices_text;
use super::fetch_text::fetch_text;
use super::index_text::index_text;
use super::keys_text::keys_text;
use super::mattered_text::mattered_text;
use super::out::one_line;
use super::page::Page;
use super::race_table::race_table;
use super::style::{Look, paint, quiet_words};
use super::verdict_text::verdict_text;

/// Share of time with tasks waiting for a processor from which on it is said, in percent.
const BUSY: f64 = 10.0;

/// Title, how the race went, table, verdict and what mattered.
pub(crate) fn contest_text(page: &mut Page, part: &RacedContest) {
    page.hung(&format!("{} ", paint(Look::Title, &part.name)), &one_line(part.about.as_deref().unwrap_or_default()), 2);
    page.paragraph(&quiet_words(&course(part)), 0);
    let given = given(part);
    if !given.is_empty() {
        page.paragraph(&quiet_words(&given), 0);
    }
    if let Some(why) = part.course.not_confirmed.as_ref().filter(|_| !part.course.interrupted) {
        let text = format!("not confirmed: the survivors were not all asked for their answers once more ({})", one_line(why));
        page.paragraph(&format!("{} {text}", paint(Look::Bad, "!")), 2);
    }
    part.warnings.iter().for_each(|warning| page.paragraph(&format!("{} {}", paint(Look::Bad, "!"), one_line(warning)), 2));
    page.blank();
    race_table(page, part);
    page.blank();
    choices_text(page, part);
    verdict_text(page, part);
    mattered_text(page, part);
    fetch_text(page, part);
    cache_text(page, part);
    index_text(page, part);
    keys_text(page, part);
    page.blank();
}

/// How the race went.
fn course(part: &RacedContest) -> String {
    let race = &part.course;
    let disagrees = |one: &Shown<'_>| one.placed.outcome == Outcome::Disagrees;
    let agreed = part.contenders().filter(|one| one.extra.answer.is_some() && !disagrees(one)).count();
    let rows = part.contenders().find_map(|one| one.extra.answer.as_ref()).map_or(0, |answer| answer.rows);
    if part.facts.rounds == 0 {
        return format!("checked in {:.1} s; no round was finished", race.check_seconds);
    }
    let measured = race.measured_seconds / race.seconds.max(1e-9);
    // The document has the answer for the first parameter set; what was compared was all of them.
    let asked = part.need.get("parameters").and_then(serde_json::Value::as_array).is_some_and(|names| !names.is_empty());
    let (what, done) = match part.kind {
        ContestKind::Read => ("all answers, the first of", "starts"),
        ContestKind::Write => ("what becomes of the tables, the first time of", "starts, and takes back what was written"),
    };
    let rows = match (asked, part.kind) {
        (true, _) => format!("{what} {}", rows_of(rows)),
        (false, ContestKind::Read) => rows_of(rows),
        (false, ContestKind::Write) => format!("what becomes of {}", rows_of(rows)),
    };
    let mut words = format!(
        "{agreed} {} on {}, checked in {:.1} s; {} in {:.1} s, {} of it measured, the rest {}{}",
        if agreed == 1 { "contender agrees" } else { "contenders agree" },
        rows,
        race.check_seconds,
        counted(part.facts.rounds as u64, "round", "rounds"),
        race.seconds,
        percent(measured),
        done,
        // What is less than can be seen in the figures before it is not told.
        if race.confirm_seconds >= 0.1 { format!("; asked once more in {:.1} s", race.confirm_seconds) } else { String::new() }
    );
    if race.interrupted {
        words += ", interrupted";
    }
    if let Some(noise) = part.verdict.noise {
        words += &format!("; one run varies by {}", percent(noise));
        if let Some(machine) = kampf_race::spread(&race.reference_loop) {
            words += &format!(", the machine itself by {}", percent(machine));
        }
    }
    if let Some(pressure) = race.cpu_pressure.filter(|pressure| *pressure >= BUSY) {
        words += &format!("; the processor was busy with other things too: tasks waited {pressure:.0} % of the time");
    }
    words
}

/// What contenders were given, where that is out of the ordinary.
fn given(part: &RacedContest) -> String {
    let (given, found) = (&part.circumstance, &part.arranged);
    let mut words = Vec::new();
    match (given.round_trip(), found.relay_adds_ns.map(|nanos| nanos as f64)) {
        (Some(trip), Some(adds)) => {
            let held = found.trip_held_ns.map_or_else(String::new, |held| format!("; a trip was really held {}", duration(held as f64)));
            words.push(format!("every trip takes {} longer, and the relay itself adds {}{held}", duration(trip), duration(adds)));
        }
        (Some(trip), None) => words.push(format!("simulated: this engine has no trips, each statement waits {} instead", duration(trip))),
        (None, _) => {}
    }
    if let Some(rate) = given.hit_rate {
        words.push(format!("of calls with a cache {} find their answer kept", percent(rate)));
    }
    if let Some(durable) = found.durable {
        let takes = found.commit_ns.map_or_else(String::new, |nanos| format!("; one changed row takes {} here", duration(nanos as f64)));
        words.push(match durable {
            true => format!("each commit waits until it is on the disk{takes}"),
            false => format!("commits do not wait until they are on the disk{takes}"),
        });
    }
    if let Some(core) = found.core {
        words.push(format!("kept on core {core}"));
    }
    words.join("; ")
}
