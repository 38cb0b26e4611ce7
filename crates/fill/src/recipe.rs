//! From recipes to makers.

mod arguments;
mod call;
mod columns;
mod error;
mod histories;
mod times;
mod ways;

pub(crate) use columns::{Columns, NoColumns};
pub(crate) use error::RecipeError;
pub(crate) use ways::maker;

#[cfg(test)]
mod tests;
