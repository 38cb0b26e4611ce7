//! Histories: the states that a row went through, from the one in which rows begin to its own, one for each of its steps.

use kampf_schema::{ColumnId, Value};

use crate::others::{Origin, Others};
use crate::random::{Random, mix};

/// All steps of one row must draw the same chances, whatever their own are.
const PATHS: u64 = 0x7061_7468_7331;

/// The state that the n-th step of a row ends in; the last one ends in the row's own.
#[derive(Clone, Debug)]
pub(crate) struct Path {
    /// The link to the row whose steps they are, and where its state is.
    pub(crate) link: usize,
    pub(crate) of: Origin,
    /// The states on the way, of which the first is that before the first step.
    pub(crate) on_the_way: Vec<Value>,
}

impl Path {
    pub(crate) fn make(&self, others: &dyn Others) -> Value {
        let last = others.value(self.of);
        let (parent, steps) = others.siblings(self.link);
        let step = others.ordinal(self.link) + 1;
        let known = self.on_the_way.iter().position(|state| *state == last);
        let ends = known.unwrap_or(self.on_the_way.len());
        let stays = usize::from(self.on_the_way.first() == Some(&Value::Null));
        let at = Way { ends, states: self.on_the_way.len().max(ends + 1), stays }.at(step.min(steps), steps, mix(PATHS ^ parent));
        self.on_the_way.get(at).cloned().unwrap_or(last)
    }
}

/// A way through numbered states, from the first to the one in which it ends.
#[derive(Clone, Copy, Debug)]
struct Way {
    ends: usize,
    /// How many states there are.
    states: usize,
    /// The first one that a way may come back to.
    stays: usize,
}

impl Way {
    /// Where a way of so many steps is after one of them. Short ways leave states out, long ones go back and forth at one place. No two states in a
    /// row are the same, unless there are too few.
    fn at(self, step: u64, steps: u64, chance: u64) -> usize {
        let Way { ends, states, stays } = self;
        let (step, steps) = (step as usize, steps as usize);
        if steps < ends {
            return (step * ends).div_ceil(steps.max(1));
        }
        // One state more or less, so that what is left goes back and forth.
        let is_odd = (steps - ends) % 2 == 1;
        let mut random = Random::at(chance, 0);
        let mut any = |not: &[usize]| {
            let of: Vec<usize> = (stays..states).filter(|at| !not.contains(at)).collect();
            (!of.is_empty()).then(|| of[random.below(of.len() as u64) as usize])
        };
        let stops: Vec<usize> = match ends {
            _ if !is_odd => (0..=ends).collect(),
            0 if steps == 1 => return 0,
            0 => match any(&[0]).and_then(|one| Some((one, any(&[0, one])?))) {
                Some((one, other)) => vec![0, one, other, 0],
                None => vec![0, 0],
            },
            1 => match any(&[0, 1]) {
                Some(other) => vec![0, other, 1],
                None => vec![0, 1, 1],
            },
            _ => (0..ends - 1).chain([ends]).collect(),
        };
        let hops = stops.len() - 1;
        let more = steps.saturating_sub(hops);
        // Back and forth at one of the stops.
        let first = usize::from(hops > 0);
        let place = first + random.below((hops - first + 1) as u64) as usize;
        match step.checked_sub(place) {
            None => stops[step],
            Some(back) if back < more => {
                let before = place.checked_sub(1).map(|before| stops[before]).filter(|before| *before >= stays && *before != stops[place]);
                let other = before.or_else(|| (stays..states).find(|at| *at != stops[place])).unwrap_or(stops[place]);
                if back % 2 == 0 { stops[place] } else { other }
            }
            Some(back) => stops[place + back - more],
        }
    }
}

/// What another column has in the row before, among those of the same parent.
#[derive(Clone, Debug)]
pub(crate) struct Previous {
    pub(crate) link: usize,
    pub(crate) column: ColumnId,
    /// What the first has.
    pub(crate) first: Value,
}

impl Previous {
    pub(crate) fn make(&self, others: &dyn Others) -> Value {
        others.previous(self.link, self.column).unwrap_or_else(|| self.first.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ways_of_any_length_begin_at_the_first_end_where_they_should_and_do_not_stand_still() {
        for (states, stays) in [(2, 0), (3, 0), (6, 0), (2, 1), (3, 1), (4, 1), (7, 1)] {
            for ends in stays..states {
                for steps in 1..40_u64 {
                    for chance in 0..20 {
                        let way = Way { ends, states, stays };
                        let at: Vec<usize> = (0..=steps).map(|step| if step == 0 { 0 } else { way.at(step, steps, chance) }).collect();
                        assert_eq!(at[steps as usize], ends, "{way:?} {at:?}");
                        assert!(at[1..].iter().all(|at| (stays..states).contains(at)), "{way:?} {at:?}");
                        let stands = at.windows(2).filter(|pair| pair[0] == pair[1]).count() as u64;
                        // With one state there is nowhere to go, and with two no way of an odd length back.
                        let too_few = match (states - stays, ends, stays) {
                            (1, ..) => steps - 1,
                            (2, ..) => 1,
                            (_, 0, 0) => u64::from(steps == 1),
                            _ => 0,
                        };
                        assert!(stands <= too_few, "{way:?} {at:?}");
                    }
                }
            }
        }
    }
}
