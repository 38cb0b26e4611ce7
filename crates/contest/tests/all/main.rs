//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod candidates;
mod common;
mod field;
mod keyed;
mod language;
mod layers;
mod odd_inputs;
mod related;
mod statements;
mod writes;
