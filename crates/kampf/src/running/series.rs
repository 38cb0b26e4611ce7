//! Contests under their circumstances, raced one after the other.

use std::time::{Duration, Instant};

use kampf_result::{Circumstance, LongerTrip, TripBy};
use kampf_runner::{Contest, Entry, Inbox};

use super::arrangement::Arrangement;
use super::one_race::{LEAST_SHARE, OneRace, race_one};
use super::raced::Stand;
use super::session::{scratch_for, setup_on};
use super::wish::RaceWish;
use crate::problem::Problem;
use crate::project::{ContestConfig, Project, Selected};
use crate::store::Dataset;
use crate::tidings::Listener;

/// The share of calls that are answered from what is kept, where none is given.
const USUAL_HIT_RATE: f64 = 0.9;

/// Contests on one engine.
pub(crate) struct Series<'a> {
    pub(crate) inbox: &'a Inbox,
    pub(crate) project: &'a Project,
    pub(crate) dataset: &'a Dataset,
    pub(crate) wish: &'a RaceWish,
    /// Each with its field.
    pub(crate) contests: &'a [(&'a ContestConfig, Selected)],
}

/// Takes what came of racing a contest.
pub(crate) type TakeRace<'a> = &'a mut dyn FnMut(&ContestConfig, Result<OneRace, Problem>) -> Result<(), Problem>;

impl Series<'_> {
    /// Races each contest under each of its circumstances and hands on what came of it, a race or trouble, until the user wants to stop or `take`
    /// gives an error. What is arranged for a race ends with it.
    ///
    /// # Errors
    /// That of `take`, and what concerns all that is still to come: nothing can be arranged, or somebody has changed the data meanwhile.
    pub(crate) fn run(&self, hear: &mut dyn Listener, take: TakeRace<'_>) -> Result<(), Problem> {
        let Series { inbox, project, dataset, wish, contests } = *self;
        let begun = Instant::now();
        for (at, (config, picked)) in contests.iter().enumerate() {
            for what in picked.passed_over(project.engine.name()) {
                hear.said(format!("{}: {what}", config.name));
            }
            let circumstances = circumstances(project, wish, &picked.contest);
            for (done, circumstance) in circumstances.iter().enumerate() {
                if inbox.is_interrupted() {
                    return Ok(());
                }
                let scratch = scratch_for(project, dataset, &picked.contest)?;
                let mut setup = setup_on(project, dataset, &wish.bounds, scratch.as_deref())?;
                let arrangement = Arrangement::of(circumstance, project, dataset, &mut setup)?;
                let on = Stand { inbox, project, dataset, setup: &setup, circumstance, arrangement: &arrangement };
                let to_come = (contests.len() - at) * circumstances.len() - done;
                let share = wish.together.map(|together| share(together, begun.elapsed(), to_come));
                let raced = race_one(&on, wish, share, (config, picked), hear);
                if raced.is_ok() {
                    dataset.verify()?;
                }
                take(config, raced)?;
            }
        }
        Ok(())
    }
}

/// Of a time for all, each that is still to come has its part of what is left. Where one of slow ways has taken more than that, the others get some all
/// the same.
fn share(together: Duration, spent: Duration, to_come: usize) -> Duration {
    (together.saturating_sub(spent) / u32::try_from(to_come).unwrap_or(u32::MAX).max(1)).max(LEAST_SHARE)
}

/// Under what a contest is raced on an engine: every round trip with every share of kept answers, for which only those have a use that keep some.
fn circumstances(project: &Project, wish: &RaceWish, contest: &Contest) -> Vec<Circumstance> {
    let trips = if wish.round_trips.is_empty() { &project.config.round_trips } else { &wish.round_trips };
    let trips = if trips.is_empty() { &[Duration::ZERO][..] } else { trips };
    let by = if project.engine.trips_are_modelled() { TripBy::Simulated } else { TripBy::Relay };
    let longer = |trip: Duration| Some(LongerTrip { ns: u64::try_from(trip.as_nanos()).ok()?, by }).filter(|trip| trip.ns > 0);
    let rates: Vec<Option<f64>> = match contest.entries.iter().any(Entry::keeps_answers) {
        false => vec![None],
        true if project.config.hit_rates.is_empty() => vec![Some(USUAL_HIT_RATE)],
        true => project.config.hit_rates.iter().copied().map(Some).collect(),
    };
    let given = |trip: Duration, hit_rate| Circumstance {
        engine: project.engine.name().to_owned(),
        trip: longer(trip),
        hit_rate,
        is_pinned: wish.pin || project.config.pin,
        in_transaction: false,
    };
    trips.iter().flat_map(|&trip| rates.iter().map(move |&rate| given(trip, rate))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_for_all_is_shared_by_those_that_are_still_to_come() {
        let seconds = Duration::from_secs;
        assert_eq!(share(seconds(60), seconds(0), 3), seconds(20));
        assert_eq!(share(seconds(60), seconds(30), 2), seconds(15));
        assert_eq!(share(seconds(60), seconds(70), 2), LEAST_SHARE);
    }
}
