//! What commands that run contenders share: the project with its data, the setup of contenders, what they are given, and what came
//! of them.

mod alone;
mod arrangement;
mod condition;
mod derived;
mod disturbance;
mod forecast;
mod heats;
mod interrupts;
mod machine;
mod plans;
mod raced;
mod session;

pub(crate) use alone::Alone;
pub(crate) use arrangement::Arrangement;
pub(crate) use condition::{empty_answer, left_to_app, taken};
pub(crate) use derived::{derive_indexes, possible_indexes};
pub(crate) use disturbance::{DISTURBANCE, Disturbance, disturb};
pub(crate) use heats::{Heats, entrants};
pub(crate) use machine::{machine, read_load};
pub(crate) use plans::{Planned, Planning, planned, planning, shape_of, without_index};
pub(crate) use raced::{Ran, Surroundings, raced_contest};
pub(crate) use session::{
    engines, filled, filled_to_check, filled_with, heed, inbox, name_programs, open, setup, trouble, warn, warn_of_shares,
};
