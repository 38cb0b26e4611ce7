//! Tables and columns, ready to be made.

use std::collections::HashMap;
use std::sync::Arc;

use kampf_schema::{LogicalType, Reference};

use crate::guard::Guard;
use crate::link::Link;
use crate::maker::Maker;
use crate::random::Permutation;
use crate::seeds::Given;
use crate::unique::ValueSource;

/// How a column is made, in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// A recipe, or what it is in words.
    pub how: String,
    /// What unique rules add to it, in words.
    pub more: &'static str,
    /// Whether it is a recipe that could be written under `[values]`.
    pub is_recipe: bool,
    /// Who says so: what the guess is from, or that it is set.
    pub why: String,
    /// Nulls in 100_000.
    pub null_share: u32,
}

/// One column, ready to be made.
#[derive(Clone, Debug)]
pub(crate) struct ColumnPlan {
    pub(crate) key: u64,
    pub(crate) null_share: u32,
    pub(crate) maker: Maker,
    pub(crate) source: ValueSource,
    pub(crate) distinct: Option<Permutation>,
    pub(crate) longest: Option<u64>,
    pub(crate) kind: LogicalType,
    /// Values that given rows have already, where all must differ, and which row has each.
    pub(crate) taken: Option<Arc<HashMap<String, u64>>>,
    /// Whether values may come from elsewhere than the recipe: nobody said how they look.
    pub(crate) free: bool,
    /// The guard that the column is under.
    pub(crate) guard: Option<usize>,
    pub(crate) way: Way,
}

#[derive(Clone, Debug)]
pub(crate) struct TablePlan {
    pub(crate) rows: u64,
    pub(crate) given: Given,
    pub(crate) columns: Vec<ColumnPlan>,
    pub(crate) links: Vec<Link>,
    pub(crate) references: Vec<Reference>,
    pub(crate) guards: Vec<Guard>,
}
