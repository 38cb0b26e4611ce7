//! The right answers.

use kampf_contest::{Reference, evaluate};
use kampf_engine::GeneratedRows;
use kampf_schema::Value;

use super::comparison::bytes_of;
use super::inbox::Inbox;
use super::talk::{Flow, Talk};
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::policy::Right;
use crate::trouble::Trouble;

/// More generated rows than this, over all parameter sets, and the database itself gives the reference.
const PLAIN_EVALUATION_ROWS: u64 = 500_000;

/// Rows and bytes of values that an answer may have which is the reference itself.
const LARGEST_REFERENCE: (usize, u64) = (5_000_000, 1 << 30);

/// All answers of one contender, which others are to be compared with.
fn whole_answers(talk: Talk<'_>, sets: &[Vec<Value>]) -> Result<Vec<Vec<Vec<Value>>>, Trouble> {
    let mut answers: Vec<Vec<Vec<Value>>> = vec![Vec::new(); sets.len()];
    let (mut rows_so_far, mut bytes) = (0, 0);
    talk.answers(sets, &mut |set, rows| {
        rows_so_far += rows.len();
        bytes += bytes_of(&rows);
        answers[set].extend(rows);
        if rows_so_far > LARGEST_REFERENCE.0 || bytes > LARGEST_REFERENCE.1 {
            return Err(Trouble::Refused(format!(
                "the answer has more than {} rows or {} MiB, which is more than Kampf compares; add a limit",
                LARGEST_REFERENCE.0,
                LARGEST_REFERENCE.1 >> 20
            )));
        }
        Ok(Flow::More)
    })?;
    Ok(answers)
}

/// The right answer to each set.
pub(crate) fn references(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
    if let Some(need) = &contest.need {
        let rows: u64 = need.tables().into_iter().map(|table| setup.blueprint.rows(table)).sum();
        if rows.saturating_mul(sets.len() as u64) <= PLAIN_EVALUATION_ROWS {
            let rows = GeneratedRows(setup.blueprint);
            let references = sets.iter().map(|set| evaluate(need, &rows, set)).collect();
            return Ok(Right { references, by: "the plain evaluation of the generated rows".to_owned() });
        }
    }
    let (entry, keys) = match (&contest.reference, contest.entries.first()) {
        (Some((_, plan)), _) => {
            let way = EntryWay::Plan(Box::new(plan.clone()));
            (Entry { name: "reference".to_owned(), choices: None, way, by_hand: None }, true)
        }
        (None, Some(first)) => (first.clone(), false),
        (None, None) => return Err(Trouble::Refused("there is no contender".to_owned())),
    };
    let asked = match &contest.reference {
        Some((longer, _)) => &Contest { need: Some(longer.clone()), ..contest.clone() },
        None => contest,
    };
    let answers = whole_answers(Talk::start(inbox, setup, asked, &entry)?, sets)?;
    let references = answers.into_iter().map(|answer| reference_of(contest, answer, keys)).collect();
    let by = if keys { "the leanest derived contender, asked for its sort keys too".to_owned() } else { entry.name };
    Ok(Right { references, by })
}

/// Splits the sort keys off, or makes the order itself the key.
fn reference_of(contest: &Contest, answer: Vec<Vec<Value>>, keys: bool) -> Reference {
    let Some(need) = contest.need.as_ref().filter(|_| keys) else {
        let ordered = contest.ordered && contest.need.is_none();
        let keys = (0..answer.len()).filter(|_| ordered).map(|row| vec![Value::Integer(i64::try_from(row).unwrap_or(i64::MAX))]).collect();
        return Reference { rows: answer, keys, complete: true };
    };
    let complete = need.limit.is_none_or(|limit| (answer.len() as u64) < more_than(limit));
    let width = need.give.len();
    let (mut rows, mut keys) = (Vec::with_capacity(answer.len()), Vec::with_capacity(answer.len()));
    for mut row in answer {
        let own_keys = row.split_off(width.min(row.len()));
        rows.push(row);
        keys.push(own_keys);
    }
    if need.order.is_empty() {
        keys.clear();
    }
    Reference { rows, keys, complete }
}

/// The larger limit of a reference, so that rows behind the cut are known.
pub fn more_than(limit: u64) -> u64 {
    // No engine takes a larger number.
    limit.saturating_mul(2).saturating_add(100).min(i64::MAX.unsigned_abs())
}
