//! What no value of a column lies above, without a look at its rows.

use kampf_schema::{ColumnId, TableId, Value};

use crate::blueprint::Blueprint;
use crate::maker::{Maker, NumberKind};
use crate::period::DAY;
use crate::unique::ValueSource;

impl Blueprint {
    /// A value that none of a column's lies above, by how they are made, and of texts one that none begins with; none where that does not say
    /// it. Values of rows that the schema's file gives are looked at, there are few of them.
    pub fn ceiling(&self, table: TableId, column: ColumnId) -> Option<Value> {
        self.ceiling_within(table, column, MOST_HOPS)
    }

    fn ceiling_within(&self, table: TableId, column: ColumnId, hops: usize) -> Option<Value> {
        let plan = &self.tables[table.0];
        let of = &plan.columns[column];
        if let Some(row) = self.row_of_largest(table, column) {
            return Some(self.value(table, row, column));
        }
        let made = match &of.source {
            ValueSource::Drawn if of.guard.is_none() => of.maker.ceiling()?,
            // A reference holds keys of its parent.
            ValueSource::Linked(link, place) if hops > 0 => {
                let reference = &plan.references[*link];
                self.ceiling_within(reference.parent, reference.parent_columns[*place], hops - 1)?
            }
            _ => return None,
        };
        let given = (0..self.given(table)).map(|row| self.value(table, row, column));
        given.chain([made]).max_by(|one, other| one.as_ref().order(other.as_ref()))
    }
}

/// References that are followed to a key which refers to another one.
const MOST_HOPS: usize = 8;

impl Maker {
    fn ceiling(&self) -> Option<Value> {
        match self {
            Maker::Fixed(value) => Some(value.clone()),
            Maker::Integers(_, high) => Some(Value::Integer(*high)),
            Maker::Decimals(_, high, scale) => Some(Value::Decimal((*high).into(), *scale)),
            Maker::Reals(_, high) => Some(Value::Real(*high)),
            Maker::Numbers { bounds: Some((_, high)), kind, .. } => Some(match kind {
                NumberKind::Integer => Value::Integer(high.ceil() as i64),
                NumberKind::Decimal(scale) => Value::Decimal(((high * 10f64.powi((*scale).into())).ceil() as i128).into(), *scale),
                NumberKind::Real => Value::Real(*high),
            }),
            Maker::Pick(values) => values.iter().map(|(value, _)| value).max_by(|one, other| one.as_ref().order(other.as_ref())).cloned(),
            // Working days may lie a little behind the end.
            Maker::Dates(period) => Some(Value::Date(i32::try_from(period.high + 7).ok()?)),
            Maker::Timestamps(period) => Some(Value::Timestamp(period.high.checked_add(7 * DAY)?)),
            Maker::Seconds(period) | Maker::Millis(period) => Some(Value::Integer(period.high + 7 * DAY)),
            // No text that is made begins so.
            text if text.is_text() => Some(Value::from("~")),
            _ => None,
        }
    }
}
