//! Numbers in kampf.toml that have bounds or units.

use kampf_contest::Opt;
use kampf_schema::Span;
use toml::de::DeValue;

use super::reader::{Reader, span};
use crate::arguments::times;
use crate::problem::{Problem, Source};

/// A number of rows or answers, from 1 on.
pub(super) fn many(source: &Source, table: &mut Reader<'_>, key: &'static str) -> Result<Option<u32>, Problem> {
    let Some((number, place)) = table.number(key)? else { return Ok(None) };
    one_of(source, key, number, place).map(Some)
}

/// Several such numbers, or one alone.
pub(super) fn sizes(source: &Source, table: &mut Reader<'_>, key: &'static str) -> Result<Vec<u32>, Problem> {
    table.numbers(key)?.into_iter().map(|(number, place)| one_of(source, key, number, place)).collect()
}

fn one_of(source: &Source, key: &str, number: u64, place: Span) -> Result<u32, Problem> {
    u32::try_from(number)
        .ok()
        .filter(|number| (1..=Opt::MOST_ROWS).contains(number))
        .ok_or_else(|| Problem::wrong(format!("`{key}` is a number from 1 to {}, not {number}", Opt::MOST_ROWS)).at(source.place(place)))
}

/// A small number, from 0 on.
pub(super) fn few(source: &Source, table: &mut Reader<'_>, key: &'static str) -> Result<Option<u32>, Problem> {
    let Some((number, place)) = table.number(key)? else { return Ok(None) };
    let found = u32::try_from(number).ok().filter(|number| *number <= 1_000);
    found.map(Some).ok_or_else(|| Problem::wrong(format!("`{key}` is a number from 0 to 1000, not {number}")).at(source.place(place)))
}

/// How many times as many, whole or not.
pub(super) fn factor(source: &Source, table: &mut Reader<'_>, key: &'static str) -> Result<Option<f64>, Problem> {
    let Some((name, value)) = table.get(key) else { return Ok(None) };
    let text = match value.get_ref() {
        DeValue::Integer(number) => number.as_str().to_owned(),
        DeValue::Float(number) => number.as_str().to_owned(),
        _ => return Err(table.wrong_kind(name.get_ref(), value, "a number, like 100")),
    };
    times(&text).map(Some).map_err(|message| Problem::wrong(message).at(source.place(span(value.span()))))
}

/// A share like "90 %".
pub(super) fn share(text: &str) -> Result<f64, String> {
    let percent = text.trim().strip_suffix('%').and_then(|number| number.trim().parse::<f64>().ok());
    percent
        .filter(|percent| (0.0..=100.0).contains(percent))
        .map(|percent| percent / 100.0)
        .ok_or_else(|| format!("a share is a number from 0 to 100 with a percent sign, like \"90 %\", not `{text}`"))
}

/// A quantity that stands in quotes, since it has a unit.
pub(super) fn unit<T>(
    source: &Source,
    table: &mut Reader<'_>,
    key: &'static str,
    read: fn(&str) -> Result<T, String>,
) -> Result<Option<T>, Problem> {
    let with_unit = match key {
        "memory" => "\"32 MiB\"",
        "disk" => "\"20 GiB\"",
        _ => "\"20ms\"",
    };
    let hint = format!("it has a unit, and stands in quotes: {key} = {with_unit}");
    let written = table.string(key).map_err(|problem| problem.hint(hint.clone()))?;
    let Some(written) = written else { return Ok(None) };
    read(&written.value).map(Some).map_err(|message| Problem::wrong(message).at(source.place(written.span)).hint(hint))
}
