//! The named ways that make times.

use kampf_schema::expr::Argument;
use kampf_schema::{LogicalType, Value};

use super::arguments::{clock, durations, range, time_like, with_manner};
use super::call::{Call, derived, path_text};
use super::error::{RecipeError, wrong};
use crate::after::{After, Step};
use crate::derived::Derived;
use crate::maker::Maker;
use crate::others::Origin;
use crate::period::{DAY, Hours, Period, SECOND, TimeManner};

impl Call<'_> {
    pub(super) fn in_manner(&self, manner: TimeManner) -> Result<Option<Maker>, RecipeError> {
        let [Argument::Range(low, high), rest @ ..] = self.arguments else { return Ok(None) };
        let (hours, rest) = hours(rest)?;
        let made = with_manner(range(low, high, time_like(self.kind))?, self.kind, manner)?;
        let is_millis = match rest {
            [] => false,
            [Argument::Value(Value::Text(unit), None)] if &**unit == "milliseconds" && self.kind == LogicalType::Integer => true,
            _ => return Ok(None),
        };
        Ok(Some(match made {
            Maker::Dates(_) if hours.is_some() => return wrong("a date has no hours", "leave the hours out"),
            Maker::Timestamps(period) => Maker::Timestamps(Period { hours, ..period }),
            Maker::Seconds(period) if is_millis => Maker::Millis(Period { hours, ..period }),
            Maker::Seconds(period) => Maker::Seconds(Period { hours, ..period }),
            other => other,
        }))
    }

    /// Columns, and by how much, in which hours and until when the values come after those.
    pub(super) fn later(&self) -> Result<Option<After>, RecipeError> {
        let paths = self.arguments.iter().map_while(|argument| if let Argument::Path(path) = argument { Some(path) } else { None });
        let mut of = Vec::new();
        let is_moment = |kind| matches!(kind, LogicalType::Date | LogicalType::Timestamp | LogicalType::Integer);
        for path in paths {
            let (origin, kind) = self.columns.origin(path)?;
            if !is_moment(self.kind) || !(self.kind == kind || are_date_and_timestamp(self.kind, kind)) {
                return wrong(
                    format!("`{}` is {kind}, and this column {}", path_text(path), self.kind),
                    "both must be dates, timestamps, or seconds since 1970",
                );
            }
            of.push(origin);
        }
        let rest = &self.arguments[of.len()..];
        let ((low, high), rest) = match rest {
            [Argument::Range(Value::Text(low), Value::Text(high)), rest @ ..] if clock(low).is_none() => (durations(low, high)?, rest),
            [Argument::Value(Value::Text(length), None), rest @ ..] => (durations(length, length)?, rest),
            _ => ((0, 30 * DAY), rest),
        };
        let (hours, rest) = hours(rest)?;
        let until = match rest {
            [] => None,
            [Argument::Value(Value::Date(day), None)] => Some((i64::from(*day) + 1) * DAY - SECOND),
            _ => return Ok(None),
        };
        let nullable = self.columns.nullable();
        Ok((!of.is_empty()).then_some(After { of, low, high, kind: self.kind, hours, until, nullable }))
    }
}

/// The hours of the day that come first among some arguments, and what follows.
fn hours(arguments: &[Argument]) -> Result<(Option<Hours>, &[Argument]), RecipeError> {
    let [Argument::Range(Value::Text(from), Value::Text(to)), rest @ ..] = arguments else { return Ok((None, arguments)) };
    match (clock(from), clock(to)) {
        (Some(from), Some(to)) if from < to => Ok((Some(Hours { from: i64::from(from) * SECOND, to: i64::from(to) * SECOND }), rest)),
        _ => wrong(format!("'{from}'..'{to}' are no hours of a day"), "like '07:00'..'23:00'"),
    }
}

pub(super) fn are_date_and_timestamp(one: LogicalType, other: LogicalType) -> bool {
    matches!((one, other), (LogicalType::Timestamp, LogicalType::Date) | (LogicalType::Date, LogicalType::Timestamp))
}

pub(super) fn step(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let Some(After { of, low, high, kind, hours, until, .. }) = call.later()? else { return Ok(None) };
    match of.as_slice() {
        &[of @ Origin::Parent(link, _)] => Ok(derived(Derived::Step(Step { link, of, low, high, kind, hours, until }))),
        _ => call.usage("a column of the parent, like `hive.since`"),
    }
}
