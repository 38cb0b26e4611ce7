//! What the checks of a table say about single columns, for who looks at rows.

use kampf_schema::{LogicalType, Table, Value};

use crate::bounds::bounds;

/// What the values of a column may be by the checks of its table.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Allowed {
    /// One of these; none where no check lists them.
    pub one_of: Option<Vec<Value>>,
    /// At most this; none where no check says so.
    pub most: Option<Value>,
}

/// What the values of each column of a table may be.
pub fn allowed(table: &Table) -> Vec<Allowed> {
    let (bounds, _) = bounds(table);
    let of = |(bounds, column): (crate::bounds::Bounds, &kampf_schema::Column)| {
        // What the type itself holds is no check.
        let whole = column.limits.filter(|_| column.kind == LogicalType::Integer).map(|(_, high)| Value::Integer(high));
        Allowed { one_of: bounds.one_of, most: bounds.most.filter(|most| Some(most) != whole.as_ref()) }
    };
    bounds.into_iter().zip(&table.columns).map(of).collect()
}
