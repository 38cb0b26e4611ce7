//! The field of a contest as a stage: every contender in a fresh process, one at a time.

use std::time::{Duration, Instant};

use kampf_contest::{Counter, Reference};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::comparison::Comparison;
use super::inbox::Inbox;
use super::references::references;
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
    /// Who runs now.
    talk: Option<Talk<'a>>,
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
        Field { inbox, setup, contest, contestants, begun: Instant::now(), talk: None }
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

    fn rows_of(&self, reference: &Reference) -> u64 {
        reference.answer(self.contest.limit()).len() as u64
    }

    fn start(&mut self, at: usize) -> Result<Started, Trouble> {
        self.end();
        let begun = Instant::now();
        let talk = Talk::start(self.inbox, self.setup, self.contest, &self.contest.entries[at])?;
        let started = Started { took: begun.elapsed(), can: talk.modes().to_vec() };
        self.talk = Some(talk);
        Ok(started)
    }

    fn compare(&mut self, sets: &[Vec<Value>], right: &[Reference]) -> Result<CheckedVerdict, Trouble> {
        let talk = self.talk.take().ok_or_else(nobody)?;
        let mut comparison = Comparison::new(right, self.contest.limit());
        talk.answers(sets, &mut |set, part| comparison.take(set, part))?;
        Ok(comparison.verdict())
    }

    fn run(&mut self, asked: Asked<'_>) -> Result<Done, Trouble> {
        self.talk.as_mut().ok_or_else(nobody)?.run(asked)
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
