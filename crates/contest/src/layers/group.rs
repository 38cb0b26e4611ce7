//! Rows grouped in the application.

use std::collections::HashMap;

use kampf_schema::expr::Scope;
use kampf_schema::{Span, Value};

use super::aggregate::Accumulator;
use crate::engine::EngineError;
use crate::key::Key;
use crate::plan::{AppGroup, AppLeaf};

/// One group: its terms, and its aggregates.
pub(super) struct GroupRow {
    pub(super) keys: Vec<Value>,
    pub(super) totals: Vec<Value>,
}

/// Groups in the order in which they were first met.
pub(super) struct Groups<'p> {
    plan: &'p AppGroup,
    places: HashMap<Key, usize>,
    keys: Vec<Vec<Value>>,
    totals: Vec<Vec<Accumulator>>,
}

impl<'p> Groups<'p> {
    pub(super) fn new(plan: &'p AppGroup) -> Groups<'p> {
        let mut groups = Groups { plan, places: HashMap::new(), keys: Vec::new(), totals: Vec::new() };
        if plan.keys.is_empty() {
            // All rows are one group, also when there are none.
            groups.place(Vec::new());
        }
        groups
    }

    /// The place of the group of some terms.
    pub(super) fn place(&mut self, keys: Vec<Value>) -> usize {
        let key = Key::of_group(keys.iter().map(Value::as_ref));
        *self.places.entry(key).or_insert_with(|| {
            self.keys.push(keys);
            self.totals.push(self.plan.totals.iter().map(Accumulator::of).collect());
            self.keys.len() - 1
        })
    }

    /// The aggregates of a group.
    pub(super) fn totals_mut(&mut self, place: usize) -> &mut [Accumulator] {
        &mut self.totals[place]
    }

    pub(super) fn finish(self) -> Vec<GroupRow> {
        let totals = self.totals.into_iter().map(|totals| totals.into_iter().map(Accumulator::finish).collect());
        self.keys.into_iter().zip(totals).map(|(keys, totals)| GroupRow { keys, totals }).collect()
    }
}

/// A group as the scope of values asked of it.
pub(super) struct OfGroup<'a> {
    pub(super) row: &'a GroupRow,
    pub(super) parameters: &'a [Value],
}

impl Scope<AppLeaf> for OfGroup<'_> {
    type Error = EngineError;

    fn leaf(&mut self, leaf: &AppLeaf) -> Result<Value, EngineError> {
        let known = match leaf {
            AppLeaf::Key(at) => self.row.keys.get(*at),
            AppLeaf::Total(at) => self.row.totals.get(*at),
            AppLeaf::Parameter(at) => self.parameters.get(*at),
            AppLeaf::Column { .. } | AppLeaf::Aggregate(_) | AppLeaf::List(_) => None,
        };
        Ok(known.cloned().unwrap_or(Value::Null))
    }

    fn overflow(&mut self, _: Span, _: Option<f64>) -> Result<Value, EngineError> {
        Err(EngineError::too_large())
    }
}
