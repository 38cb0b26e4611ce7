//! Whether an answer is the right one.

use std::fmt;

use kampf_schema::{Value, ValueRef};

use crate::matching::{Matched, matching};

/// What all contenders must answer.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Reference {
    /// The rows; with a limit some more than are asked for, where there are more.
    pub rows: Vec<Vec<Value>>,
    /// The sort keys of each row; empty where any order will do.
    pub keys: Vec<Vec<Value>>,
    /// Whether `rows` are all there are before the limit.
    pub complete: bool,
}

/// The outcome of a comparison.
#[derive(Clone, Debug, PartialEq)]
pub enum Agreement {
    /// The answers agree.
    Same,
    /// They do not.
    Differs(Difference),
    /// It cannot be told.
    Undecided(Unclear),
}

/// Why it cannot be told whether an answer is right.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unclear {
    /// The rows at the limit are so alike in their sort keys that it is not known which of them belong to the answer.
    AtTheLimit,
    /// So many rows are alike in all but several reals that they cannot be matched.
    TooManyAlike,
}

impl fmt::Display for Unclear {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Unclear::AtTheLimit => "it cannot be decided: rows at the limit are alike in their sort keys; add an order term",
            Unclear::TooManyAlike => {
                "it cannot be decided: more than a thousand rows are alike in all but several reals; add an order term or an exact column"
            }
        })
    }
}

/// The first difference between two answers.
#[derive(Clone, Debug, PartialEq)]
pub struct Difference {
    /// Rows of the reference.
    pub expected_rows: usize,
    /// Rows of the answer.
    pub found_rows: usize,
    /// Place of the row, from 0.
    pub row: usize,
    /// Place of the first column that differs, where single columns do.
    pub column: Option<usize>,
    /// The reference's row.
    pub expected: Option<Vec<Value>>,
    /// The answer's row.
    pub found: Option<Vec<Value>>,
}

impl Reference {
    /// The rows that are asked for.
    pub fn answer(&self, limit: Option<u64>) -> &[Vec<Value>] {
        let most = limit.map_or(usize::MAX, |limit| usize::try_from(limit).unwrap_or(usize::MAX));
        &self.rows[..self.rows.len().min(most)]
    }

    /// Whether the order matters.
    pub fn is_ordered(&self) -> bool {
        !self.keys.is_empty()
    }
}

/// Compares an answer with the reference, value by value. Rows whose sort keys agree form a run, inside which order is free:
/// keys agree where all are equal, or where all before a real are equal and that real agrees within tolerance.
pub fn compare(reference: &Reference, limit: Option<u64>, answer: &[Vec<Value>]) -> Agreement {
    let wanted = reference.answer(limit);
    let differs = |row: usize, expected: Option<&Vec<Value>>, found: Option<&Vec<Value>>| {
        let column = expected.zip(found).and_then(|(expected, found)| first_difference(expected, found));
        Agreement::Differs(Difference {
            expected_rows: wanted.len(),
            found_rows: answer.len(),
            row,
            column,
            expected: expected.cloned(),
            found: found.cloned(),
        })
    };
    if !reference.is_ordered() {
        return match matching(wanted, answer) {
            Matched::TooMany => Agreement::Undecided(Unclear::TooManyAlike),
            Matched::Left { found, expected } => differs(place(answer, found), expected, Some(found)),
            Matched::All if answer.len() == wanted.len() => Agreement::Same,
            // Right as far as it goes.
            Matched::All => match matching(answer, wanted) {
                Matched::Left { found: missing, .. } => differs(answer.len(), Some(missing), None),
                _ => differs(answer.len(), wanted.get(answer.len()), None),
            },
        };
    }
    let mut start = 0;
    while start < wanted.len() {
        let mut end = start + 1;
        while end < reference.rows.len() && same_run(&reference.keys[end - 1], &reference.keys[end]) {
            end += 1;
        }
        let inside = end.min(wanted.len());
        let Some(found) = answer.get(start..inside) else {
            let at = answer.len();
            return differs(at, wanted.get(at), None);
        };
        match matching(&reference.rows[start..end], found) {
            Matched::All => {}
            Matched::TooMany => return Agreement::Undecided(Unclear::TooManyAlike),
            Matched::Left { .. } if end == reference.rows.len() && !reference.complete => {
                return Agreement::Undecided(Unclear::AtTheLimit);
            }
            Matched::Left { found, expected } => {
                let at = start + place(&answer[start..inside], found);
                return differs(at, expected.or(Some(&reference.rows[at])), Some(found));
            }
        }
        start = inside;
    }
    if answer.len() > wanted.len() {
        return differs(wanted.len(), None, answer.get(wanted.len()));
    }
    Agreement::Same
}

/// Whether two neighbours' order is free.
fn same_run(left: &[Value], right: &[Value]) -> bool {
    for (left, right) in left.iter().zip(right) {
        let (left, right) = (left.as_ref(), right.as_ref());
        if matches!((left, right), (ValueRef::Real(_), _) | (_, ValueRef::Real(_))) {
            return left.agrees_with(right);
        }
        if left.order(right).is_ne() {
            return false;
        }
    }
    true
}

/// Where a row stands among others.
fn place(rows: &[Vec<Value>], row: &Vec<Value>) -> usize {
    rows.iter().position(|one| std::ptr::eq(one, row)).unwrap_or(0)
}

fn first_difference(left: &[Value], right: &[Value]) -> Option<usize> {
    if left.len() != right.len() {
        return Some(left.len().min(right.len()));
    }
    left.iter().zip(right).position(|(left, right)| !left.as_ref().agrees_with(right.as_ref()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(id: i64, real: f64) -> Vec<Value> {
        vec![Value::Integer(id), Value::Real(real)]
    }

    fn keys(rows: &[Vec<Value>]) -> Vec<Vec<Value>> {
        rows.iter().map(|row| vec![row[1].clone(), row[0].clone()]).collect()
    }

    fn reference(rows: &[Vec<Value>], complete: bool) -> Reference {
        Reference { rows: rows.to_vec(), keys: keys(rows), complete }
    }

    #[test]
    fn order_counts_between_keys_that_differ_and_is_free_where_reals_agree() {
        let rows = [row(1, 5.0), row(2, 5.000_000_000_1), row(3, 6.0)];
        let reference = reference(&rows, true);
        assert_eq!(compare(&reference, None, &rows), Agreement::Same);
        let swapped = [rows[1].clone(), rows[0].clone(), rows[2].clone()];
        assert_eq!(compare(&reference, None, &swapped), Agreement::Same);
        let wrong = [rows[0].clone(), rows[2].clone(), rows[1].clone()];
        let Agreement::Differs(difference) = compare(&reference, None, &wrong) else { panic!("it should differ") };
        assert_eq!((difference.row, difference.column), (1, Some(0)));
        assert!(matches!(compare(&reference, None, &rows[..2]), Agreement::Differs(Difference { row: 2, found: None, .. })));
        let longer = [rows.as_slice(), &[row(9, 9.0)]].concat();
        assert!(matches!(compare(&reference, None, &longer), Agreement::Differs(Difference { row: 3, expected: None, .. })));
    }

    #[test]
    fn a_run_cut_by_the_limit_is_matched_against_the_rows_behind_it() {
        let rows = [row(1, 4.0), row(2, 5.0), row(3, 5.0), row(4, 5.0), row(5, 6.0)];
        let other = [rows[0].clone(), rows[3].clone()];
        assert_eq!(compare(&reference(&rows, true), Some(2), &other), Agreement::Same);
        assert_eq!(compare(&reference(&rows[..3], false), Some(2), &other), Agreement::Undecided(Unclear::AtTheLimit));
        let wrong = [rows[0].clone(), rows[4].clone()];
        assert!(matches!(compare(&reference(&rows, true), Some(2), &wrong), Agreement::Differs(_)));
    }

    #[test]
    fn without_order_rows_are_a_bag() {
        let rows = [row(1, 5.0), row(1, 5.0), row(2, 7.0)];
        let reference = Reference { rows: rows.to_vec(), keys: Vec::new(), complete: true };
        assert_eq!(compare(&reference, None, &[rows[2].clone(), rows[0].clone(), rows[1].clone()]), Agreement::Same);
        let twice = [rows[2].clone(), rows[2].clone(), rows[1].clone()];
        assert!(matches!(compare(&reference, None, &twice), Agreement::Differs(_)));
        let Agreement::Differs(difference) = compare(&reference, None, &rows[..2]) else { panic!("one is missing") };
        assert_eq!((difference.row, difference.expected.as_ref(), difference.found), (2, Some(&rows[2]), None));
    }
}
