//! Some root rows worked out by themselves, against an answer that only a contender vouches for.

use std::cmp::Ordering;
use std::collections::HashMap;

use kampf_contest::{Need, Overflow, PlainEvaluation, Reference, RootRow, rows_agree, rows_with_keys};
use kampf_engine::GeneratedRows;
use kampf_fill::{Blueprint, RecipeMaker};
use kampf_schema::{Schema, Value};

use super::references::rows_of;
use crate::job::FullerNeed;

/// Root rows that are looked at.
const ROOTS: usize = 1_000;
/// Rows of all tables up to which they are looked at: the rows that they need are looked for among all.
const AMONG: u64 = 30_000_000;

/// An answer with what says which root row each of its rows is.
#[derive(Clone)]
pub(crate) struct FullerAnswer {
    pub(crate) reference: Reference,
    /// Empty where nothing says it.
    pub(crate) identities: Vec<Vec<Value>>,
}

/// What root rows say of an answer.
#[derive(Debug, PartialEq)]
pub(crate) enum Sampled {
    /// Nothing against it, so many of them; 0 where none could be worked out by themselves.
    Holds(u64),
    /// It is wrong: why, in words.
    Apart(String),
}

/// Looks at rows of the answers, and at others evenly over the root's table: those that belong to an answer must be in it, and with the values that
/// it has.
pub(crate) fn sampled(
    (schema, blueprint): (&Schema, &Blueprint),
    longer: &FullerNeed,
    seed: u64,
    sets: &[Vec<Value>],
    answers: &[FullerAnswer],
) -> Result<Sampled, Overflow> {
    let need = &longer.need;
    let all = blueprint.rows(need.root());
    if need.group.is_some() || longer.identity.is_empty() || rows_of(need, blueprint) > AMONG || all == 0 {
        return Ok(Sampled::Holds(0));
    }
    let generated = GeneratedRows(blueprint);
    let each = (ROOTS / 2 / answers.len().max(1)).max(1);
    let of_answers: Vec<(usize, usize)> = (0..answers.len()).flat_map(|set| spread(answers[set].identities.len(), each, set)).collect();
    let identities: Vec<Vec<Value>> = of_answers.iter().map(|&(set, at)| answers[set].identities[at].clone()).collect();
    let found = rows_with_keys(&generated, need.root(), &longer.identity, &identities);
    let others = (ROOTS / 2).min(usize::try_from(all).unwrap_or(usize::MAX));
    let drawn: Vec<u64> = (0..others as u64).map(|drawing| RecipeMaker::row(seed, "sample", drawing, all)).collect();
    let mut roots: Vec<u64> = found.iter().flatten().copied().chain(drawn.iter().copied()).collect();
    roots.sort_unstable();
    roots.dedup();
    let evaluation = PlainEvaluation::of_roots(schema, need, &generated, &roots);
    for (&(set, at), row) in of_answers.iter().zip(&found) {
        let Some(row) = row else { return Ok(Sampled::Apart("a row of the answer is of none that was generated".to_owned())) };
        if let Some(why) = is_not(need, &evaluation.root(*row, &sets[set])?, &answers[set], at) {
            return Ok(Sampled::Apart(why));
        }
    }
    for (set, answer) in sets.iter().zip(answers) {
        let places: HashMap<String, usize> = answer.identities.iter().enumerate().map(|(at, identity)| (said(identity), at)).collect();
        for &row in &drawn {
            let root = evaluation.root(row, set)?;
            if !root.taken || root.free {
                continue;
            }
            let identity = &root.values[root.values.len() - longer.identity.len()..];
            let why = match places.get(&said(identity)) {
                Some(&at) => is_not(need, &root, answer, at),
                None => is_missing(need, &root, &answer.reference).then(|| format!("a row is missing: {}", said(&root.values))),
            };
            if let Some(why) = why {
                return Ok(Sampled::Apart(why));
            }
        }
    }
    Ok(Sampled::Holds(roots.len() as u64))
}

/// Places in a set's answer, evenly over it, the first and the last among them.
fn spread(rows: usize, many: usize, set: usize) -> Vec<(usize, usize)> {
    let many = many.min(rows);
    (0..many).map(|at| (set, if many == 1 { 0 } else { at * (rows - 1) / (many - 1) })).collect()
}

fn said(values: &[Value]) -> String {
    values.iter().map(|value| format!("{value:?}")).collect::<Vec<_>>().join(", ")
}

/// Why a row of an answer is not what its root row means.
fn is_not(need: &Need, root: &RootRow, answer: &FullerAnswer, at: usize) -> Option<String> {
    let row = &answer.reference.rows[at];
    if root.free {
        return None;
    }
    if !root.taken {
        return Some(format!("a row that the condition leaves out came: {}", said(row)));
    }
    let right = &root.values[..row.len().min(root.values.len())];
    (!rows_agree(&need.forms(), right, row)).then(|| format!("({}) came, and the rows themselves give ({})", said(row), said(right)))
}

/// Whether a row that belongs to the answer cannot have been cut off by the limit.
fn is_missing(need: &Need, root: &RootRow, reference: &Reference) -> bool {
    if reference.complete {
        return true;
    }
    let Some(last) = reference.keys.last() else { return false };
    for ((own, last), by) in root.keys.iter().zip(last).zip(&need.order) {
        let (own, last) = (own.as_ref(), last.as_ref());
        if own.agrees_with(last) {
            // Reals that nearly agree leave the order open.
            if own.order(last).is_ne() {
                return false;
            }
            continue;
        }
        let order = if by.descending { own.order(last).reverse() } else { own.order(last) };
        return order == Ordering::Less;
    }
    false
}
