//! What keeping answers, reading in portions, other indexes and other keys are worth, and what they cost.

mod fetch;
mod indexes;
mod kept;
mod keys;

pub use fetch::FetchWorth;
pub use indexes::{IndexFinding, IndexWorth};
pub use kept::{KeptWorth, Wins};
pub use keys::{KeysOfType, KeysWorth};

use crate::by_choice::ByChoice;
use crate::facts::{Facts, RunsBeside};
use crate::placed::Placed;

/// What comes of it where any of these was raced.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Worth {
    /// Of each contender that keeps answers, best first.
    pub kept: Vec<KeptWorth>,
    /// Of reading in portions.
    pub fetch: Option<FetchWorth>,
    /// Of each variant with other indexes, that on which the best is fastest first.
    pub indexes: Vec<IndexWorth>,
    /// Of keys of other types.
    pub keys: Option<KeysWorth>,
}

/// What is known so far of a race.
#[derive(Clone, Copy)]
struct Race<'a> {
    facts: &'a Facts,
    placed: &'a [Placed],
    /// The places, best first.
    order: &'a [usize],
    by_choice: &'a [ByChoice],
}

impl<'a> Race<'a> {
    /// The places of those that were timed and gave the right answer, best first.
    fn eligible(self) -> impl Iterator<Item = usize> + 'a {
        self.order.iter().copied().filter(move |&at| self.facts.contenders[at].is_eligible())
    }

    /// What a call takes, as it is shown.
    fn time(self, at: usize) -> Option<f64> {
        self.placed[at].shown
    }

    /// The one of some that takes least.
    fn fastest(self, some: impl Iterator<Item = usize>) -> Option<usize> {
        some.filter_map(|at| Some((at, self.time(at)?))).min_by(|(_, one), (_, other)| one.total_cmp(other)).map(|(at, _)| at)
    }

    /// Whether it may be chosen, whatever is required of it.
    fn may_be_chosen(self, at: usize) -> bool {
        matches!(self.placed[at].beside, None | Some(RunsBeside::RuledOut))
    }
}

/// Works out what it is worth.
pub(crate) fn worth(facts: &Facts, placed: &[Placed], order: &[usize], by_choice: &[ByChoice]) -> Worth {
    let race = Race { facts, placed, order, by_choice };
    Worth { kept: kept::kept(race), fetch: fetch::fetch(race), indexes: indexes::indexes(race), keys: keys::keys(race) }
}
