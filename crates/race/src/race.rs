//! Rounds, drops and how the race stands.

use crate::evidence::sign_test;
use crate::summary::{Nanos, median};

/// How a race is run.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RaceSettings {
    /// Nobody is dropped before the end.
    pub exact: bool,
    /// A contender whose slowest run took no longer than this is not dropped.
    pub keep_below: Option<Nanos>,
    /// The chance that any contender is called slower than another without being so.
    pub alpha: f64,
}

impl Default for RaceSettings {
    fn default() -> Self {
        RaceSettings { exact: false, keep_below: None, alpha: 0.05 }
    }
}

/// A contender that leaves the race.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Drop {
    /// Its place in the field.
    pub contender: usize,
    /// The leader then.
    pub leader: usize,
    /// Its fastest run over the leader's slowest.
    pub times: f64,
}

/// How a contender stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It leads.
    Standing,
    /// It is slower than the leader, beyond chance.
    Slower,
    /// It was so far behind that it was not run to the end.
    Outclassed,
    /// It cannot be told from the leader with the rounds there were.
    Unresolved,
    /// It could not be run to the end.
    Failed,
}

/// A contender at the end of a race.
#[derive(Clone, Debug, PartialEq)]
pub struct Standing {
    /// Its place in the field.
    pub contender: usize,
    /// How it stands.
    pub outcome: Outcome,
    /// Rounds it finished.
    pub rounds: usize,
    /// Median over rounds; none without rounds.
    pub median: Option<Nanos>,
    /// Fastest and slowest round; a plain range, not an interval.
    pub range: Option<(Nanos, Nanos)>,
    /// Median of the ratio to the leader in the same round.
    pub behind: Option<f64>,
}

#[derive(Clone, Debug)]
struct Runner {
    /// The value of each round; none where it did not run.
    rounds: Vec<Option<Nanos>>,
    state: State,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum State {
    Racing,
    Outclassed,
    Failed,
}

/// A race between contenders known by their places.
#[derive(Clone, Debug)]
pub struct Race {
    settings: RaceSettings,
    runners: Vec<Runner>,
}

impl Race {
    /// A race of so many contenders.
    pub fn new(contenders: usize, settings: RaceSettings) -> Race {
        let runner = Runner { rounds: Vec::new(), state: State::Racing };
        Race { settings, runners: vec![runner; contenders] }
    }

    /// The contenders that still run.
    pub fn racing(&self) -> Vec<usize> {
        (0..self.runners.len()).filter(|&at| self.runners[at].state == State::Racing).collect()
    }

    /// Rounds so far.
    pub fn rounds(&self) -> usize {
        self.runners.iter().map(|runner| runner.rounds.len()).max().unwrap_or(0)
    }

    /// Takes a contender out that could not be run.
    pub fn fail(&mut self, contender: usize) {
        self.runners[contender].state = State::Failed;
    }

    /// Takes a contender out that was outclassed before the first round.
    pub fn outclass(&mut self, contender: usize) {
        self.runners[contender].state = State::Outclassed;
    }

    /// Adds a round: a value per contender, none for those that did not run it. Gives the contenders that drop out now: those
    /// whose fastest run is more than 8 times (after 2 rounds) or 3 times (from 3 rounds on) the leader's slowest.
    pub fn record(&mut self, round: &[Option<Nanos>]) -> Vec<Drop> {
        for (runner, value) in self.runners.iter_mut().zip(round) {
            runner.rounds.push(*value);
        }
        let Some(leader) = self.leader().filter(|_| !self.settings.exact) else { return Vec::new() };
        let mut drops = Vec::new();
        for contender in self.racing() {
            let slowest = self.range(contender).map_or(0.0, |(_, slowest)| slowest);
            let kept = self.settings.keep_below.is_some_and(|keep| slowest <= keep);
            if let (false, Some(times)) = (kept, self.is_outclassed(contender, leader)) {
                self.runners[contender].state = State::Outclassed;
                drops.push(Drop { contender, leader, times });
            }
        }
        drops
    }

    /// How many times a contender's fastest run is longer than the leader's slowest, where that is enough to be outclassed.
    fn is_outclassed(&self, contender: usize, leader: usize) -> Option<f64> {
        let limit = match self.rounds() {
            0 | 1 => return None,
            2 => 8.0,
            _ => 3.0,
        };
        let ((fastest, _), (_, slowest)) = (self.range(contender)?, self.range(leader)?);
        (contender != leader && fastest > limit * slowest).then(|| fastest / slowest)
    }

    /// The contender in the race with the smallest median.
    pub fn leader(&self) -> Option<usize> {
        let medians = self.racing().into_iter().filter_map(|at| Some((at, median(&self.values(at))?)));
        medians.min_by(|(_, left), (_, right)| left.total_cmp(right)).map(|(at, _)| at)
    }

    /// How all contenders stand, best first; those without rounds last.
    pub fn standings(&self) -> Vec<Standing> {
        let leader = self.leader();
        let m = self.runners.len().max(2) as f64;
        let mut standings: Vec<Standing> = (0..self.runners.len())
            .map(|contender| {
                let pairs = leader.map(|leader| self.pairs(contender, leader)).unwrap_or_default();
                let ratios: Vec<f64> = pairs.iter().map(|(own, best)| own / best).collect();
                let slower = ratios.iter().filter(|&&ratio| ratio > 1.0).count() as u64;
                // One look, after the last round, at every ordered pair that could have become leader and other.
                let sure = sign_test(ratios.len() as u64, slower) <= self.settings.alpha / (m * (m - 1.0));
                // One that was kept although it is far behind needs no test.
                let far = leader.is_some_and(|leader| self.is_outclassed(contender, leader).is_some());
                let outcome = match self.runners[contender].state {
                    State::Failed => Outcome::Failed,
                    State::Outclassed => Outcome::Outclassed,
                    State::Racing if leader == Some(contender) => Outcome::Standing,
                    State::Racing if sure || far => Outcome::Slower,
                    State::Racing => Outcome::Unresolved,
                };
                let values = self.values(contender);
                Standing {
                    contender,
                    outcome,
                    rounds: values.len(),
                    median: median(&values),
                    range: self.range(contender),
                    behind: median(&ratios).filter(|_| leader != Some(contender)),
                }
            })
            .collect();
        standings.sort_by(|left, right| {
            let place = |standing: &Standing| standing.median.unwrap_or(Nanos::INFINITY);
            (left.outcome == Outcome::Failed).cmp(&(right.outcome == Outcome::Failed)).then(place(left).total_cmp(&place(right)))
        });
        standings
    }

    fn values(&self, contender: usize) -> Vec<Nanos> {
        self.runners[contender].rounds.iter().flatten().copied().collect()
    }

    fn range(&self, contender: usize) -> Option<(Nanos, Nanos)> {
        let values = self.values(contender);
        let low = values.iter().copied().min_by(Nanos::total_cmp)?;
        let high = values.iter().copied().max_by(Nanos::total_cmp)?;
        Some((low, high))
    }

    /// Values of two contenders in the rounds that both ran.
    fn pairs(&self, one: usize, other: usize) -> Vec<(Nanos, Nanos)> {
        let rounds = self.runners[one].rounds.iter().zip(&self.runners[other].rounds);
        rounds.filter_map(|(one, other)| Some(((*one)?, (*other)?))).collect()
    }
}

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};

    use super::*;

    fn race(rounds: &[&[f64]]) -> (Race, Vec<Drop>) {
        let mut race = Race::new(rounds[0].len(), RaceSettings::default());
        let drops = rounds
            .iter()
            .flat_map(|round| {
                let racing = race.racing();
                let values: Vec<Option<f64>> = round.iter().enumerate().map(|(at, value)| racing.contains(&at).then_some(*value)).collect();
                race.record(&values)
            })
            .collect();
        (race, drops)
    }

    #[test]
    fn a_contender_far_behind_drops_early_and_a_nearer_one_later() {
        let (race, drops) = race(&[&[1.0, 9.0, 4.0, 1.1], &[1.0, 9.5, 4.1, 1.0], &[1.2, 9.0, 4.2, 1.1]]);
        assert_eq!(drops.iter().map(|drop| drop.contender).collect::<Vec<_>>(), [1, 2]);
        assert_eq!(race.racing(), [0, 3]);
        let standings = race.standings();
        assert_eq!(standings.iter().map(|standing| standing.contender).collect::<Vec<_>>(), [0, 3, 2, 1]);
        assert_eq!(standings[3].outcome, Outcome::Outclassed);
        assert_eq!((standings[3].rounds, standings[2].rounds), (2, 3));
    }

    #[test]
    fn a_contender_that_may_be_good_enough_is_kept() {
        let mut race = Race::new(3, RaceSettings { keep_below: Some(50.0), ..RaceSettings::default() });
        race.record(&[Some(1.0), Some(40.0), Some(60.0)]);
        assert_eq!(race.record(&[Some(1.0), Some(41.0), Some(60.0)]).iter().map(|drop| drop.contender).collect::<Vec<_>>(), [2]);
    }

    #[test]
    fn few_rounds_resolve_nothing_and_many_do() {
        let few: Vec<&[f64]> = vec![&[1.0, 1.5]; 4];
        assert_eq!(race(&few).0.standings()[1].outcome, Outcome::Unresolved);
        let many: Vec<&[f64]> = vec![&[1.0, 1.5]; 8];
        let standings = race(&many).0.standings();
        assert_eq!((standings[0].outcome, standings[1].outcome), (Outcome::Standing, Outcome::Slower));
        assert_eq!(standings[1].behind, Some(1.5));
    }

    #[test]
    fn exact_drops_nobody_and_a_failed_contender_is_last() {
        let mut race = Race::new(3, RaceSettings { exact: true, ..RaceSettings::default() });
        for _ in 0..5 {
            assert!(race.record(&[Some(1.0), Some(100.0), Some(0.5)]).is_empty());
        }
        race.fail(2);
        assert_eq!(race.leader(), Some(0));
        assert_eq!(race.standings()[2].outcome, Outcome::Failed);
        assert_eq!(Race::new(0, RaceSettings::default()).standings(), []);
    }

    #[test]
    fn equal_contenders_are_hardly_ever_called_slower() {
        let mut random = rand_pcg::Pcg64Mcg::seed_from_u64(5);
        let mut wrong = 0;
        for _ in 0..500 {
            let mut race = Race::new(6, RaceSettings::default());
            for _ in 0..30 {
                let round: Vec<Option<f64>> = (0..6).map(|_| Some(1.0 + 0.1 * random.random::<f64>())).collect();
                race.record(&round);
            }
            wrong += usize::from(race.standings().iter().any(|standing| standing.outcome == Outcome::Slower));
        }
        assert!(wrong <= 25, "{wrong} of 500 races between equals called one slower");
    }
}
