//! Asking the survivors once more.

use super::check::CheckedVerdict;
use super::race::{EntrantFault, Track};
use super::stage::has_parameters;
use crate::event::Event;
use crate::trouble::Trouble;

/// The round whose parameters no round of a race has.
const UNSEEN: u64 = u32::MAX as u64;

/// So many sets of parameters are enough where rows are written: all that is there is looked at for each, and rounds look at it too.
const WRITTEN_SETS: usize = 2;

impl Track<'_> {
    /// Asks every survivor once more, with parameters it has not seen. Says why not all were asked, where that is so: the rounds
    /// that were finished are kept then.
    pub(super) fn confirm(&mut self, events: &mut dyn FnMut(Event<'_>)) -> Option<String> {
        let mut unseen = self.stage.sets(UNSEEN);
        if self.stage.contestants().iter().any(|contestant| contestant.writes) {
            unseen.truncate(WRITTEN_SETS);
        }
        let fresh = match has_parameters(&unseen) {
            false => None,
            true => match self.stage.right(&unseen) {
                Ok(right) => Some(right.references),
                Err(trouble) => return Some(trouble.to_string()),
            },
        };
        let expected = fresh.as_ref().unwrap_or(&self.checks.references);
        for at in self.state.race.racing() {
            let compared = self.stage.start(at).and_then(|_| self.stage.compare(at, &unseen, expected, None));
            self.stage.end(at);
            match compared.map(|compared| compared.verdict) {
                Ok(CheckedVerdict::Disagrees(..)) => {
                    let reason = "it gave another answer when asked again after the race".to_owned();
                    self.take_out(at, EntrantFault::Disagrees, reason);
                }
                Ok(_) => {}
                Err(Trouble::Interrupted) => return Some(Trouble::Interrupted.to_string()),
                Err(trouble) => self.fail(at, &trouble, events),
            }
        }
        None
    }
}
