//! How contenders stand in a race.

use crate::race::{FIRST_LOOK, Race, State};
use crate::signs::Interval;
use crate::summary::{Nanos, median};

/// A contender that leaves the race.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Departure {
    /// Its place in the field.
    pub contender: usize,
    /// The leader then.
    pub leader: usize,
    /// The round after which it left, from 1.
    pub round: usize,
    /// Why it left.
    pub why: Why,
}

/// Why a contender left the race.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Why {
    /// Its fastest run took so many times as long as the leader's slowest. The chance of being wrong here is not covered by alpha.
    Outclassed {
        /// How many times.
        times: f64,
    },
    /// It is slower than the leader beyond chance and beyond the margin.
    Slower,
}

/// What the rounds say about a contender.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Finding {
    /// It leads.
    Leads,
    /// It surely differs from the leader by less than the margin.
    Tied,
    /// It is slower than the leader, beyond chance and by more than the margin.
    Slower,
    /// It was so far behind that it was not run to the end.
    Outclassed,
    /// It surely is not faster than the leader by more than the margin; how much slower it is, is not known to the margin.
    NotFaster,
    /// It is faster than the leader beyond chance, and runs beside the race: it is not to be chosen.
    Faster,
    /// It may be faster than the leader or not, with the rounds there were.
    Open,
    /// It could not be run to the end.
    Failed,
}

/// A contender against the leader.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Gap {
    /// The leader.
    pub leader: usize,
    /// Rounds that both ran.
    pub rounds: usize,
    /// Median of its time over the leader's in the same round.
    pub ratio: f64,
    /// The interval of that median which the decision used; none where there are too few rounds.
    pub interval: Option<Interval>,
    /// Whether the first and the second half of the rounds contradict each other.
    pub is_moving: bool,
}

/// A contender in a race.
#[derive(Clone, Debug, PartialEq)]
pub struct Standing {
    /// Its place in the field.
    pub contender: usize,
    /// What the rounds say about it.
    pub finding: Finding,
    /// Rounds it finished.
    pub rounds: usize,
    /// Median over rounds; none without rounds.
    pub median: Option<Nanos>,
    /// Interval of the median at 2.5 % a side; none before the eighth round.
    pub interval: Option<Interval>,
    /// Fastest and slowest round; a plain range, not an interval.
    pub range: Option<(Nanos, Nanos)>,
    /// Against the leader, over the rounds that both ran.
    pub gap: Option<Gap>,
    /// When and why it left, and how it stood against the leader then.
    pub left: Option<(Departure, Gap)>,
}

impl Race {
    /// How one run varies around what the contender takes, as a share: the middle one of the rivals' spreads. None before the
    /// fifth round.
    pub fn noise(&self) -> Option<f64> {
        let judged = self.judged.as_ref().filter(|_| self.rounds >= 5)?;
        let spreads: Vec<f64> = judged.rivals.iter().map(|rival| rival.differences.spread() / std::f64::consts::SQRT_2).collect();
        median(&spreads).or_else(|| Some(self.own(judged.base)?.spread()))
    }

    /// How all contenders stand, by their places.
    pub fn standings(&self) -> Vec<Standing> {
        (0..self.runners.len()).map(|contender| self.standing(contender)).collect()
    }

    fn standing(&self, contender: usize) -> Standing {
        let runner = &self.runners[contender];
        let (leader, rival, chained) = (self.leader(), self.rival(contender), self.chained(contender));
        // One that was kept although it is far behind needs no more rounds.
        let far = || leader.is_some_and(|leader| self.is_outclassed(contender, leader).is_some());
        let finding = match (&runner.state, rival.map(|rival| rival.finding)) {
            (State::Failed, _) => Finding::Failed,
            (State::Dropped(Departure { why: Why::Slower, .. }, _), _) => Finding::Slower,
            (State::Dropped(..) | State::LeftOut, _) => Finding::Outclassed,
            (State::Racing, None) => match chained {
                Some((finding, _)) => finding,
                // With nobody in the race that leads to the leader nothing is known of it.
                None if leader.is_some_and(|leader| leader != contender) => Finding::Open,
                None => Finding::Leads,
            },
            (State::Racing, Some(Finding::Open | Finding::NotFaster)) if far() => Finding::Outclassed,
            (State::Racing, Some(finding)) => finding,
        };
        let gap = match (&runner.state, rival, leader) {
            (_, Some(rival), Some(leader)) => Some(self.gap(&rival.differences, rival.interval, leader)),
            // With the same leader nothing was added since.
            (State::Dropped(_, gap), None, Some(leader)) if gap.leader == leader => Some(*gap),
            (State::Dropped(..), None, Some(leader)) => {
                self.between(contender, leader).filter(|gap| chained.is_none() || gap.rounds >= FIRST_LOOK).or(chained.map(|(_, gap)| gap))
            }
            (State::Racing, None, _) => chained.map(|(_, gap)| gap),
            _ => None,
        };
        let own = self.own(contender);
        Standing {
            contender,
            finding,
            rounds: runner.values.len(),
            median: median(&runner.values),
            interval: own.and_then(|own| own.interval(&self.own_counts, self.own_likeness(&own))).map(Interval::exp),
            range: runner.range,
            gap,
            left: match &runner.state {
                State::Dropped(departure, gap) => Some((*departure, *gap)),
                _ => None,
            },
        }
    }
}
