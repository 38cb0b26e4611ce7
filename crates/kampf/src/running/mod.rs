//! What commands that run contenders share: the project with its data, the setup of contenders, what they are given, and what came
//! of them.

mod alone;
mod arrangement;
mod condition;
mod derived;
mod disturbance;
mod forecast;
mod heats;
mod machine;
mod one_race;
mod plans;
mod raced;
mod rules;
mod series;
mod session;
mod wish;

pub(crate) use alone::Alone;
pub(crate) use arrangement::Arrangement;
pub(crate) use condition::{empty_answer, left_to_app, taken};
pub(crate) use derived::{derive_indexes, possible_indexes};
pub(crate) use disturbance::{DISTURBANCE, Disturbance, disturb};
pub(crate) use machine::{machine, read_load};
pub(crate) use one_race::{OneRace, race_alone};
pub(crate) use plans::{Planned, Planning, planned, planning, shape_of, without_index};
pub(crate) use rules::{LONG_ANSWER, RaceRules};
pub(crate) use series::Series;
pub(crate) use session::{
    engines, filled, filled_to_check, filled_with, name_programs, open, scratch_for, setup, setup_on, trouble, warn_of_shares,
};
pub(crate) use wish::RaceWish;
