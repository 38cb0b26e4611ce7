//! Whether an answer is the right one.

use std::fmt;

use kampf_schema::{TableId, Value, ValueRef};

use crate::answer::Answer;
use crate::form::Form;
use crate::matching::{Matched, agree, matching, rows_of};
use crate::need::Expect;

/// What all contenders must answer.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Reference {
    /// The rows; with a limit some more than are asked for, where there are more.
    pub rows: Vec<Vec<Value>>,
    /// The sort keys of each row; empty where any order will do.
    pub keys: Vec<Vec<Value>>,
    /// Whether `rows` are all there are before the limit.
    pub complete: bool,
    /// For each row whether an answer without it is right too, because a real lies within tolerance of the edge of the condition;
    /// empty where there is none.
    pub free: Vec<bool>,
    /// Whether such a row has gone into a group, so that it is not known what is right.
    pub unclear: bool,
    /// How many rows must come.
    pub expect: Expect,
    /// The form of each column; empty where all are values.
    pub forms: Vec<Form>,
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
    /// So many rows lie at the edge of the condition that it is not known which belong to the answer.
    TooManyAtTheEdge,
    /// Ways that are both derived and proven on few rows differ on all of them.
    NobodyKnows,
}

impl fmt::Display for Unclear {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Unclear::AtTheLimit => "it cannot be decided: rows at the limit are alike in their sort keys; add an order term",
            Unclear::TooManyAlike => {
                "it cannot be decided: more than a thousand rows are alike in all but several reals; add an order term or an exact column"
            }
            Unclear::TooManyAtTheEdge => {
                "it cannot be decided: many rows have reals that lie within tolerance of the edge of the condition; move the edge"
            }
            Unclear::NobodyKnows => "derived contenders differ from each other here, and nothing decides which of them is right",
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
    /// Where that many rows are not as expected: how many came, by the reference and by the answer.
    pub came: Option<(u64, u64)>,
    /// The first difference inside of the column, where that holds a list.
    pub inside: Option<Box<Difference>>,
    /// The table whose rows are not as they must be, where something is written.
    pub table: Option<TableId>,
}

impl Reference {
    /// The rows that are asked for, whether or not they are as many as expected.
    fn asked(&self, limit: Option<u64>) -> &[Vec<Value>] {
        let most = [limit, self.expect.asked()].into_iter().flatten().min();
        let most = most.map_or(usize::MAX, |most| usize::try_from(most).unwrap_or(usize::MAX));
        &self.rows[..self.rows.len().min(most)]
    }

    /// The rows of the answer; none where they are not as many as expected.
    pub fn answer(&self, limit: Option<u64>) -> &[Vec<Value>] {
        if self.came(limit).is_some() { &[] } else { self.asked(limit) }
    }

    /// How many rows came, where that is not how many are expected: then this is the answer.
    pub fn came(&self, limit: Option<u64>) -> Option<u64> {
        let came = self.asked(limit).len() as u64;
        (!self.expect.holds(came)).then_some(came)
    }

    /// Whether the order matters.
    pub fn is_ordered(&self) -> bool {
        !self.keys.is_empty()
    }

    /// The same without some of the rows.
    fn without(&self, left_out: &[usize]) -> Reference {
        let keep = |at: &usize| !left_out.contains(at);
        let rows = (0..self.rows.len()).filter(keep).map(|at| self.rows[at].clone()).collect();
        let keys = (0..self.keys.len()).filter(keep).map(|at| self.keys[at].clone()).collect();
        Reference { rows, keys, free: Vec::new(), forms: self.forms.clone(), ..*self }
    }
}

/// Rows at the edge of a condition that are tried both ways.
const MOST_AT_THE_EDGE: usize = 8;

/// Compares an answer with the reference, value by value. Rows whose sort keys agree form a run, inside which order is free:
/// keys agree where all are equal, or where all before a real are equal and that real agrees within tolerance. A row at the edge of
/// the condition may be there or not.
pub fn compare(reference: &Reference, limit: Option<u64>, answer: &Answer) -> Agreement {
    let free: Vec<usize> = (0..reference.free.len()).filter(|&at| reference.free[at]).collect();
    let whole = compare_whole(reference, limit, answer);
    if (free.is_empty() && !reference.unclear) || whole == Agreement::Same {
        return whole;
    }
    if reference.unclear || free.len() > MOST_AT_THE_EDGE {
        return Agreement::Undecided(Unclear::TooManyAtTheEdge);
    }
    let some = (1_usize..1 << free.len()).map(|set| {
        let left_out = free.iter().enumerate().filter(|(at, _)| set >> at & 1 == 1).map(|(_, &row)| row);
        reference.without(&left_out.collect::<Vec<_>>())
    });
    let same = some.into_iter().any(|reference| compare_whole(&reference, limit, answer) == Agreement::Same);
    if same { Agreement::Same } else { whole }
}

fn compare_whole(reference: &Reference, limit: Option<u64>, answer: &Answer) -> Agreement {
    let expected = reference.came(limit);
    if expected.is_some() || answer.came.is_some() {
        if expected == answer.came {
            return Agreement::Same;
        }
        let wanted = reference.asked(limit);
        return Agreement::Differs(Difference {
            expected_rows: wanted.len(),
            found_rows: answer.rows.len(),
            row: 0,
            column: None,
            expected: wanted.first().cloned(),
            found: answer.rows.first().cloned(),
            came: Some((wanted.len() as u64, answer.came.unwrap_or(answer.rows.len() as u64))),
            inside: None,
            table: None,
        });
    }
    let answer = answer.rows.as_slice();
    let wanted = reference.answer(limit);
    let forms = reference.forms.as_slice();
    let differs = |row: usize, expected: Option<&[Value]>, found: Option<&[Value]>| {
        Agreement::Differs(difference(forms, (wanted.len(), answer.len()), row, expected, found))
    };
    if !reference.is_ordered() {
        return match unordered(forms, &slices(wanted), &slices(answer)) {
            Ok(()) => Agreement::Same,
            Err(None) => Agreement::Undecided(Unclear::TooManyAlike),
            Err(Some((row, expected, found))) => differs(row, expected, found),
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
            let missing = answer.len();
            return differs(missing, wanted.get(missing).map(Vec::as_slice), None);
        };
        match matching(forms, &slices(&reference.rows[start..end]), &slices(found)) {
            Matched::All => {}
            Matched::TooMany => return Agreement::Undecided(Unclear::TooManyAlike),
            Matched::Left { .. } if end == reference.rows.len() && !reference.complete => {
                return Agreement::Undecided(Unclear::AtTheLimit);
            }
            Matched::Left { found, expected } => {
                let at = start + place(&slices(&answer[start..inside]), found);
                return differs(at, expected.or(Some(reference.rows[at].as_slice())), Some(found));
            }
        }
        start = inside;
    }
    if answer.len() > wanted.len() {
        return differs(wanted.len(), None, answer.get(wanted.len()).map(Vec::as_slice));
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
fn place(rows: &[&[Value]], row: &[Value]) -> usize {
    rows.iter().position(|one| std::ptr::eq(*one, row)).unwrap_or(0)
}

fn slices(rows: &[Vec<Value>]) -> Vec<&[Value]> {
    rows.iter().map(Vec::as_slice).collect()
}

/// The first row of two that cannot be brought together: its place, the one that is right, the one that was found.
type Apart<'a> = (usize, Option<&'a [Value]>, Option<&'a [Value]>);

/// Compares rows whose order is free.
///
/// # Errors
/// The first that differs; none where it cannot be told.
fn unordered<'a>(forms: &[Form], wanted: &[&'a [Value]], answer: &[&'a [Value]]) -> Result<(), Option<Apart<'a>>> {
    match matching(forms, wanted, answer) {
        Matched::TooMany => Err(None),
        Matched::Left { found, expected } => Err(Some((place(answer, found), expected, Some(found)))),
        Matched::All if answer.len() == wanted.len() => Ok(()),
        // Right as far as it goes.
        Matched::All => match matching(forms, answer, wanted) {
            Matched::Left { found: missing, .. } => Err(Some((answer.len(), Some(missing), None))),
            _ => Err(Some((answer.len(), wanted.get(answer.len()).copied(), None))),
        },
    }
}

fn difference(forms: &[Form], rows: (usize, usize), row: usize, expected: Option<&[Value]>, found: Option<&[Value]>) -> Difference {
    let column = expected.zip(found).and_then(|(expected, found)| first_difference(forms, expected, found));
    let lists = column.and_then(|at| Some((forms.get(at)?.list()?, expected?.get(at)?, found?.get(at)?)));
    let inside = lists.and_then(|(form, expected, found)| {
        let (wanted, answer) = (rows_of(expected)?, rows_of(found)?);
        let forms: Vec<Form> = form.items.iter().map(|item| item.form.clone()).collect();
        let apart = match form.sequence {
            crate::form::Sequence::Ordered => {
                let at = (0..wanted.len().max(answer.len())).find(|&at| match (wanted.get(at), answer.get(at)) {
                    (Some(wanted), Some(answer)) => !agree(&forms, wanted, answer),
                    _ => true,
                })?;
                (at, wanted.get(at).copied(), answer.get(at).copied())
            }
            _ => unordered(&forms, &wanted, &answer).err()??,
        };
        Some(Box::new(difference(&forms, (wanted.len(), answer.len()), apart.0, apart.1, apart.2)))
    });
    Difference {
        expected_rows: rows.0,
        found_rows: rows.1,
        row,
        column,
        expected: expected.map(<[Value]>::to_vec),
        found: found.map(<[Value]>::to_vec),
        came: None,
        inside,
        table: None,
    }
}

fn first_difference(forms: &[Form], left: &[Value], right: &[Value]) -> Option<usize> {
    if left.len() != right.len() {
        return Some(left.len().min(right.len()));
    }
    (0..left.len()).find(|&at| !agree(forms.get(at..).unwrap_or_default(), &left[at..=at], &right[at..=at]))
}

#[cfg(test)]
mod tests {
    use kampf_schema::LogicalType;

    use super::{Answer, *};
    use crate::form::{Item, ListForm, Sequence};

    fn compare(reference: &Reference, limit: Option<u64>, rows: &[Vec<Value>]) -> Agreement {
        super::compare(reference, limit, &Answer::from(rows.to_vec()))
    }

    fn row(id: i64, real: f64) -> Vec<Value> {
        vec![Value::Integer(id), Value::Real(real)]
    }

    fn keys(rows: &[Vec<Value>]) -> Vec<Vec<Value>> {
        rows.iter().map(|row| vec![row[1].clone(), row[0].clone()]).collect()
    }

    fn reference(rows: &[Vec<Value>], complete: bool) -> Reference {
        Reference { rows: rows.to_vec(), keys: keys(rows), complete, ..Reference::default() }
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
        let reference = Reference { rows: rows.to_vec(), complete: true, ..Reference::default() };
        assert_eq!(compare(&reference, None, &[rows[2].clone(), rows[0].clone(), rows[1].clone()]), Agreement::Same);
        let twice = [rows[2].clone(), rows[2].clone(), rows[1].clone()];
        assert!(matches!(compare(&reference, None, &twice), Agreement::Differs(_)));
        let Agreement::Differs(difference) = compare(&reference, None, &rows[..2]) else { panic!("one is missing") };
        assert_eq!((difference.row, difference.expected.as_ref(), difference.found), (2, Some(&rows[2]), None));
    }

    #[test]
    fn a_row_at_the_edge_of_the_condition_may_be_there_or_not() {
        let rows = [row(1, 4.0), row(2, 5.0), row(3, 6.0)];
        let edge = Reference { free: vec![false, true, false], ..reference(&rows, true) };
        assert_eq!(compare(&edge, None, &rows), Agreement::Same);
        assert_eq!(compare(&edge, None, &[rows[0].clone(), rows[2].clone()]), Agreement::Same);
        assert!(matches!(compare(&edge, None, &[rows[0].clone(), rows[1].clone()]), Agreement::Differs(_)));
        assert_eq!(compare(&edge, Some(2), &[rows[0].clone(), rows[2].clone()]), Agreement::Same);
        let many: Vec<Vec<Value>> = (0..20).map(|id| row(id, 5.0)).collect();
        let edge = Reference { free: vec![true; 20], ..reference(&many, true) };
        assert_eq!(compare(&edge, None, &many[..3]), Agreement::Undecided(Unclear::TooManyAtTheEdge));
    }

    fn list(rows: &[&[Value]]) -> Value {
        Value::List(rows.iter().map(|row| Value::List(row.to_vec().into())).collect())
    }

    fn with_list(sequence: Sequence) -> Vec<Form> {
        let item = |name: &str, kind| Item { name: name.into(), form: Form::Value(kind) };
        let items = vec![item("temper", LogicalType::Integer), item("grams", LogicalType::Real)];
        vec![Form::Value(LogicalType::Integer), Form::List(ListForm { sequence, items })]
    }

    #[test]
    fn lists_are_in_order_or_bags_and_the_difference_is_told_inside_of_them() {
        let (one, two) = ([Value::Integer(3), Value::Real(1.0)], [Value::Integer(4), Value::Real(2.0)]);
        let near = [Value::Integer(3), Value::Real(1.0 + 1e-12)];
        let row = |rows: &[&[Value]]| vec![Value::Integer(7), list(rows)];
        let compare = |sequence, wanted: Vec<Value>, found: Vec<Value>| {
            let forms = with_list(sequence);
            compare(&Reference { rows: vec![wanted], complete: true, forms, ..Reference::default() }, None, &[found])
        };
        for sequence in [Sequence::Ordered, Sequence::Any, Sequence::Nearly] {
            assert_eq!(compare(sequence, row(&[&one, &two]), row(&[&near, &two])), Agreement::Same);
            assert_eq!(compare(sequence, row(&[]), row(&[])), Agreement::Same);
        }
        assert_eq!(compare(Sequence::Any, row(&[&one, &two]), row(&[&two, &near])), Agreement::Same);
        let inside = |agreement| match agreement {
            Agreement::Differs(Difference { column: Some(1), inside: Some(inside), .. }) => *inside,
            other => panic!("{other:?}"),
        };
        let swapped = inside(compare(Sequence::Ordered, row(&[&one, &two]), row(&[&two, &one])));
        assert_eq!((swapped.row, swapped.column, swapped.found), (0, Some(0), Some(two.to_vec())));
        let missing = inside(compare(Sequence::Any, row(&[&one, &two]), row(&[&one])));
        assert_eq!((missing.row, missing.expected_rows, missing.found_rows, missing.found), (1, 2, 1, None));
        let twice = inside(compare(Sequence::Any, row(&[&one, &two]), row(&[&one, &one])));
        assert_eq!((twice.expected_rows, twice.found), (2, Some(one.to_vec())));
        assert!(matches!(compare(Sequence::Ordered, row(&[]), vec![Value::Integer(7), Value::Null]), Agreement::Differs(_)));
    }

    #[test]
    fn rows_that_differ_in_their_lists_alone_are_told_apart() {
        let (one, two) = ([Value::Integer(3), Value::Real(1.0)], [Value::Integer(4), Value::Real(2.0)]);
        let row = |rows: &[&[Value]]| vec![Value::Integer(7), list(rows)];
        let wanted = [row(&[&one]), row(&[&two]), row(&[&one, &two]), row(&[])];
        let reference = Reference { rows: wanted.to_vec(), complete: true, forms: with_list(Sequence::Any), ..Reference::default() };
        let mixed = [row(&[&two, &one]), row(&[]), row(&[&two]), row(&[&one])];
        assert_eq!(compare(&reference, None, &mixed), Agreement::Same);
        let wrong = [row(&[&two, &one]), row(&[]), row(&[&one]), row(&[&one])];
        assert!(matches!(compare(&reference, None, &wrong), Agreement::Differs(_)));
    }

    #[test]
    fn how_many_rows_came_is_the_answer_where_it_is_not_as_expected() {
        let rows = [row(1, 4.0), row(2, 5.0)];
        let of =
            |expect, many: usize, answer: Answer| super::compare(&Reference { expect, ..reference(&rows[..many], true) }, None, &answer);
        let (one, two) = (Answer::from(rows[..1].to_vec()), Answer::unexpected(2));
        assert_eq!(of(Expect::One, 1, one.clone()), Agreement::Same);
        assert_eq!(of(Expect::One, 2, two.clone()), Agreement::Same);
        assert_eq!(of(Expect::One, 0, Answer::unexpected(0)), Agreement::Same);
        assert_eq!(of(Expect::OneOfMany, 2, one.clone()), Agreement::Same);
        assert_eq!(of(Expect::ZeroOrOne, 0, Answer::default()), Agreement::Same);
        let Agreement::Differs(difference) = of(Expect::ZeroOrOne, 2, one) else { panic!("the second was not seen") };
        assert_eq!(difference.came, Some((2, 1)));
        assert!(matches!(of(Expect::One, 1, two), Agreement::Differs(_)));
        assert_eq!(Expect::One.failure(2), "expected exactly one, 2 came");
    }
}
