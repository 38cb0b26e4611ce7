//! The fields of a verdict and of what mattered.

use kampf_race::Nanos;
use serde::{Deserialize, Serialize};

/// What to choose.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct VerdictPart {
    /// Whether nobody who may be chosen can be faster than the leader by more than the margin.
    pub decided: bool,
    /// How the race ended: a word of [`kampf_verdict::End`].
    #[serde(default)]
    pub end: String,
    /// Who led at the end.
    pub leader: Option<String>,
    /// The contender to take; none where the race did not say, or nobody surely meets the requirements.
    pub choose: Option<String>,
    /// Contenders that surely differ from the leader by less than the margin.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub tied: Vec<String>,
    /// Contenders that surely are not faster than the leader by more than the margin.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub not_faster: Vec<String>,
    /// Contenders that may be faster than the leader.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub alike: Vec<String>,
    /// Whether requirements were given, and surely met by the choice.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub requirements_met: Option<bool>,
    /// Contenders that may meet the requirements; more rounds would tell.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub provisional: Vec<String>,
    /// Where nobody meets them: what comes nearest on each, in words.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub nearest: Vec<String>,
    /// Each choice, over derived contenders that may be chosen.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub by_choice: Vec<ByChoicePart>,
    /// The two that were raced against each other.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub pair: Option<PairPart>,
}

/// What is known of a choice.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ByChoicePart {
    /// The choice.
    pub choice: String,
    /// `decided`, `no_difference`, `known`, `open` or `alone`.
    pub end: String,
    /// The option of the one that all is told around.
    pub option: String,
    /// The contender that all is told around.
    pub contender: String,
    /// What its other options cost.
    pub others: Vec<OtherOptionPart>,
}

/// What another option of a choice costs, as a ratio of times.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OtherOptionPart {
    /// The option.
    pub option: String,
    /// The contender that has it and differs from the one that all is told around in nothing else; where there is none, in as little as any.
    pub contender: String,
    /// Its other options that that one does not have.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub also: Vec<String>,
    /// The ratio is surely at least this.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub at_least: Option<f64>,
    /// The ratio is surely at most this.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub at_most: Option<f64>,
    /// Where it is open: where the ratio surely lies.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub between: Option<(f64, f64)>,
}

/// Two contenders against each other.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PairPart {
    /// The earlier.
    pub old: String,
    /// The later.
    pub new: String,
    /// The later over the earlier within rounds.
    pub ratio: Option<f64>,
    /// The lower end of its interval.
    pub low: Option<f64>,
    /// The upper end of its interval.
    pub high: Option<f64>,
    /// `slower`, `faster`, `same` or `open`.
    pub finding: String,
}

/// What the choices did.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct MatteredPart {
    /// From the most naive contender to the chosen one, a choice at a time.
    pub ladder: Vec<StepPart>,
    /// Each choice by itself, over all pairs that differ in it alone.
    pub effects: Vec<EffectPart>,
}

/// A step of the ladder.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StepPart {
    /// The contender before.
    pub from: String,
    /// The contender after.
    pub to: String,
    /// What changes: one choice, or several where nobody was raced that has some of the changes alone.
    #[serde(default)]
    pub changes: Vec<OptionChangePart>,
    /// What the table shows of the earlier.
    pub before_ns: Nanos,
    /// What the table shows of the later.
    pub after_ns: Nanos,
    /// Time after over time before in the same round.
    pub ratio: f64,
    /// The lower end of its interval.
    pub low: Option<f64>,
    /// The upper end of its interval.
    pub high: Option<f64>,
}

/// A choice in which two contenders differ.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OptionChangePart {
    /// The choice.
    pub choice: String,
    /// The option before; none where the choice changes nothing there.
    pub before: Option<String>,
    /// The option after.
    pub after: Option<String>,
}

/// What one option of a choice costs against another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct EffectPart {
    /// The choice.
    pub choice: String,
    /// The option before.
    pub before: String,
    /// The option after.
    pub after: String,
    /// Pairs of contenders that differ in this alone.
    pub pairs: usize,
    /// Geometric mean over the pairs of time after over time before, with its interval.
    pub ratio: f64,
    /// The lower end of its interval.
    pub low: Option<f64>,
    /// The upper end of its interval.
    pub high: Option<f64>,
    /// The least ratio of a pair.
    pub least: f64,
    /// The largest ratio of a pair.
    pub most: f64,
}
