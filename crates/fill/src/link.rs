//! Which parent a child row belongs to.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use crate::count::most_of;
use crate::kin::{Kin, Leads, Thread};
use crate::random::{Permutation, Random, Zipf, is_null, mix};

/// Children counted per parent, handed out to child rows in scattered order.
#[derive(Clone, Debug)]
pub(crate) struct Spread {
    /// Children before each parent, and behind the last one all of them.
    before: Arc<[u32]>,
    scatter: Permutation,
    /// For each row its number among its parent's children in the order of rows; worked out when it is first asked for.
    ranks: Arc<OnceLock<Vec<u32>>>,
    /// The rows of each parent in their order, likewise.
    in_order: Arc<OnceLock<Vec<u32>>>,
}

/// Rows whose numbers in their order are kept, four bytes each. Of more rows those of a parent are numbered in some other order.
const RANKED: usize = 50_000_000;

impl Spread {
    pub(crate) fn new(before: Vec<u32>, key: u64) -> Spread {
        let rows = u64::from(before.last().copied().unwrap_or(0));
        Spread { before: before.into(), scatter: Permutation::new(rows, key), ranks: Arc::default(), in_order: Arc::default() }
    }

    /// Most children of one parent.
    pub(crate) fn most(&self) -> u64 {
        most_of(&self.before)
    }

    /// The parent of a child row, and the child's number among that parent's children, from 0.
    pub(crate) fn of(&self, row: u64) -> (u64, u64) {
        let place = self.scatter.at(row) as u32;
        let parent = self.before.partition_point(|&before| before <= place) - 1;
        (parent as u64, u64::from(place - self.before[parent]))
    }

    /// The number of a child row among its parent's children, from 0, in the order of rows.
    fn rank(&self, row: u64) -> u64 {
        let rows = self.before.last().map_or(0, |rows| *rows as usize);
        if rows > RANKED {
            return self.of(row).1;
        }
        let ranks = self.ranks.get_or_init(|| {
            let mut seen = vec![0_u32; self.before.len()];
            let next = |row: usize| {
                let seen = &mut seen[self.of(row as u64).0 as usize];
                std::mem::replace(seen, *seen + 1)
            };
            (0..rows).map(next).collect()
        });
        u64::from(ranks[row as usize])
    }

    /// A parent's child by its number in the order of rows: the other way round.
    pub(crate) fn of_rank(&self, parent: u64, rank: u64) -> u64 {
        let rows = self.before.last().map_or(0, |rows| *rows as usize);
        if rows > RANKED {
            return self.child(parent, rank);
        }
        let in_order = self.in_order.get_or_init(|| {
            let mut next = self.before.to_vec();
            let mut in_order = vec![0; rows];
            for row in 0..rows as u64 {
                let next = &mut next[self.of(row).0 as usize];
                in_order[*next as usize] = row as u32;
                *next += 1;
            }
            in_order
        });
        in_order[self.before[parent as usize] as usize + rank as usize].into()
    }

    /// How many children a parent has.
    fn children(&self, parent: u64) -> u64 {
        let at = parent as usize;
        self.before.get(at + 1).map_or(0, |after| u64::from(after - self.before[at]))
    }

    /// A parent's child of a number.
    fn child(&self, parent: u64, ordinal: u64) -> u64 {
        self.scatter.from(u64::from(self.before[parent as usize]) + ordinal)
    }
}

/// A reference of a table.
pub(crate) type ReferenceId = usize;

/// How the rows of a table find a parent.
#[derive(Clone, Debug)]
pub(crate) struct Link {
    pub(crate) how: How,
    pub(crate) key: u64,
    /// Of 100_000 rows so many have none.
    pub(crate) null_share: u32,
    pub(crate) nullable: bool,
    /// Rows of the parent before this one are left out.
    pub(crate) first: u64,
    /// Parents from `first` on.
    pub(crate) parents: u64,
    /// Rows of the child before this one are given, with what they refer to.
    pub(crate) given: u64,
    /// Among whom parents are chosen, where not among all.
    pub(crate) kin: Option<Among>,
    /// Rows behind the last one.
    pub(crate) tail: Option<Tail>,
}

/// The parents of rows behind the last one of a table.
#[derive(Clone, Debug, Default)]
pub(crate) struct Tail {
    /// The number of the first of them.
    pub(crate) first: u64,
    rows: Vec<TailRow>,
    /// The last of them with each parent, and how many there are.
    of_parent: HashMap<u64, (u64, u64)>,
}

/// Whom a row behind the last one belongs to.
#[derive(Clone, Copy, Debug)]
struct TailRow {
    parent: Option<u64>,
    /// How many of these rows before it have the same parent, and the last of them.
    ordinal: u64,
    before: Option<u64>,
}

impl Tail {
    pub(crate) fn new(first: u64) -> Tail {
        Tail { first, ..Tail::default() }
    }

    /// Adds a row behind all others.
    pub(crate) fn push(&mut self, parent: Option<u64>) {
        let row = self.first + self.rows.len() as u64;
        let known = parent.map(|parent| self.of_parent.entry(parent).or_insert((row, 0)));
        let (before, ordinal) = known.map_or((None, 0), |(last, count)| {
            let before = (*count > 0).then_some(*last);
            (*last, *count) = (row, *count + 1);
            (before, *count - 1)
        });
        self.rows.push(TailRow { parent, ordinal, before });
    }

    fn row(&self, row: u64) -> Option<TailRow> {
        self.rows.get(usize::try_from(row.checked_sub(self.first)?).ok()?).copied()
    }

    fn count(&self, parent: u64) -> u64 {
        self.of_parent.get(&parent).map_or(0, |(_, count)| *count)
    }
}

/// A link of a table whose links are all known.
#[derive(Debug)]
pub(crate) struct Chained {
    pub(crate) links: Arc<[Link]>,
    pub(crate) at: usize,
}

impl Leads for Chained {
    fn follow(&self, row: u64) -> Option<u64> {
        let link = &self.links[self.at];
        // Of rows that are new it is not known here whom they belong to.
        link.reaches(&self.links, row).then(|| link.parent(&self.links, row, 0)).flatten()
    }
}

/// Among whom parents are chosen.
#[derive(Clone, Debug)]
pub(crate) enum Among {
    Kin(Kin),
    /// Rows of the own table that hang on the same thing.
    Thread(Thread),
}

#[derive(Clone, Debug)]
pub(crate) enum How {
    /// By counted children.
    Spread(Spread),
    /// Any parent.
    Scatter,
    /// Some parents much more often than others.
    Uneven(Zipf, Permutation),
    /// Each parent at most once.
    OneToOne(Permutation),
    /// A row before it in the same table; the first has none, or itself where it must have one.
    Earlier,
    /// One half of a pair; all pairs differ.
    Pair { pairs: Permutation, others: u64, first: bool },
    /// Different parents for the children of one spread parent.
    Within { spread: usize },
    /// A parent of its own for each parent of another link.
    With { other: usize, each: Permutation },
    /// A parent that has the same parent as this row: that of another link, among whose children it is.
    Cousin { through: usize, spread: Spread, above: u64, given: u64 },
    /// Another link's columns say it already.
    Implied,
    /// None.
    Never,
}

impl Link {
    /// Whether children are counted by it.
    pub(crate) fn spread(&self) -> Option<&Spread> {
        if let How::Spread(spread) = &self.how { Some(spread) } else { None }
    }

    /// How many children a row of the parent has, where they are counted.
    pub(crate) fn children(&self, parent: u64) -> u64 {
        parent.checked_sub(self.first).map_or(0, |parent| self.spread().map_or(0, |spread| spread.children(parent)))
    }

    /// The same with rows behind the last one.
    pub(crate) fn children_and_new(&self, parent: u64) -> u64 {
        self.children(parent) + self.tail.as_ref().map_or(0, |tail| tail.count(parent))
    }

    /// Whether a row is behind the last one.
    pub(crate) fn is_new(&self, row: u64) -> bool {
        self.tail.as_ref().is_some_and(|tail| row >= tail.first)
    }

    /// Whether it has a parent for a row of a number, as far as there are so many different ones to have.
    pub(crate) fn reaches(&self, links: &[Link], row: u64) -> bool {
        let Some(own) = row.checked_sub(self.given) else { return true };
        match &self.how {
            How::Spread(spread) => own < spread.before.last().copied().unwrap_or(0).into(),
            How::OneToOne(each) => own < each.len(),
            How::Pair { pairs, .. } => own < pairs.len(),
            How::Within { spread } => {
                links.get(*spread).is_some_and(|by| by.is_new(row) || by.reaches(links, row)) && links[*spread].place(row).1 < self.parents
            }
            How::With { other, each } => {
                links.get(*other).is_some_and(|by| by.is_new(row) || by.reaches(links, row)) && links[*other].place(row).0 < each.len()
            }
            How::Earlier => row > 0,
            _ => true,
        }
    }

    /// The parent's row of a child row. `links` are all of the child's table; another `attempt` is another chance.
    pub(crate) fn parent(&self, links: &[Link], row: u64, attempt: u64) -> Option<u64> {
        if let Some(tail) = self.tail.as_ref().filter(|tail| row >= tail.first) {
            return tail.row(row)?.parent;
        }
        if self.nullable && self.null_share > 0 && is_null(self.null_share, self.key, row, attempt) {
            return None;
        }
        let mut random = Random::at(self.key ^ mix(attempt), row);
        if row < self.given {
            return (self.parents > 0).then(|| self.first + random.below(self.parents));
        }
        let own = row - self.given;
        let by = |kin: &Kin| links.get(kin.by)?.parent(links, row, attempt);
        match (&self.kin, &self.how) {
            (Some(Among::Kin(kin)), How::Scatter) => match by(kin).and_then(|parent| kin.any(parent, &mut random)) {
                Some(parent) => return Some(parent),
                None if self.nullable => return None,
                None => {}
            },
            (Some(Among::Kin(kin)), How::Within { spread }) => {
                let (parent, ordinal) = links.get(*spread).filter(|by| by.spread().is_some())?.place(row);
                if let Some(found) = by(kin).and_then(|by| kin.nth(by, mix(self.key ^ parent), ordinal)) {
                    return Some(found);
                }
            }
            (Some(Among::Thread(thread)), How::Earlier) => {
                let thing = |row: u64| links.get(thread.on)?.parent(links, row, 0);
                return thread.earlier(row, &mut random, thing).or_else(|| (!self.nullable).then_some(row));
            }
            _ => {}
        }
        let found = match &self.how {
            How::Spread(spread) => spread.of(own).0,
            How::Scatter => random.below(self.parents),
            How::Uneven(zipf, scatter) => scatter.at(zipf.draw(&mut random) - 1),
            How::OneToOne(permutation) => permutation.at(own),
            How::Earlier if row == 0 => return (!self.nullable).then_some(0),
            How::Earlier => return Some(random.below(row)),
            How::Pair { pairs, others, first } => {
                let pair = pairs.at(own);
                if *first { pair / others } else { pair % others }
            }
            How::Within { spread } => {
                let (parent, ordinal) = links.get(*spread).filter(|by| by.spread().is_some())?.place(row);
                Permutation::new(self.parents, mix(self.key ^ parent)).at(ordinal)
            }
            How::With { other, each } => each.at(links.get(*other).filter(|by| by.spread().is_some())?.place(row).0),
            How::Cousin { through, spread, above, given } => {
                let parent = links.get(*through)?.parent(links, row, attempt)?.checked_sub(*above)?;
                let children = spread.children(parent);
                if children == 0 {
                    return None;
                }
                return Some(given + spread.child(parent, random.below(children)));
            }
            How::Implied | How::Never => return None,
        };
        Some(self.first + found)
    }

    /// The number of a row among its siblings, from 0, in the order of rows.
    pub(crate) fn rank(&self, row: u64) -> u64 {
        if self.is_new(row) {
            return self.place(row).1;
        }
        match (&self.how, row.checked_sub(self.given)) {
            (How::Spread(spread), Some(own)) => spread.rank(own),
            _ => row,
        }
    }

    /// The row before this one among its siblings, in the order of rows.
    pub(crate) fn before(&self, row: u64) -> Option<u64> {
        if let Some(tail) = self.tail.as_ref().filter(|tail| row >= tail.first) {
            let TailRow { parent, before, .. } = tail.row(row)?;
            let old = || {
                let (parent, children) = (parent?.checked_sub(self.first)?, self.children(parent?));
                Some(self.given + self.spread()?.of_rank(parent, children.checked_sub(1)?))
            };
            return before.or_else(old);
        }
        let (spread, own) = self.spread().zip(row.checked_sub(self.given))?;
        let rank = spread.rank(own).checked_sub(1)?;
        Some(self.given + spread.of_rank(spread.of(own).0, rank))
    }

    /// A number of a row among its siblings, from 0, and one for its parent.
    pub(crate) fn place(&self, row: u64) -> (u64, u64) {
        if let Some(TailRow { parent: Some(parent), ordinal, .. }) = self.tail.as_ref().and_then(|tail| tail.row(row)) {
            return (parent.saturating_sub(self.first), self.children(parent) + ordinal);
        }
        match (&self.how, row.checked_sub(self.given)) {
            (How::Spread(spread), Some(own)) => spread.of(own),
            _ => (0, row),
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
        assert_eq!(spread.most(), 3);
        assert!((0..5).all(|row| {
            let (parent, ordinal) = spread.of(row);
            spread.child(parent, ordinal) == row && ordinal < spread.children(parent)
        }));
        assert!((0..5).all(|row| spread.of_rank(spread.of(row).0, spread.rank(row)) == row));
    }
}
