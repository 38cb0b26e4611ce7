//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod constraints;
mod documented;
mod keys;
mod odd_inputs;
mod ties;
