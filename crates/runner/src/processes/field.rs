//! The field of a contest as a stage: every contender in a fresh process, one at a time.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use kampf_contest::{Counter, Reference};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::comparison::Comparison;
use super::inbox::Inbox;
use super::references::{KeyedRight, keyed_references, references};
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

/// Asks a contender for its answers and compares them with the right ones.
fn compared(talk: Talk<'_>, sets: &[Vec<Value>], right: &[Reference], limit: Option<u64>) -> Result<CheckedVerdict, Trouble> {
    let mut comparison = Comparison::new(right, limit);
    talk.answers(sets, &mut |set, part| comparison.take(set, part))?;
    Ok(comparison.verdict())
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
