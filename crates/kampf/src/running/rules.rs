//! By what rules a contest is raced.

use std::time::Duration;

use kampf_race::{Goal, RaceSettings};
use kampf_runner::{Checks, Contest, Entry, RaceOptions};
use kampf_verdict::{Candidate, Require, Required, beside, compared};

use super::wish::RaceWish;
use crate::project::ContestConfig;

/// Time for a contest where none is given.
pub(crate) const USUAL_TIME: Duration = Duration::from_secs(30);
/// An answer of the check that takes no longer is never stopped.
pub(crate) const LONG_ANSWER: Duration = Duration::from_secs(1);
/// The margin where none is given.
const MARGIN: f64 = 0.05;
/// Calls of a round where a 95th percentile is required.
const CALLS_FOR_P95: u64 = 20;

/// How a contest is to be raced.
pub(crate) struct RaceRules {
    pub(crate) margin: f64,
    most_rounds: usize,
    goal: Goal,
    pub(crate) keeps_nothing: bool,
    pub(crate) require: Require,
}

impl RaceRules {
    /// As it is wished, and as the contest says.
    pub(crate) fn of(wish: &RaceWish, config: &ContestConfig) -> RaceRules {
        // Two that are to be compared are compared, whatever they keep or miss.
        let is_pair = wish.goal == Goal::Pair;
        RaceRules {
            margin: wish.margin.unwrap_or(MARGIN),
            most_rounds: wish.most_rounds,
            goal: wish.goal,
            keeps_nothing: config.keeps_nothing || is_pair,
            require: if is_pair { Require::default() } else { config.require.clone() },
        }
    }

    /// For contenders of which nobody is dropped before the end, and nothing required.
    pub(crate) fn exact(margin: f64, most_rounds: usize) -> RaceRules {
        RaceRules { margin, most_rounds, goal: Goal::Exact, keeps_nothing: true, require: Require::default() }
    }

    /// An answer that takes longer than this in the check, and many times as long as the best, is of one that would not start. None where
    /// everybody runs to the end.
    pub(crate) fn stop_above(&self) -> Option<Duration> {
        let enough = self.require.shortest_time().map_or(Duration::ZERO, |nanos| Duration::from_nanos(nanos as u64));
        (self.goal == Goal::Choice).then_some(LONG_ANSWER.max(enough))
    }

    /// For a field that was checked.
    pub(crate) fn options(&self, contest: &Contest, checks: &Checks, seed: u64) -> RaceOptions {
        let settings = RaceSettings {
            margin: self.margin,
            most_rounds: self.most_rounds,
            goal: self.goal,
            // Where a time is required, who rests would never be known to keep it.
            rests: self.goal == Goal::Choice && !self.require.limits().any(|(required, _)| required.is_time()),
            keep_below: self.require.shortest_time(),
            ..RaceSettings::default()
        };
        let beside = self.beside(contest, checks);
        let may_be_chosen = contest.entries.iter().zip(&beside).map(|(entry, beside)| entry.choices.filter(|_| !beside));
        RaceOptions {
            settings,
            time: USUAL_TIME,
            least_calls: if self.require.limit(Required::P95).is_some() { CALLS_FOR_P95 } else { 1 },
            seed,
            compared: compared(may_be_chosen),
            beside,
            limits: self.require.time_limits(),
        }
    }

    /// Of each contender that was checked whether it only runs beside the race, as it is not to be chosen.
    pub(crate) fn beside(&self, contest: &Contest, checks: &Checks) -> Vec<bool> {
        let is_beside = |(at, entry): (usize, &Entry)| {
            let measured = checks.entries[at].probe.as_ref().map(|probe| probe.measured.clone()).unwrap_or_default();
            let of = Candidate { keeps_nothing: entry.keeps_nothing(), keeps_answers: entry.keeps_answers(), measured: &measured };
            beside(&self.require, self.keeps_nothing, of).is_some()
        };
        contest.entries.iter().enumerate().map(is_beside).collect()
    }
}
