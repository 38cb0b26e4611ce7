//! Numbers in kampf.toml: with bounds, or with units.

use std::time::Duration;

use kampf_contest::Opt;
use kampf_schema::Span;
use toml::de::DeValue;

use super::form::schema;
use super::reader::{FileValue, Item, Reader, integer, span};
use crate::arguments::{duration, size, times};
use crate::problem::Problem;

/// A whole number from 0 on, and where it stands.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Number {
    pub(crate) value: u64,
    pub(crate) span: Span,
}

schema!(Number, like u64);

impl FileValue for Number {
    fn read<'a>(table: &Reader<'a>, (name, value): Item<'a>) -> Result<Number, Problem> {
        let number = integer(value.get_ref()).ok_or_else(|| table.no_number((name, value)))?;
        Ok(Number { value: number, span: span(value.span()) })
    }
}

/// A number of rows or answers, from 1 on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Many(pub(crate) u32);

schema!(Many, { "type": "integer", "minimum": 1, "maximum": Opt::MOST_ROWS });

impl FileValue for Many {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Many, Problem> {
        if item.1.get_ref().as_integer().is_none() {
            return Err(table.wrong_kind(item.0.get_ref(), item.1, "a whole number from 1 on"));
        }
        let Number { value, span } = Number::read(table, item)?;
        let found = u32::try_from(value).ok().filter(|number| (1..=Opt::MOST_ROWS).contains(number));
        let wrong = || format!("`{}` is a number from 1 to {}, not {value}", item.0.get_ref(), Opt::MOST_ROWS);
        found.map(Many).ok_or_else(|| Problem::wrong(wrong()).at(table.place_of(span)))
    }
}

/// The largest of small numbers.
const MOST_FEW: u32 = 1_000;

/// A small number, from 0 on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Few(pub(crate) u32);

schema!(Few, { "type": "integer", "minimum": 0, "maximum": MOST_FEW });

impl FileValue for Few {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Few, Problem> {
        let Number { value, span } = Number::read(table, item)?;
        let found = u32::try_from(value).ok().filter(|number| *number <= MOST_FEW);
        let wrong = || format!("`{}` is a number from 0 to {MOST_FEW}, not {value}", item.0.get_ref());
        found.map(Few).ok_or_else(|| Problem::wrong(wrong()).at(table.place_of(span)))
    }
}

/// How many times as many, whole or not.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Factor(pub(crate) f64);

schema!(Factor, like f64);

impl FileValue for Factor {
    fn read<'a>(table: &Reader<'a>, (name, value): Item<'a>) -> Result<Factor, Problem> {
        let text = match value.get_ref() {
            DeValue::Integer(number) => number.as_str().to_owned(),
            DeValue::Float(number) => number.as_str().to_owned(),
            _ => return Err(table.wrong_kind(name.get_ref(), value, "a number, like 100")),
        };
        times(&text).map(Factor).map_err(|message| Problem::wrong(message).at(table.place_of(span(value.span()))))
    }
}

/// A share like "90 %".
#[derive(Clone, Copy, Debug)]
pub(crate) struct Share(pub(crate) f64);

schema!(Share, like String);

impl FileValue for Share {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Share, Problem> {
        let written = table.text(item)?;
        share(&written.value).map(Share).map_err(|message| Problem::wrong(message).at(table.place_of(written.span)))
    }
}

fn share(text: &str) -> Result<f64, String> {
    let percent = text.trim().strip_suffix('%').and_then(|number| number.trim().parse::<f64>().ok());
    percent
        .filter(|percent| (0.0..=100.0).contains(percent))
        .map(|percent| percent / 100.0)
        .ok_or_else(|| format!("a share is a number from 0 to 100 with a percent sign, like \"90 %\", not `{text}`"))
}

/// A time with its unit.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Time(pub(crate) Duration);

schema!(Time, like String);

impl FileValue for Time {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Time, Problem> {
        with_unit(table, item, "20ms", duration).map(Time)
    }
}

/// A size with its unit, in bytes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Size(pub(crate) u64);

schema!(Size, like String);

impl FileValue for Size {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Size, Problem> {
        with_unit(table, item, if item.0.get_ref() == "disk" { "20 GiB" } else { "32 MiB" }, size).map(Size)
    }
}

/// A quantity that stands in quotes, since it has a unit.
fn with_unit<'a, T>(table: &Reader<'a>, item: Item<'a>, example: &str, read: fn(&str) -> Result<T, String>) -> Result<T, Problem> {
    let hint = || format!("it has a unit, and stands in quotes: {} = \"{example}\"", item.0.get_ref());
    let written = table.text(item).map_err(|problem| problem.hint(hint()))?;
    read(&written.value).map_err(|message| Problem::wrong(message).at(table.place_of(written.span)).hint(hint()))
}
