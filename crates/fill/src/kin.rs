//! Parents that are chosen among those that a row has something in common with.

use std::sync::{Arc, OnceLock};

use kampf_schema::TableId;

use crate::random::{Permutation, Random, mix};

/// From a row to another one.
pub(crate) trait Leads: std::fmt::Debug + Send + Sync {
    /// The row that a row leads to.
    fn follow(&self, row: u64) -> Option<u64>;
}

/// Whom a row of a table leads to, one after the other.
#[derive(Clone, Debug, Default)]
pub(crate) struct Chain(pub(crate) Vec<Arc<dyn Leads>>);

impl Chain {
    fn follow(&self, row: u64) -> Option<u64> {
        self.0.iter().try_fold(row, |row, next| next.follow(row))
    }
}

/// Rows by whom they lead to; worked out when they are first asked for.
#[derive(Debug)]
pub(crate) struct Families {
    /// From a row to whom it leads to.
    pub(crate) way: Chain,
    /// Rows from `first` on.
    pub(crate) first: u64,
    pub(crate) rows: u64,
    /// How many there are of whom they lead to.
    pub(crate) heads: u64,
    members: OnceLock<Members>,
}

/// Rows in the order of whom they lead to, then in their own, four bytes each, and how many stand before each head's.
#[derive(Debug)]
struct Members {
    before: Vec<u32>,
    rows: Vec<u32>,
}

impl Members {
    fn of(rows: std::ops::Range<u64>, heads: u64, head: impl Fn(u64) -> Option<u64>) -> Members {
        // What leads to nobody stands behind all others.
        let head = |row: u64| head(row).filter(|head| *head < heads).unwrap_or(heads) as usize;
        let of_rows: Vec<u32> = rows.clone().map(|row| head(row) as u32).collect();
        let mut before = vec![0_u32; heads as usize + 2];
        of_rows.iter().for_each(|&head| before[head as usize + 1] += 1);
        for at in 1..before.len() {
            before[at] += before[at - 1];
        }
        let mut next = before.clone();
        let mut members = vec![0; of_rows.len()];
        for (row, head) in rows.zip(of_rows) {
            members[next[head as usize] as usize] = row as u32;
            next[head as usize] += 1;
        }
        Members { before, rows: members }
    }
}

impl Families {
    pub(crate) fn new(way: Chain, first: u64, rows: u64, heads: u64) -> Families {
        Families { way, first, rows, heads, members: OnceLock::new() }
    }

    fn members(&self) -> &Members {
        self.members.get_or_init(|| Members::of(self.first..self.rows, self.heads, |row| self.way.follow(row)))
    }

    /// The rows that lead to a head, in their order.
    fn of(&self, head: u64) -> &[u32] {
        let members = self.members();
        let at = head as usize;
        if head >= self.heads { &[] } else { &members.rows[members.before[at] as usize..members.before[at + 1] as usize] }
    }

    /// The n-th of all rows that do not lead to a head.
    fn other(&self, head: u64, n: u64) -> u64 {
        let members = self.members();
        let (before, behind) = (u64::from(members.before[head as usize]), u64::from(members.before[head as usize + 1]));
        let at = if n < before { n } else { n + behind - before };
        u64::from(members.rows[at as usize])
    }
}

/// How a parent is chosen among kin.
#[derive(Clone, Debug)]
pub(crate) struct Kin {
    /// The link of the row's own table by which it belongs to somebody, and the way on from there.
    pub(crate) by: usize,
    pub(crate) way: Chain,
    /// Parents by whom they belong to; none where that is the parent itself.
    pub(crate) families: Option<Arc<Families>>,
    /// Whom both belong to, where that is all they have in common.
    pub(crate) tenant: Option<TableId>,
    /// What they have in common, in words.
    pub(crate) said: String,
}

impl Kin {
    /// One of the kin of a row that belongs to somebody by this parent, by chance; none where it has none.
    pub(crate) fn any(&self, parent: u64, random: &mut Random) -> Option<u64> {
        let head = self.way.follow(parent)?;
        match &self.families {
            None => Some(head),
            Some(families) => match families.of(head) {
                [] => None,
                members => Some(members[random.below(members.len() as u64) as usize].into()),
            },
        }
    }

    /// The parent of a number, another one for each number: kin first, then all others. None where it belongs to nobody.
    pub(crate) fn nth(&self, parent: u64, key: u64, number: u64) -> Option<u64> {
        let families = self.families.as_ref()?;
        let head = self.way.follow(parent).filter(|head| *head < families.heads)?;
        let members = families.of(head);
        let own = members.len() as u64;
        if number < own {
            return Some(members[Permutation::new(own, key).at(number) as usize].into());
        }
        let others = families.rows - families.first - own;
        match (number - own).checked_sub(others) {
            None => Some(families.other(head, Permutation::new(others, mix(key)).at(number - own))),
            // Given rows, of which it is not known whom they lead to, come last.
            Some(given) => (given < families.first).then_some(given),
        }
    }
}

/// Rows by what they hang on, for those that answer others.
#[derive(Clone, Debug)]
pub(crate) struct Thread {
    /// The link to what they hang on.
    pub(crate) on: usize,
    pub(crate) first: u64,
    pub(crate) rows: u64,
    pub(crate) heads: u64,
    members: Arc<OnceLock<Members>>,
    /// What they have in common, in words.
    pub(crate) said: String,
}

impl Thread {
    pub(crate) fn new(on: usize, first: u64, rows: u64, heads: u64, said: String) -> Thread {
        Thread { on, first, rows, heads, members: Arc::default(), said }
    }

    /// An earlier row that hangs on the same thing, `head` of a row; none for the first.
    pub(crate) fn earlier(&self, row: u64, random: &mut Random, head: impl Fn(u64) -> Option<u64>) -> Option<u64> {
        let members = self.members.get_or_init(|| Members::of(self.first..self.rows, self.heads, &head));
        let at = head(row).filter(|head| *head < self.heads)? as usize;
        let of_it = &members.rows[members.before[at] as usize..members.before[at + 1] as usize];
        let own = of_it.binary_search(&(u32::try_from(row).ok()?)).ok()?;
        (own > 0).then(|| of_it[random.below(own as u64) as usize].into())
    }
}

/// Rows that are kept by whom they belong to, and of those whom they belong to, at most.
pub(crate) const MOST_KIN: u64 = 50_000_000;

#[cfg(test)]
mod tests {
    use super::*;

    /// Sixty members of four studios, the second of which has none.
    #[derive(Debug)]
    struct Studios;

    impl Leads for Studios {
        fn follow(&self, row: u64) -> Option<u64> {
            Some(match row * 7 % 60 {
                0..10 => 0,
                10..30 => 2,
                _ => 3,
            })
        }
    }

    fn families() -> Arc<Families> {
        Arc::new(Families::new(Chain(vec![Arc::new(Studios)]), 0, 60, 4))
    }

    #[test]
    fn members_are_all_rows_by_whom_they_lead_to() {
        let families = families();
        for (head, count) in [(0, 10), (1, 0), (2, 20), (3, 30)] {
            let of = families.of(head);
            assert_eq!(of.len(), count);
            assert!(of.is_sorted() && of.iter().all(|&row| Studios.follow(row.into()) == Some(head)));
        }
        assert!(families.of(4).is_empty());
    }

    #[test]
    fn kin_come_first_and_no_number_comes_twice() {
        let families = families();
        let kin = Kin { by: 0, way: Chain::default(), families: Some(Arc::clone(&families)), tenant: None, said: String::new() };
        for head in 0..4 {
            let mut seen: Vec<u64> = (0..60).map(|number| kin.nth(head, 77 + head, number).unwrap()).collect();
            let members = families.of(head);
            assert!(seen[..members.len()].iter().all(|parent| members.contains(&(*parent as u32))));
            seen.sort_unstable();
            assert_eq!(seen, (0..60).collect::<Vec<_>>());
            assert_eq!(kin.nth(head, 77, 60), None);
            // With the first ten given they are what is left at the end.
            let given = Arc::new(Families::new(Chain(vec![Arc::new(Studios)]), 10, 60, 4));
            let kin = Kin { families: Some(given), ..kin.clone() };
            let mut seen: Vec<u64> = (0..60).map(|number| kin.nth(head, 77 + head, number).unwrap()).collect();
            assert!(seen[50..].iter().all(|&row| row < 10));
            seen.sort_unstable();
            assert_eq!(seen, (0..60).collect::<Vec<_>>());
            for row in 0..40 {
                let any = kin.any(head, &mut Random::at(3, row));
                assert_eq!(any.is_none(), members.is_empty(), "who has no kin chooses nobody");
                assert!(any.is_none_or(|parent| members.contains(&(parent as u32))));
            }
        }
    }

    #[test]
    fn an_answer_is_to_an_earlier_row_that_hangs_on_the_same() {
        let thread = Thread::new(0, 0, 60, 4, String::new());
        let head = |row: u64| Studios.follow(row);
        for row in 0..60 {
            let is_first = (0..row).all(|other| head(other) != head(row));
            for chance in 0..20 {
                let answered = thread.earlier(row, &mut Random::at(chance, row), head);
                assert_eq!(answered.is_none(), is_first);
                assert!(answered.is_none_or(|other| other < row && head(other) == head(row)));
            }
        }
    }
}
