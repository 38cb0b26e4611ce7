//! The field of a contest as a stage: every contender in a fresh process.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use kampf_contest::{Agreement, Answer, Counter, Reference, compare};
use kampf_protocol::{Mode, Ran};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::comparison::compared;
use super::inbox::Inbox;
use super::references::{KeyedRight, all_by_plain_evaluation, keyed_references, references};
use super::scratch::ScratchState;
use super::talk::Talk;
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::machine::reference_loop;
use crate::policy::{CheckedVerdict, Compared, Contestant, Done, Known, Right, RunOrder, Stage, Started};
use crate::trouble::Trouble;

/// The contenders of a contest.
pub(crate) struct Field<'a> {
    inbox: &'a Inbox,
    setup: &'a Setup<'a>,
    contest: &'a Contest,
    contestants: Vec<Contestant>,
    begun: Instant,
    /// Who was started, by their places.
    talks: BTreeMap<usize, Talk<'a>>,
    /// The right answers over keys of other types, with the variants and the parameter sets that they are to.
    keyed: Vec<(&'a str, Vec<Vec<Value>>, KeyedRight)>,
    /// What is written to, from when that is first wanted.
    scratch: Option<ScratchState<'a>>,
}

/// The scratch of a contest that writes; none of others.
fn scratch<'s, 'a>(
    state: &'s mut Option<ScratchState<'a>>,
    setup: &'a Setup<'a>,
    contest: &'a Contest,
) -> Result<Option<&'s mut ScratchState<'a>>, Trouble> {
    let Some(job) = contest.job.write() else { return Ok(None) };
    if state.is_none() {
        *state = Some(ScratchState::open(setup, job)?);
    }
    Ok(state.as_mut())
}

impl<'a> Field<'a> {
    pub(crate) fn new(inbox: &'a Inbox, setup: &'a Setup<'a>, contest: &'a Contest) -> Field<'a> {
        let contestant = |entry: &Entry| Contestant {
            name: entry.name.clone(),
            is_derived: entry.choices.is_some(),
            leads: !entry.keeps_nothing() && !entry.keeps_answers(),
            counter: Counter {
                is_program: matches!(entry.way, EntryWay::Program(_)),
                trips_are_modelled: setup.engine.trips_are_modelled(),
            },
            calls_to_settle: entry.calls_to_settle(setup),
            writes: contest.job.write().is_some(),
        };
        let contestants = contest.entries.iter().map(contestant).collect();
        Field { inbox, setup, contest, contestants, begun: Instant::now(), talks: BTreeMap::new(), keyed: Vec::new(), scratch: None }
    }

    /// The variant of a contender, where its keys are of another type.
    fn keyed_variant(&self, at: usize) -> Option<&'a str> {
        let contest = self.contest;
        contest.entries[at].variant.as_deref().filter(|variant| contest.job.keyed(variant).is_some())
    }
}

/// Contenders that are alive at once at most.
const MOST_ALIVE: usize = 16;

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
        if let Some(scratch) = scratch(&mut self.scratch, self.setup, self.contest)? {
            let of_set = |set: &Vec<Value>| Ok(Reference { rows: scratch.own_rows(set)?, complete: true, ..Reference::default() });
            return Ok(Right { references: sets.iter().map(of_set).collect::<Result<_, Trouble>>()?, known: Known::Plainly });
        }
        references(self.inbox, self.setup, self.contest, sets)
    }

    fn edges(&self) -> Vec<Vec<Value>> {
        self.contest.sets_at_edges(self.setup.blueprint, self.setup.seed)
    }

    fn decide(&mut self, sets: &[Vec<Value>]) -> Result<Option<Vec<Reference>>, Trouble> {
        all_by_plain_evaluation(self.setup, self.contest, sets)
    }

    fn agree(&self, right: &Reference, other: &Reference) -> bool {
        let limit = self.contest.job.limit();
        let answer = Answer { rows: other.answer(limit).to_vec(), came: other.came(limit) };
        compare(right, limit, &answer) == Agreement::Same
    }

    fn remarks(&self, right: &[Reference]) -> Vec<&'static str> {
        let Some(need) = self.contest.job.need() else { return Vec::new() };
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
        reference.answer(self.contest.job.limit()).len() as u64
    }

    fn most_alive(&self) -> usize {
        self.setup.connections.unwrap_or(MOST_ALIVE).clamp(1, MOST_ALIVE)
    }

    fn may_be_crowded(&self) -> bool {
        !self.setup.engine.trips_are_modelled()
    }

    fn start(&mut self, at: usize) -> Result<Started, Trouble> {
        self.end(at);
        let begun = Instant::now();
        let talk = Talk::start(self.inbox, self.setup, self.contest, &self.contest.entries[at])?;
        let started = Started { took: begun.elapsed(), can: talk.modes().to_vec() };
        self.talks.insert(at, talk);
        Ok(started)
    }

    fn compare(&mut self, at: usize, sets: &[Vec<Value>], right: &[Reference], longest: Option<Duration>) -> Result<Compared, Trouble> {
        if let Some(scratch) = scratch(&mut self.scratch, self.setup, self.contest)? {
            let begun = Instant::now();
            let talk = self.talks.get_mut(&at).ok_or_else(nobody)?;
            for (place, set) in sets.iter().enumerate() {
                if let Some(difference) = scratch.proven(talk, set)? {
                    self.talks.remove(&at);
                    return Ok(Compared { verdict: CheckedVerdict::Disagrees(place, Box::new(difference)), took: begun.elapsed() });
                }
            }
            return Ok(Compared { verdict: CheckedVerdict::Agrees, took: begun.elapsed() });
        }
        let variant = self.keyed_variant(at);
        let is_known = |known: &(&str, Vec<Vec<Value>>, KeyedRight), variant: &str| known.0 == variant && known.1 == sets;
        if let Some(variant) = variant.filter(|variant| !self.keyed.iter().any(|known| is_known(known, variant))) {
            // It may take a contender to tell, which is to have the machine for itself.
            self.end(at);
            let keyed = keyed_references(self.inbox, self.setup, self.contest, variant, sets, right)?;
            self.keyed.push((variant, sets.to_vec(), keyed));
            self.start(at)?;
        }
        let begun = Instant::now();
        let known = variant.and_then(|variant| self.keyed.iter().find(|known| is_known(known, variant)));
        let mut talk = self.talks.remove(&at).ok_or_else(nobody)?;
        talk.answers_within(longest);
        let verdict = match (variant, known) {
            (None, _) => compared(&mut talk, sets, right, self.contest.job.limit())?,
            (Some(_), Some((_, _, KeyedRight::Agree(right)))) => {
                compared(&mut talk, &self.contest.sets_on(self.setup, variant, sets), right, self.contest.job.limit())?
            }
            (Some(_), Some((_, _, KeyedRight::Apart(verdict)))) => verdict.clone(),
            (Some(_), None) => return Err(nobody()),
        };
        if verdict == CheckedVerdict::Agrees {
            self.talks.insert(at, talk);
        }
        Ok(Compared { verdict, took: begun.elapsed() })
    }

    fn run(&mut self, at: usize, asked: RunOrder<'_>) -> Result<Done, Trouble> {
        if let Some(scratch) = scratch(&mut self.scratch, self.setup, self.contest)? {
            let talk = self.talks.get_mut(&at).ok_or_else(nobody)?;
            let mut all = Done { ran: Ran::default(), wall: Duration::ZERO, idle_ns: None, growth: None };
            for set in (0..asked.passes).flat_map(|_| asked.sets) {
                let Done { ran, wall, .. } = scratch.run(talk, asked.mode, set)?;
                all.wall += wall;
                all.ran.spans_ns.extend(ran.spans_ns);
                all.ran.cpu_ns += ran.cpu_ns;
                all.ran.rows += ran.rows;
                all.ran.counts = ran.counts.or(all.ran.counts);
            }
            return Ok(all);
        }
        let variant = self.keyed_variant(at);
        let talk = self.talks.get_mut(&at).ok_or_else(nobody)?;
        if variant.is_none() {
            return talk.run(asked);
        }
        let sets = self.contest.sets_on(self.setup, variant, asked.sets);
        talk.run(RunOrder { sets: &sets, ..asked })
    }

    fn see_state(&mut self, there: &[usize]) -> Result<Vec<usize>, Trouble> {
        let (setup, contest) = (self.setup, self.contest);
        let Some(state) = scratch(&mut self.scratch, setup, contest)? else { return Ok(Vec::new()) };
        if state.is_whole()? {
            return Ok(Vec::new());
        }
        state.repair()?;
        let sets = contest.parameter_sets(setup, 0);
        let mut blamed = Vec::new();
        for &at in there {
            let Ok(mut talk) = Talk::start(self.inbox, setup, contest, &contest.entries[at]) else { continue };
            let alone = sets.first().map(|set| state.run(&mut talk, Mode::Time, set));
            drop(talk);
            match alone {
                Some(Err(Trouble::Interrupted)) => return Err(Trouble::Interrupted),
                Some(Ok(_)) if state.sums_are_as_before()? => {}
                _ => {
                    state.repair()?;
                    blamed.push(at);
                }
            }
        }
        match blamed.is_empty() {
            true => Err(Trouble::Refused("somebody else has changed the copy that is written to".to_owned())),
            false => Ok(blamed),
        }
    }

    fn halt(&mut self, at: usize) {
        if let Some(talk) = self.talks.get_mut(&at) {
            talk.halt();
        }
    }

    fn end(&mut self, at: usize) {
        self.talks.remove(&at);
    }

    fn now(&self) -> Duration {
        self.begun.elapsed()
    }

    fn reference_loop(&mut self) -> Nanos {
        reference_loop().as_nanos() as Nanos
    }
}
