//! Times that come after others.

use kampf_schema::{LogicalType, Value};

use crate::others::{Origin, Others};
use crate::period::{DAY, Hours, SECOND};
use crate::random::Random;

/// Later than other times by between so many and so many microseconds, more often soon than late.
#[derive(Clone, Debug)]
pub(crate) struct After {
    /// Where the others are: the latest of those that are known counts.
    pub(crate) of: Vec<Origin>,
    pub(crate) low: i64,
    pub(crate) high: i64,
    /// What the column holds.
    pub(crate) kind: LogicalType,
    /// The hours in which it happens.
    pub(crate) hours: Option<Hours>,
    /// Nothing happens after this; in microseconds.
    pub(crate) until: Option<i64>,
    /// Whether what would be after that is left out.
    pub(crate) nullable: bool,
}

impl After {
    /// As late as another time.
    pub(crate) fn same(of: Origin, kind: LogicalType) -> After {
        After { of: vec![of], low: 0, high: 0, kind, hours: None, until: None, nullable: false }
    }

    pub(crate) fn make(&self, random: &mut Random, others: &dyn Others) -> Value {
        // Most follow soon: squared chances.
        let soon = random.unit();
        let base = match self.of.as_slice() {
            [one] => micros(&others.value(*one)),
            several => several.iter().filter_map(|origin| micros(&others.value(*origin))).max(),
        };
        let Some(base) = base else { return Value::Null };
        let room = self.until.map_or(i64::MAX, |until| until.saturating_sub(base));
        if room < self.low && self.nullable {
            return Value::Null;
        }
        let (low, high) = (self.low.min(room.max(0)), self.high.min(room.max(0)));
        let at = base.saturating_add(low + ((high - low) as f64 * soon * soon) as i64);
        let end = base.saturating_add(room.max(0));
        let at = self.hours.map_or(at, |hours| hours.of_day(at).min(end).max(base.saturating_add(low)));
        as_kind(at, self.kind)
    }
}

/// Later than a parent's by its number among the parent's children times so much, give or take.
#[derive(Clone, Debug)]
pub(crate) struct Step {
    /// The link to the parent, and where its time is.
    pub(crate) link: usize,
    pub(crate) of: Origin,
    pub(crate) low: i64,
    pub(crate) high: i64,
    pub(crate) kind: LogicalType,
    pub(crate) hours: Option<Hours>,
    /// All steps have been by then.
    pub(crate) until: Option<i64>,
}

impl Step {
    pub(crate) fn make(&self, random: &mut Random, others: &dyn Others) -> Value {
        let Some(base) = micros(&others.value(self.of)) else { return Value::Null };
        let ordinal = others.ordinal(self.link) as i64;
        // A quarter of the range about the middle of each step: from one to the next it is no less than the least and no more than the most.
        let (mut middle, mut quarter) = ((self.low + self.high) / 2, (self.high - self.low) / 4);
        if let Some(until) = self.until {
            let room = until.saturating_sub(base).max(0) / (others.siblings(self.link).1 as i64).saturating_add(1);
            if room < middle {
                quarter = (i128::from(quarter) * i128::from(room) / i128::from(middle)) as i64;
                middle = room;
            }
        }
        let at = base.saturating_add((ordinal + 1).saturating_mul(middle));
        let at = at.saturating_add(random.between((-quarter).into(), quarter.into()) as i64);
        let end = self.until.unwrap_or(i64::MAX).max(base);
        as_kind(self.hours.map_or(at, |hours| hours.of_day(at).min(end).max(base)), self.kind)
    }
}

/// A date's midnight, a timestamp, or seconds since 1970, in microseconds.
fn micros(value: &Value) -> Option<i64> {
    match value {
        Value::Date(days) => Some(i64::from(*days).saturating_mul(DAY)),
        Value::Timestamp(micros) => Some(*micros),
        Value::Integer(seconds) => Some(seconds.saturating_mul(SECOND)),
        _ => None,
    }
}

/// A time as what a column of that type holds.
fn as_kind(micros: i64, kind: LogicalType) -> Value {
    match kind {
        LogicalType::Date => Value::Date(i32::try_from(micros.div_euclid(DAY)).unwrap_or(i32::MAX)),
        LogicalType::Integer => Value::Integer(micros.div_euclid(SECOND)),
        _ => Value::Timestamp(micros.div_euclid(SECOND).saturating_mul(SECOND)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3_600 * SECOND;

    #[test]
    fn a_time_has_its_column_s_type() {
        let later = |value: &Value, by: i64, kind| micros(value).map_or(Value::Null, |micros| as_kind(micros + by, kind));
        let timestamp = |days: i64, rest: i64| Value::Timestamp(days * DAY + rest);
        let (date, stamp) = (LogicalType::Date, LogicalType::Timestamp);
        assert_eq!(later(&Value::Date(100), 26 * HOUR, stamp), timestamp(101, 2 * HOUR));
        assert_eq!(later(&Value::Date(100), 26 * HOUR, date), Value::Date(101));
        assert_eq!(later(&timestamp(100, 12 * HOUR), 13 * HOUR, date), Value::Date(101));
        assert_eq!(later(&timestamp(-100, 12 * HOUR), HOUR, date), Value::Date(-100));
        assert_eq!(later(&timestamp(100, 12 * HOUR), HOUR, stamp), timestamp(100, 13 * HOUR));
        assert_eq!(later(&Value::Integer(5), HOUR, LogicalType::Integer), Value::Integer(3_605));
        assert_eq!(later(&Value::Null, HOUR, stamp), Value::Null);
    }

    /// Times of two origins, and a place among siblings.
    struct Given(Value, Value, u64, u64);

    impl Others for Given {
        fn value(&self, origin: Origin) -> Value {
            if origin == Origin::Own(0) { self.0.clone() } else { self.1.clone() }
        }

        fn ordinal(&self, _: usize) -> u64 {
            self.2
        }

        fn siblings(&self, _: usize) -> (u64, u64) {
            (0, self.3)
        }

        fn previous(&self, _: usize, _: kampf_schema::ColumnId) -> Option<Value> {
            None
        }

        fn children(&self, _: kampf_schema::TableId, _: usize) -> u64 {
            0
        }
    }

    fn after(until: i64, nullable: bool) -> After {
        let of = vec![Origin::Own(0), Origin::Own(1)];
        let hours = Some(Hours { from: 7 * HOUR, to: 23 * HOUR });
        After { of, low: HOUR, high: 20 * DAY, kind: LogicalType::Timestamp, hours, until: Some(until), nullable }
    }

    #[test]
    fn the_latest_known_comes_first_and_nothing_after_the_end() {
        let (early, late) = (Value::Timestamp(100 * DAY + 9 * HOUR), Value::Date(110));
        let end = 120 * DAY;
        for row in 0..500 {
            let at = |given: Given, until, nullable| micros(&after(until, nullable).make(&mut Random::at(1, row), &given));
            let known = at(Given(early.clone(), late.clone(), 0, 0), end, true).unwrap();
            assert!(known >= 110 * DAY + HOUR && known <= end, "{known}");
            assert!((7..23).contains(&(known.rem_euclid(DAY) / HOUR)), "{known}");
            assert!(at(Given(early.clone(), Value::Null, 0, 0), end, true).unwrap() >= 100 * DAY + 10 * HOUR);
            assert_eq!(at(Given(Value::Null, Value::Null, 0, 0), end, true), None);
            // Half an hour before the end there is no room: it has not happened, or must have by the end.
            let soon = Given(Value::Null, Value::Timestamp(end - HOUR / 2), 0, 0);
            assert_eq!(at(soon, end, true), None);
            let soon = Given(Value::Null, Value::Timestamp(end - HOUR / 2), 0, 0);
            assert_eq!(at(soon, end, false), Some(end));
        }
    }

    #[test]
    fn steps_go_on_and_all_have_been_by_the_end() {
        for room in [DAY, 40 * DAY, 4_000 * DAY] {
            let step = Step {
                link: 0,
                of: Origin::Own(0),
                low: HOUR,
                high: 20 * DAY,
                kind: LogicalType::Timestamp,
                hours: Some(Hours { from: 7 * HOUR, to: 23 * HOUR }),
                until: Some(100 * DAY + room),
            };
            let of = |at: u64| micros(&step.make(&mut Random::at(2, at), &Given(Value::Date(100), Value::Null, at, 30))).unwrap();
            let times: Vec<i64> = (0..30).map(of).collect();
            assert!(times.is_sorted() && times[0] >= 100 * DAY && times[29] <= 100 * DAY + room, "{times:?}");
        }
    }
}
