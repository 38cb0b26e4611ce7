//! How many more rounds a decision would take.

use crate::heat::{Levels, is_told};
use crate::race::{Race, Rival};
use crate::settings::Goal;
use crate::signs::{need, worth};

/// Rounds beyond this are not forecast: nobody waits for them.
pub const FORECAST_LIMIT: usize = 4000;

/// Rounds at which every open contender would be decided at a margin, if all goes on as so far; none where that is beyond
/// [`FORECAST_LIMIT`] or cannot be told yet. Rounds so far are included.
///
/// A contender is taken to become slower, tied or not faster as soon as the order statistics that its interval would then consist of,
/// taken from the rounds so far, are beyond zero or within the margin.
pub fn forecast(race: &Race, margin: f64) -> Option<usize> {
    Forecaster::new(race).rounds(race, margin)
}

/// Forecasts for several margins, or rounds of one race, from the same tables.
#[derive(Clone, Debug)]
pub struct Forecaster {
    levels: Levels,
}

impl Forecaster {
    /// Computes the tables, which depend on the number of contenders alone.
    pub fn new(race: &Race) -> Forecaster {
        let mut levels = race.levels.clone();
        levels.extend_to(FORECAST_LIMIT);
        Forecaster { levels }
    }

    /// As [`forecast`]; in a heat, of those that are open beside the anchor.
    pub fn rounds(&self, race: &Race, margin: f64) -> Option<usize> {
        let base = race.anchor().or(race.leader())?;
        let open = race.to_tell().filter(|rival| race.anchor().is_none() || !is_told(rival));
        let mut each = open.map(|rival| self.needed(race, rival, base, margin));
        each.try_fold(race.rounds(), |most, needed| Some(most.max(needed?)))
    }

    /// Rounds, those so far included, after which one contender would be told from another; none where that is not foretold.
    pub fn rounds_for(&self, race: &Race, contender: usize, base: usize, margin: f64) -> Option<usize> {
        self.needed(race, &race.beside(contender, base)?, base, margin)
    }

    fn needed(&self, race: &Race, rival: &Rival, base: usize, margin: f64) -> Option<usize> {
        let (differences, likeness) = (&rival.differences, rival.likeness);
        let pairs = self.levels.of_pair(race, rival.contender, base);
        if differences.rounds() < 5 {
            return None;
        }
        let bound = (1.0 + margin).ln();
        // Likeness that chance alone may have made is not expected to last.
        let likeness = (likeness - 1.0 / (differences.rounds() as f64).sqrt()).max(0.0);
        let share = differences.slower() as f64 / differences.rounds() as f64;
        let is_decided = |rounds: usize| {
            let slower =
                need(&pairs.drop, rounds, likeness).is_some_and(|need| differences.median > bound && share * rounds as f64 >= need as f64);
            let tied = || {
                need(&pairs.tie, rounds, likeness).is_some_and(|need| {
                    let high = need as f64 / rounds as f64;
                    differences.quantile(high) < bound && differences.quantile(1.0 - high + 1.0 / rounds as f64) > -bound
                })
            };
            let not_faster = || {
                need(&pairs.tie, rounds, likeness).is_some_and(|need| {
                    let low = differences.quantile(1.0 - need as f64 / rounds as f64 + 1.0 / rounds as f64);
                    let is_clear = differences.median > 3.0 * bound || (low > 0.0 && differences.median > bound);
                    low > -bound && !is_clear
                })
            };
            slower || tied() || (race.goal() == Goal::Choice && not_faster())
        };
        // From where it holds on it goes on to hold, but for the grain of whole counts; a search by halves finds it.
        let (mut low, mut high) = (differences.rounds(), FORECAST_LIMIT);
        if !is_decided(high) || worth(high, likeness) < 8 {
            return None;
        }
        while low < high {
            let middle = low.midpoint(high);
            if is_decided(middle) { high = middle } else { low = middle + 1 }
        }
        Some(race.rounds() + (low - differences.rounds()))
    }
}
