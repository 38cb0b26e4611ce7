//! The race as pure numbers: rounds go in, who is in the race and how it stands comes out.
//!
//! No clock, process or file is known here; a [`Race`] can be fed with recorded values as well as with fresh ones. The design is
//! a sequential test by signs, valid however often it is looked at and whatever shape the noise has; docs/how-numbers-are-made.md
//! says what it promises and what it does not.

mod evidence;
mod forecast;
mod heat;
mod limits;
mod movement;
mod race;
mod settings;
mod share;
mod signs;
mod standing;
mod summary;
mod turns;

pub use evidence::{Critical, least_rounds, ln_evidence};
pub use forecast::{FORECAST_LIMIT, Forecaster, forecast};
pub use limits::{LIMIT_LEVEL, TimeLimits};
pub use movement::{Change, Movement, change};
pub use race::Race;
pub use settings::{Goal, LITTLE, RaceSettings};
pub use share::share_interval;
pub use signs::{Interval, Paired, median_interval, paired};
pub use standing::{Departure, Finding, Gap, Standing, Why};
pub use summary::{Nanos, median, p95, percentile, spread};
pub use turns::Turns;
