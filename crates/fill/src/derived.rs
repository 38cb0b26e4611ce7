//! Values made from other columns of the row, or from one of its parent.

use kampf_schema::{LogicalType, TableId, Value, ValueRef};

use crate::batch::Batch;
use crate::maker::{Maker, NumberKind, Origin, Others, bounded};
use crate::period::{DAY, SECOND};
use crate::random::Random;
use crate::vocabulary::{Vocabulary, cut, plain};

/// Values made from others.
#[derive(Clone, Debug)]
pub(crate) enum Derived {
    /// Later by between so many and so many units of what it is, more often soon than late.
    After(Origin, i64, i64, LogicalType),
    /// Later than a parent's by its number among the parent's children times so much, give or take.
    Step(Origin, i64, i64, LogicalType),
    /// slope * other + intercept, and a normal deviation.
    Linear {
        of: Origin,
        slope: f64,
        intercept: f64,
        noise: f64,
        bounds: Option<(f64, f64)>,
        kind: NumberKind,
    },
    /// By the value of another column; the last one, without a value, for all others.
    When(Origin, Vec<(Option<Value>, Maker, u32)>),
    /// An address or login from names.
    Email(Vec<Origin>),
    /// Names of a person, one after the other.
    Joined(Vec<Origin>),
    Slug(Origin),
    /// How many rows of another table belong to the row: by which of its references.
    Count(TableId, usize),
    /// The same value.
    Same(Origin),
}

impl Derived {
    pub(crate) fn make(&self, random: &mut Random, row: u64, words: &Vocabulary, others: &dyn Others, out: &mut Batch) {
        match self {
            Derived::After(of, low, high, kind) => {
                // Most follow soon: squared chances.
                let soon = random.unit();
                let later = low + ((high - low) as f64 * soon * soon) as i64;
                out.push(moved(&others.value(*of), later, *kind).as_ref());
            }
            Derived::Step(of, low, high, kind) => {
                let link = if let Origin::Parent(link, _) = of { *link } else { 0 };
                let ordinal = others.ordinal(link) as i64;
                // A quarter of the range about the middle of each step: from one to the next it is no less than the least and no more than the most.
                let (middle, quarter) = ((low + high) / 2, (high - low) / 4);
                let later = (ordinal + 1).saturating_mul(middle).saturating_add(random.between((-quarter).into(), quarter.into()) as i64);
                out.push(moved(&others.value(*of), later, *kind).as_ref());
            }
            Derived::Linear { of, slope, intercept, noise, bounds, kind } => match others.value(*of).as_ref().as_real() {
                Some(other) => out.push(kind.value(bounded(slope * other + intercept + noise * random.normal(), *bounds)).as_ref()),
                None => out.push(ValueRef::Null),
            },
            Derived::When(of, cases) => {
                let other = others.value(*of);
                let fits = |value: &Option<Value>| value.as_ref().is_none_or(|value| value.as_ref().order(other.as_ref()).is_eq());
                match cases.iter().find(|(value, ..)| fits(value)) {
                    Some((_, _, null_share)) if random.chance(*null_share) => out.push(ValueRef::Null),
                    Some((_, maker, _)) => maker.make(random, row, words, others, out),
                    None => out.push(ValueRef::Null),
                }
            }
            Derived::Email(of) => {
                let names = known(of, others);
                out.push_text(|out| {
                    let start = out.len();
                    for name in names.iter().flat_map(|name| name.split(' ')) {
                        if out.len() > start {
                            out.push('.');
                        }
                        plain(name, out);
                    }
                    out.push_str("@example.org");
                });
            }
            Derived::Joined(of) => {
                let whole = known(of, others).join(" ");
                out.push_text(|out| out.push_str(&whole));
            }
            Derived::Count(child, reference) => out.push(ValueRef::Integer(others.children(*child, *reference) as i64)),
            Derived::Slug(of) => {
                let other = others.value(*of);
                match other {
                    Value::Null => out.push(ValueRef::Null),
                    other => out.push_text(|out| {
                        let start = out.len();
                        plain(&other.to_string(), out);
                        cut(out, start, 48);
                    }),
                }
            }
            Derived::Same(of) => out.push(others.value(*of).as_ref()),
        }
    }
}

/// The values at some origins as texts, without those that are null.
fn known(of: &[Origin], others: &dyn Others) -> Vec<String> {
    of.iter().map(|origin| others.value(*origin)).filter(|value| *value != Value::Null).map(|value| value.to_string()).collect()
}

/// A date, a timestamp or seconds since 1970, so much later, as what a column of that type holds: `later` is in microseconds.
fn moved(value: &Value, later: i64, kind: LogicalType) -> Value {
    match (value, kind) {
        (Value::Date(days), LogicalType::Timestamp) => {
            Value::Timestamp(i64::from(*days).saturating_mul(DAY).saturating_add(later / SECOND * SECOND))
        }
        (Value::Timestamp(micros), LogicalType::Date) => {
            Value::Date(i32::try_from(micros.saturating_add(later).div_euclid(DAY)).unwrap_or(i32::MAX))
        }
        (Value::Date(days), _) => Value::Date(days.saturating_add(i32::try_from(later / DAY).unwrap_or(i32::MAX))),
        (Value::Timestamp(micros), _) => Value::Timestamp(micros.saturating_add(later / SECOND * SECOND)),
        (Value::Integer(seconds), _) => Value::Integer(seconds.saturating_add(later / SECOND)),
        _ => Value::Null,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_derived_time_has_its_column_s_type() {
        let (hour, noon) = (3_600 * SECOND, 43_200 * SECOND);
        let timestamp = |days: i64, rest: i64| Value::Timestamp(days * DAY + rest);
        let (date, stamp) = (LogicalType::Date, LogicalType::Timestamp);
        assert_eq!(moved(&Value::Date(100), 26 * hour, stamp), timestamp(101, 2 * hour));
        assert_eq!(moved(&Value::Date(100), 26 * hour, date), Value::Date(101));
        assert_eq!(moved(&timestamp(100, noon), 13 * hour, date), Value::Date(101));
        assert_eq!(moved(&timestamp(-100, noon), hour, date), Value::Date(-100));
        assert_eq!(moved(&timestamp(100, noon), hour, stamp), timestamp(100, noon + hour));
        assert_eq!(moved(&Value::Integer(5), hour, LogicalType::Integer), Value::Integer(3_605));
        assert_eq!(moved(&Value::Null, hour, stamp), Value::Null);
    }
}
