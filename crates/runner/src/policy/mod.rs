//! What is run, how often, who is believed, who is out: decided here, over a [`Stage`] that runs contenders when it is told to.
//!
//! Nothing here knows of processes, pipes or clocks, so that all of it can be tested against a script.

mod belief;
mod check;
mod confirm;
mod honesty;
mod log;
mod pace;
mod race;
mod round;
mod stage;
#[cfg(test)]
mod tests;

pub use check::{CheckedEntry, CheckedVerdict, Checks, Contradiction, Known, Probe, Purpose};
pub(crate) use check::{check, prove};
pub(crate) use pace::least_time;
pub(crate) use race::race;
pub use race::{Entrant, EntrantFault, RaceOptions, RaceReport, Runs, Timed};
pub(crate) use stage::{Asked, Compared, Contestant, Done, Right, Stage, Started};
