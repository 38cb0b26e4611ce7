//! The right answers.

use kampf_contest::{Agreement, Answer, Need, Overflow, PlainEvaluation, Ranges, Reference};
use kampf_engine::GeneratedRows;
use kampf_fill::Blueprint;
use kampf_schema::{ColumnId, Schema, TableId, Value};

use super::comparison::{bytes_of, compared};
use super::inbox::Inbox;
use super::sample::{FullerAnswer, Sampled, sampled};
use super::talk::{Flow, Talk};
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::job::FullerNeed;
use crate::policy::{CheckedVerdict, Known, Right};
use crate::trouble::Trouble;

/// More generated rows than this, over all parameter sets, and the database itself gives the reference.
const PLAIN_EVALUATION_ROWS: u64 = 500_000;

/// Up to so many rows plain evaluation decides where ways differ: a matter of seconds, and of a few hundred bytes for each row.
const DECIDING_ROWS: u64 = 3_000_000;

/// Rows and bytes of values that an answer may have which is the reference itself.
const LARGEST_REFERENCE: (usize, u64) = (5_000_000, 1 << 30);

/// All answers of one contender, which others are to be compared with.
fn whole_answers(mut talk: Talk<'_>, sets: &[Vec<Value>]) -> Result<Vec<Answer>, Trouble> {
    let mut answers = vec![Answer::default(); sets.len()];
    let (mut rows_so_far, mut bytes) = (0, 0);
    talk.answers(sets, &mut |set, part| {
        rows_so_far += part.rows.len();
        bytes += bytes_of(&part.rows);
        answers[set].rows.extend(part.rows);
        answers[set].came = part.came.or(answers[set].came);
        if rows_so_far > LARGEST_REFERENCE.0 || bytes > LARGEST_REFERENCE.1 {
            return Err(Trouble::TooLarge(format!(
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
struct RowsAsked<'a> {
    variant: Option<&'a str>,
    schema: &'a Schema,
    blueprint: &'a Blueprint,
    need: Option<&'a Need>,
    reference: Option<&'a FullerNeed>,
}

impl<'a> RowsAsked<'a> {
    fn plain(setup: &'a Setup<'_>, contest: &'a Contest) -> RowsAsked<'a> {
        RowsAsked {
            variant: None,
            schema: setup.schema,
            blueprint: setup.blueprint,
            need: contest.job.need(),
            reference: contest.job.reference(),
        }
    }

    fn keyed(setup: &'a Setup<'_>, contest: &'a Contest, variant: &'a str) -> Result<RowsAsked<'a>, Trouble> {
        let (on, data) = contest.job.keyed(variant).zip(setup.keyed.get(variant)).ok_or_else(not_loaded)?;
        Ok(RowsAsked {
            variant: Some(variant),
            schema: data.schema,
            blueprint: data.blueprint,
            need: Some(&on.need),
            reference: on.reference.as_ref(),
        })
    }
}

fn not_loaded() -> Trouble {
    Trouble::NotStarted("the data of its variant was not loaded".to_owned())
}

/// Rows that a need's tables have.
pub(super) fn rows_of(need: &Need, blueprint: &Blueprint) -> u64 {
    need.tables().into_iter().map(|table| blueprint.rows(table)).sum()
}

/// Whether a contest is checked by plain evaluation of all rows, as far as it can be at all.
fn is_plain(contest: &Contest, blueprint: &Blueprint) -> bool {
    contest.job.need().is_none_or(|need| rows_of(need, blueprint).saturating_mul(contest.set_count()) <= PLAIN_EVALUATION_ROWS)
}

/// Rows up to which a dataset is its own twin: nothing takes long there.
const OWN_TWIN_ROWS: u64 = 10_000;

/// Whether contenders of a contest have to prove themselves on few rows first.
pub fn wants_twin(contest: &Contest, blueprint: &Blueprint) -> bool {
    !is_plain(contest, blueprint) || contest.job.need().is_some_and(|need| rows_of(need, blueprint) > OWN_TWIN_ROWS)
}

/// The right answers by plain evaluation of all rows; none where there are too many.
pub(crate) fn all_by_plain_evaluation(
    setup: &Setup<'_>,
    contest: &Contest,
    sets: &[Vec<Value>],
) -> Result<Option<Vec<Reference>>, Trouble> {
    let on = RowsAsked::plain(setup, contest);
    match on.need.filter(|need| rows_of(need, on.blueprint) <= DECIDING_ROWS) {
        Some(need) => plainly(&on, need, sets).map(Some),
        None => Ok(None),
    }
}

fn plainly(on: &RowsAsked<'_>, need: &Need, sets: &[Vec<Value>]) -> Result<Vec<Reference>, Trouble> {
    let rows = GeneratedRows(on.blueprint);
    let evaluation = PlainEvaluation::of(on.schema, need, &rows);
    let answers = evaluation.overflows().and_then(|()| sets.iter().map(|set| evaluation.answer(set)).collect::<Result<_, _>>());
    answers.map_err(|overflow| too_large(&overflow))
}

/// The right answer to each set.
pub(crate) fn references(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
    right_on(inbox, setup, contest, &RowsAsked::plain(setup, contest), sets)
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
    let keyed = RowsAsked::keyed(setup, contest, variant)?;
    let references = right_on(inbox, setup, contest, &keyed, &contest.sets_on(setup, Some(variant), sets))?.references;
    let old_key = |table: TableId, value: &Value| keyed.blueprint.old_key(table, value);
    let keys = &contest.job.keyed(variant).ok_or_else(not_loaded)?.keys;
    for (set, (own, plain)) in references.iter().zip(plain).enumerate() {
        let answer = Answer { rows: own.answer(contest.job.limit()).to_vec(), came: own.came(contest.job.limit()) };
        match keys.agrees(plain, contest.job.limit(), &answer, &old_key) {
            Agreement::Same => {}
            Agreement::Differs(difference) => return Ok(KeyedRight::Apart(CheckedVerdict::Disagrees(set, Box::new(difference)))),
            Agreement::Undecided(why) => return Ok(KeyedRight::Apart(CheckedVerdict::Undecided(why))),
        }
    }
    Ok(KeyedRight::Agree(references))
}

fn right_on(inbox: &Inbox, setup: &Setup<'_>, contest: &Contest, on: &RowsAsked<'_>, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
    if let Some(need) = on.need {
        if rows_of(need, on.blueprint).saturating_mul(sets.len() as u64) <= PLAIN_EVALUATION_ROWS {
            return Ok(Right { references: plainly(on, need, sets)?, known: Known::Plainly });
        }
        let largest = |table, column| largest(on.blueprint, table, column);
        let ranges = Ranges { schema: on.schema, largest: &largest, rows: &|table| on.blueprint.rows(table) };
        ranges.overflows(need).map_err(|overflow| too_large(&overflow))?;
        if let Some(longer) = on.reference {
            return right_by_plan(inbox, setup, contest, on, (need, longer), sets);
        }
    }
    let first = contest.entries.first().ok_or_else(|| Trouble::Refused("there is no contender".to_owned()))?;
    let answers = whole_answers(Talk::of_forms(inbox, setup, contest, first, contest.job.forms_on(on.variant))?, sets)?;
    let references = answers.into_iter().map(|answer| in_its_order(contest.job.is_ordered(), answer)).collect();
    Ok(Right { references, known: Known::By(first.name.clone()) })
}

/// The answers of a derived contender that is right on the twin, and by those root rows that are worked out by themselves.
fn right_by_plan(
    inbox: &Inbox,
    setup: &Setup<'_>,
    contest: &Contest,
    on: &RowsAsked<'_>,
    (need, longer): (&Need, &FullerNeed),
    sets: &[Vec<Value>],
) -> Result<Right, Trouble> {
    let mut why = String::new();
    for plan in &longer.plans {
        let variant = on.variant.map(str::to_owned);
        let way = EntryWay::Plan(Box::new(plan.clone()));
        let entry = Entry { name: "reference".to_owned(), choices: None, way, by_hand: None, variant };
        if let Some(twin) = &setup.twin
            && let Some(reason) = fails_on_twin(inbox, twin, contest, on.variant, longer, &entry)?
        {
            why = reason;
            continue;
        }
        let answers = whole_answers(Talk::of_forms(inbox, setup, contest, &entry, longer.need.forms())?, sets)?;
        let longest: Vec<FullerAnswer> = answers.into_iter().map(|answer| fuller_answer(need, longer, answer)).collect();
        // Over other keys the same must come as over the schema's own, which is looked at there.
        let looked_at = match on.variant {
            None => sampled((on.schema, on.blueprint), longer, setup.seed, sets, &longest).map_err(|overflow| too_large(&overflow))?,
            Some(_) => Sampled::Holds(0),
        };
        match looked_at {
            Sampled::Holds(rows) => {
                let references = longest.into_iter().map(|longest| longest.reference).collect();
                return Ok(Right { references, known: Known::Sampled(rows) });
            }
            Sampled::Apart(reason) => why = reason,
        }
    }
    if rows_of(need, on.blueprint) <= DECIDING_ROWS {
        return Ok(Right { references: plainly(on, need, sets)?, known: Known::Plainly });
    }
    Err(Trouble::Refused(format!("no derived contender's answer holds: {why}")))
}

/// Why a plan is not right on the twin; none where it is.
fn fails_on_twin(
    inbox: &Inbox,
    twin: &Setup<'_>,
    contest: &Contest,
    variant: Option<&str>,
    longer: &FullerNeed,
    entry: &Entry,
) -> Result<Option<String>, Trouble> {
    let on = match variant {
        None => RowsAsked::plain(twin, contest),
        Some(variant) => RowsAsked::keyed(twin, contest, variant)?,
    };
    let sets = contest.sets_on(twin, variant, &contest.parameter_sets(twin, 0));
    let right = plainly(&on, &longer.need, &sets)?;
    let verdict = Talk::of_forms(inbox, twin, contest, entry, longer.need.forms())
        .and_then(|mut talk| compared(&mut talk, &sets, &right, longer.need.limit));
    match verdict {
        Ok(CheckedVerdict::Disagrees(..)) => Ok(Some("on few rows it differs from what these mean".to_owned())),
        Ok(_) => Ok(None),
        Err(Trouble::Interrupted) => Err(Trouble::Interrupted),
        Err(trouble) => Ok(Some(trouble.to_string())),
    }
}

fn too_large(overflow: &Overflow) -> Trouble {
    Trouble::TooLarge(format!("{overflow}, and engines do not agree on what it is then; choose smaller numbers"))
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

/// What a contender gave whose need nobody knows: its order is the sort key, where that counts.
fn in_its_order(ordered: bool, answer: Answer) -> Reference {
    let rows = answer.rows;
    let keys = (0..rows.len()).filter(|_| ordered).map(|row| vec![Value::Integer(i64::try_from(row).unwrap_or(i64::MAX))]).collect();
    Reference { rows, keys, complete: true, ..Reference::default() }
}

/// Splits what is given besides off what the need asks for: sort keys, then what says which root row it is.
fn fuller_answer(need: &Need, longer: &FullerNeed, answer: Answer) -> FullerAnswer {
    let complete = need.most().is_none_or(|most| (answer.rows.len() as u64) < more_than(most));
    let mut reference = Reference { complete, expect: need.expect, forms: need.forms(), ..Reference::default() };
    let mut identities = Vec::new();
    for mut row in answer.rows {
        let mut keys = row.split_off(need.give.len().min(row.len()));
        let identity = keys.split_off(need.order.len().min(keys.len()));
        reference.rows.push(row);
        if !need.order.is_empty() {
            reference.keys.push(keys);
        }
        if !longer.identity.is_empty() {
            identities.push(identity);
        }
    }
    FullerAnswer { reference, identities }
}

/// The larger limit of a reference, so that rows behind the cut are known.
pub fn more_than(limit: u64) -> u64 {
    // No engine takes a larger number.
    limit.saturating_mul(2).saturating_add(100).min(i64::MAX.unsigned_abs())
}
