//! What checks and races stand on.

use std::time::Duration;

use kampf_contest::{Counter, Reference};
use kampf_protocol::{Mode, Ran};
use kampf_race::Nanos;
use kampf_schema::Value;

use super::check::{CheckedVerdict, Known};
use crate::trouble::Trouble;

/// Has contenders alive, as many as are started, and one of them at work at a time, when it is told to. Behind it are processes and clocks, or in tests
/// a script.
pub(crate) trait Stage {
    /// The field, in its order.
    fn contestants(&self) -> &[Contestant];

    /// The parameter sets of a round; those of round 0 are also the check's. A single empty one where there are no parameters.
    fn sets(&self, round: u64) -> Vec<Vec<Value>>;

    /// The right answer to each set.
    fn right(&mut self, sets: &[Vec<Value>]) -> Result<Right, Trouble>;

    /// Parameter sets at the edges: rows that are not there, nulls, empty lists. Empty where there are no parameters.
    fn edges(&self) -> Vec<Vec<Value>>;

    /// The right answer to each set by plain evaluation, at the price that this has; none where there are too many rows for it.
    fn decide(&mut self, sets: &[Vec<Value>]) -> Result<Option<Vec<Reference>>, Trouble>;

    /// Whether what two references ask for is the same.
    fn agree(&self, right: &Reference, other: &Reference) -> bool;

    /// What these right answers do not show of the need, in words.
    fn remarks(&self, right: &[Reference]) -> Vec<&'static str>;

    /// How many rows the dataset has.
    fn all_rows(&self) -> u64;

    /// How many rows of a reference are the answer.
    fn rows_of(&self, reference: &Reference) -> u64;

    /// How many contenders may be alive at once, at least one.
    fn most_alive(&self) -> usize;

    /// Whether there may be fewer than that, as somebody else uses the same server.
    fn may_be_crowded(&self) -> bool;

    /// Starts a contender afresh. It has ended before, if it was there.
    fn start(&mut self, at: usize) -> Result<Started, Trouble>;

    /// Asks a contender that was started for its answers and compares them. One that does not give the right ones ends with that. What takes
    /// longer than it may has timed out.
    fn compare(&mut self, at: usize, sets: &[Vec<Value>], right: &[Reference], longest: Option<Duration>) -> Result<Compared, Trouble>;

    /// Has a contender that was started carry out a run that gives no rows, and waits for its end. The others wait meanwhile.
    fn run(&mut self, at: usize, asked: RunOrder<'_>) -> Result<Done, Trouble>;

    /// Whether all is as it was before those of a round wrote, as far as that is looked at now; else who of them is to blame, and all is as it was again.
    fn see_state(&mut self, there: &[usize]) -> Result<Vec<usize>, Trouble> {
        let _ = there;
        Ok(Vec::new())
    }

    /// Has a contender stand still until its next run.
    fn halt(&mut self, at: usize);

    /// Ends a contender, if it was started.
    fn end(&mut self, at: usize);

    /// Time by the runner's clock since some moment.
    fn now(&self) -> Duration;

    /// The time of a fixed piece of work in the runner itself.
    fn reference_loop(&mut self) -> Nanos;
}

/// Whether there are parameters, so that each round has others.
pub(crate) fn has_parameters(sets: &[Vec<Value>]) -> bool {
    sets.iter().any(|set| !set.is_empty())
}

/// What a policy knows of a contender.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Contestant {
    /// Its name.
    pub(crate) name: String,
    /// Whether it follows from the need.
    pub(crate) is_derived: bool,
    /// Whether it may lead, as far as that is known before anything was measured.
    pub(crate) leads: bool,
    /// Who counts and takes the time: Kampf's own code, or a program from outside.
    pub(crate) counter: Counter,
    /// How many calls a fresh connection makes until the engine treats its statements as it will from then on.
    pub(crate) calls_to_settle: u64,
    /// Whether it writes: each call is undone before the next one.
    pub(crate) writes: bool,
}

/// The right answers, and how they are known.
#[derive(Clone, Debug)]
pub(crate) struct Right {
    pub(crate) references: Vec<Reference>,
    pub(crate) known: Known,
}

/// A contender that is ready.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Started {
    /// From starting the process to its readiness.
    pub(crate) took: Duration,
    /// What it can do.
    pub(crate) can: Vec<Mode>,
}

/// What came of comparing answers.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Compared {
    pub(crate) verdict: CheckedVerdict,
    /// How long the answers took, with comparing them.
    pub(crate) took: Duration,
}

/// A run that is asked for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct RunOrder<'s> {
    pub(crate) mode: Mode,
    pub(crate) sets: &'s [Vec<Value>],
    /// How often to go through all sets.
    pub(crate) passes: u64,
    /// Calls with one set that are measured as one span.
    pub(crate) calls_per_span: u64,
}

/// What came of a run.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Done {
    pub(crate) ran: Ran,
    /// Time from sending the request to its reply, by the runner's own clock.
    pub(crate) wall: Duration,
    /// Nanoseconds of processor time that the process used since its last run, where that can be seen.
    pub(crate) idle_ns: Option<u64>,
    /// By how many bytes the process's resident memory grew meanwhile, where that was watched.
    pub(crate) growth: Option<u64>,
}
