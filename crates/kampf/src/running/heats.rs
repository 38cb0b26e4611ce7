//! Who enters after the first heat: those that differ in one choice from the one that would be taken.

use std::time::{Duration, Instant};

use kampf_contest::{Choices, Field, Restriction};
use kampf_race::Goal;
use kampf_runner::{Checks, Contest, Event, Heat, Inbox, Purpose, RaceOptions, RaceReport, Setup, Trouble, check_more};
use kampf_verdict::{Facts, judge, next_anchor};

use super::raced::facts;
use crate::arguments::Selection;
use crate::project::{ContestConfig, Project, Selected, resolve};

/// So many enter for a heat at most, and so many heats there are after the first.
const MOST: usize = 12;
const MOST_HEATS: usize = 2;

/// How many may enter after the first heat of a field: none where all that differ in one choice from any of it are in it, or where it is asked for
/// certain contenders or for all.
pub(crate) fn entrants(selected: &Selected, selection: &Selection, goal: Goal) -> usize {
    let of_field = selected.contest.entries.iter().filter_map(|entry| entry.choices);
    let there: Vec<Choices> = of_field.collect();
    let is_outside = |choices: &Choices| !there.contains(choices);
    let is_asked_for = selection.all || !selection.only.is_empty() || !selection.named.is_empty();
    let has_outside = || there.iter().any(|one| selected.field.neighbours(one, &selected.restriction).iter().any(is_outside));
    if goal == Goal::Choice && !is_asked_for && has_outside() { MOST * MOST_HEATS } else { 0 }
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
    /// How long the check of those that entered has taken.
    pub(crate) checked: Duration,
}

impl Heats<'_> {
    /// The next heat; none where nobody is to enter, or nobody takes the anchor's place.
    pub(crate) fn next(
        &mut self,
        report: &RaceReport,
        options: &RaceOptions,
        beside: &dyn Fn(&Contest, &Checks) -> Vec<bool>,
        about: &dyn Fn(Facts) -> Facts,
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<Option<Heat>, Trouble> {
        if report.heats.len() >= MOST_HEATS {
            return Ok(None);
        }
        let facts = about(facts(&self.contest, &self.checks, options.settings, report));
        let anchor = if report.heats.is_empty() { judge(&facts).around } else { next_anchor(&facts) };
        let Some((anchor, choices)) = anchor.and_then(|at| Some((at, self.contest.entries[at].choices?))) else { return Ok(None) };
        let neighbours = self.field.neighbours(&choices, self.restriction);
        let is_there = |choices: &Choices| self.contest.entries.iter().any(|entry| entry.choices == Some(*choices));
        let new: Vec<Choices> = neighbours.iter().copied().filter(|choices| !is_there(choices)).collect();
        let first = report.heats.is_empty();
        if first && new.is_empty() {
            return Ok(None);
        }
        self.enter(&new, events)?;
        let is_neighbour = |at: &usize| self.contest.entries[*at].choices.is_some_and(|choices| neighbours.contains(&choices));
        let members = (0..self.contest.entries.len()).filter(is_neighbour).collect();
        let beside = beside(&self.contest, &self.checks);
        Ok(Some(Heat { contest: self.contest.clone(), checks: self.checks.clone(), beside, anchor, members }))
    }

    /// Has the first of these enter, as many as may, and checks them.
    fn enter(&mut self, new: &[Choices], events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        if new.is_empty() {
            return Ok(());
        }
        let selection = Selection { exactly: new.to_vec(), ..self.selection.clone() };
        // Whose joins would multiply rows is held back here too.
        let resolved = resolve(self.project, self.config, &selection).map(|selected| selected.contest.entries).unwrap_or_default();
        let entering = resolved.into_iter().filter(|entry| entry.choices.is_some_and(|choices| new.contains(&choices)));
        self.contest.entries.extend(entering.take(MOST));
        let begun = Instant::now();
        self.checks = check_more(self.inbox, self.setup, &self.contest, &self.checks, self.purpose, events)?;
        self.checked += begun.elapsed();
        Ok(())
    }
}
