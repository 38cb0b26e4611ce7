//! What whoever wants contests raced asks for.

use std::time::Duration;

use kampf_race::Goal;

use crate::arguments::{Bounds, Selection};

/// How contests are to be raced, where they do not say it themselves.
#[derive(Debug)]
pub(crate) struct RaceWish {
    /// A difference below this counts as none; the usual one where none is given.
    pub(crate) margin: Option<f64>,
    pub(crate) most_rounds: usize,
    pub(crate) goal: Goal,
    /// Most time for a contest: check, rounds, and asking the survivors once more.
    pub(crate) time: Option<Duration>,
    /// The same for all contests together, whatever the other says.
    pub(crate) together: Option<Duration>,
    /// How much longer each trip to the server takes, one after the other; as the project says where there is none.
    pub(crate) round_trips: Vec<Duration>,
    /// Whether contenders are kept on one core, also where the project does not say so.
    pub(crate) pin: bool,
    pub(crate) selection: Selection,
    pub(crate) bounds: Bounds,
}
