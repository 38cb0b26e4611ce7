//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod common;
mod contenders;
mod found;
mod keys;
mod manners;
mod postgres;
mod random_schemas;
mod rules;
mod safety;
mod schemas;
mod writes;
