//! What is run, how often, who is believed, who is out: decided here, over a [`Stage`] that runs contenders when it is told to.
//!
//! Nothing here knows of processes, pipes or clocks, so that all of it can be tested against a script.

mod belief;
mod check;
mod confirm;
mod heats;
mod honesty;
mod kept;
mod log;
mod pace;
mod race;
mod round;
mod stage;
#[cfg(test)]
mod tests;

pub use check::{CheckedEntry, CheckedVerdict, Checks, Contradiction, Known, Probe, Purpose};
pub(crate) use check::{Proof, check, check_more, prove};
pub(crate) use heats::{Around, first_heat, last_question, next_heat};
pub use kept::SeenBefore;
pub(crate) use pace::least_time;
pub use race::{Entrant, EntrantFault, HeatRun, RaceOptions, RaceReport, Runs, Timed};
pub(crate) use stage::{Compared, Contestant, Done, Right, RunOrder, Stage, Started};
