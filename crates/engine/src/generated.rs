//! Generated rows as the plain evaluation reads them.

use kampf_contest::RowSource;
use kampf_fill::Blueprint;
use kampf_schema::{ColumnId, TableId, Value};

/// The rows of a blueprint.
pub struct GeneratedRows<'a>(pub &'a Blueprint);

impl RowSource for GeneratedRows<'_> {
    fn count(&self, table: TableId) -> u64 {
        self.0.rows(table)
    }

    fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        self.0.value(table, row, column)
    }
}
