//! The field of a contest as a stage: every contender in a fresh process, one at a time.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use kampf_contest::{Agreement, Answer, Counter, Reference, compare};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::comparison::compared;
use super::inbox::Inbox;
use super::references::{KeyedRight, all_by_plain_evaluation, keyed_references, references};
use super::talk::Talk;
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::machine::reference_loop;
use crate::policy::{Asked, CheckedVerdict, Contestant, Done, Right, Stage, Started};
use crate::trouble::Trouble;

/// The contenders of a contest.
pub(crate) struct Field<'a> {
    inbox: &'a Inbox,
    setup: &'a Setup<'a>,
    contest: &'a Contest,
    contestants: Vec<Contestant>,
    begun: Instant,
    /// Who runs now, and where that stands in the field.
    talk: Option<Talk<'a>>,
    at: usize,
    /// The right answers over keys of other types, by variant, with the parameter sets that they are to.
    keyed: BTreeMap<&'a str, (Vec<Vec<Value>>, KeyedRight)>,
}

impl<'a> Field<'a> {
    pub(crate) fn new(inbox: &'a Inbox, setup: &'a Setup<'a>, contest: &'a Contest) -> Field<'a> {
        let contestant = |entry: &Entry| Contestant {
            name: entry.name.clone(),
            is_derived: entry.choices.is_some(),
            counter: Counter {
                is_program: matches!(entry.way, EntryWay::Program(_)),
                trips_are_modelled: setup.engine.trips_are_modelled(),
            },
            calls_to_settle: entry.calls_to_settle(setup),
        };
        let contestants = contest.entries.iter().map(contestant).collect();
        Field { inbox, setup, contest, contestants, begun: Instant::now(), talk: None, at: 0, keyed: BTreeMap::new() }
    }

    /// The variant of who runs now, where its keys are of another type.
    fn keyed_variant(&self) -> Option<&'a str> {
        let contest = self.contest;
        contest.entries[self.at].variant.as_deref().filter(|variant| contest.keyed.contains_key(*variant))
    }
}

fn nobody() -> Trouble {
    Trouble::NotStarted("nobody was started".to_owned())
}

impl Stage for Field<'_> {
    fn contestants(&self) -> &[Contestant] {
        &self.contestants
    }

    fn sets(&self, round: u64) -> Vec<Vec<Value>> {
        self.contest.parameter_sets(self.setup, round)
    }

    fn right(&mut self, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
        self.end();
        references(self.inbox, self.setup, self.contest, sets)
    }

    fn edges(&self) -> Vec<Vec<Value>> {
        self.contest.sets_at_edges(self.setup.blueprint, self.setup.seed)
    }

    fn decide(&mut self, sets: &[Vec<Value>]) -> Result<Option<Vec<Reference>>, Trouble> {
        self.end();
        all_by_plain_evaluation(self.setup, self.contest, sets)
    }

    fn agree(&self, right: &Reference, other: &Reference) -> bool {
        let limit = self.contest.limit();
        let answer = Answer { rows: other.answer(limit).to_vec(), came: other.came(limit) };
        compare(right, limit, &answer) == Agreement::Same
    }

    fn remarks(&self, right: &[Reference]) -> Vec<&'static str> {
        let Some(need) = &self.contest.need else { return Vec::new() };
        let cuts = |limit: u64| right.iter().any(|reference| reference.rows.len() as u64 > limit);
        let all = self.setup.blueprint.rows(need.root());
        let leaves_out = need.group.is_some() || right.iter().any(|reference| (reference.rows.len() as u64) < all);
        [
            (right.iter().all(|reference| reference.rows.is_empty()), "its answers are empty there"),
            (need.limit.is_some_and(|limit| !cuts(limit)), "its limit cuts nothing off there"),
            (!need.filter.is_empty() && !leaves_out, "its condition leaves nothing out there"),
        ]
        .into_iter()
        .filter_map(|(is_so, remark)| is_so.then_some(remark))
        .collect()
    }

    fn all_rows(&self) -> u64 {
        self.setup.blueprint.all_rows()
    }

    fn rows_of(&self, reference: &Reference) -> u64 {
        reference.answer(self.contest.limit()).len() as u64
    }

    fn start(&mut self, at: usize) -> Result<Started, Trouble> {
        self.end();
        let begun = Instant::now();
        let talk = Talk::start(self.inbox, self.setup, self.contest, &self.contest.entries[at])?;
        self.at = at;
        let started = Started { took: begun.elapsed(), can: talk.modes().to_vec() };
        self.talk = Some(talk);
        Ok(started)
    }

    fn compare(&mut self, sets: &[Vec<Value>], right: &[Reference]) -> Result<CheckedVerdict, Trouble> {
        let Some(variant) = self.keyed_variant() else {
            let talk = self.talk.take().ok_or_else(nobody)?;
            return compared(talk, sets, right, self.contest.limit());
        };
        if self.keyed.get(variant).is_none_or(|(known, _)| known != sets) {
            // It may take a contender to tell, and there is one at a time.
            self.end();
            let keyed = keyed_references(self.inbox, self.setup, self.contest, variant, sets, right)?;
            self.keyed.insert(variant, (sets.to_vec(), keyed));
            self.start(self.at)?;
        }
        let talk = self.talk.take().ok_or_else(nobody)?;
        match self.keyed.get(variant) {
            Some((_, KeyedRight::Agree(right))) => {
                compared(talk, &self.contest.sets_on(self.setup, Some(variant), sets), right, self.contest.limit())
            }
            Some((_, KeyedRight::Apart(verdict))) => Ok(verdict.clone()),
            None => Err(nobody()),
        }
    }

    fn run(&mut self, asked: Asked<'_>) -> Result<Done, Trouble> {
        let variant = self.keyed_variant();
        let talk = self.talk.as_mut().ok_or_else(nobody)?;
        if variant.is_none() {
            return talk.run(asked);
        }
        let sets = self.contest.sets_on(self.setup, variant, asked.sets);
        talk.run(Asked { sets: &sets, ..asked })
    }

    fn end(&mut self) {
        self.talk = None;
    }

    fn now(&self) -> Duration {
        self.begun.elapsed()
    }

    fn reference_loop(&mut self) -> Nanos {
        reference_loop().as_nanos() as Nanos
    }
}
