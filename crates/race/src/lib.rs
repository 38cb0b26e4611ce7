//! The race as pure numbers: rounds go in, who is in the race and how it stands comes out.
//!
//! No clock, process or file is known here; a [`Race`] can be fed with recorded values as well as with fresh ones.

mod evidence;
mod race;
mod summary;

pub use evidence::sign_test;
pub use race::{Drop, Outcome, Race, RaceSettings, Standing};
pub use summary::{Nanos, median, p95, percentile};
