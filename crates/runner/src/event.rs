//! What happens while contenders run.

use std::time::Duration;

use kampf_race::{Departure, Race};

/// Something that happened. Consumers draw progress from it; between two events nothing of theirs runs.
#[derive(Clone, Debug)]
pub enum Event<'a> {
    /// A contender's answer is being fetched.
    Checking(Checking<'a>),
    /// The same on the twin: name, place from 1, how many there are.
    Proving(&'a str, usize, usize),
    /// A round begins.
    Round(RoundBegins<'a>),
    /// A turn of a round begins: which one, from 1, and of how many.
    Turn(usize, usize),
    /// A heat begins, after the first one.
    Heat(HeatBegins<'a>),
    /// A contender does not start, being outclassed already in the check.
    LeftOut(&'a str),
    /// A contender leaves the race.
    Dropped(&'a RoundBegins<'a>, Departure),
    /// A contender could not be run: name and reason.
    Failed(&'a str, String),
    /// A program works while others have their turn, and is stopped meanwhile from now on.
    Halted(&'a str),
    /// Survivors answer once more.
    Confirming,
}

/// Whose answer is being fetched.
#[derive(Clone, Copy, Debug)]
pub struct Checking<'a> {
    /// Its name.
    pub name: &'a str,
    /// Which one it is, from 1.
    pub at: usize,
    /// How many there are.
    pub all: usize,
    /// How long this and those after it may take, where answers that take long are stopped.
    pub at_most: Option<Duration>,
}

/// A heat that begins.
#[derive(Clone, Copy, Debug)]
pub struct HeatBegins<'a> {
    /// Around whom.
    pub anchor: &'a str,
    /// Who enters for it.
    pub entered: &'a [String],
}

/// How things stand between two rounds.
#[derive(Clone, Copy, Debug)]
pub struct RoundBegins<'a> {
    /// The race so far.
    pub race: &'a Race,
    /// The names of all contenders of the field, by their places.
    pub names: &'a [String],
    /// Time left of the budget.
    pub left: Duration,
    /// What a round of those in the race takes; zero before the first.
    pub round: Duration,
}
