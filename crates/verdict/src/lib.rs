//! From what a race measured to what to choose.
//!
//! [`Facts`] go in: rounds, counts, answers that failed, what the user requires. A [`Verdict`] comes out: how each contender stands,
//! whom to take, what each choice did. It is worked out from the facts alone, so a saved race gives the verdict it gave when it
//! was run. Facts are never changed, and nothing here makes a sentence or sorts anything in place: whoever shows a verdict words it.

mod comfort;
mod effects;
mod facts;
mod judge;
mod ladder;
mod replay;
mod require;
mod trade_offs;
mod verdict;

pub use facts::{ContenderFacts, Facts, Fault, FaultKind, Rules};
pub use judge::judge;
pub use require::{Miss, Require, Required};
pub use verdict::{Against, Effect, Forecast, Left, Nearest, Outcome, Placed, Ratio, Step, Verdict};

#[cfg(test)]
mod tests;
