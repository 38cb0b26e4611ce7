//! The fields of a race.

use kampf_race::Nanos;
use serde::{Deserialize, Serialize};

/// How the race went as a whole.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct RacePart {
    /// Rounds that were finished.
    pub rounds: usize,
    /// Seconds of all rounds.
    pub seconds: f64,
    /// Of that what lies inside measured spans.
    pub measured_seconds: f64,
    /// Whether the user ended it.
    pub interrupted: bool,
    /// Why the survivors were not all asked once more, where they were not.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub not_confirmed: Option<String>,
    /// How it was known which answer is right.
    pub reference: String,
    /// A difference below this share is none.
    pub margin: f64,
    /// The chance of a wrong word.
    pub alpha: f64,
    /// Most rounds that there could be.
    pub most_rounds: usize,
    /// Most time for check, rounds and the last question together, in seconds.
    pub time_seconds: f64,
    /// Whether nobody was to be dropped.
    pub exact: bool,
    /// Contenders whose calls took no longer were kept, as they may be good enough.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub keep_below_ns: Option<Nanos>,
    /// The two that were raced against each other, the earlier first.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub pair: Option<(String, String)>,
    /// The heats after the first one, in their order.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub heats: Vec<HeatPart>,
    /// How many contenders could have entered after the first heat at most; part of how sure everything is.
    #[serde(skip_serializing_if = "is_none_of_them", default)]
    pub entrants: usize,
    /// Whether who surely is not faster than the leader stopped running.
    #[serde(default)]
    pub rests: bool,
    /// Whether the application keeps nothing of its rows.
    #[serde(default)]
    pub keeps_nothing: bool,
    /// Whether an answer may be older than the data.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub may_be_stale: bool,
    /// Seconds of the check before.
    #[serde(default)]
    pub check_seconds: f64,
    /// Seconds of asking the survivors once more.
    #[serde(default)]
    pub confirm_seconds: f64,
    /// Seed of the order within rounds and of drawn parameters.
    pub seed: u64,
    /// Seconds of a round of those that were in the race at its end.
    pub round_seconds: f64,
    /// How one run varies, as a share.
    pub noise: Option<f64>,
    /// Rounds that a decision would take in all, by margin; from the rounds there were, where it was not decided.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub forecast: Vec<ForecastPart>,
    /// Nanoseconds of the reference loop before each round and after the last.
    pub reference_loop_ns: Vec<Nanos>,
    /// Percent of the time in which some task waited for a processor.
    pub cpu_pressure: Option<f64>,
}

fn is_none_of_them(number: &usize) -> bool {
    *number == 0
}

/// A heat after the first one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct HeatPart {
    /// After how many rounds it began.
    pub after: usize,
    /// Around whom it was run.
    pub anchor: String,
    /// Who was to run beside that one; who was open besides went on too.
    pub members: Vec<String>,
    /// Who of them entered for it; contenders stand in the order in which they entered.
    pub entered: Vec<String>,
}

/// How many rounds a decision would take.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct ForecastPart {
    /// By this margin.
    pub margin: f64,
    /// Rounds in all.
    pub rounds: usize,
}
