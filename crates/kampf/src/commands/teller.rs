//! What goes on, told on standard error.

use super::interrupts::Filling;
use crate::arguments::General;
use crate::output::{FillProgress, RaceProgress, say};
use crate::tidings::{Listener, Tidings};

/// Warnings that are shown where more were not asked for.
const SHOWN: usize = 12;

/// Tells as much as the command line wants to hear.
pub(super) struct Teller {
    quiet: bool,
    verbose: bool,
    /// While rows are made.
    filling: Option<(FillProgress, Filling)>,
    /// While a contest is checked and raced.
    racing: Option<RaceProgress>,
}

impl Teller {
    pub(super) fn of(general: &General) -> Teller {
        Teller { quiet: general.quiet, verbose: general.verbose, filling: None, racing: None }
    }

    fn say(&self, text: &str) {
        say(self.quiet, text);
    }
}

impl Listener for Teller {
    fn hear(&mut self, tidings: Tidings<'_>) {
        match tidings {
            Tidings::Said(text) => self.say(&text),
            Tidings::Warnings(warnings) => {
                let shown = if self.verbose || warnings.len() <= SHOWN { warnings.len() } else { SHOWN - 1 };
                warnings[..shown].iter().for_each(|warning| self.say(warning));
                if shown < warnings.len() {
                    self.say(&format!("and {} more warnings; -v has them all", warnings.len() - shown));
                }
            }
            Tidings::PassedOver(all) if self.verbose => all.iter().for_each(|passed| self.say(passed)),
            Tidings::PassedOver(_) => {}
            Tidings::Fills => self.filling = Some((FillProgress::new(self.quiet), Filling::begins())),
            Tidings::Load(event) => {
                if let Some((progress, _)) = &mut self.filling {
                    progress.take(event);
                }
            }
            Tidings::Filled => self.filling = None,
            Tidings::Races(contest, margin) => self.racing = Some(RaceProgress::new(contest, self.quiet, margin)),
            Tidings::Race(event) => {
                if let Some(progress) = &mut self.racing {
                    progress.take(event);
                }
            }
            Tidings::Raced => self.racing = None,
        }
    }
}
