//! Lists out of JSON texts: an array of rows, each an array of values and lists. The texts are read by serde_json, straight into the
//! form that rows are kept in, or handed on in place.

use std::fmt;
use std::marker::PhantomData;

use kampf_schema::expr::parse_uuid;
use kampf_schema::{Decimal, LogicalType, Value, ValueRef, parse_date, parse_timestamp};
use serde::de::{DeserializeSeed, Deserializer, Error, IgnoredAny, SeqAccess, Visitor};

use super::consumer::Consumer;
use super::store::{Slot, Store};
use crate::engine::{EngineError, EngineErrorKind};
use crate::plan::{AppLeaf, Cell, Plan};

/// Reads the rows of a node out of a text and keeps them; null stands for none.
pub(super) fn keep<S: Store>(plan: &Plan, stores: &mut [S], node: usize, text: ValueRef<'_>) -> Result<Vec<u32>, EngineError> {
    let mut values = Vec::new();
    read(plan, node, text, |deserializer| Rows { plan, stores, node, values: &mut values }.deserialize(deserializer))
        .map(Option::unwrap_or_default)
}

/// Hands the rows of a list in a text on, value by value.
pub(super) fn hand<C: Consumer>(plan: &Plan, list: usize, text: ValueRef<'_>, consumer: &mut C) -> Result<(), EngineError> {
    consumer.list();
    read(plan, plan.lists[list].over, text, |deserializer| Handed { plan, list, consumer }.deserialize(deserializer))?;
    consumer.end();
    Ok(())
}

fn read<'t, T>(
    plan: &Plan,
    node: usize,
    text: ValueRef<'t>,
    with: impl FnOnce(&mut serde_json::Deserializer<serde_json::de::StrRead<'t>>) -> Result<T, serde_json::Error>,
) -> Result<Option<T>, EngineError> {
    let name = &plan.layouts[plan.nodes[node].layout].name;
    let wrong = |why: String| EngineError {
        kind: EngineErrorKind::Value,
        message: format!("the list `{name}` is no JSON array of arrays as it is asked for: {why}"),
        sql: None,
        cause: None,
    };
    match text {
        ValueRef::Null => Ok(None),
        ValueRef::Text(text) => {
            let mut deserializer = serde_json::Deserializer::from_str(text);
            let read = with(&mut deserializer).and_then(|read| deserializer.end().map(|()| read));
            read.map(Some).map_err(|error| wrong(error.to_string()))
        }
        other => Err(wrong(format!("{} came", other.to_value()))),
    }
}

/// The rows of a node, kept.
struct Rows<'a, S> {
    plan: &'a Plan,
    stores: &'a mut [S],
    node: usize,
    /// Values of rows that are not whole yet, those of the rows around them first.
    values: &'a mut Vec<Value>,
}

impl<'de, S: Store> DeserializeSeed<'de> for Rows<'_, S> {
    type Value = Vec<u32>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Vec<u32>, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de, S: Store> Visitor<'de> for Rows<'_, S> {
    type Value = Vec<u32>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an array of rows")
    }

    fn visit_unit<E: Error>(self) -> Result<Vec<u32>, E> {
        Ok(Vec::new())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut rows: A) -> Result<Vec<u32>, A::Error> {
        let Rows { plan, stores, node, values } = self;
        let mut kept = Vec::new();
        while let Some(row) = rows.next_element_seed(Row { plan, stores: &mut *stores, node, values: &mut *values })? {
            kept.push(row);
        }
        Ok(kept)
    }
}

/// A row of a node, kept.
struct Row<'a, S> {
    plan: &'a Plan,
    stores: &'a mut [S],
    node: usize,
    values: &'a mut Vec<Value>,
}

impl<'de, S: Store> DeserializeSeed<'de> for Row<'_, S> {
    type Value = u32;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<u32, D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de, S: Store> Visitor<'de> for Row<'_, S> {
    type Value = u32;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "an array of {} values", self.plan.nodes[self.node].cells.len())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<u32, A::Error> {
        let Row { plan, stores, node, values } = self;
        let from = values.len();
        let cells = &plan.nodes[node].cells;
        let mut lists: Vec<(usize, Vec<u32>)> = Vec::new();
        for (at, cell) in cells.iter().enumerate() {
            let missing = || A::Error::invalid_length(at, &format!("{} values", cells.len()).as_str());
            match cell {
                Cell::Value(kind) => {
                    let one = OneValue { kind: *kind, use_it: |value: ValueRef<'_>| value.to_value() };
                    values.push(items.next_element_seed(one)?.ok_or_else(missing)?);
                }
                Cell::List(child) => {
                    let rows = Rows { plan, stores: &mut *stores, node: *child, values: &mut *values };
                    lists.push((*child, items.next_element_seed(rows)?.ok_or_else(missing)?));
                }
            }
        }
        no_more(&mut items, cells.len())?;
        let own = plan.nodes[node].layout;
        let row = stores[own].push_values(values, from);
        for (child, rows) in lists {
            if let Some(link) = &plan.nodes[child].link {
                *stores[own].slot_mut(row, link.slot) = Slot::Many(rows);
            }
        }
        Ok(row)
    }
}

fn no_more<'de, A: SeqAccess<'de>>(items: &mut A, wanted: usize) -> Result<(), A::Error> {
    match items.next_element::<IgnoredAny>()? {
        Some(_) => Err(A::Error::invalid_length(wanted + 1, &format!("{wanted} values").as_str())),
        None => Ok(()),
    }
}

/// The rows of a list, handed on.
struct Handed<'a, C> {
    plan: &'a Plan,
    list: usize,
    consumer: &'a mut C,
}

impl<'de, C: Consumer> DeserializeSeed<'de> for Handed<'_, C> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de, C: Consumer> Visitor<'de> for Handed<'_, C> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an array of rows")
    }

    fn visit_unit<E: Error>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut rows: A) -> Result<(), A::Error> {
        while rows.next_element_seed(HandedRow { plan: self.plan, list: self.list, consumer: &mut *self.consumer })?.is_some() {}
        Ok(())
    }
}

struct HandedRow<'a, C> {
    plan: &'a Plan,
    list: usize,
    consumer: &'a mut C,
}

impl<'de, C: Consumer> DeserializeSeed<'de> for HandedRow<'_, C> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de, C: Consumer> Visitor<'de> for HandedRow<'_, C> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a row, which is an array of values")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<(), A::Error> {
        let HandedRow { plan, list, consumer } = self;
        let list = &plan.lists[list];
        let cells = &plan.nodes[list.over].cells;
        // What is given stands in its order, behind what nobody asked for.
        let unasked = cells.len() - list.give.len();
        consumer.item();
        for (at, cell) in cells.iter().enumerate() {
            let missing = || A::Error::invalid_length(at, &format!("{} values", cells.len()).as_str());
            match (cell, at.checked_sub(unasked).and_then(|given| list.give[given].as_leaf())) {
                (_, None) => items.next_element::<IgnoredAny>()?.map(|_| ()).ok_or_else(missing)?,
                (Cell::List(_), Some(AppLeaf::List(inner))) => {
                    consumer.list();
                    items.next_element_seed(Handed { plan, list: *inner, consumer: &mut *consumer })?.ok_or_else(missing)?;
                    consumer.end();
                }
                (Cell::Value(kind), Some(_)) => {
                    let one = OneValue { kind: *kind, use_it: |value: ValueRef<'_>| consumer.value(value) };
                    items.next_element_seed(one)?.ok_or_else(missing)?;
                }
                (Cell::List(_), Some(_)) => return Err(A::Error::custom("a list stands where a value is asked for")),
            }
        }
        no_more(&mut items, cells.len())
    }
}

/// One value of a type.
struct OneValue<F> {
    kind: LogicalType,
    use_it: F,
}

impl<'de, R, F: FnOnce(ValueRef<'_>) -> R> DeserializeSeed<'de> for OneValue<F> {
    type Value = R;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<R, D::Error> {
        deserializer.deserialize_any(OneVisitor { kind: self.kind, use_it: self.use_it, result: PhantomData })
    }
}

struct OneVisitor<R, F> {
    kind: LogicalType,
    use_it: F,
    result: PhantomData<R>,
}

impl<R, F: FnOnce(ValueRef<'_>) -> R> OneVisitor<R, F> {
    fn decimal<E: Error>(self, decimal: Option<Decimal>, scale: u8) -> Result<R, E> {
        match decimal.and_then(|decimal| decimal.rescaled(scale)) {
            Some(decimal) => Ok((self.use_it)(ValueRef::Decimal(decimal.units.into(), scale))),
            None => Err(E::custom(format!("a number that is no {}", self.kind))),
        }
    }
}

impl<'de, R, F: FnOnce(ValueRef<'_>) -> R> Visitor<'de> for OneVisitor<R, F> {
    type Value = R;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.kind)
    }

    fn visit_unit<E: Error>(self) -> Result<R, E> {
        Ok((self.use_it)(ValueRef::Null))
    }

    fn visit_bool<E: Error>(self, truth: bool) -> Result<R, E> {
        match self.kind {
            LogicalType::Boolean => Ok((self.use_it)(ValueRef::Boolean(truth))),
            _ => Err(E::invalid_type(serde::de::Unexpected::Bool(truth), &self)),
        }
    }

    fn visit_i64<E: Error>(self, number: i64) -> Result<R, E> {
        match self.kind {
            LogicalType::Integer => Ok((self.use_it)(ValueRef::Integer(number))),
            LogicalType::Real => Ok((self.use_it)(ValueRef::Real(number as f64))),
            LogicalType::Boolean if (0..=1).contains(&number) => Ok((self.use_it)(ValueRef::Boolean(number == 1))),
            LogicalType::Decimal { scale, .. } => self.decimal(Some(Decimal { units: number.into(), scale: 0 }), scale),
            _ => Err(E::invalid_type(serde::de::Unexpected::Signed(number), &self)),
        }
    }

    fn visit_u64<E: Error>(self, number: u64) -> Result<R, E> {
        match i64::try_from(number) {
            Ok(number) => self.visit_i64(number),
            Err(_) => self.visit_f64(number as f64),
        }
    }

    fn visit_f64<E: Error>(self, number: f64) -> Result<R, E> {
        match self.kind {
            LogicalType::Real => Ok((self.use_it)(ValueRef::Real(number))),
            LogicalType::Decimal { scale, .. } => self.decimal(Decimal::from_real(number, scale), scale),
            LogicalType::Integer if number.fract() == 0.0 && number.abs() < 9e15 => Ok((self.use_it)(ValueRef::Integer(number as i64))),
            _ => Err(E::invalid_type(serde::de::Unexpected::Float(number), &self)),
        }
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<R, E> {
        let wrong = || E::custom(format!("a text that is no {}", self.kind));
        match self.kind {
            LogicalType::Text { .. } => Ok((self.use_it)(ValueRef::Text(text))),
            // A text of more digits than a real keeps is that of a real in full: -999999999999.999 comes as -999999999999.99902.
            LogicalType::Decimal { scale, .. } if text.bytes().filter(u8::is_ascii_digit).count() > 15 => {
                let exact = Decimal::parse(text).and_then(|decimal| decimal.rescaled(scale));
                let real = || text.parse().ok().and_then(|real| Decimal::from_real(real, scale));
                self.decimal(exact.or_else(real), scale)
            }
            LogicalType::Decimal { scale, .. } => self.decimal(Decimal::parse(text), scale),
            LogicalType::Date => parse_date(text).ok_or_else(wrong).map(|days| (self.use_it)(ValueRef::Date(days))),
            LogicalType::Timestamp => parse_timestamp(text).ok_or_else(wrong).map(|micros| (self.use_it)(ValueRef::Timestamp(micros))),
            LogicalType::Uuid => parse_uuid(text).ok_or_else(wrong).map(|bytes| (self.use_it)(ValueRef::Uuid(bytes))),
            LogicalType::Blob => crate::answer::hexadecimal(text).ok_or_else(wrong).map(|bytes| (self.use_it)(ValueRef::Blob(&bytes))),
            LogicalType::Integer | LogicalType::Real | LogicalType::Boolean => {
                Err(E::invalid_type(serde::de::Unexpected::Str(text), &self))
            }
        }
    }
}
