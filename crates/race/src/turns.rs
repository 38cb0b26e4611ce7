//! Rounds by turns: how many turns a round has, and what its slices say of each contender.
//!
//! The speed of a machine that is shared comes in phases. Where each contender has its run at a stretch, one falls into a slow phase and its
//! neighbour into a fast one. In a *turn* each has one *slice*, a call or a block of calls with one parameter set, so that all of them share
//! the phases; what is left of a phase is divided out as the machine's speed.

use crate::summary::{Nanos, median};

/// With parameters, calls from here on are made with one set in a round.
const VERY_LONG: Nanos = 250e6;
/// With parameters, calls up to here are made three times with each set.
const SHORT_WITH_SETS: Nanos = 5e6;
/// Numbers of passes, and how many rounds a decision takes with them, as a share of those with five: between what was simulated and what was measured
/// (docs/decisions/0036-rounds-by-turns.md). Two are no better than one, as nothing can be divided.
const PASSES: [(usize, f64); 6] = [(1, 3.0), (3, 1.5), (4, 1.15), (5, 1.0), (7, 0.93), (10, 0.87)];
/// So many passes make it possible to tell the machine's speed from the rest.
const ENOUGH_TO_DIVIDE: usize = 3;
/// The speed of a moment is told by so many slices before it and behind it, in so many steps.
const NEAR: usize = 2;
const TIMES: usize = 3;

/// The turns of a round: so many passes over so many parameter sets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Turns {
    /// Parameter sets, at least one.
    pub sets: usize,
    /// Passes over them, at least one.
    pub passes: usize,
}

impl Turns {
    /// Those of a round without parameters: as many passes as decide a race soonest, by the nanoseconds that all together take for what is not
    /// measured in a round, and for a pass where there are so many; but one, where a round of more would be longer than it may be.
    pub fn soonest(unmeasured: Nanos, pass: impl Fn(usize) -> Nanos, longest: Nanos) -> Turns {
        let round = |passes: usize| unmeasured + passes as f64 * pass(passes);
        let fitting = PASSES.iter().filter(|(passes, _)| *passes == 1 || round(*passes) <= longest);
        let soonest = fitting.min_by(|(one, rounds), (other, more)| (rounds * round(*one)).total_cmp(&(more * round(*other))));
        Turns { sets: 1, passes: soonest.map_or(1, |(passes, _)| *passes) }
    }

    /// Those of a round over so many parameter sets, whose slowest call takes so many nanoseconds. One round has the same turns for all.
    pub fn over(sets: usize, slowest: Nanos) -> Turns {
        match slowest {
            slowest if slowest > VERY_LONG => Turns { sets: 1, passes: 1 },
            slowest if slowest < SHORT_WITH_SETS => Turns { sets: sets.max(1), passes: ENOUGH_TO_DIVIDE },
            _ => Turns { sets: sets.max(1), passes: 1 },
        }
    }

    /// How many there are.
    pub fn count(self) -> usize {
        self.sets * self.passes
    }

    /// With which parameter set the calls of a turn are made.
    pub fn set(self, turn: usize) -> usize {
        turn % self.sets
    }

    /// The values of a round. `played` says whose slices they were, one after the other, and `slices` has for each contender the nanoseconds of a
    /// call in each of its slices, by turns; none where it did not run all of them.
    ///
    /// Of contender i in pass p over set k, `y[i][k][p]`: with three passes or more each is divided by the machine's speed then; the value is the
    /// mean over k of `exp(median over p of ln y[i][k][p])`. What is *off* is `ln y[i][k][p]` less its median over p. Of two contenders the speed
    /// is that of the turn, `exp(median over i of what is off)`, so that they are compared by the median of their paired differences; of more it is that of
    /// the moment: the same over the slices of others among the two before and the two after, thrice, each time with what is off of the values
    /// found before.
    pub fn values(self, played: &[usize], slices: &[Option<Vec<Nanos>>]) -> Vec<Option<Nanos>> {
        let logs: Vec<Option<Vec<f64>>> = slices
            .iter()
            .map(|own| {
                Some(own.as_ref().filter(|own| own.len() == self.count())?.iter().map(|ns| ns.max(f64::MIN_POSITIVE).ln()).collect())
            })
            .collect();
        let divided = self.divided(played, &logs);
        let value = |own: &Vec<f64>| self.middles(own).into_iter().map(f64::exp).sum::<f64>() / self.sets as f64;
        divided.iter().map(|own| own.as_ref().map(value)).collect()
    }

    /// The logarithms of slices without those of the speed, where there are enough passes to tell it.
    fn divided(self, played: &[usize], logs: &[Option<Vec<f64>>]) -> Vec<Option<Vec<f64>>> {
        let runners = logs.iter().flatten().count();
        if self.passes < ENOUGH_TO_DIVIDE || runners < 2 {
            return logs.to_vec();
        }
        if runners == 2 {
            let off: Vec<Vec<f64>> = logs.iter().flatten().map(|own| self.off(own, &self.middles(own))).collect();
            let speed = |turn: usize| median(&off.iter().map(|own| own[turn]).collect::<Vec<_>>()).unwrap_or_default();
            return logs.iter().map(|own| Some(own.as_ref()?.iter().enumerate().map(|(turn, log)| log - speed(turn)).collect())).collect();
        }
        let moments = self.moments(played, logs);
        let mut divided = logs.to_vec();
        for _ in 0..TIMES {
            let off: Vec<Option<Vec<f64>>> =
                logs.iter().zip(&divided).map(|(own, divided)| Some(self.off(own.as_ref()?, &self.middles(divided.as_ref()?)))).collect();
            let of = |&(at, turn): &(usize, usize)| off[at].as_ref().map(|own| own[turn]);
            let mut next = logs.to_vec();
            for (moment, &(at, turn)) in moments.iter().enumerate() {
                let near = moments[moment.saturating_sub(NEAR)..moments.len().min(moment + NEAR + 1)].iter();
                let others: Vec<f64> = near.filter(|(other, _)| *other != at).filter_map(of).collect();
                if let (Some(own), Some(speed)) = (&mut next[at], median(&others)) {
                    own[turn] -= speed;
                }
            }
            divided = next;
        }
        divided
    }

    /// Whose slice of which turn it was, moment by moment, of those who ran all turns.
    fn moments(self, played: &[usize], logs: &[Option<Vec<f64>>]) -> Vec<(usize, usize)> {
        let mut turns = vec![0; logs.len()];
        let whole = played.iter().filter(|&&at| logs.get(at).is_some_and(Option::is_some));
        let moment = |&at: &usize| {
            turns[at] += 1;
            (at, turns[at] - 1)
        };
        whole.map(moment).filter(|(_, turn)| *turn < self.count()).collect()
    }

    /// By set the median over passes.
    fn middles(self, own: &[f64]) -> Vec<f64> {
        let of_set = |set: usize| median(&self.turns_of(set).map(|turn| own[turn]).collect::<Vec<_>>()).unwrap_or_default();
        (0..self.sets).map(of_set).collect()
    }

    /// By turn what is off.
    fn off(self, own: &[f64], middles: &[f64]) -> Vec<f64> {
        (0..self.count()).map(|turn| own[turn] - middles[self.set(turn)]).collect()
    }

    /// The turns with a parameter set.
    fn turns_of(self, set: usize) -> impl Iterator<Item = usize> {
        (0..self.passes).map(move |pass| pass * self.sets + set)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn with_sets_the_slowest_call_decides_how_many_turns_there_are() {
        let with = [1e3, 4.9e6, 5e6, 250e6, 251e6].map(|slowest| Turns::over(8, slowest)).map(|turns| (turns.sets, turns.passes));
        assert_eq!(with, [(8, 3), (8, 3), (8, 1), (8, 1), (1, 1)]);
        let turns = Turns { sets: 3, passes: 2 };
        assert_eq!((turns.count(), (0..6).map(|turn| turns.set(turn)).collect::<Vec<_>>()), (6, vec![0, 1, 2, 0, 1, 2]));
    }

    #[test]
    fn there_are_as_many_passes_as_starts_are_dear_and_time_allows() {
        let passes = |unmeasured: f64| Turns::soonest(unmeasured, |_| 1.0, f64::INFINITY).passes;
        assert_eq!([0.0, 1.5, 6.0, 1000.0].map(passes), [1, 4, 5, 10]);
        // What is to be measured in a round anyway is shared among as many as there are.
        assert_eq!(Turns::soonest(5e6, |passes| 10.5e6 / passes as f64, f64::INFINITY).passes, 10);
        let within = |longest: f64| Turns::soonest(6.0, |_| 1.0, longest).passes;
        assert_eq!([11.0, 10.9, 9.5, 8.9, 1.0].map(within), [5, 4, 3, 1, 1]);
    }

    fn close(found: &[Option<Nanos>], expected: &[Option<Nanos>]) -> bool {
        found.len() == expected.len()
            && found.iter().zip(expected).all(|pair| match pair {
                (Some(found), Some(expected)) => (found / expected - 1.0).abs() < 1e-9,
                (found, expected) => found == expected,
            })
    }

    #[test]
    fn a_slow_phase_that_all_share_is_divided_out_and_a_slice_of_one_alone_is_passed_over() {
        let turns = Turns { sets: 1, passes: 5 };
        // From the third turn on the machine takes 1.8 times as long.
        let speed = [1.0, 1.0, 1.8, 1.8, 1.8];
        let own = |call: f64| Some(speed.iter().map(|speed| call * speed).collect::<Vec<f64>>());
        let mut held_up = own(110.0).unwrap();
        held_up[3] *= 4.0;
        // The level of a round is that of most of its turns.
        let played: Vec<usize> = (0..5).flat_map(|_| [0, 1, 2]).collect();
        let expected = [Some(180.0), Some(198.0), Some(234.0), None];
        assert!(close(&turns.values(&played, &[own(100.0), Some(held_up), own(130.0), None]), &expected));
    }

    #[test]
    fn a_phase_that_begins_in_the_middle_of_a_turn_is_divided_out() {
        let turns = Turns { sets: 1, passes: 5 };
        let calls = [100.0, 110.0, 130.0, 150.0, 170.0, 190.0];
        // From the fourth slice of the second turn on it takes 1.8 times as long.
        let played: Vec<usize> =
            [[0, 1, 2, 3, 4, 5], [5, 2, 0, 4, 1, 3], [1, 0, 3, 2, 5, 4], [3, 1, 4, 0, 5, 2], [2, 5, 1, 4, 3, 0]].concat();
        let mut slices = vec![Some(Vec::new()); 6];
        for (moment, &at) in played.iter().enumerate() {
            slices[at].as_mut().unwrap().push(calls[at] * if moment < 9 { 1.0 } else { 1.8 });
        }
        let values = turns.values(&played, &slices);
        for at in 1..6 {
            let ratio = values[at].unwrap() / values[0].unwrap();
            assert!((ratio / (calls[at] / calls[0]) - 1.0).abs() < 1e-9, "{at}: {ratio} {values:?}");
        }
    }

    #[test]
    fn two_contenders_are_compared_by_the_median_of_their_paired_differences() {
        let turns = Turns { sets: 1, passes: 3 };
        let (one, other) = ([100.0, 180.0, 130.0], [105.0, 150.0, 200.0]);
        let values = turns.values(&[0, 1, 1, 0, 0, 1], &[Some(one.to_vec()), Some(other.to_vec())]);
        let ratio = values[1].unwrap() / values[0].unwrap();
        let differences: Vec<f64> = one.iter().zip(&other).map(|(one, other)| (other / one).ln()).collect();
        assert!((ratio.ln() - median(&differences).unwrap()).abs() < 1e-9, "{ratio}");
    }

    #[test]
    fn with_sets_the_value_is_their_mean_so_that_a_dear_one_counts() {
        let turns = Turns { sets: 2, passes: 1 };
        assert!(close(&turns.values(&[0, 1, 0, 1], &[Some(vec![100.0, 900.0]), Some(vec![300.0, 300.0])]), &[Some(500.0), Some(300.0)]));
        // By turns: both sets, then both again; nothing is divided before the third pass.
        let turns = Turns { sets: 2, passes: 2 };
        let geometric = (100.0f64 * 400.0).sqrt();
        assert!(close(&turns.values(&[0; 4], &[Some(vec![100.0, 900.0, 400.0, 900.0])]), &[Some((geometric + 900.0) / 2.0)]));
    }

    #[test]
    fn who_did_not_run_all_turns_has_no_value_and_is_not_counted_for_the_speed() {
        let turns = Turns { sets: 1, passes: 3 };
        let values = turns.values(&[0, 1, 0, 0], &[Some(vec![100.0, 100.0, 100.0]), Some(vec![50.0]), None]);
        assert!(close(&values, &[Some(100.0), None, None]));
        assert!(turns.values(&[], &[]).is_empty());
    }
}
