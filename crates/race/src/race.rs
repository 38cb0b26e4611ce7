//! Rounds, drops and the decision.

use crate::evidence::Critical;
use crate::settings::RaceSettings;
use crate::signs::{Differences, Interval};
use crate::standing::{Drop, Gap, Outcome, Standing, Why};
use crate::summary::{Nanos, median};

/// The first round after which a contender can be called slower.
const FIRST_LOOK: usize = 8;
/// Level a side of the interval for a contender's own median.
const OWN_LEVEL: f64 = 0.025;

#[derive(Clone, Debug)]
struct Runner {
    /// The value of each round from the first on, until it left.
    rounds: Vec<Nanos>,
    /// Their logarithms.
    logs: Vec<f64>,
    /// The fastest and the slowest.
    range: Option<(Nanos, Nanos)>,
    state: State,
}

#[derive(Clone, Debug, PartialEq)]
enum State {
    Racing,
    /// With the gap that stood then.
    Dropped(Drop, Gap),
    /// Left before the first round: so far behind that it did not start.
    LeftOut,
    Failed,
}

/// What the rounds say about a contender against the leader.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Finding {
    Slower,
    Tied,
    Open,
}

/// A contender beside the leader, and what the rounds say about it.
#[derive(Clone, Debug)]
pub(crate) struct Rival {
    pub(crate) contender: usize,
    pub(crate) differences: Differences,
    /// How alike neighbouring rounds are: its own likeness, or that of all rivals together where it is larger.
    pub(crate) likeness: f64,
    finding: Finding,
    /// The interval that the finding rests on.
    interval: Option<Interval>,
}

/// The leader and everybody beside it.
#[derive(Clone, Debug)]
pub(crate) struct Judged {
    pub(crate) leader: usize,
    pub(crate) rivals: Vec<Rival>,
}

/// A race between contenders known by their places. Rounds go in, who is still in it and how it stands comes out.
#[derive(Clone, Debug)]
pub struct Race {
    settings: RaceSettings,
    runners: Vec<Runner>,
    rounds: usize,
    /// How many started.
    starters: usize,
    /// For each round the middle of the logarithms of those that race now.
    centres: Vec<f64>,
    judged: Option<Judged>,
    pub(crate) drop_counts: Critical,
    pub(crate) tie_counts: Critical,
    own_counts: Critical,
}

impl Race {
    /// A race of so many contenders.
    pub fn new(contenders: usize, settings: RaceSettings) -> Race {
        let runner = Runner { rounds: Vec::new(), logs: Vec::new(), range: None, state: State::Racing };
        let mut race = Race {
            settings,
            runners: vec![runner; contenders],
            rounds: 0,
            starters: contenders,
            centres: Vec::new(),
            judged: None,
            drop_counts: Critical::new(OWN_LEVEL, 0),
            tie_counts: Critical::new(OWN_LEVEL, 0),
            own_counts: Critical::new(OWN_LEVEL, 0),
        };
        race.set_levels();
        race
    }

    /// The chance of a wrong word is shared among all pairs that could come to be compared: every contender that starts could
    /// become the leader, and be compared with every other.
    fn set_levels(&mut self) {
        self.starters = self.racing().len();
        let m = self.starters.max(2) as f64;
        self.drop_counts = Critical::new(self.settings.alpha / (m * (m - 1.0)), self.rounds);
        self.tie_counts = Critical::new(self.settings.alpha / (m - 1.0), self.rounds);
    }

    /// The contenders that still run.
    pub fn racing(&self) -> Vec<usize> {
        (0..self.runners.len()).filter(|&at| self.runners[at].state == State::Racing).collect()
    }

    /// Rounds so far.
    pub fn rounds(&self) -> usize {
        self.rounds
    }

    /// Takes a contender out that could not be run.
    pub fn fail(&mut self, contender: usize) {
        self.runners[contender].state = State::Failed;
        if self.rounds == 0 {
            self.set_levels();
        }
        self.judge(true);
    }

    /// Takes a contender out that was outclassed before the first round.
    pub fn leave_out(&mut self, contender: usize) {
        self.runners[contender].state = State::LeftOut;
        self.set_levels();
    }

    /// Adds a round: a value per contender that races. One without a value has failed. Gives the contenders that drop out now.
    pub fn record(&mut self, round: &[Option<Nanos>]) -> Vec<Drop> {
        let mut failed = false;
        for (runner, value) in self.runners.iter_mut().zip(round).filter(|(runner, _)| runner.state == State::Racing) {
            match value {
                Some(value) => {
                    runner.rounds.push(*value);
                    let (low, high) = runner.range.unwrap_or((*value, *value));
                    runner.range = Some((low.min(*value), high.max(*value)));
                    runner.logs.push(value.max(f64::MIN_POSITIVE).ln());
                }
                None => {
                    runner.state = State::Failed;
                    failed = true;
                }
            }
        }
        self.rounds += 1;
        for counts in [&mut self.drop_counts, &mut self.tie_counts, &mut self.own_counts] {
            counts.extend_to(self.rounds);
        }
        self.judge(failed);
        let Some(judged) = self.judged.as_ref().filter(|_| !self.settings.exact) else { return Vec::new() };
        let mut drops = Vec::new();
        // All are judged by the same state of the race before any of them leaves it.
        for rival in &judged.rivals {
            let (contender, leader) = (rival.contender, judged.leader);
            let slowest = self.runners[contender].range.map_or(0.0, |(_, slowest)| slowest);
            let kept = self.settings.keep_below.is_some_and(|keep| slowest <= keep);
            let why = match self.is_outclassed(contender, leader) {
                Some(times) if !kept => Why::Outclassed { times },
                _ if rival.finding == Finding::Slower => Why::Slower,
                _ => continue,
            };
            drops.push((Drop { contender, leader, round: self.rounds, why }, self.gap(rival, leader)));
        }
        for (drop, gap) in &drops {
            self.runners[drop.contender].state = State::Dropped(*drop, *gap);
        }
        if !drops.is_empty() {
            self.judge(true);
        }
        drops.into_iter().map(|(drop, _)| drop).collect()
    }

    /// How a rival stands against the leader, with the interval that the decision uses.
    fn gap(&self, rival: &Rival, leader: usize) -> Gap {
        Gap {
            leader,
            rounds: rival.differences.rounds(),
            ratio: rival.differences.median.exp(),
            interval: rival.interval.map(Interval::exp),
            is_moving: rival.differences.is_moving(&self.own_counts),
        }
    }

    /// How many times a contender's fastest run is longer than the leader's slowest, where that is enough to be outclassed:
    /// more than 8 times after 2 rounds, more than 3 times from 3 rounds on.
    fn is_outclassed(&self, contender: usize, leader: usize) -> Option<f64> {
        let limit = match self.rounds {
            0 | 1 => return None,
            2 => 8.0,
            _ => 3.0,
        };
        let ((fastest, _), (_, slowest)) = (self.runners[contender].range?, self.runners[leader].range?);
        (contender != leader && fastest > limit * slowest).then(|| fastest / slowest)
    }

    /// The contender in the race with the smallest median, once what a round has in common for all is taken out of it.
    pub fn leader(&self) -> Option<usize> {
        self.judged.as_ref().map(|judged| judged.leader)
    }

    /// What the rounds so far say about everybody beside the leader; none where nobody leads.
    pub(crate) fn judged(&self) -> Option<&Judged> {
        self.judged.as_ref()
    }

    /// Brings what is derived from the rounds up to date: the middles, all of them where others race than before, and what the
    /// rounds say about everybody beside the leader.
    fn judge(&mut self, others_race: bool) {
        let racing = self.racing();
        let from = if others_race { 0 } else { self.centres.len() };
        self.centres.truncate(from);
        for round in from..self.rounds {
            let logs: Vec<f64> = racing.iter().map(|&at| self.runners[at].logs[round]).collect();
            self.centres.extend(median(&logs));
        }
        self.judged = self.judgement();
    }

    fn find_leader(&self) -> Option<usize> {
        let centred = |at: usize| self.runners[at].logs.iter().zip(&self.centres).map(|(log, centre)| log - centre).collect::<Vec<f64>>();
        let medians = self.racing().into_iter().filter_map(|at| Some((at, median(&centred(at))?)));
        medians.min_by(|(_, left), (_, right)| left.total_cmp(right)).map(|(at, _)| at)
    }

    fn judgement(&self) -> Option<Judged> {
        let leader = self.find_leader()?;
        let rivals = self.racing().into_iter().filter(|&at| at != leader);
        let differences: Vec<(usize, Differences)> = rivals.filter_map(|at| Some((at, self.differences(at, leader)?))).collect();
        // Where neighbouring rounds are alike in one contender by chance, they are not in all together, and the other way round.
        let mean = differences.iter().map(|(_, differences)| differences.likeness).sum::<f64>() / differences.len().max(1) as f64;
        let pooled = mean + 1.0 / self.rounds.max(1) as f64;
        let margin = (1.0 + self.settings.margin).ln();
        let judge = |(contender, differences): (usize, Differences)| {
            let likeness = if self.settings.correct_likeness { differences.likeness.max(pooled).clamp(0.0, 0.999) } else { 0.0 };
            let dropping = differences.interval(&self.drop_counts, likeness);
            let tying = differences.interval(&self.tie_counts, likeness);
            let finding = if self.rounds < FIRST_LOOK {
                Finding::Open
            } else if dropping.is_some_and(|interval| interval.low > 0.0) && differences.median > margin {
                Finding::Slower
            } else if tying.is_some_and(|interval| interval.is_within(margin)) {
                Finding::Tied
            } else {
                Finding::Open
            };
            let interval = if finding == Finding::Slower { dropping } else { tying };
            Rival { contender, differences, likeness, finding, interval }
        };
        Some(Judged { leader, rivals: differences.into_iter().map(judge).collect() })
    }

    fn differences(&self, contender: usize, leader: usize) -> Option<Differences> {
        let (own, base) = (&self.runners[contender].logs, &self.runners[leader].logs);
        Differences::new(own.iter().zip(base).map(|(own, base)| own - base).collect())
    }

    /// The rivals of the leader about whom nothing can be said yet.
    fn open(&self) -> Vec<usize> {
        let rivals = self.judged.iter().flat_map(|judged| &judged.rivals);
        rivals.filter(|rival| rival.finding == Finding::Open).map(|rival| rival.contender).collect()
    }

    /// How many contenders started.
    pub fn starters(&self) -> usize {
        self.starters
    }

    /// Whether everybody is told from the leader: dropped, slower or tied.
    pub fn is_told(&self) -> bool {
        self.racing().is_empty() || (self.rounds >= FIRST_LOOK && self.open().is_empty())
    }

    /// Whether no more rounds are needed. Where nobody is to be dropped, and where only one has started, each median must also
    /// be known to the margin.
    pub fn is_decided(&self) -> bool {
        let known = || self.racing().into_iter().all(|at| self.is_known(at));
        self.is_told() && (!(self.settings.exact || self.starters == 1) || known())
    }

    /// Whether the interval of a contender's median is no wider than the margin on both sides.
    fn is_known(&self, contender: usize) -> bool {
        let own = Differences::new(self.runners[contender].logs.clone());
        let interval = own.and_then(|own| own.interval(&self.own_counts, self.own_likeness(&own)));
        interval.is_some_and(|interval| interval.high - interval.low <= 2.0 * (1.0 + self.settings.margin).ln())
    }

    /// How alike neighbouring rounds of a contender are in themselves, as far as that counts.
    fn own_likeness(&self, own: &Differences) -> f64 {
        if self.settings.correct_likeness { own.likeness_beyond_chance() } else { 0.0 }
    }

    /// How one run varies around what the contender takes, as a share: the middle one of the rivals' spreads. None before the
    /// fifth round.
    pub fn noise(&self) -> Option<f64> {
        let judged = self.judged.as_ref().filter(|_| self.rounds >= 5)?;
        let spreads: Vec<f64> = judged.rivals.iter().map(|rival| rival.differences.spread() / std::f64::consts::SQRT_2).collect();
        median(&spreads).or_else(|| Some(Differences::new(self.runners[judged.leader].logs.clone())?.spread()))
    }

    /// How all contenders stand, best first; those without rounds last.
    pub fn standings(&self) -> Vec<Standing> {
        let leader = self.leader();
        let rival = |contender| self.judged.iter().flat_map(|judged| &judged.rivals).find(|rival| rival.contender == contender);
        let mut standings: Vec<Standing> = (0..self.runners.len())
            .map(|contender| {
                let runner = &self.runners[contender];
                // One that was kept although it is far behind needs no more rounds.
                let far = || leader.is_some_and(|leader| self.is_outclassed(contender, leader).is_some());
                let outcome = match (&runner.state, rival(contender).map(|rival| rival.finding)) {
                    (State::Failed, _) => Outcome::Failed,
                    (State::Dropped(Drop { why: Why::Slower, .. }, _), _) => Outcome::Slower,
                    (State::Dropped(..) | State::LeftOut, _) => Outcome::Outclassed,
                    (State::Racing, None) => Outcome::Standing,
                    (State::Racing, Some(Finding::Slower)) => Outcome::Slower,
                    (State::Racing, Some(Finding::Tied)) => Outcome::Tied,
                    (State::Racing, Some(Finding::Open)) if far() => Outcome::Outclassed,
                    (State::Racing, Some(Finding::Open)) => Outcome::Unresolved,
                };
                let (gap, left) = match &runner.state {
                    State::Dropped(drop, gap) => (Some(*gap), Some(*drop)),
                    State::Racing => (leader.and_then(|leader| Some(self.gap(rival(contender)?, leader))), None),
                    State::LeftOut | State::Failed => (None, None),
                };
                let own = Differences::new(runner.rounds.clone());
                Standing {
                    contender,
                    outcome,
                    rounds: runner.rounds.len(),
                    median: own.as_ref().map(|own| own.median),
                    interval: own.as_ref().and_then(|own| own.interval(&self.own_counts, self.own_likeness(own))),
                    range: runner.range,
                    gap,
                    left,
                }
            })
            .collect();
        standings.sort_by(|left, right| {
            let place = |standing: &Standing| match (standing.outcome, standing.median) {
                (Outcome::Failed, _) | (_, None) => (2, Nanos::INFINITY),
                // The leader is the one with the smallest centred median, which need not be the smallest of all medians.
                (Outcome::Standing, Some(_)) => (0, 0.0),
                (_, Some(median)) => (1, median),
            };
            let ((left_class, left), (right_class, right)) = (place(left), place(right));
            left_class.cmp(&right_class).then(left.total_cmp(&right))
        });
        standings
    }
}
