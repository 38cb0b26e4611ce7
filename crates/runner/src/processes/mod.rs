//! Contenders in processes of their own: pipes, limits, signals, clocks.

mod comparison;
mod environment;
mod field;
mod inbox;
mod leash;
mod lines;
mod process;
mod references;
mod sample;
mod scratch;
mod talk;
#[cfg(test)]
mod tests;

pub use comparison::most_rows;
pub(crate) use field::Field;
pub use inbox::{Inbox, ending_signals};
pub use leash::{WARDEN, hold};
pub use references::{more_than, wants_twin};
