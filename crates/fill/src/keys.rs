//! Keys of another type: the same rows, recognised by other values. A key is a function of its row's number and can be read back to it.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use kampf_schema::expr::parse_uuid;
use kampf_schema::{ColumnId, KeyColumns, KeyType, LogicalType, TableId, Value, ValueRef, push_uuid};

use crate::batch::{Batch, digest_of};
use crate::blueprint::Blueprint;
use crate::random::{key, mix};
use crate::unique::ValueSource;
use crate::uuids::{UUIDS_SINCE, number_in_order, number_of_uuid, uuid_in_order, uuid_of_number};

/// Other keys for some tables of a blueprint.
#[derive(Clone, Debug, Default)]
pub(crate) struct Rekeyed {
    keys: Vec<NewKeys>,
    /// For each table the columns that hold such keys, with whose they are.
    columns: Vec<Vec<(ColumnId, usize)>>,
}

/// The keys of one table.
#[derive(Clone, Debug)]
struct NewKeys {
    table: TableId,
    own: ColumnId,
    key_type: KeyType,
    /// Whether 16 bytes are kept as bytes, since the engine has no type for UUIDs.
    as_bytes: bool,
    key: u64,
    /// Found out when it is first asked for: it may take all keys of the table.
    rows: OnceLock<RowsByKey>,
}

/// Which row has a key as the schema makes it.
#[derive(Clone, Debug)]
enum RowsByKey {
    /// Whole numbers in the order of rows, from one on; those that are given besides.
    InOrder { first: i64, given: Arc<HashMap<i64, u64>> },
    /// A digest of the key, and the row, in order.
    Sorted(Arc<[(u64, u64)]>),
}

impl RowsByKey {
    fn of(blueprint: &Blueprint, table: TableId, own: ColumnId) -> RowsByKey {
        let plan = &blueprint.tables[table.0];
        if let (ValueSource::RowNumber(first), None) = (&plan.columns[own].source, plan.columns[own].guard) {
            let number = |row: &[Option<Value>]| if let Some(Value::Integer(number)) = row[own] { Some(number) } else { None };
            let given = plan.given.iter().zip(0..).filter_map(|(row, at)| Some((number(row)?, at)));
            return RowsByKey::InOrder { first: *first, given: Arc::new(given.collect()) };
        }
        let mut rows: Vec<(u64, u64)> =
            (0..plan.rows).map(|row| (digest_of(blueprint.as_planned(table, row, own).as_ref()), row)).collect();
        rows.sort_unstable();
        RowsByKey::Sorted(rows.into())
    }

    fn row(&self, blueprint: &Blueprint, table: TableId, own: ColumnId, value: ValueRef<'_>) -> Option<u64> {
        let plan = &blueprint.tables[table.0];
        match self {
            RowsByKey::InOrder { first, given } => {
                let ValueRef::Integer(number) = value else { return None };
                if let Some(row) = given.get(&number) {
                    return Some(*row);
                }
                let (own, rows, before) = (u64::try_from(number.checked_sub(*first)?).ok()?, plan.rows, plan.given.len() as u64);
                // Given rows that leave their key out are numbered behind all others.
                if own < rows - before { Some(own + before) } else { own.checked_sub(rows - before).filter(|row| *row < before) }
            }
            RowsByKey::Sorted(rows) => {
                let digest = digest_of(value);
                let from = rows.partition_point(|(known, _)| *known < digest);
                let alike = rows[from..].iter().take_while(|(known, _)| *known == digest).map(|(_, row)| *row);
                let mut alike = alike.filter(|row| blueprint.as_planned(table, *row, own).as_ref() == value);
                alike.next()
            }
        }
    }
}

impl NewKeys {
    /// Adds the key of a row to a batch.
    fn push(&self, number: u64, out: &mut Batch) {
        let bytes = match self.key_type {
            KeyType::Integer => return out.push(ValueRef::Integer(1 + number as i64)),
            KeyType::Uuid7 => uuid_in_order(UUIDS_SINCE, number, self.key),
            KeyType::Uuid4 | KeyType::Text => uuid_of_number(number, self.key),
        };
        match (self.key_type, self.as_bytes) {
            (KeyType::Text, _) => out.push_text(|text| push_uuid(text, bytes)),
            (_, true) => out.push(ValueRef::Blob(&bytes)),
            (_, false) => out.push(ValueRef::Uuid(bytes)),
        }
    }

    fn key_of(&self, number: u64) -> Value {
        let mut batch = Batch::new(1);
        self.push(number, &mut batch);
        batch.last().to_value()
    }

    /// The number of the row that has a key, whether there is such a row or not.
    fn number(&self, value: ValueRef<'_>) -> Option<u64> {
        let bytes = match value {
            ValueRef::Integer(number) if self.key_type == KeyType::Integer => return u64::try_from(number.checked_sub(1)?).ok(),
            ValueRef::Uuid(bytes) => bytes,
            ValueRef::Blob(bytes) => bytes.try_into().ok()?,
            ValueRef::Text(text) => parse_uuid(text)?,
            _ => return None,
        };
        let number = match self.key_type {
            KeyType::Integer => return None,
            KeyType::Uuid7 => number_in_order(UUIDS_SINCE, bytes)?,
            KeyType::Uuid4 | KeyType::Text => number_of_uuid(bytes, self.key),
        };
        (self.key_of(number).as_ref() == value).then_some(number)
    }

    /// The row that has a key of the schema's own.
    fn row(&self, blueprint: &Blueprint, value: ValueRef<'_>) -> Option<u64> {
        self.rows.get_or_init(|| RowsByKey::of(blueprint, self.table, self.own)).row(blueprint, self.table, self.own, value)
    }

    /// A number that no row has, for a key that none has either.
    fn missing(&self, blueprint: &Blueprint, value: ValueRef<'_>) -> u64 {
        blueprint.rows(self.table) + 1 + (mix(digest_of(value)) >> 24)
    }
}

impl Blueprint {
    /// The first row that has the largest value of a column, without a look at all rows: where rows are numbered, and only the first may be given.
    pub(crate) fn row_of_largest(&self, table: TableId, column: ColumnId) -> Option<u64> {
        let (plan, given) = (&self.tables[table.0], self.given(table));
        let of = &plan.columns[column];
        let numbered = matches!(of.source, ValueSource::RowNumber(_)) && of.guard.is_none() && of.null_share == 0;
        // Given rows may have larger numbers; there are few of them.
        let candidates = (0..given).chain(self.rows(table).checked_sub(1));
        let value = |row: &u64| self.value(table, *row, column);
        candidates.max_by(|one, other| value(one).as_ref().order(value(other).as_ref())).filter(|_| numbered)
    }

    /// The same rows with other keys: for some tables the columns that hold their keys, what these are made of, and the type of UUIDs that
    /// are not texts. All else stays as it is, value by value.
    #[must_use]
    pub fn with_keys(&self, keys: &[(KeyColumns, KeyType)], uuid: LogicalType, seed: u64) -> Blueprint {
        let mut rekeyed = Rekeyed { keys: Vec::new(), columns: vec![Vec::new(); self.tables.len()] };
        for (columns, key_type) in keys {
            let (table, own) = (columns.table, columns.own());
            rekeyed.keys.push(NewKeys {
                table,
                own,
                key_type: *key_type,
                as_bytes: uuid == LogicalType::Blob,
                key: key(seed, &format!("keys of {}", table.0)),
                rows: OnceLock::new(),
            });
            for &(table, column) in &columns.columns {
                rekeyed.columns[table.0].push((column, rekeyed.keys.len() - 1));
            }
        }
        let mut blueprint = self.clone();
        blueprint.rekeyed = Some(Arc::new(rekeyed));
        blueprint
    }

    /// Exchanges the keys in rows that were just made.
    pub(crate) fn exchange_keys(&self, table: TableId, first: u64, batch: &mut Batch) {
        let Some(rekeyed) = &self.rekeyed else { return };
        let mut numbers = Vec::with_capacity(batch.rows());
        for &(column, whose) in &rekeyed.columns[table.0] {
            let keys = &rekeyed.keys[whose];
            numbers.clear();
            for row in 0..batch.rows() {
                let is_own = (table, column) == (keys.table, keys.own);
                numbers.push(if is_own { Some(first + row as u64) } else { keys.row(self, batch.value(row, column)) });
            }
            batch.begin_anew(column);
            for number in &numbers {
                match number {
                    Some(number) => keys.push(*number, batch),
                    None => batch.push(ValueRef::Null),
                }
            }
        }
    }

    /// One value, whose column may hold other keys.
    pub(crate) fn exchanged(&self, table: TableId, row: u64, column: ColumnId) -> Option<Value> {
        let rekeyed = self.rekeyed.as_ref()?;
        let (_, whose) = rekeyed.columns[table.0].iter().find(|(own, _)| *own == column)?;
        let keys = &rekeyed.keys[*whose];
        if (table, column) == (keys.table, keys.own) {
            return Some(keys.key_of(row));
        }
        let number = keys.row(self, self.as_planned(table, row, column).as_ref());
        Some(number.map_or(Value::Null, |number| keys.key_of(number)))
    }

    /// A key of a table as it is here, from what it is in the plain schema: of the same row, or one that no row has where that was none.
    /// Lists of keys likewise; what is no key stays.
    pub fn new_key(&self, table: TableId, value: &Value) -> Value {
        let Some(keys) = self.keys_of(table) else { return value.clone() };
        match value {
            Value::Null => Value::Null,
            Value::List(values) => Value::List(values.iter().map(|value| self.new_key(table, value)).collect()),
            value => {
                let number = keys.row(self, value.as_ref());
                keys.key_of(number.unwrap_or_else(|| keys.missing(self, value.as_ref())))
            }
        }
    }

    /// What a key of a table is in the plain schema; none for one that no row has.
    pub fn old_key(&self, table: TableId, value: &Value) -> Option<Value> {
        let keys = self.keys_of(table)?;
        let row = keys.number(value.as_ref()).filter(|row| *row < self.rows(table))?;
        Some(self.as_planned(table, row, keys.own))
    }

    fn keys_of(&self, table: TableId) -> Option<&NewKeys> {
        self.rekeyed.as_ref()?.keys.iter().find(|keys| keys.table == table)
    }
}
