//! Aggregates computed in the application.

use std::cmp::Ordering;
use std::collections::HashSet;

use kampf_schema::{Decimal, Value, ValueRef};

use crate::key::Key;
use crate::need::Aggregate;
use crate::plan::AppFold;

/// Takes values one by one. Whole numbers and decimals are added exactly, reals with compensation (Neumaier 1974).
pub(crate) struct Accumulator {
    function: Aggregate,
    count: u64,
    exact: i128,
    scale: u8,
    real: f64,
    lost: f64,
    is_real: bool,
    /// Whether a decimal was added: then the sum is one, with or without digits behind the point.
    is_decimal: bool,
    extreme: Option<Value>,
    /// Values seen, where equal ones count once.
    seen: Option<HashSet<Key>>,
}

impl Accumulator {
    pub(crate) fn new(function: Aggregate) -> Accumulator {
        Accumulator {
            function,
            count: 0,
            exact: 0,
            scale: 0,
            real: 0.0,
            lost: 0.0,
            is_real: false,
            is_decimal: false,
            extreme: None,
            seen: None,
        }
    }

    /// One for what a plan computes.
    pub(crate) fn of(fold: &AppFold) -> Accumulator {
        Accumulator { seen: fold.distinct.then(HashSet::new), ..Accumulator::new(fold.function) }
    }

    /// Counts a row of which no value is asked.
    pub(crate) fn row(&mut self) {
        self.count += 1;
    }

    /// Takes a value; nulls do not count.
    pub(crate) fn value(&mut self, value: ValueRef<'_>) {
        if value.is_null() {
            return;
        }
        if let Some(seen) = &mut self.seen
            && Key::of(std::iter::once(value)).is_some_and(|key| !seen.insert(key))
        {
            return;
        }
        self.count += 1;
        match self.function {
            // The first row is found before its value is asked.
            Aggregate::Count | Aggregate::Exists | Aggregate::First => {}
            Aggregate::Sum | Aggregate::Avg => self.add(value),
            Aggregate::Min | Aggregate::Max => {
                let wanted = if self.function == Aggregate::Min { Ordering::Less } else { Ordering::Greater };
                if self.extreme.as_ref().is_none_or(|extreme| value.order(extreme.as_ref()) == wanted) {
                    self.extreme = Some(value.to_value());
                }
            }
        }
    }

    fn add(&mut self, value: ValueRef<'_>) {
        match value {
            ValueRef::Integer(number) if self.scale == 0 => self.exact += i128::from(number),
            ValueRef::Real(number) => {
                self.is_real = true;
                let sum = self.real + number;
                self.lost += if self.real.abs() >= number.abs() { (self.real - sum) + number } else { (number - sum) + self.real };
                self.real = sum;
            }
            other => {
                let Some(decimal) = other.as_decimal() else { return };
                self.is_decimal |= matches!(other, ValueRef::Decimal(..));
                let scale = self.scale.max(decimal.scale);
                let rescale = |units, from| Decimal { units, scale: from }.rescaled(scale).map_or(units, |decimal| decimal.units);
                self.exact = rescale(self.exact, self.scale) + rescale(decimal.units, decimal.scale);
                self.scale = scale;
            }
        }
    }

    fn total(&self) -> f64 {
        if self.is_real { self.real + self.lost } else { Decimal { units: self.exact, scale: self.scale }.to_real() }
    }

    /// The result: a count, or null where there was no value.
    pub(crate) fn finish(self) -> Value {
        match self.function {
            Aggregate::Count => Value::Integer(i64::try_from(self.count).unwrap_or(i64::MAX)),
            Aggregate::Exists => Value::Boolean(self.count > 0),
            _ if self.count == 0 => Value::Null,
            Aggregate::Sum if self.is_real => Value::Real(self.total()),
            Aggregate::Sum if !self.is_decimal => {
                i64::try_from(self.exact).map_or_else(|_| Value::Decimal(self.exact.into(), 0), Value::Integer)
            }
            Aggregate::Sum => Value::Decimal(self.exact.into(), self.scale),
            Aggregate::Avg => Value::Real(self.total() / self.count as f64),
            Aggregate::Min | Aggregate::Max | Aggregate::First => self.extreme.unwrap_or(Value::Null),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(function: Aggregate, values: &[Value]) -> Value {
        let mut accumulator = Accumulator::new(function);
        values.iter().for_each(|value| accumulator.value(value.as_ref()));
        accumulator.finish()
    }

    #[test]
    fn sums_are_exact_and_reals_compensated() {
        let cents = |units: i128| Value::Decimal(units.into(), 2);
        assert_eq!(of(Aggregate::Sum, &[cents(10), cents(20), Value::Null]), cents(30));
        assert_eq!(of(Aggregate::Sum, &[Value::Integer(i64::MAX), Value::Integer(1), Value::Integer(-1)]), Value::Integer(i64::MAX));
        assert_eq!(of(Aggregate::Sum, &[Value::Real(1e100), Value::Real(1.0), Value::Real(-1e100)]), Value::Real(1.0));
        assert_eq!(of(Aggregate::Avg, &[Value::Integer(1), Value::Integer(2)]), Value::Real(1.5));
        assert_eq!(of(Aggregate::Sum, &[]), Value::Null);
        assert_eq!(of(Aggregate::Count, &[Value::Null, Value::Integer(7)]), Value::Integer(1));
        assert_eq!(of(Aggregate::Max, &[Value::from("b"), Value::from("ä"), Value::from("a")]), Value::from("ä"));
    }
}
