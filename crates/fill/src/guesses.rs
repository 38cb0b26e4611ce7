//! What was guessed of how rows hang together, for who may want to correct it.

use std::collections::BTreeMap;

use kampf_schema::{ColumnId, Schema, TableId};

use crate::blueprint::Blueprint;
use crate::derived::Derived;
use crate::link::Among;
use crate::maker::Maker;
use crate::others::Origin;
use crate::ties::history;

/// How rows hang together by what was guessed, and what is said under `[values]`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Guesses {
    /// Tables whose rows keep those of others apart, with the tables that refer to rows of the same one only.
    pub tenants: Vec<(TableId, Vec<TableId>)>,
    /// Tables of steps, and the tables whose rows they are steps of.
    pub histories: Vec<(TableId, TableId)>,
    /// Tables whose rows answer others of theirs: the column that says which, and the table of what both hang on.
    pub answers: Vec<(TableId, ColumnId, TableId)>,
    /// Times of a table that come one after the other, in that order.
    pub lives: Vec<(TableId, Vec<ColumnId>)>,
}

/// Steps of one row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Steps {
    /// The table whose row it is.
    pub of: TableId,
    /// The row.
    pub row: u64,
    /// Its state.
    pub state: Option<ColumnId>,
    /// Its steps in their order.
    pub steps: Vec<u64>,
}

impl Blueprint {
    /// What was guessed of how rows hang together.
    pub fn guesses(&self) -> Guesses {
        let mut guesses = Guesses::default();
        let mut tenants: BTreeMap<TableId, Vec<TableId>> = BTreeMap::new();
        for (at, plan) in self.tables.iter().enumerate() {
            let table = TableId(at);
            for (link, reference) in plan.links.iter().zip(&plan.references) {
                match &link.kin {
                    Some(Among::Kin(kin)) => {
                        if let Some(of) = kin.tenant.map(|tenant| tenants.entry(tenant).or_default())
                            && !of.contains(&table)
                        {
                            of.push(table);
                        }
                    }
                    Some(Among::Thread(thread)) => guesses.answers.push((table, reference.columns[0], plan.references[thread.on].parent)),
                    None => {}
                }
            }
            let derived = |column: ColumnId| if let Maker::From(derived) = &plan.columns[column].maker { Some(&**derived) } else { None };
            for column in 0..plan.columns.len() {
                if let Some(Derived::Path(path)) = derived(column) {
                    guesses.histories.push((table, plan.references[path.link].parent));
                }
            }
            // The latest ones first, each behind what it comes after.
            let before = |column: ColumnId| match derived(column) {
                Some(Derived::After(after)) => {
                    after.of.iter().find_map(|origin| if let Origin::Own(at) = origin { Some(*at) } else { None })
                }
                _ => None,
            };
            let is_last = |column: &ColumnId| (0..plan.columns.len()).all(|other| before(other) != Some(*column));
            for last in (0..plan.columns.len()).filter(is_last) {
                let life: Vec<ColumnId> = std::iter::successors(Some(last), |&column| before(column)).collect();
                if life.len() > 1 {
                    guesses.lives.push((table, life.into_iter().rev().collect()));
                }
            }
        }
        guesses.tenants = tenants.into_iter().collect();
        guesses
    }

    /// Of a table that holds a history the steps of one row, at most so many: the first row that has three of them, or as many as any has.
    pub fn steps(&self, schema: &Schema, table: TableId, most: u64) -> Option<Steps> {
        let history = history(schema, table)?;
        let plan = &self.tables[table.0];
        let link = &plan.links[history.reference];
        let spread = link.spread()?;
        let parents = link.first..link.first + link.parents;
        let row = parents
            .clone()
            .find(|&row| (3..=most).contains(&link.children(row)))
            .or_else(|| parents.clone().max_by_key(|&row| link.children(row)))?;
        let steps = (0..link.children(row).min(most)).map(|rank| link.given + spread.of_rank(row - link.first, rank)).collect();
        Some(Steps { of: plan.references[history.reference].parent, row, state: history.state, steps })
    }
}
