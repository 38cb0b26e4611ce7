//! Who enters after the first heat: those that differ in one choice from the one that would be taken.

use std::time::{Duration, Instant};

use kampf_contest::{Choices, Field, Restriction};
use kampf_race::{Goal, RaceSettings};
use kampf_runner::{Checks, Contest, Event, Inbox, NextField, Purpose, RaceOptions, RaceReport, Setup, Trouble, check_more};
use kampf_verdict::{Facts, judge, next_anchor};

use super::raced::facts;
use crate::arguments::Selection;
use crate::project::{ContestConfig, Project, Selected, resolve};

/// So many enter for a heat at most, and so many heats there are after the first.
const MOST: usize = 12;
const MOST_HEATS: usize = 2;
/// Nothing is known of one that enters before so many rounds.
const LEAST_ROUNDS: usize = 8;

/// How many may enter after the first heat of a field: none where all that differ in one choice from any of it are in it, or where it is asked for
/// certain contenders or for all.
pub(crate) fn entrants(selected: &Selected, selection: &Selection, settings: &RaceSettings) -> usize {
    let of_field = selected.contest.entries.iter().filter_map(|entry| entry.choices);
    let there: Vec<Choices> = of_field.collect();
    let is_outside = |choices: &Choices| !there.contains(choices);
    let is_asked_for = selection.all || !selection.only.is_empty() || !selection.named.is_empty();
    let has_outside = || there.iter().any(|one| selected.field.neighbours(one, &selected.restriction).iter().any(is_outside));
    let has_room = settings.goal == Goal::Choice && settings.most_rounds >= 2 * LEAST_ROUNDS;
    if has_room && !is_asked_for && has_outside() { MOST * MOST_HEATS } else { 0 }
}

/// What the heats of a contest are made from.
pub(crate) struct Heats<'a> {
    pub(crate) inbox: &'a Inbox,
    pub(crate) setup: &'a Setup<'a>,
    pub(crate) project: &'a Project,
    pub(crate) config: &'a ContestConfig,
    pub(crate) selection: Selection,
    pub(crate) field: &'a Field,
    pub(crate) restriction: &'a Restriction,
    pub(crate) purpose: Purpose,
    /// The contenders so far, and their check.
    pub(crate) contest: Contest,
    pub(crate) checks: Checks,
    /// How long the check has taken, of all that were checked.
    pub(crate) checked: Duration,
}

impl Heats<'_> {
    /// The next heat; none where nobody is to enter, or nobody takes the anchor's place.
    pub(crate) fn next(
        &mut self,
        (report, left): (&RaceReport, Duration),
        options: &RaceOptions,
        beside: &dyn Fn(&Contest, &Checks) -> Vec<bool>,
        about: &dyn Fn(Facts) -> Facts,
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<Option<NextField>, Trouble> {
        if report.heats.len() >= MOST_HEATS {
            return Ok(None);
        }
        let facts = about(facts(&self.contest, &self.checks, options.settings, report));
        let anchor = if report.heats.is_empty() { judge(&facts).around } else { next_anchor(&facts) };
        let Some((anchor, choices)) = anchor.and_then(|at| Some((at, self.contest.entries[at].choices?))) else { return Ok(None) };
        let neighbours = self.field.neighbours(&choices, self.restriction);
        let is_there = |choices: &Choices| self.contest.entries.iter().any(|entry| entry.choices == Some(*choices));
        let new: Vec<Choices> = neighbours.iter().copied().filter(|choices| !is_there(choices)).collect();
        let room = self.room(report, left);
        if (report.heats.is_empty() && new.is_empty()) || (!new.is_empty() && room == 0) {
            return Ok(None);
        }
        self.enter(&new, room, events)?;
        let is_neighbour = |at: &usize| self.contest.entries[*at].choices.is_some_and(|choices| neighbours.contains(&choices));
        let members = (0..self.contest.entries.len()).filter(is_neighbour).collect();
        let beside = beside(&self.contest, &self.checks);
        Ok(Some(NextField { contest: self.contest.clone(), checks: self.checks.clone(), beside, anchor, members }))
    }

    /// How many may enter for a heat that ends in time, by what those that are there take: their check, and rounds until something can be known of them.
    fn room(&self, report: &RaceReport, left: Duration) -> usize {
        let each = |all: Duration, of: usize| all.as_secs_f64() / of.max(1) as f64;
        let check = each(self.checked, self.contest.entries.len());
        let rounds = LEAST_ROUNDS as f64 * each(report.last_round, report.race.running().len());
        // The anchor runs too.
        let fit = (left.as_secs_f64() - rounds) / (check + rounds).max(f64::MIN_POSITIVE);
        (fit.max(0.0) as usize).min(MOST)
    }

    /// Has the first of these enter, as many as there is room for, and checks them.
    fn enter(&mut self, new: &[Choices], room: usize, events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        if new.is_empty() {
            return Ok(());
        }
        let selection = Selection { exactly: new.to_vec(), ..self.selection.clone() };
        // Whose joins would multiply rows is held back here too.
        let resolved = resolve(self.project, self.config, &selection).map(|selected| selected.contest.entries).unwrap_or_default();
        let entering = resolved.into_iter().filter(|entry| entry.choices.is_some_and(|choices| new.contains(&choices)));
        let mut contest = self.contest.clone();
        contest.entries.extend(entering.take(room));
        let begun = Instant::now();
        // Where that cannot be done the field stays as it was.
        self.checks = check_more(self.inbox, self.setup, &contest, &self.checks, self.purpose, events)?;
        self.contest = contest;
        self.checked += begun.elapsed();
        Ok(())
    }
}
