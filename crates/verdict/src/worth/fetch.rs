//! What reading in portions is good for: memory against time and statements.

use kampf_contest::{Choice, ChoiceOption, Choices, Fetch, Measure};

use super::Race;
use crate::require::Required;

/// The ways of fetching that were raced with everything else the same.
#[derive(Clone, Debug, PartialEq)]
pub struct FetchWorth {
    /// The contenders, that which reads whole first, by kind and size of portions.
    pub contenders: Vec<usize>,
    /// Rows that were read, or are the answer where that is more.
    pub rows: u64,
    /// Most bytes that any of them held.
    pub most: u64,
    /// Bytes that a row of the answer holds where it is read whole; none where that is less than one.
    pub row_bytes: Option<f64>,
    /// Where memory is required, how many rows of an answer that is read whole fit.
    pub fitting: Option<u64>,
}

pub(super) fn fetch(race: Race<'_>) -> Option<FetchWorth> {
    let contenders = group(race)?;
    let all = || contenders.iter().map(|&at| &race.facts.contenders[at]);
    let seen = all().filter_map(|one| one.held.last()).map(|(rows, _)| *rows).max().unwrap_or(0);
    let rows = seen.max(all().filter_map(|one| one.answer_rows).max().unwrap_or(0));
    let most = all().flat_map(|one| &one.held).map(|(_, bytes)| *bytes).max().unwrap_or(0);
    if rows < 2 || most == 0 {
        return None;
    }
    let whole = &race.facts.contenders[contenders[0]];
    let held = whole.measured.get(Measure::HeapPeak).zip(whole.answer_rows.filter(|rows| *rows > 0));
    let row_bytes = held.map(|(held, rows)| held as f64 / rows as f64).filter(|bytes| *bytes >= 1.0);
    let limit = race.facts.require.limit(Required::Count(Measure::HeapPeak));
    let fitting = row_bytes.zip(limit).map(|(row, limit)| (limit / row) as u64);
    Some(FetchWorth { contenders, rows, most, row_bytes, fitting })
}

/// The largest set of contenders that differ in nothing but how they fetch, by rank and size; two at least.
fn group(race: Race<'_>) -> Option<Vec<usize>> {
    let choices = |at: usize| race.facts.contenders[at].choices.filter(|choices: &Choices| choices.of(Choice::Fetch).is_some());
    let fetches = |at: &usize| choices(*at).is_some() && !race.facts.contenders[*at].held.is_empty();
    let all: Vec<usize> = race.eligible().filter(fetches).collect();
    let same = |at: usize| choices(at).map(|choices| choices.without(Choice::Fetch));
    let like = |whole: &usize| all.iter().copied().filter(|&at| same(at) == same(*whole)).collect::<Vec<_>>();
    let wholes = all.iter().filter(|at| choices(**at).and_then(|choices| choices.get()) == Some(Fetch::Whole));
    let mut group = wholes.map(like).max_by_key(Vec::len).filter(|group| group.len() > 1)?;
    group.sort_by_key(|&at| choices(at).and_then(|choices| choices.of(Fetch::CHOICE)));
    Some(group)
}
