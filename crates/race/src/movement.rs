//! The same contender in two races: did it move?

use crate::signs::{Interval, median_interval};
use crate::summary::Nanos;

/// What two results say about a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Movement {
    /// It is lower, by more than what is allowed.
    Down,
    /// It is higher, by more than what is allowed.
    Up,
    /// It surely differs by no more than what is allowed.
    StoodStill,
    /// The rounds do not say.
    CannotBeTold,
}

/// A later time over an earlier one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Change {
    /// Median over median.
    pub ratio: f64,
    /// Its interval; none where either has too few rounds.
    pub interval: Option<Interval>,
}

/// The change between the rounds of two races, which have no round in common. The interval goes from the lower end of the new
/// median's over the higher end of the old one's to the reverse; each of those holds at a fourth of alpha a side, so that
/// the whole holds but for alpha. None where either has no rounds.
pub fn change(old: &[Nanos], new: &[Nanos], alpha: f64) -> Option<Change> {
    let (old, old_interval) = median_interval(old, alpha / 4.0)?;
    let (new, new_interval) = median_interval(new, alpha / 4.0)?;
    let interval = old_interval.zip(new_interval).map(|(old, new)| Interval { low: new.low / old.high, high: new.high / old.low });
    Some(Change { ratio: new / old, interval })
}

impl Change {
    /// What it says, with an allowance as a share. Where the machine itself ran so many times as long by a reference loop, a
    /// move must show both with and without that taken out of it.
    pub fn movement(&self, allowed: f64, machine: f64) -> Movement {
        let Some(Interval { low, high }) = self.interval else { return Movement::CannotBeTold };
        let bound = 1.0 + allowed;
        if low.min(low / machine) > bound {
            Movement::Up
        } else if high.max(high / machine) < 1.0 / bound {
            Movement::Down
        } else if low >= 1.0 / bound && high <= bound {
            Movement::StoodStill
        } else {
            Movement::CannotBeTold
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rounds(centre: f64) -> Vec<f64> {
        (0..60).map(|at| centre * (1.0 + 0.004 * (f64::from(at * 7 % 11) - 5.0) / 5.0)).collect()
    }

    #[test]
    fn a_move_is_told_from_standing_still_and_from_not_knowing() {
        let told = |old: &[f64], new: &[f64], machine| change(old, new, 0.05).unwrap().movement(0.03, machine);
        let (base, more, less) = (rounds(100.0), rounds(110.0), rounds(80.0));
        assert_eq!(told(&base, &more, 1.0), Movement::Up);
        assert_eq!(told(&base, &less, 1.0), Movement::Down);
        assert_eq!(told(&base, &rounds(100.5), 1.0), Movement::StoodStill);
        assert_eq!(told(&base, &more[..4], 1.0), Movement::CannotBeTold);
        // The machine was a tenth slower: that may be all there is to it.
        assert_eq!(told(&base, &more, 1.1), Movement::CannotBeTold);
        let wild: Vec<f64> = (0..30).map(|at| 60.0 + f64::from(at * 11 % 30) * 4.0).collect();
        assert_eq!(told(&base, &wild, 1.0), Movement::CannotBeTold);
        assert_eq!(change(&[], &base, 0.05), None);
    }
}
