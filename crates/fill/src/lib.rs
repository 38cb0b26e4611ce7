//! Generated rows for a schema.
//!
//! A [`Blueprint`] knows how many rows each table has and makes any value from (seed, table, column, row) alone, so that rows
//! can be made in any order and references need no database. Declared constraints hold by construction: unique values come
//! from permutations and ordinals, references from counted parents. Nothing here knows a driver, a clock or a file.

mod after;
mod allowed;
mod batch;
mod blueprint;
mod bounds;
mod ceiling;
mod connect;
mod count;
mod derived;
mod guard;
mod guards;
mod guess;
mod guesses;
mod keys;
mod kin;
mod kinds;
mod link;
mod maker;
mod more;
pub mod names;
mod numbered;
mod order;
mod origins;
mod others;
mod parameter;
mod path;
mod period;
mod plan;
mod prove;
mod random;
mod recipe;
mod relate;
mod seeds;
mod shape;
mod shares;
mod shrink;
mod tables;
pub mod ties;
mod unique;
mod unknown;
mod uuids;
mod vocabulary;

pub use allowed::{Allowed, allowed};
pub use batch::{BATCH_ROWS, Batch};
pub use blueprint::Blueprint;
pub use guess::{LAST_DAY, LEAST_SCALE, MOST_SCALE, RowGuesses};
pub use guesses::{Guesses, Steps};
pub use more::{MoreRows, NewNumbers};
pub use order::{FillError, FillSubject, Order, Shrink};
pub use parameter::RecipeMaker;
pub use random::Permutation;
pub use shares::OtherShare;
pub use tables::Way;
pub use unknown::{LeftOut, leave_out_checks};

/// Counted up whenever the same seed would give other content.
pub const GENERATOR_VERSION: u32 = 10;
