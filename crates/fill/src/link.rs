//! Which parent a child row belongs to.

use std::sync::Arc;

use crate::random::{Permutation, Random, mix};

/// Children counted per parent, handed out to child rows in scattered order.
#[derive(Clone, Debug)]
pub(crate) struct Spread {
    /// Children before each parent, and behind the last one all of them.
    before: Arc<[u32]>,
    scatter: Permutation,
}

impl Spread {
    pub(crate) fn new(before: Vec<u32>, key: u64) -> Spread {
        let rows = u64::from(before.last().copied().unwrap_or(0));
        Spread { before: before.into(), scatter: Permutation::new(rows, key) }
    }

    pub(crate) fn rows(&self) -> u64 {
        u64::from(self.before.last().copied().unwrap_or(0))
    }

    /// Most children of one parent.
    pub(crate) fn most(&self) -> u64 {
        self.before.windows(2).map(|pair| u64::from(pair[1] - pair[0])).max().unwrap_or(0)
    }

    /// The parent of a child row, and the child's number among that parent's children, from 0.
    pub(crate) fn of(&self, row: u64) -> (u64, u64) {
        let place = self.scatter.at(row) as u32;
        let parent = self.before.partition_point(|&before| before <= place) - 1;
        (parent as u64, u64::from(place - self.before[parent]))
    }
}

/// How the rows of a table find a parent.
#[derive(Clone, Debug)]
pub(crate) enum Link {
    /// By counted children.
    Spread(Spread),
    /// Any parent; of 100_000 rows so many have none.
    Scatter { key: u64, parents: u64, null_share: u32 },
    /// Each parent at most once.
    OneToOne(Permutation),
    /// A row before it in the same table; the first has none, or itself where it must have one.
    Earlier { key: u64, null_share: u32, nullable: bool },
    /// One half of a pair; all pairs differ.
    Pair { pairs: Permutation, others: u64, first: bool },
    /// Different parents for the children of one spread parent.
    Within { spread: usize, parents: u64, key: u64 },
    /// None.
    Never,
}

impl Link {
    /// The parent's row of a child row. `links` are all of the child's table.
    pub(crate) fn parent(&self, links: &[Link], row: u64) -> Option<u64> {
        match self {
            Link::Spread(spread) => Some(spread.of(row).0),
            Link::Scatter { key, parents, null_share } => {
                let mut random = Random::at(*key, row);
                let parent = random.below(*parents);
                (*null_share == 0 || random.below(100_000) >= u64::from(*null_share)).then_some(parent)
            }
            Link::OneToOne(permutation) => Some(permutation.at(row)),
            Link::Earlier { key, null_share, nullable } => {
                let mut random = Random::at(*key, row);
                let parent = random.below(row);
                match (row, nullable) {
                    (0, true) => None,
                    (0, false) => Some(0),
                    (_, true) if random.below(100_000) < u64::from(*null_share) => None,
                    _ => Some(parent),
                }
            }
            Link::Pair { pairs, others, first } => {
                let pair = pairs.at(row);
                Some(if *first { pair / others } else { pair % others })
            }
            Link::Within { spread, parents, key } => {
                let Some(Link::Spread(spread)) = links.get(*spread) else { return None };
                let (parent, ordinal) = spread.of(row);
                Some(Permutation::new(*parents, mix(key ^ parent)).at(ordinal))
            }
            Link::Never => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_spread_gives_each_parent_its_children_once_and_scatters_them() {
        let spread = Spread::new(vec![0, 3, 3, 5], 9);
        let mut of: Vec<(u64, u64)> = (0..5).map(|row| spread.of(row)).collect();
        of.sort_unstable();
        assert_eq!(of, [(0, 0), (0, 1), (0, 2), (2, 0), (2, 1)]);
        assert_eq!((spread.rows(), spread.most()), (5, 3));
    }
}
