//! Who is believed in a race, and what becomes of who is not.

use kampf_contest::Reference;
use kampf_schema::Value;

use super::honesty::{believe, rows_are_right, timed};
use super::race::{EntrantFault, Runs, Timed, Track};
use super::round::RoundRun;
use super::stage::has_parameters;
use crate::event::Event;
use crate::trouble::Trouble;

/// Rounds one after the other in which the runner's clock does not bear out what a program says, until it has to
/// show afresh that it is to be believed.
const DOUBTS: usize = 3;

impl Track<'_> {
    /// Holds the rows of the round's calls against the right answer's. Without parameters that is the checked one; with them Kampf's
    /// own contenders, which cannot say what they did not do, tell how many rows are right, and where there are none of them, or they
    /// do not agree, the right answer itself.
    pub(super) fn see_rows(
        &mut self,
        sets: &[Vec<Value>],
        taken: &mut [Option<RoundRun>],
        events: &mut dyn FnMut(Event<'_>),
    ) -> Result<(), Trouble> {
        let is_program = |at: usize| self.stage.contestants()[at].counter.is_program;
        let rows = |references: &[Reference]| references.iter().map(|one| self.stage.rows_of(one)).collect::<Vec<u64>>();
        let mut own = (0..taken.len()).filter(|&at| !is_program(at)).filter_map(|at| taken[at].as_ref());
        let agreed = own.next().map(|run| (run.first_rows, run.rows / run.repeats.max(1)));
        let all_agree = agreed.is_some_and(|(first, pass)| {
            (0..taken.len()).filter_map(|at| taken[at].as_ref()).all(|run| run.first_rows == first && run.rows == pass * run.repeats)
        });
        if all_agree {
            return Ok(());
        }
        let right = match has_parameters(sets) {
            false => rows(&self.checks.references),
            true => match self.stage.right(sets) {
                Ok(right) => right.references.iter().map(|one| self.stage.rows_of(one)).collect(),
                Err(Trouble::Interrupted) => return Err(Trouble::Interrupted),
                // Without the right answer nobody is accused.
                Err(_) => return Ok(()),
            },
        };
        let (first, pass) = (right.first().copied().unwrap_or(0), right.iter().sum::<u64>());
        for (at, run) in taken.iter_mut().enumerate() {
            let Some(seen) = run.as_ref() else { continue };
            let checked = rows_are_right(seen.first_rows, 1, first, "first call")
                .and_then(|()| rows_are_right(seen.rows, seen.repeats, pass, "timed pass"));
            if let Err(trouble) = checked {
                *run = None;
                self.fail(at, &trouble, events);
            }
        }
        Ok(())
    }

    /// A program that the runner's clock contradicts in some rounds one after the other has to show afresh that it is to be believed.
    /// What is recorded of such rounds is the clock's time, so that it drops nobody meanwhile. Kampf's own contenders are its own
    /// code; what their runs last longer is the machine's doing, as one busy with other things shows.
    pub(super) fn see_clock(&mut self, taken: &mut [Option<RoundRun>], events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        for (at, run) in taken.iter_mut().enumerate() {
            let Some(seen) = run.as_ref() else { continue };
            let runs = &mut self.state.entrants[at].runs;
            runs.doubts = if seen.is_doubtful { runs.doubts + 1 } else { 0 };
            if runs.doubts >= DOUBTS && !self.is_borne_out(at, events)? {
                *run = None;
            }
        }
        Ok(())
    }

    /// Whether a program is believed again, started afresh. One that is not is taken out.
    fn is_borne_out(&mut self, at: usize, events: &mut dyn FnMut(Event<'_>)) -> Result<bool, Trouble> {
        let sets = self.stage.sets(0);
        let rows = self.checks.references.iter().map(|one| self.stage.rows_of(one)).sum();
        let again =
            self.stage.start(at).and_then(|_| timed(self.stage, at, &sets[..1], 1, 1)).and_then(|_| believe(self.stage, at, &sets, rows));
        self.stage.end(at);
        match again {
            Ok(believed) => {
                self.state.entrants[at].runs.doubts = 0;
                // The machine is busier than it was in the check.
                self.state.paces[at].iter_mut().for_each(|pace| pace.lengthen(&believed));
                self.state.messages[at] = Some(believed.message);
                Ok(true)
            }
            Err(Trouble::Interrupted) => Err(Trouble::Interrupted),
            Err(trouble) => {
                self.fail(at, &trouble, events);
                Ok(false)
            }
        }
    }

    /// The race goes on as if one had never been there: whoever left because of it is back.
    pub(super) fn forget(&mut self, at: usize, fault: EntrantFault, reason: String) {
        self.state.log.forgets(at);
        self.state.has_forgotten = true;
        let entrant = &mut self.state.entrants[at];
        (entrant.fault, entrant.reason, entrant.failed_after) = (Some(fault), Some(reason), Some(0));
        (entrant.runs, entrant.timed) = (Runs::default(), Timed::InRounds);
        self.state.race = self.state.log.race();
        let hopeless = self.hopeless();
        for back in self.state.log.left_out().to_vec() {
            if matches!(self.state.entrants[back].timed, Timed::InCheck(call) if call <= hopeless) {
                self.state.log.takes_in(back);
                (self.state.entrants[back].timed, self.state.entrants[back].runs) = (Timed::InRounds, Runs::default());
            }
        }
        self.state.race = self.state.log.race();
    }

    /// A program that the runner's clock has contradicted in every round, however few there were, has to show it too.
    pub(super) fn look_for_contradictions(&mut self, events: &mut dyn FnMut(Event<'_>)) -> Result<(), Trouble> {
        for at in self.state.race.racing() {
            let runs = &self.state.entrants[at].runs;
            if runs.doubts > 0 && runs.doubts == runs.rounds.len() {
                self.is_borne_out(at, events)?;
            }
        }
        Ok(())
    }
}
