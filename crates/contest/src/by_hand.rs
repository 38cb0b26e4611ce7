//! What a contender leaves to the developer.

use serde::{Deserialize, Serialize};

use crate::choice::{Choices, Columns, Hydration, Loading};
use crate::dialect::Dialect;
use crate::plan::Plan;
use crate::write::{Change, WritePlan, WriteStep};

/// What the developer writes and keeps in step with the schema. Less is more comfortable; statements weigh most, then
/// columns, then characters.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ByHand {
    /// SQL statements written out.
    pub statements: usize,
    /// Columns listed or mapped one by one.
    pub columns: usize,
    /// Characters of those statements.
    pub characters: usize,
}

impl ByHand {
    /// Of a derived contender.
    ///
    /// An entity (managed or plain) with its relations loaded lazily, in batches or by a join is what a mapper does by itself.
    /// Grouped, ranked, computed and nested values, and everything that becomes a map, a record or nothing, need their SQL written out.
    /// Columns are named one by one where only the needed ones are fetched, and mapped one by one where a row is read by position.
    pub fn of(choices: &Choices, plan: &Plan, dialect: &Dialect) -> ByHand {
        let mapper = matches!(plan.hydration, Hydration::Managed | Hydration::Plain);
        let in_database = matches!(choices.get(), Some(Loading::Grouped | Loading::Ranked | Loading::Computed | Loading::Nested));
        let listed = choices.get() == Some(Columns::Needed);
        let by_position = matches!(plan.hydration, Hydration::Record | Hydration::Raw);
        let written = if mapper && !in_database { Vec::new() } else { plan.statements(dialect) };
        let fetched: usize = if plan.nodes.iter().any(|node| node.statement.is_some()) {
            plan.layouts.iter().map(|layout| layout.columns.len()).sum()
        } else {
            plan.root.columns.len()
        };
        let columns = match (by_position, listed, in_database && mapper) {
            (true, ..) | (_, true, _) => fetched,
            (false, false, true) => plan.give.len(),
            _ => 0,
        };
        ByHand { statements: written.len(), columns, characters: written.iter().map(|sql| sql.chars().count()).sum() }
    }

    /// Of a derived contender that writes: its statements, each with the columns that it names. What goes in by the engine's own way is a statement
    /// like others.
    pub fn of_write(plan: &WritePlan, dialect: &Dialect) -> ByHand {
        let statements = plan.statements(dialect, &[]);
        let columns = plan.steps.iter().map(|step| match step {
            WriteStep::Insert(insert) => insert.columns.len(),
            WriteStep::Once { change: Change::Update { set, .. }, .. } => set.len(),
            WriteStep::Once { .. } | WriteStep::Keys { .. } => 0,
        });
        let characters = statements.iter().map(|sql| sql.chars().count()).sum();
        ByHand { statements: statements.len(), columns: columns.sum(), characters }
    }

    /// Of statements that a developer has written, which write.
    pub fn of_written<'a>(texts: impl Iterator<Item = &'a str>) -> ByHand {
        let lengths: Vec<usize> = texts.map(|text| text.trim().chars().count()).collect();
        ByHand { statements: lengths.len(), columns: 0, characters: lengths.iter().sum() }
    }

    /// Of a developer's own SQL.
    pub fn of_sql(sql: &str, columns: usize, hydration: Hydration) -> ByHand {
        let by_position = matches!(hydration, Hydration::Record | Hydration::Raw);
        ByHand { statements: 1, columns: if by_position { columns } else { 0 }, characters: sql.trim().chars().count() }
    }
}
