//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod chance;
mod heats;
mod race;
mod simulations;
mod turns;
