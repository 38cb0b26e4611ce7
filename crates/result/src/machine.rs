//! The machine that a result was measured on.

use serde::{Deserialize, Serialize};

/// What a result was measured on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Machine {
    /// Model of the processor.
    pub cpu: Option<String>,
    /// Processors that Kampf might use.
    pub cores: usize,
    /// How the processor's clock is governed, where that can be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub governor: Option<String>,
    /// Operating system and its version.
    pub system: Option<String>,
    /// Load averages over one minute: before and after.
    pub load: Vec<f64>,
    /// Share of time in percent, over the last ten seconds, in which some task waited for a processor: before and after.
    pub cpu_pressure: Vec<f64>,
}
