//! One contest is checked and raced.

use std::time::{Duration, Instant};

use kampf_result::RacedContest;
use kampf_runner::{Checks, Contest, Event, Inbox, NextHeat, Purpose, RaceOptions, RaceReport, Setup, check, least_time, race};
use kampf_verdict::{Facts, FaultKind};

use super::heats::{Heats, entrants};
use super::raced::{Ran, Stand, raced_contest};
use super::rules::{RaceRules, USUAL_TIME};
use super::session::trouble;
use super::wish::RaceWish;
use crate::output::{counted, wait};
use crate::problem::Problem;
use crate::project::{ContestConfig, Selected};
use crate::tidings::{Listener, Tidings};

/// The most that a large field is given of its own accord.
const MOST_TIME: Duration = Duration::from_secs(60);
/// What the rounds of each contest have at least of a time for all.
pub(super) const LEAST_SHARE: Duration = Duration::from_secs(3);

/// A contest that was checked and raced.
pub(crate) struct OneRace {
    pub(crate) part: RacedContest,
    /// All who took part, those that entered late too.
    pub(crate) contest: Contest,
    pub(crate) checks: Checks,
    /// The parameter sets that were checked.
    pub(crate) sets: Vec<Vec<kampf_schema::Value>>,
}

impl OneRace {
    /// Whether any contender came to the end, or none can be blamed that it did not.
    pub(crate) fn is_finished(&self) -> bool {
        let has_failed = |kind: Option<FaultKind>| kind == Some(FaultKind::Failed);
        let failed = self.part.facts.contenders.iter().any(|one| has_failed(one.fault.as_ref().map(|fault| fault.kind)));
        !failed || self.part.verdict.fastest.is_some()
    }
}

/// Checks a field and races it once, and nobody enters late.
pub(crate) fn race_alone(
    (inbox, setup): (&Inbox, &Setup<'_>),
    contest: &Contest,
    rules: &RaceRules,
    (time, seed): (Duration, u64),
    events: &mut dyn FnMut(Event<'_>),
) -> Result<RaceReport, Problem> {
    let failed = |error| trouble(&contest.name, &error);
    let purpose = Purpose { is_for_race: true, stop_above: rules.stop_above() };
    let checks = check(inbox, setup, contest, purpose, &mut |_| {}).map_err(failed)?;
    let options = RaceOptions { time, ..rules.options(contest, &checks, seed) };
    let raced = race(inbox, setup, contest, &checks, &options, &mut |_, _, _| Ok(None), events);
    raced.map(|(report, _)| report).map_err(failed)
}

/// Checks and races a contest, where a share of a time for all is given in that.
pub(crate) fn race_one(
    on: &Stand<'_>,
    wish: &RaceWish,
    share: Option<Duration>,
    (config, picked): (&ContestConfig, &Selected),
    hear: &mut dyn Listener,
) -> Result<OneRace, Problem> {
    let contest = &picked.contest;
    let Stand { inbox, setup, .. } = *on;
    let rules = RaceRules::of(wish, config);
    let begun = Instant::now();
    let time = share.or(wish.time);
    let contenders = counted(contest.entries.len() as u64, "contender", "contenders");
    let together = wait(time.unwrap_or(USUAL_TIME).as_secs_f64());
    hear.said(format!("{}: {contenders}, {together} at most with their check", contest.name));
    hear.hear(Tidings::Races(&contest.name, rules.margin));
    let purpose = Purpose { is_for_race: true, stop_above: rules.stop_above() };
    let raced = (|| {
        let checks = check(inbox, setup, contest, purpose, &mut |event| hear.hear(Tidings::Race(&event)))?;
        let checked = begun.elapsed();
        let mut options = rules.options(contest, &checks, setup.seed);
        options.settings.entrants = entrants(picked, &wish.selection, &options.settings);
        let needs = checked + least_time(inbox, setup, contest, &checks, &options);
        let words = wait(needs.as_secs_f64());
        let time = time.unwrap_or_else(|| needs.clamp(USUAL_TIME, MOST_TIME));
        if wish.time.is_some() && share.is_none() && time < needs {
            let time = wait(time.as_secs_f64());
            let needed = format!("the check and the least rounds that can decide need about {words}; {time} may be too little");
            hear.said(format!("{}: {needed}", contest.name));
        } else if wish.time.is_none() && time > USUAL_TIME {
            hear.said(format!("{}: the least rounds that can decide need more: about {words} in all", contest.name));
        }
        options.time = time.saturating_sub(checked).max(if share.is_some() { LEAST_SHARE } else { Duration::ZERO });
        let mut heats = Heats {
            inbox,
            setup,
            project: on.project,
            config,
            selection: wish.selection.within(&wish.bounds),
            field: &picked.field,
            restriction: &picked.restriction,
            purpose,
            contest: contest.clone(),
            checks: checks.clone(),
            checked,
        };
        let beside = |contest: &Contest, checks: &Checks| rules.beside(contest, checks);
        let about = |facts| Facts { keeps_nothing: rules.keeps_nothing, require: rules.require.clone(), ..facts };
        let next: NextHeat<'_> = &mut |report: &RaceReport, left: Duration, events: &mut dyn FnMut(Event<'_>)| {
            heats.next((report, left), &options, &beside, &about, events)
        };
        let (report, last) = race(inbox, setup, contest, &checks, &options, next, &mut |event| hear.hear(Tidings::Race(&event)))?;
        let checked = heats.checked;
        let (contest, checks) = last.map_or_else(|| (contest.clone(), checks), |heat| (heat.contest, heat.checks));
        Ok((contest, checks, checked, time, options, report))
    })();
    hear.hear(Tidings::Raced);
    let (contest, checks, checked, time, options, report) = raced.map_err(|error| trouble(&contest.name, &error))?;
    let ran = Ran {
        checks: &checks,
        checked,
        time,
        options: &options,
        keeps_nothing: rules.keeps_nothing,
        require: &rules.require,
        report: &report,
    };
    let part = raced_contest(on, config, &contest, &ran);
    Ok(OneRace { part, sets: contest.parameter_sets(setup, 0), contest, checks })
}
