//! The right answers.

use kampf_contest::{Agreement, Answer, Need, Overflow, Plan, Ranges, Reference, evaluate, overflows};
use kampf_engine::GeneratedRows;
use kampf_fill::Blueprint;
use kampf_schema::{ColumnId, Schema, TableId, Value};

use super::comparison::bytes_of;
use super::inbox::Inbox;
use super::talk::{Flow, Talk};
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::policy::{CheckedVerdict, Right};
use crate::trouble::Trouble;

/// More generated rows than this, over all parameter sets, and the database itself gives the reference.
const PLAIN_EVALUATION_ROWS: u64 = 500_000;

/// Rows and bytes of values that an answer may have which is the reference itself.
const LARGEST_REFERENCE: (usize, u64) = (5_000_000, 1 << 30);

/// All answers of one contender, which others are to be compared with.
fn whole_answers(talk: Talk<'_>, sets: &[Vec<Value>]) -> Result<Vec<Answer>, Trouble> {
    let mut answers = vec![Answer::default(); sets.len()];
    let (mut rows_so_far, mut bytes) = (0, 0);
    talk.answers(sets, &mut |set, part| {
        rows_so_far += part.rows.len();
        bytes += bytes_of(&part.rows);
        answers[set].rows.extend(part.rows);
        answers[set].came = part.came.or(answers[set].came);
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

/// What rows a contest is asked of.
struct On<'a> {
    variant: Option<&'a str>,
    schema: &'a Schema,
    blueprint: &'a Blueprint,
    need: Option<&'a Need>,
    reference: Option<&'a (Need, Plan)>,
}

/// The right answer to each set.
pub(crate) fn references(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
    let plain = On {
        variant: None,
        schema: setup.schema,
        blueprint: setup.blueprint,
        need: contest.need.as_ref(),
        reference: contest.reference.as_ref(),
    };
    right_on(inbox, setup, contest, &plain, sets)
}

/// What the right answers are over keys of another type.
pub(crate) enum KeyedRight {
    /// They are those of the plain schema: keys stand for the same rows.
    Agree(Vec<Reference>),
    /// They are not, or that cannot be told.
    Apart(CheckedVerdict),
}

/// The right answers over the keys of a variant, which must have the rows of the plain schema's.
pub(crate) fn keyed_references(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    variant: &str,
    sets: &[Vec<Value>],
    plain: &[Reference],
) -> Result<KeyedRight, Trouble> {
    let missing = || Trouble::NotStarted("the data of its variant was not loaded".to_owned());
    let (on, data) = contest.keyed.get(variant).zip(setup.keyed.get(variant)).ok_or_else(missing)?;
    let keyed = On {
        variant: Some(variant),
        schema: data.schema,
        blueprint: data.blueprint,
        need: Some(&on.need),
        reference: on.reference.as_ref(),
    };
    let references = right_on(inbox, setup, contest, &keyed, &contest.sets_on(setup, Some(variant), sets))?.references;
    let old_key = |table: TableId, value: &Value| data.blueprint.old_key(table, value);
    for (set, (own, plain)) in references.iter().zip(plain).enumerate() {
        let answer = Answer { rows: own.answer(contest.limit()).to_vec(), came: own.came(contest.limit()) };
        match on.keys.agrees(plain, contest.limit(), &answer, &old_key) {
            Agreement::Same => {}
            Agreement::Differs(difference) => return Ok(KeyedRight::Apart(CheckedVerdict::Disagrees(set, Box::new(difference)))),
            Agreement::Undecided(why) => return Ok(KeyedRight::Apart(CheckedVerdict::Undecided(why))),
        }
    }
    Ok(KeyedRight::Agree(references))
}

fn right_on(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, on: &On<'_>, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
    let (schema, blueprint) = (on.schema, on.blueprint);
    if let Some(need) = on.need {
        let rows: u64 = need.tables().into_iter().map(|table| blueprint.rows(table)).sum();
        if rows.saturating_mul(sets.len() as u64) <= PLAIN_EVALUATION_ROWS {
            let rows = GeneratedRows(blueprint);
            let references = overflows(schema, need, &rows)
                .and_then(|()| sets.iter().map(|set| evaluate(schema, need, &rows, set)).collect::<Result<_, _>>());
            let references = references.map_err(|overflow| too_large(&overflow))?;
            return Ok(Right { references, by: "the plain evaluation of the generated rows".to_owned() });
        }
    }
    if let Some(need) = on.need {
        let largest = |table, column| largest(blueprint, table, column);
        let ranges = Ranges { schema, largest: &largest, rows: &|table| blueprint.rows(table) };
        ranges.overflows(need).map_err(|overflow| too_large(&overflow))?;
    }
    let (entry, keys) = match (on.reference, contest.entries.first()) {
        (Some((_, plan)), _) => {
            let way = EntryWay::Plan(Box::new(plan.clone()));
            let variant = on.variant.map(str::to_owned);
            (Entry { name: "reference".to_owned(), choices: None, way, by_hand: None, variant }, true)
        }
        (None, Some(first)) => (first.clone(), false),
        (None, None) => return Err(Trouble::Refused("there is no contender".to_owned())),
    };
    let forms = match on.reference {
        Some((longer, _)) => longer.forms(),
        None => contest.forms_on(on.variant),
    };
    let answers = whole_answers(Talk::of_forms(inbox, setup, contest, &entry, forms)?, sets)?;
    let references = answers.into_iter().map(|answer| reference_of(contest.ordered, on.need.filter(|_| keys), answer)).collect();
    let by = if keys { "the leanest derived contender, asked for its sort keys too".to_owned() } else { entry.name };
    Ok(Right { references, by })
}

fn too_large(overflow: &Overflow) -> Trouble {
    Trouble::Refused(format!("{overflow}, and engines do not agree on what it is then; choose smaller numbers"))
}

/// Rows of a table that are looked at, evenly over it, for how large its numbers are.
const LOOKED_AT: u64 = 5_000;

/// The largest number of a column without its sign, among some of its rows.
fn largest(blueprint: &Blueprint, table: TableId, column: ColumnId) -> Option<f64> {
    let rows = blueprint.rows(table);
    let step = usize::try_from(rows.div_ceil(LOOKED_AT).max(1)).ok()?;
    let sizes = (0..rows).step_by(step).filter_map(|row| blueprint.value(table, row, column).as_ref().as_real());
    sizes.map(f64::abs).reduce(f64::max)
}

/// Splits the sort keys off that the need is asked for too; without a need makes the order itself the key where it counts.
fn reference_of(ordered: bool, need: Option<&Need>, answer: Answer) -> Reference {
    let rows = answer.rows;
    let Some(need) = need else {
        let keys = (0..rows.len()).filter(|_| ordered).map(|row| vec![Value::Integer(i64::try_from(row).unwrap_or(i64::MAX))]).collect();
        return Reference { rows, keys, complete: true, ..Reference::default() };
    };
    let complete = need.most().is_none_or(|most| (rows.len() as u64) < more_than(most));
    let width = need.give.len();
    let mut reference = Reference { complete, expect: need.expect, forms: need.forms(), ..Reference::default() };
    for mut row in rows {
        let own_keys = row.split_off(width.min(row.len()));
        reference.rows.push(row);
        reference.keys.push(own_keys);
    }
    if need.order.is_empty() {
        reference.keys.clear();
    }
    reference
}

/// The larger limit of a reference, so that rows behind the cut are known.
pub fn more_than(limit: u64) -> u64 {
    // No engine takes a larger number.
    limit.saturating_mul(2).saturating_add(100).min(i64::MAX.unsigned_abs())
}
