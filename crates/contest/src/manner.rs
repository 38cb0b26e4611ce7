//! In what manner a plan is carried out.

use serde::{Deserialize, Serialize};

use crate::choice::Ways;
use crate::choice::{Cache, Fetch, Statement, Unit};
use crate::need::Need;

/// Answers that are kept at most where nobody says.
const USUAL_ENTRIES: u32 = 1_000;

/// How rows are fetched, statements sent, and answers kept.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Manner {
    /// How many rows are read at a time.
    pub fetch: Fetch,
    /// So many, where they are not read at once.
    pub size: u32,
    /// Rows that are read at most, all portions together.
    pub most: Option<u64>,
    /// Of chunks the places of the key in the root's layout.
    pub behind: Vec<usize>,
    /// How statements are sent.
    pub statement: Statement,
    /// What holds the statements of a call together.
    pub unit: Unit,
    /// Whether answers are kept between calls.
    pub cache: Cache,
    /// So many at most.
    pub entries: u32,
}

impl Default for Manner {
    /// All rows at once, by prepared statements, each by itself, and nothing kept.
    fn default() -> Manner {
        Manner {
            fetch: Fetch::Whole,
            size: 0,
            most: None,
            behind: Vec::new(),
            statement: Statement::Prepared,
            unit: Unit::None,
            cache: Cache::None,
            entries: USUAL_ENTRIES,
        }
    }
}

impl Manner {
    pub(crate) fn of(ways: Ways, need: &Need) -> Manner {
        let most = need.most().filter(|_| ways.is_windowed());
        let Ways { fetch, size, statement, unit, cache, .. } = ways;
        Manner { fetch, size, most, behind: Vec::new(), statement, unit, cache, entries: USUAL_ENTRIES }
    }
}
