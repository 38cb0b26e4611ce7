//! A contender's choices, filled in.

use super::choices::Choices;
use super::entry::{Choice, Opt};
use super::{Cache, Columns, Fetch, Filters, Habit, Hydration, Loading, Statement, Unit, Work};

/// The choices of a contender with those that do not apply filled in by what they come to.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ways {
    pub(crate) loading: Loading,
    pub(crate) work: Work,
    pub(crate) columns: Columns,
    pub(crate) hydration: Hydration,
    pub(crate) filters: Filters,
    pub(crate) habit: Habit,
    pub(crate) fetch: Fetch,
    /// Rows at a time, where they are not read at once.
    pub(crate) size: u32,
    pub(crate) statement: Statement,
    pub(crate) unit: Unit,
    pub(crate) cache: Cache,
}

impl Ways {
    pub(crate) fn of(choices: &Choices) -> Ways {
        Ways {
            // Without relations there is one table, and nothing to reach.
            loading: choices.get().unwrap_or(Loading::Joined),
            work: choices.get().unwrap_or(Work::Database),
            columns: choices.get().unwrap_or(Columns::Needed),
            hydration: choices.get().unwrap_or(Hydration::Record),
            filters: choices.get().unwrap_or(Filters::Text),
            habit: choices.get().unwrap_or(Habit::Dropped),
            fetch: choices.get().unwrap_or(Fetch::Whole),
            size: choices.of(Choice::Fetch).and_then(Opt::size).unwrap_or(0),
            statement: choices.get().unwrap_or(Statement::Prepared),
            unit: choices.get().unwrap_or(Unit::None),
            cache: choices.get().unwrap_or(Cache::None),
        }
    }

    /// Whether rows are read by a statement for each portion, which says where it begins.
    pub(crate) fn is_windowed(&self) -> bool {
        matches!(self.fetch, Fetch::Pages | Fetch::Chunks)
    }
}
