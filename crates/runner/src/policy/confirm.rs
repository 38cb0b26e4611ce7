//! Asking the survivors once more.

use super::check::{CheckedVerdict, Checks};
use super::race::Track;
use crate::trouble::Trouble;

/// The round whose parameters no round of a race has.
const UNSEEN: u64 = u32::MAX as u64;

impl Track<'_> {
    /// Asks every survivor once more, with parameters it has not seen.
    pub(super) fn confirm(&mut self, checks: &Checks) -> Result<(), Trouble> {
        let unseen = self.stage.sets(UNSEEN);
        let fresh = if unseen.iter().all(Vec::is_empty) { None } else { Some(self.stage.right(&unseen)?.references) };
        let expected = fresh.as_ref().unwrap_or(&checks.references);
        for at in self.race.racing() {
            let verdict = self.stage.start(at).and_then(|_| self.stage.compare(&unseen, expected));
            self.stage.end();
            let reason = match verdict {
                Ok(CheckedVerdict::Disagrees(..)) => {
                    self.entrants[at].disagrees = true;
                    "it gave another answer when asked again after the race".to_owned()
                }
                Ok(_) => continue,
                Err(Trouble::Interrupted) => return Ok(()),
                Err(trouble) => trouble.to_string(),
            };
            self.take_out(at, reason);
        }
        Ok(())
    }
}
