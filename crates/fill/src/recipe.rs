//! From recipes to makers.

mod arguments;
mod columns;
mod error;
mod times;
mod ways;

pub(crate) use columns::{Columns, NoColumns};
pub(crate) use error::RecipeError;
pub(crate) use ways::maker;

#[cfg(test)]
mod tests;
