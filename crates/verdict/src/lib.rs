//! From what a race measured to what to choose.
//!
//! [`Facts`] go in: rounds, counts, answers that failed, what the user requires. A [`Verdict`] comes out: how each contender stands,
//! whom to take, what each choice did. It is worked out from the facts alone, so a saved race gives the verdict it gave when it
//! was run. Facts are never changed, and nothing here makes a sentence or sorts anything in place: whoever shows a verdict words it.

mod by_choice;
mod compared;
mod effects;
mod facts;
mod judge;
mod ladder;
mod placed;
mod readings;
mod replay;
mod require;
mod take;
mod trade_offs;
mod verdict;
mod worth;

pub use by_choice::{ByChoice, ChoiceEnd, Cost, OtherOption};
pub use compared::compared;
pub use facts::{Candidate, ContenderFacts, Facts, Fault, FaultKind, HeatFacts, KeptFacts, KeysFacts, RunsBeside, VariantFacts, beside};
pub use judge::{judge, next_anchor};
pub use placed::{Forecast, Left, Outcome, Placed, Ratio};
pub use require::{Keeps, Nearest, Reading, Require, Required};
pub use verdict::{Effect, End, OptionChange, Pair, PairFinding, Requirements, Step, Verdict};
pub use worth::{FetchWorth, IndexFinding, IndexWorth, KeptWorth, KeysOfType, KeysWorth, Wins, Worth};
