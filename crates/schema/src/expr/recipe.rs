//! Reading value recipes and row counts.

use std::fmt;

use winnow::combinator::{cut_err, opt, separated};
use winnow::{ModalResult, Parser};

use super::print::Literal;
use super::read::{Input, ReadError, expected, literal, name, number, read_all, symbol, word};
use super::tree::Name;
use crate::value::Value;

/// How the values of a column are made.
#[derive(Clone, Debug, PartialEq)]
pub struct Recipe {
    /// Where values come from.
    pub source: Source,
    /// Values outside are brought to the nearer bound.
    pub bounds: Option<(Value, Value)>,
    /// Share of nulls in thousandths of a percent, 0 to 100_000.
    pub null_share: u32,
}

/// The source of a recipe's values.
#[derive(Clone, Debug, PartialEq)]
pub enum Source {
    /// Always this.
    Literal(Value),
    /// Anything from the first to the second, both included.
    Range(Value, Value),
    /// A named way, `normal(6, 2)`.
    Call {
        /// Its name.
        name: Name,
        /// Its arguments.
        arguments: Vec<Argument>,
    },
}

/// One argument of a named way.
#[derive(Clone, Debug, PartialEq)]
pub enum Argument {
    /// A value, with the weight written behind it (`'calm' 5`).
    Value(Value, Option<Value>),
    /// A range.
    Range(Value, Value),
}

/// How many rows a table gets.
#[derive(Clone, Debug, PartialEq)]
pub enum RowCount {
    /// As many.
    Fixed(u64),
    /// For each row of a parent table, between two numbers of rows; one number stands for itself, give or take half.
    Per {
        /// Fewest, or the mean.
        low: Value,
        /// Most, where a range is written.
        high: Option<Value>,
        /// The parent table.
        parent: Name,
    },
}

/// Reads a recipe.
pub fn read_recipe(text: &str) -> Result<Recipe, ReadError> {
    read_all(text, recipe)
}

/// Reads a row count, `200_000` or `20..60 per hive`.
pub fn read_row_count(text: &str) -> Result<RowCount, ReadError> {
    read_all(text, row_count)
}

fn recipe(input: &mut Input<'_>) -> ModalResult<Recipe> {
    let source = source(input)?;
    let bounds = match opt(word("in")).parse_next(input)? {
        Some(()) => Some(cut_err(range).parse_next(input)?),
        None => None,
    };
    let mut null_share = 0;
    if opt(word("or")).parse_next(input)?.is_some() {
        cut_err(word("null").context(expected("`null` and a percentage"))).parse_next(input)?;
        let share = cut_err(number.verify_map(|percent| thousandths(&percent)).context(expected("a percentage from 0 to 100")))
            .parse_next(input)?;
        cut_err(symbol("%")).parse_next(input)?;
        null_share = share;
    }
    Ok(Recipe { source, bounds, null_share })
}

fn thousandths(percent: &Value) -> Option<u32> {
    let units = percent.as_ref().as_decimal()?.rescaled(3)?.units;
    (0..=100_000).contains(&units).then(|| u32::try_from(units).ok())?
}

fn range(input: &mut Input<'_>) -> ModalResult<(Value, Value)> {
    let low = literal.context(expected("a range like 1..10")).parse_next(input)?;
    cut_err(symbol("..")).parse_next(input)?;
    let high = cut_err(literal.context(expected("the upper end of the range"))).parse_next(input)?;
    Ok((low, high))
}

fn source(input: &mut Input<'_>) -> ModalResult<Source> {
    if let Some(low) = opt(literal).parse_next(input)? {
        return Ok(match opt(symbol("..")).parse_next(input)? {
            Some(()) => Source::Range(low, cut_err(literal.context(expected("the upper end of the range"))).parse_next(input)?),
            None => Source::Literal(low),
        });
    }
    let name = name.context(expected("a value, a range or the name of a recipe")).parse_next(input)?;
    let mut arguments = Vec::new();
    if opt(symbol("(")).parse_next(input)?.is_some() {
        arguments = separated(0.., argument, symbol(",")).parse_next(input)?;
        cut_err(symbol(")")).parse_next(input)?;
    }
    Ok(Source::Call { name, arguments })
}

fn argument(input: &mut Input<'_>) -> ModalResult<Argument> {
    let value = literal.context(expected("a value")).parse_next(input)?;
    if opt(symbol("..")).parse_next(input)?.is_some() {
        return Ok(Argument::Range(value, cut_err(literal.context(expected("the upper end of the range"))).parse_next(input)?));
    }
    Ok(Argument::Value(value, opt(number).parse_next(input)?))
}

fn row_count(input: &mut Input<'_>) -> ModalResult<RowCount> {
    let what = "a number of rows, like 200_000 or `12 per apiary`";
    let low = number.context(expected(what)).parse_next(input)?;
    let high = match opt(symbol("..")).parse_next(input)? {
        Some(()) => Some(cut_err(number.context(expected("the largest number of rows"))).parse_next(input)?),
        None => None,
    };
    if opt(word("per")).parse_next(input)?.is_some() {
        let parent = cut_err(name.context(expected("the parent table"))).parse_next(input)?;
        return Ok(RowCount::Per { low, high, parent });
    }
    match (&low, &high) {
        (Value::Integer(rows @ 0..), None) => Ok(RowCount::Fixed(rows.unsigned_abs())),
        _ => cut_err(winnow::combinator::fail::<_, RowCount, _>.context(expected("`per` and the parent table"))).parse_next(input),
    }
}

impl fmt::Display for RowCount {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RowCount::Fixed(rows) => write!(f, "{rows}"),
            RowCount::Per { low, high: None, parent } => write!(f, "{} per {parent}", Literal(low)),
            RowCount::Per { low, high: Some(high), parent } => write!(f, "{}..{} per {parent}", Literal(low), Literal(high)),
        }
    }
}

impl fmt::Display for Argument {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Argument::Value(value, None) => Literal(value).fmt(f),
            Argument::Value(value, Some(weight)) => write!(f, "{} {}", Literal(value), Literal(weight)),
            Argument::Range(low, high) => write!(f, "{}..{}", Literal(low), Literal(high)),
        }
    }
}

impl fmt::Display for Recipe {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.source {
            Source::Literal(value) => Literal(value).fmt(f)?,
            Source::Range(low, high) => write!(f, "{}..{}", Literal(low), Literal(high))?,
            Source::Call { name, arguments } => {
                write!(f, "{name}")?;
                for (at, argument) in arguments.iter().enumerate() {
                    write!(f, "{}{argument}", if at == 0 { "(" } else { ", " })?;
                }
                f.write_str(if arguments.is_empty() { "" } else { ")" })?;
            }
        }
        if let Some((low, high)) = &self.bounds {
            write!(f, " in {}..{}", Literal(low), Literal(high))?;
        }
        match self.null_share {
            0 => Ok(()),
            share if share % 1000 == 0 => write!(f, " or null {}%", share / 1000),
            share => write!(f, " or null {}.{:03}%", share / 1000, share % 1000),
        }
    }
}
