//! All that is tested of the crate from outside, as one program: each program more is linked anew.

mod commands;
mod common;
mod contenders;
mod dependencies;
mod documents;
mod ends;
mod faults;
mod filling;
mod hostile_schemas;
mod indexes;
mod interrupts;
mod keys;
mod manners;
mod mistakes;
mod needs;
mod odd_inputs;
mod postgres;
mod related;
mod reports;
mod results;
mod safety;
mod schema;
mod self_test;
mod starting;
mod twin;
mod verdicts;
