//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod choices;
mod common;
mod consistency;
mod judge;
mod worth;
