use std::convert::Infallible;

use super::super::evaluate::Scope;
use crate::expr::{Kinds, Mistake, Written, check, read_give};
use crate::place::Span;
use crate::types::LogicalType;
use crate::value::{Value, ValueRef};

/// A row whose columns are called by their types, and nulls of them with a 0 behind.
struct Row;

impl Kinds<Written> for Row {
    fn of(&self, leaf: &Written) -> Option<LogicalType> {
        let Written::Path(names) = leaf else { return None };
        Some(match names[0].text.trim_end_matches('0') {
            "i" => LogicalType::Integer,
            "d" => LogicalType::Decimal { precision: 9, scale: 2 },
            "r" => LogicalType::Real,
            "y" => LogicalType::Date,
            "m" => LogicalType::Timestamp,
            _ => LogicalType::TEXT,
        })
    }

    fn settle(&mut self, _: &Written, _: LogicalType, _: bool, _: Span) -> Result<(), Mistake> {
        Ok(())
    }
}

impl Scope<Written> for Row {
    type Error = Infallible;

    fn leaf(&mut self, leaf: &Written) -> Result<Value, Infallible> {
        let Written::Path(names) = leaf else { return Ok(Value::Null) };
        Ok(match names[0].text.as_str() {
            "i" => Value::Integer(-7),
            "d" => Value::Decimal((-250).into(), 2),
            "r" => Value::Real(0.5),
            "t" => Value::from(" Äbc ẞ "),
            "y" => Value::Date(19_782),
            "m" => Value::Timestamp(1_709_213_100_000_000),
            _ => Value::Null,
        })
    }
}

#[test]
fn functions_give_what_the_language_says() {
    for (text, expected) in [
        ("i % 3", "-1"),
        ("i % 0", ""),
        ("i / 2", "-3.5"),
        ("i / 0", ""),
        ("d * 3 - 0.25", "-7.75"),
        ("round(d * 0.5, 1)", "-1.3"),
        ("-d", "2.50"),
        ("r * 3", "1.5"),
        ("coalesce(i0, i)", "-7"),
        ("coalesce(t0, trim(t))", "Äbc ẞ"),
        ("nullif(i, -7)", ""),
        ("nullif(i, i0)", "-7"),
        ("length(t)", "7"),
        ("lower(t)", " Äbc ẞ "),
        ("upper(trim(t))", "ÄBC ẞ"),
        ("substring(t, 2, 3)", "Äbc"),
        ("substring(t, -1, 4)", " Ä"),
        ("substring(t, 6, 99)", "ẞ "),
        ("trim(t) || '!'", "Äbc ẞ!"),
        ("t || t0", ""),
        ("start_of(month, m)", "2024-02-01"),
        ("start_of(day, m)", "2024-02-29"),
        ("start_of(year, y)", "2024-01-01"),
        ("extract(day from y)", "29"),
        ("extract(hour from m)", "13"),
        ("extract(year from y0)", ""),
        ("days_between(y, 2025-03-01)", "366"),
        ("days_between(2025-03-01, m)", "-366"),
        ("case when i0 > 1 then 'more' when i < 0 then 'less' end", "less"),
        ("case when i > 0 then 1 end", ""),
        ("i in (1, -7)", "true"),
        ("i in (1, i0)", ""),
        ("i not between 0 and 9", "true"),
        ("trim(t) starts 'Ä'", "true"),
        ("t like '%ẞ_'", "true"),
        ("t0 contains 'x' or i = -7", "true"),
        ("t0 contains 'x' and i = -7", ""),
    ] {
        let read = read_give(text).unwrap_or_else(|error| panic!("{text}: {error:?}"));
        let (typed, _) = check(&read.value, None, &mut Row).unwrap_or_else(|mistake| panic!("{text}: {mistake:?}"));
        let Ok(value) = typed.value(&mut Row);
        let shown = if value.as_ref() == ValueRef::Null { String::new() } else { value.to_string() };
        assert_eq!(shown, expected, "{text}");
    }
}
