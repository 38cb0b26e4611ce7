//! Rows of an answer matched with those that are right, where their order is free.
//!
//! Rows are told apart by their exact columns first, those of lists in them too. Within rows that are equal in those, a row may stand
//! for any whose reals all agree with its own within tolerance; as with several reals no order of them keeps such pairs together, that
//! is an assignment (a matching in a bipartite graph, by augmenting paths: Kuhn 1955, Berge 1957).

use std::cmp::Ordering;

use kampf_schema::{LogicalType, Value};

use crate::form::{Form, ListForm, Sequence};

/// A row.
pub(crate) type Row<'a> = &'a [Value];

/// Rows with several reals, equal in all else, that an assignment is looked for among at most.
const MOST_ALIKE: usize = 1000;

/// What came of matching.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Matched<'a> {
    /// Every row that was found stands for one of its own.
    All,
    /// This row stands for none, with one that it might have been.
    Left { found: Row<'a>, expected: Option<Row<'a>> },
    /// There are too many rows that differ in reals alone.
    TooMany,
}

/// The columns of rows that are matched.
struct Columns<'f> {
    /// Their forms, where they are known.
    forms: &'f [Form],
    /// Which of them hold a real anywhere.
    reals: Vec<bool>,
}

/// Matches every row that was found with one of its own among those expected, of which some may be left.
pub(crate) fn matching<'a>(forms: &[Form], expected: &[Row<'a>], found: &[Row<'a>]) -> Matched<'a> {
    // Mostly they come in the same order, though nobody asked for it.
    if expected.len() == found.len() && expected.iter().zip(found).all(|(expected, found)| agree(forms, expected, found)) {
        return Matched::All;
    }
    let columns = Columns { forms, reals: real_columns(expected.iter().chain(found)) };
    let (expected, found) = (sorted(&columns, expected), sorted(&columns, found));
    let (mut at, mut start) = (0, 0);
    while start < found.len() {
        let end = start + begin_with(&found[start..], |row| by_exact(&columns, row, found[start]).is_eq());
        at += begin_with(&expected[at..], |row| by_exact(&columns, row, found[start]).is_lt());
        let alike = begin_with(&expected[at..], |row| by_exact(&columns, row, found[start]).is_eq());
        // Rows that are alike but for their lists stand beside each other.
        let beside = || [Some(at), at.checked_sub(1)].into_iter().flatten().filter_map(|at| expected.get(at).copied());
        let is_like = |row: &Row<'a>| values_by_exact(&columns, row, found[start]).is_eq();
        let nearest = || beside().find(is_like).or_else(|| expected.get(at).copied());
        match assign(&columns, &expected[at..at + alike], &found[start..end]) {
            Assigned::All => {}
            Assigned::Left(place, other) => {
                return Matched::Left { found: found[start + place], expected: other.map(|other| expected[at + other]).or_else(nearest) };
            }
            Assigned::TooMany => return Matched::TooMany,
        }
        (start, at) = (end, at + alike);
    }
    Matched::All
}

/// With how many that are so the rows begin; all of those come before all others. Mostly there are few.
fn begin_with<'a>(rows: &[Row<'a>], is_so: impl Fn(&Row<'a>) -> bool) -> usize {
    let mut step = 1;
    while step <= rows.len() && is_so(&rows[step - 1]) {
        step *= 2;
    }
    let known = step / 2;
    known + rows[known..rows.len().min(step)].partition_point(is_so)
}

/// The rows of a list; none where it is none.
pub(crate) fn rows_of(list: &Value) -> Option<Vec<Row<'_>>> {
    let Value::List(rows) = list else { return None };
    rows.iter().map(|row| if let Value::List(values) = row { Some(&**values) } else { None }).collect()
}

/// Which columns hold a real anywhere.
fn real_columns<'a>(rows: impl Iterator<Item = &'a Row<'a>>) -> Vec<bool> {
    let mut reals = Vec::new();
    for row in rows {
        reals.resize(reals.len().max(row.len()), false);
        row.iter().zip(&mut reals).for_each(|(value, real)| *real |= matches!(value, Value::Real(_)));
    }
    reals
}

/// The order of rows by what is exact of them; of a real only whether there is one, of lists that of their rows, after all else.
fn by_exact(columns: &Columns<'_>, left: &[Value], right: &[Value]) -> Ordering {
    let values = Some(values_by_exact(columns, left, right)).filter(|order| order.is_ne());
    let lists = || {
        let both = left.len().min(right.len());
        let forms = (0..both).filter_map(|at| Some((columns.forms.get(at)?.list()?, &left[at], &right[at])));
        forms.map(|(form, left, right)| lists_by_exact(form, left, right)).find(|order| order.is_ne())
    };
    values.or_else(lists).unwrap_or_else(|| left.len().cmp(&right.len()))
}

/// The order of rows by what is exact of them, lists aside.
fn values_by_exact(columns: &Columns<'_>, left: &[Value], right: &[Value]) -> Ordering {
    let one = |at: usize| match (&left[at], &right[at]) {
        (Value::List(_), Value::List(_)) => Ordering::Equal,
        (left, right) if columns.reals.get(at) == Some(&true) => (*left == Value::Null).cmp(&(*right == Value::Null)),
        (left, right) => left.as_ref().order(right.as_ref()),
    };
    (0..left.len().min(right.len())).map(one).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
}

/// The order of two lists by how many rows they have and what is exact of those.
fn lists_by_exact(form: &ListForm, left: &Value, right: &Value) -> Ordering {
    let (Some(mut left), Some(mut right)) = (rows_of(left), rows_of(right)) else { return Ordering::Equal };
    let forms: Vec<Form> = form.items.iter().map(|item| item.form.clone()).collect();
    let reals = forms.iter().map(|form| form.kind() == Some(LogicalType::Real)).collect();
    let columns = Columns { forms: &forms, reals };
    if form.sequence != Sequence::Ordered {
        left.sort_by(|one, other| by_exact(&columns, one, other));
        right.sort_by(|one, other| by_exact(&columns, one, other));
    }
    let rows = left.iter().zip(&right).map(|(left, right)| by_exact(&columns, left, right)).find(|order| order.is_ne());
    left.len().cmp(&right.len()).then_with(|| rows.unwrap_or(Ordering::Equal))
}

fn by_reals(columns: &Columns<'_>, left: &[Value], right: &[Value]) -> Ordering {
    let parts = left.iter().zip(right).zip(&columns.reals).filter(|(_, is_real)| **is_real);
    parts.map(|((left, right), _)| left.as_ref().order(right.as_ref())).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
}

fn sorted<'a>(columns: &Columns<'_>, rows: &[Row<'a>]) -> Vec<Row<'a>> {
    let mut sorted: Vec<Row<'a>> = rows.to_vec();
    sorted.sort_by(|left, right| by_exact(columns, left, right).then_with(|| by_reals(columns, left, right)));
    sorted
}

/// Whether two rows agree: values exactly or, reals, within tolerance; lists row by row in their order, or as bags.
pub fn agree(forms: &[Form], left: &[Value], right: &[Value]) -> bool {
    left.len() == right.len()
        && left.iter().zip(right).enumerate().all(|(at, (left, right))| match forms.get(at).and_then(Form::list) {
            Some(form) => lists_agree(form, left, right),
            None => left.as_ref().agrees_with(right.as_ref()),
        })
}

fn lists_agree(form: &ListForm, left: &Value, right: &Value) -> bool {
    let (Some(left), Some(right)) = (rows_of(left), rows_of(right)) else { return left == right };
    if left.len() != right.len() {
        return false;
    }
    let forms: Vec<Form> = form.items.iter().map(|item| item.form.clone()).collect();
    match form.sequence {
        Sequence::Ordered => left.iter().zip(&right).all(|(left, right)| agree(&forms, left, right)),
        Sequence::Any | Sequence::Nearly => matching(&forms, &left, &right) == Matched::All,
    }
}

enum Assigned {
    All,
    /// The place of a row that is left, and of one expected that it might have been.
    Left(usize, Option<usize>),
    TooMany,
}

/// Assigns rows that are alike in what is exact; both are sorted by their reals.
fn assign(columns: &Columns<'_>, expected: &[Row<'_>], found: &[Row<'_>]) -> Assigned {
    let Some(first) = found.first() else { return Assigned::All };
    let inexact = |at: usize, value: &Value| columns.reals[at] && *value != Value::Null || matches!(value, Value::List(_));
    let many = first.iter().enumerate().filter(|(at, value)| inexact(*at, value)).count();
    // In order, as they are with one real or none, and usually with several.
    let mut next = 0;
    let mut left = None;
    for (place, row) in found.iter().enumerate() {
        let first = next;
        while next < expected.len() && !agree(columns.forms, expected[next], row) {
            next += 1;
        }
        if next == expected.len() {
            left = Some((place, (first < expected.len()).then_some(first)));
            break;
        }
        next += 1;
    }
    let has_lists = first.iter().any(|value| matches!(value, Value::List(_)));
    match left {
        None => Assigned::All,
        Some((place, other)) if (many < 2 && !has_lists) || expected.is_empty() => Assigned::Left(place, other),
        Some(_) if expected.len().max(found.len()) > MOST_ALIKE => Assigned::TooMany,
        Some(_) => by_paths(columns.forms, expected, found),
    }
}

/// An assignment by augmenting paths.
fn by_paths(forms: &[Form], expected: &[Row<'_>], found: &[Row<'_>]) -> Assigned {
    let may = found.iter().map(|row| (0..expected.len()).filter(|&other| agree(forms, expected[other], row)).collect());
    let may: Vec<Vec<usize>> = may.collect();
    let mut taken: Vec<Option<usize>> = vec![None; expected.len()];
    for start in 0..found.len() {
        // The places tried on the way, each with the one from which it was come to; no recursion, however long the path.
        let mut came: Vec<Option<usize>> = vec![None; expected.len()];
        let mut waiting = vec![start];
        let mut end = None;
        'search: while let Some(row) = waiting.pop() {
            for &other in &may[row] {
                if came[other].is_some() {
                    continue;
                }
                came[other] = Some(row);
                match taken[other] {
                    None => {
                        end = Some(other);
                        break 'search;
                    }
                    Some(holder) => waiting.push(holder),
                }
            }
        }
        let Some(mut place) = end else {
            let other = may[start].first().copied().or_else(|| taken.iter().position(Option::is_none));
            return Assigned::Left(start, other);
        };
        // Along the path everybody moves on by one.
        while let Some(row) = came[place] {
            let before = taken.iter().position(|holder| *holder == Some(row));
            taken[place] = Some(row);
            match before {
                Some(before) if row != start => place = before,
                _ => break,
            }
        }
    }
    Assigned::All
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    type Rows = Vec<Vec<Value>>;

    fn matching<'a>(expected: &'a [Vec<Value>], found: &'a [Vec<Value>]) -> Matched<'a> {
        let slices = |rows: &'a [Vec<Value>]| rows.iter().map(Vec::as_slice).collect::<Vec<_>>();
        super::matching(&[], &slices(expected), &slices(found))
    }

    fn row(id: i64, reals: &[f64]) -> Vec<Value> {
        std::iter::once(Value::Integer(id)).chain(reals.iter().map(|real| Value::Real(*real))).collect()
    }

    #[test]
    fn rows_with_several_reals_that_differ_in_the_last_digit_are_not_misaligned() {
        // Sorted by the first real, the second ones stand crosswise.
        let close = 1.0 + 1e-12;
        let expected = [row(1, &[1.0, 5.0]), row(1, &[close, 7.0])];
        let found = [row(1, &[close, 5.0]), row(1, &[1.0, 7.0])];
        assert_eq!(matching(&expected, &found), Matched::All);
        let wrong = [row(1, &[close, 5.0]), row(1, &[1.0, 8.0])];
        let Matched::Left { found, expected: Some(_) } = matching(&expected, &wrong) else { panic!("8 is nowhere") };
        assert_eq!(found, &wrong[1]);
    }

    #[test]
    fn exact_columns_tell_rows_apart_first_and_nulls_are_no_reals() {
        let null = |id: i64| vec![Value::Integer(id), Value::Null];
        assert_eq!(matching(&[null(1), row(1, &[2.0])], &[row(1, &[2.0]), null(1)]), Matched::All);
        assert!(matches!(matching(&[null(1), null(1)], &[row(1, &[0.0])]), Matched::Left { .. }));
        assert!(matches!(matching(&[row(1, &[2.0]), row(2, &[3.0])], &[row(1, &[3.0])]), Matched::Left { .. }));
        // A whole number where others have a real, as engines without types give it.
        assert_eq!(matching(&[row(1, &[2.0])], &[vec![Value::Integer(1), Value::Integer(2)]]), Matched::All);
        // Each stands for one of its own.
        assert!(matches!(matching(&[row(1, &[2.0]), row(1, &[4.0])], &[row(1, &[2.0]), row(1, &[2.0])]), Matched::Left { .. }));
        assert!(matches!(matching(&[], &[row(1, &[2.0])]), Matched::Left { expected: None, .. }));
        assert!(matches!(matching(&[row(1, &[2.0])], &[row(1, &[])]), Matched::Left { .. }));
        assert_eq!(matching(&[row(1, &[2.0])], &[]), Matched::All);
    }

    #[test]
    fn too_many_rows_that_differ_in_reals_alone_are_not_decided() {
        let rows = |many: usize, second: fn(usize) -> f64| (0..many).map(|at| row(1, &[at as f64 * 1e-13, second(at)])).collect::<Vec<_>>();
        let crosswise = |at: usize| (at ^ 1) as f64;
        assert_eq!(matching(&rows(1000, |at| at as f64), &rows(1000, crosswise)), Matched::All);
        assert_eq!(matching(&rows(1002, |at| at as f64), &rows(1002, crosswise)), Matched::TooMany);
        // In order there may be any number of them, and with one real too.
        let many: Rows = (0..5000).map(|at| row(1, &[f64::from(at), f64::from(at)])).collect();
        assert_eq!(matching(&many, &many), Matched::All);
    }

    #[test]
    fn rows_begin_with_as_many_as_are_so() {
        for all in 0..40 {
            for so in 0..=all {
                let rows: Rows = (0..all).map(|at| vec![Value::Integer(at)]).collect();
                let rows: Vec<Row<'_>> = rows.iter().map(Vec::as_slice).collect();
                assert_eq!(
                    begin_with(&rows, |row| row[0].as_ref().order(Value::Integer(so).as_ref()).is_lt()),
                    so as usize,
                    "{so} of {all}"
                );
            }
        }
    }

    /// Whether there is an assignment, by trying all of them.
    fn is_assignable(expected: &[Vec<Value>], found: &[Vec<Value>]) -> bool {
        match found.split_first() {
            None => true,
            Some((row, rest)) => (0..expected.len()).any(|at| {
                let others: Rows = expected.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, row)| row.clone()).collect();
                agree(&[], &expected[at], row) && is_assignable(&others, rest)
            }),
        }
    }

    proptest! {
        #![proptest_config(kampf_mangle::property(3000))]

        #[test]
        fn an_assignment_is_found_where_there_is_one(
            expected in prop::collection::vec((0i64..2, 0u8..4, 0u8..4), 0..6),
            picked in prop::collection::vec((any::<prop::sample::Index>(), 0u8..8), 0..6),
        ) {
            // Reals so close together that neighbours agree and others do not.
            let real = |steps: u8| 1.0 + f64::from(steps) * 0.6e-9;
            let expected: Rows = expected.iter().map(|&(id, one, other)| row(id, &[real(one), real(other)])).collect();
            let found: Rows = picked
                .iter()
                .filter_map(|(index, shift)| {
                    let mut row = (!expected.is_empty()).then(|| index.get(&expected).clone())?;
                    if let (Value::Real(value), true) = (&mut row[1], *shift > 4) {
                        *value += 0.6e-9 * f64::from(shift - 5);
                    }
                    Some(row)
                })
                .collect();
            prop_assert_eq!(matching(&expected, &found) == Matched::All, is_assignable(&expected, &found));
        }
    }
}
