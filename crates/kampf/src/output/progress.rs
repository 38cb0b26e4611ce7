//! What is going on, on standard error.

use std::io::IsTerminal;

use indicatif::{ProgressBar, ProgressStyle};
use kampf_engine::LoadEvent;
use kampf_result::numbers::count;

use super::out::{clean, say};

/// A line that is rewritten on a terminal, and nothing elsewhere. It is drawn only when something is said, never by a clock.
pub(super) fn line(quiet: bool) -> ProgressBar {
    if quiet || !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new(0);
    let style = ProgressStyle::with_template("{msg}").unwrap_or_else(|_| ProgressStyle::default_spinner());
    bar.set_style(style);
    bar
}

/// Progress of a load.
pub(crate) struct FillProgress {
    bar: ProgressBar,
    quiet: bool,
    changed: bool,
}

impl FillProgress {
    pub(crate) fn new(quiet: bool) -> FillProgress {
        FillProgress { bar: line(quiet), quiet, changed: false }
    }

    pub(crate) fn take(&mut self, event: LoadEvent<'_>) {
        let message = match event {
            LoadEvent::Begins | LoadEvent::Loaded(_) => return,
            LoadEvent::Rows(table, rows, all) => {
                let share = (rows * 100).checked_div(all).unwrap_or(100);
                format!("filling {table}: {} of {} rows, {share} %", count(rows), count(all))
            }
            LoadEvent::Variant(name) => format!("making the variant {name}"),
            LoadEvent::Indexed(name, _) => format!("the index {name} is made"),
            LoadEvent::Refused(name, why) => {
                say(self.quiet, &format!("the index `{name}` is left out: {why}"));
                return;
            }
            LoadEvent::Indexes => "making indexes".to_owned(),
            LoadEvent::Statistics => "gathering statistics".to_owned(),
            LoadEvent::Changed => {
                // It is looked at once more before it is made anew.
                if !std::mem::replace(&mut self.changed, true) {
                    say(self.quiet, "the data was changed by somebody since it was filled; it is made anew");
                }
                return;
            }
            LoadEvent::Waiting => "waiting for another kampf that uses this data".to_owned(),
        };
        self.bar.set_message(clean(&message));
        self.bar.tick();
    }
}

impl Drop for FillProgress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
