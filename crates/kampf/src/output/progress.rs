//! What is going on, on standard error.

use std::io::{IsTerminal, Write};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use kampf_engine::LoadEvent;
use kampf_runner::Event;

use super::numbers::count;

/// A line that is rewritten on a terminal, and nothing elsewhere. It is drawn only when something is said, never by a clock.
fn line(quiet: bool) -> ProgressBar {
    if quiet || !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new(0);
    let style = ProgressStyle::with_template("{wide_msg}").unwrap_or_else(|_| ProgressStyle::default_spinner());
    bar.set_style(style);
    bar
}

/// Progress of a load.
pub(crate) struct FillProgress {
    bar: ProgressBar,
}

impl FillProgress {
    pub(crate) fn new(quiet: bool) -> FillProgress {
        FillProgress { bar: line(quiet) }
    }

    pub(crate) fn take(&mut self, event: LoadEvent<'_>) {
        let message = match event {
            LoadEvent::Rows(table, rows, all) => {
                let share = (rows * 100).checked_div(all).unwrap_or(100);
                format!("filling {table}: {} of {} rows, {share} %", count(rows), count(all))
            }
            LoadEvent::Indexes => "making indexes".to_owned(),
            LoadEvent::Statistics => "gathering statistics".to_owned(),
            LoadEvent::Waiting => "waiting for another kampf that uses this data".to_owned(),
        };
        self.bar.set_message(message);
        self.bar.tick();
    }
}

impl Drop for FillProgress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// Progress of a check and a race: one line on a terminal, sparse lines elsewhere.
pub(crate) struct RaceProgress {
    bar: ProgressBar,
    contest: String,
    sparse: bool,
}

impl RaceProgress {
    pub(crate) fn new(contest: &str, quiet: bool) -> RaceProgress {
        RaceProgress { bar: line(quiet), contest: contest.to_owned(), sparse: !quiet && !std::io::stderr().is_terminal() }
    }

    pub(crate) fn take(&mut self, event: &Event<'_>) {
        let contest = &self.contest;
        let (message, lasting) = match event {
            Event::Checking(name, at, all) => (format!("{contest}: checking {at} of {all}, {name}"), *at == 1),
            Event::Round { number, racing, leader, left } => {
                let leads = leader.map(|leader| format!(", {leader} leads")).unwrap_or_default();
                (format!("{contest}: round {number}, {racing} racing{leads}, {} left", seconds(*left)), *number == 1 || number % 10 == 0)
            }
            Event::Outclassed(name, times) => (format!("{contest}: {name} is outclassed, x{times:.1}"), true),
            Event::Failed(name, reason) => (format!("{contest}: {name}: {reason}"), true),
            Event::Confirming => (format!("{contest}: asking the survivors once more"), false),
        };
        if self.sparse && lasting {
            let _ = writeln!(anstream::stderr(), "{message}");
        }
        self.bar.set_message(message);
        self.bar.tick();
    }
}

impl Drop for RaceProgress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

fn seconds(duration: Duration) -> String {
    format!("{:.0} s", duration.as_secs_f64())
}
