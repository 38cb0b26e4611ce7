//! What happens while contenders run.

use std::time::Duration;

/// Something that happened. Consumers draw progress from it; between two events nothing of theirs runs.
#[derive(Clone, Debug, PartialEq)]
pub enum Event<'a> {
    /// A contender's answer is being fetched: name, place from 1, how many there are.
    Checking(&'a str, usize, usize),
    /// A round begins: its number from 1, contenders in it, time left.
    Round {
        /// Its number, from 1.
        number: usize,
        /// Contenders in it.
        racing: usize,
        /// The leader so far.
        leader: Option<&'a str>,
        /// Time left of the budget.
        left: Duration,
    },
    /// A contender leaves the race as outclassed: name, and how many times slower than the leader it is.
    Outclassed(&'a str, f64),
    /// A contender could not be run: name and reason.
    Failed(&'a str, String),
    /// Survivors answer once more.
    Confirming,
}
