//! What signs and columns mean, once under everything.

use std::collections::BTreeSet;

use kampf_contest::{Counted, How, Measure};
use kampf_result::numbers::percent;
use kampf_result::{RacedContest, Shown};
use kampf_verdict::{Keeps, Outcome, RunsBeside};

use super::page::Page;
use super::race_table::{SAID, counts_from_base, titles};
use super::style::quiet_words;

/// The legend of all contests that were shown.
pub(crate) fn legend(page: &mut Page, contests: &[RacedContest]) {
    let all = || contests.iter().flat_map(RacedContest::contenders);
    if all().next().is_none() {
        return;
    }
    let any = |test: &dyn Fn(&Shown<'_>) -> bool| all().any(|one| test(&one));
    let stands = |outcome| any(&|one| one.placed.outcome == outcome && one.placed.beside.is_none());
    let says = |measure, how| any(&|one| one.facts.measured.how(measure) == Some(how));
    let margin = contests.first().map_or(0.0, |contest| contest.facts.settings.margin);
    // What a narrow table leaves out needs no explanation.
    let titles: BTreeSet<String> = contests.iter().flat_map(titles).collect();
    let has = |title: &str| titles.contains(title);
    let has_of = |travels: bool| {
        Measure::ALL.iter().map(|measure| measure.entry()).any(|entry| entry.travels == travels && entry.column.is_some_and(has))
    };
    let mut notes = Vec::new();
    if has("a call takes") {
        notes.push("Times are compared within rounds: a call takes the leader's median times the ratio to it.".to_owned());
    }
    match (has_of(true), has_of(false)) {
        (true, _) => notes.push(
            "Statements, trips, rows and bytes are the same in any language; time and memory are those of Kampf's compiled layers, and usually larger elsewhere."
                .to_owned(),
        ),
        (false, true) => notes.push("Time and memory are those of Kampf's compiled layers, and usually larger elsewhere.".to_owned()),
        (false, false) => notes.push("Time is that of Kampf's compiled layers, and usually longer elsewhere.".to_owned()),
    }
    if has(Measure::RoundTrips.entry().column.unwrap_or_default()) && says(Measure::RoundTrips, How::Modelled) {
        notes.push("Trips are what a server would need; this engine has none.".to_owned());
    }
    let shown_of = |one: &Shown<'_>, test: &dyn Fn(Measure, Counted) -> bool| {
        one.facts.measured.iter().any(|(measure, counted)| measure.entry().column.is_some_and(has) && test(measure, counted))
    };
    if any(&|one| shown_of(one, &|_, counted| counted.how == How::Reported)) {
        notes.push(format!("{SAID}: as the program says; nothing confirms it, and it earns no ◆."));
    }
    if any(&|one| shown_of(one, &|measure, counted| measure == Measure::HeapPeak && counted.how == How::Resident)) {
        notes.push("Memory of programs is by how much their process grew, and is not ranked.".to_owned());
    }
    if any(&|one| shown_of(one, &|measure, counted| measure.is_exact() && counted.differs())) {
        notes.push("4-12: the least and the most over calls with different parameters.".to_owned());
    }
    if has("behind") && contests.iter().any(counts_from_base) {
        notes.push("Base: the others count from it, though it is ruled out or somebody may take less.".to_owned());
    }
    if any(&|one| one.placed.beside == Some(RunsBeside::Floor)) {
        notes.push("Floor: it keeps nothing of its rows, which an application usually cannot do, so it is not chosen.".to_owned());
    }
    if any(&|one| one.placed.beside == Some(RunsBeside::Stale)) {
        notes.push("Not fresh: it gives answers again that it has kept; `fresh = false` under `require` lets it be chosen.".to_owned());
    }
    if stands(Outcome::Tied) {
        notes.push(format!("Tied: surely within {} of the leader.", percent(margin)));
    }
    if stands(Outcome::NotFaster) {
        notes.push(format!("Not faster: surely not faster than the leader by more than {}.", percent(margin)));
    }
    if stands(Outcome::Unresolved) {
        notes.push(format!("Open: with these rounds it may be faster than the leader by more than {}.", percent(margin)));
    }
    let outclassed = |ran_on: bool| {
        any(&|one| one.placed.outcome == Outcome::Outclassed && one.placed.beside.is_none() && one.placed.left.is_none() == ran_on)
    };
    match (outclassed(false), outclassed(true)) {
        (true, false) => notes.push("Outclassed: so far behind that it was not run to the end.".to_owned()),
        (true, true) => notes.push("Outclassed: far behind; some were not run to the end for it.".to_owned()),
        (false, true) => notes.push("Outclassed: far behind the leader in every round.".to_owned()),
        (false, false) => {}
    }
    if any(&|one| one.placed.readings.iter().any(|reading| reading.keeps == Keeps::Provisional)) {
        notes.push("?: these rounds do not tell on which side of the limit it lies.".to_owned());
    }
    if any(&|one| one.placed.trade_off) {
        notes.push("◆: nobody beats it on time, memory and statements at once.".to_owned());
    }
    notes.push("`kampf show --words` explains the ways.".to_owned());
    page.paragraph(&quiet_words(&notes.join(" ")), 0);
}
