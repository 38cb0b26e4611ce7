//! Reading value recipes and row counts.

use std::fmt;

use winnow::ascii::multispace0;
use winnow::combinator::{cut_err, delimited, opt, peek, preceded, separated};
use winnow::stream::Stream;
use winnow::token::any;
use winnow::{ModalResult, Parser};

use super::print::Literal;
use super::read::{Input, ReadError, expected, literal, number, read_all, recipe_name as name, recipe_needs_quotes, symbol, word};
use super::tree::Name;
use crate::value::Value;

/// How the values of a column are made.
#[derive(Clone, Debug, PartialEq)]
pub struct Recipe {
    /// Whether no two rows may have the same value.
    pub unique: bool,
    /// Where values come from.
    pub source: RecipeSource,
    /// Values outside are brought to the nearer bound.
    pub bounds: Option<(Value, Value)>,
    /// Share of nulls in thousandths of a percent, 0 to 100_000.
    pub null_share: u32,
}

/// The source of a recipe's values.
#[derive(Clone, Debug, PartialEq)]
pub enum RecipeSource {
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
    /// A JSON object, a recipe for each of its keys.
    Object(Vec<(String, Recipe)>),
}

/// One argument of a named way.
#[derive(Clone, Debug, PartialEq)]
pub enum Argument {
    /// A number under a name, `zipf 1.1`.
    Named(Name, Value),
    /// A value, with the weight written behind it (`'calm' 5`).
    Value(Value, Option<Value>),
    /// A range.
    Range(Value, Value),
    /// A column of the row, or of a parent behind a point; also a recipe without arguments.
    Path(Vec<Name>),
    /// A recipe.
    Recipe(Box<Recipe>),
    /// A recipe for a value of another column, `'calm': 1..3`; for all others, `else: 4..9`.
    Case(Option<Value>, Box<Recipe>),
}

/// How many rows a table gets.
#[derive(Clone, Debug, PartialEq)]
pub enum RowCount {
    /// As many.
    Fixed(u64),
    /// For each row of a parent table.
    Per {
        /// How many.
        children: Children,
        /// So many parents of 100 have any; 100 where nothing is said.
        share: u32,
        /// The parent table.
        parent: Name,
    },
}

/// How many children a parent has.
#[derive(Clone, Debug, PartialEq)]
pub enum Children {
    /// About so many, give or take half.
    About(Value),
    /// Anything between two numbers.
    Between(Value, Value),
    /// So many on average, as things that happen by chance do (a Poisson distribution).
    Poisson(Value),
    /// So many on average, most parents few and a few very many (a log-normal distribution).
    Heavy(Value),
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
    let unique = opt(word("unique")).parse_next(input)?.is_some();
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
    Ok(Recipe { unique, source, bounds, null_share })
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

fn source(input: &mut Input<'_>) -> ModalResult<RecipeSource> {
    if opt(symbol("{")).parse_next(input)?.is_some() {
        let member = (name, preceded(cut_err(symbol(":")), cut_err(recipe))).map(|(name, recipe)| (name.text, recipe));
        let members = separated(0.., member, symbol(",")).parse_next(input)?;
        cut_err(symbol("}")).parse_next(input)?;
        return Ok(RecipeSource::Object(members));
    }
    if let Some(low) = opt(literal).parse_next(input)? {
        return Ok(match opt(symbol("..")).parse_next(input)? {
            Some(()) => RecipeSource::Range(low, cut_err(literal.context(expected("the upper end of the range"))).parse_next(input)?),
            None => RecipeSource::Literal(low),
        });
    }
    let name = name.context(expected("a value, a range or the name of a recipe")).parse_next(input)?;
    Ok(RecipeSource::Call { arguments: arguments(input)?.unwrap_or_default(), name })
}

/// What stands in parentheses behind a name; none where there are none.
fn arguments(input: &mut Input<'_>) -> ModalResult<Option<Vec<Argument>>> {
    if opt(symbol("(")).parse_next(input)?.is_none() {
        return Ok(None);
    }
    let arguments = separated(0.., argument, symbol(",")).parse_next(input)?;
    cut_err(symbol(")")).parse_next(input)?;
    Ok(Some(arguments))
}

fn argument(input: &mut Input<'_>) -> ModalResult<Argument> {
    if opt((word("else"), symbol(":"))).parse_next(input)?.is_some() {
        return Ok(Argument::Case(None, Box::new(cut_err(recipe).parse_next(input)?)));
    }
    if let Some(value) = opt(literal).parse_next(input)? {
        if opt(symbol("..")).parse_next(input)?.is_some() {
            return Ok(Argument::Range(value, cut_err(literal.context(expected("the upper end of the range"))).parse_next(input)?));
        }
        if opt(symbol(":")).parse_next(input)?.is_some() {
            return Ok(Argument::Case(Some(value), Box::new(cut_err(recipe).parse_next(input)?)));
        }
        return Ok(Argument::Value(value, opt(number).parse_next(input)?));
    }
    let start = input.checkpoint();
    if let Some(path) = opt(path).parse_next(input)? {
        if let [name] = path.as_slice()
            && let Some(number) = opt(number).parse_next(input)?
        {
            return Ok(Argument::Named(name.clone(), number));
        }
        let follows: Option<char> = peek(opt(preceded(multispace0, any))).parse_next(input)?;
        if matches!(follows, Some(',' | ')') | None) {
            return Ok(Argument::Path(path));
        }
    }
    input.reset(&start);
    Ok(Argument::Recipe(Box::new(recipe.context(expected("a value, a column or a recipe")).parse_next(input)?)))
}

fn path(input: &mut Input<'_>) -> ModalResult<Vec<Name>> {
    separated(1..=2, name, symbol(".")).parse_next(input)
}

fn row_count(input: &mut Input<'_>) -> ModalResult<RowCount> {
    let what = "a number of rows, like 200_000 or `12 per apiary`";
    let mean = |input: &mut Input<'_>| {
        delimited(symbol("("), cut_err(number.context(expected("how many on average"))), cut_err(symbol(")"))).parse_next(input)
    };
    let children = if opt(word("poisson")).parse_next(input)?.is_some() {
        Children::Poisson(cut_err(mean).parse_next(input)?)
    } else if opt(word("heavy")).parse_next(input)?.is_some() {
        Children::Heavy(cut_err(mean).parse_next(input)?)
    } else {
        let low = number.context(expected(what)).parse_next(input)?;
        match opt(symbol("..")).parse_next(input)? {
            Some(()) => Children::Between(low, cut_err(number.context(expected("the largest number of rows"))).parse_next(input)?),
            None => Children::About(low),
        }
    };
    if opt(word("per")).parse_next(input)?.is_some() {
        let share =
            opt((number.verify_map(|share| percent(&share)), symbol("%"), word("of")).map(|(share, _, ())| share)).parse_next(input)?;
        let parent = cut_err(name.context(expected("the parent table"))).parse_next(input)?;
        return Ok(RowCount::Per { children, share: share.unwrap_or(100), parent });
    }
    match &children {
        Children::About(Value::Integer(rows @ 0..)) => Ok(RowCount::Fixed(rows.unsigned_abs())),
        _ => cut_err(winnow::combinator::fail::<_, RowCount, _>.context(expected("`per` and the parent table"))).parse_next(input),
    }
}

fn percent(value: &Value) -> Option<u32> {
    match value {
        Value::Integer(share @ 0..=100) => u32::try_from(*share).ok(),
        _ => None,
    }
}

impl fmt::Display for Children {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Children::About(mean) => Literal(mean).fmt(f),
            Children::Between(low, high) => write!(f, "{}..{}", Literal(low), Literal(high)),
            Children::Poisson(mean) => write!(f, "poisson({})", Literal(mean)),
            Children::Heavy(mean) => write!(f, "heavy({})", Literal(mean)),
        }
    }
}

impl fmt::Display for RowCount {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RowCount::Fixed(rows) => write!(f, "{rows}"),
            RowCount::Per { children, share: 100, parent } => write!(f, "{children} per {parent}"),
            RowCount::Per { children, share, parent } => write!(f, "{children} per {share}% of {parent}"),
        }
    }
}

impl fmt::Display for Argument {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Argument::Named(name, number) => write!(f, "{} {}", RecipeName(name), Literal(number)),
            Argument::Value(value, None) => Literal(value).fmt(f),
            Argument::Value(value, Some(weight)) => write!(f, "{} {}", Literal(value), Literal(weight)),
            Argument::Range(low, high) => write!(f, "{}..{}", Literal(low), Literal(high)),
            Argument::Path(names) => list(f, names, "."),
            Argument::Recipe(recipe) => recipe.fmt(f),
            Argument::Case(Some(value), recipe) => write!(f, "{}: {recipe}", Literal(value)),
            Argument::Case(None, recipe) => write!(f, "else: {recipe}"),
        }
    }
}

fn list<T: fmt::Display>(f: &mut fmt::Formatter<'_>, items: &[T], between: &str) -> fmt::Result {
    items.iter().enumerate().try_for_each(|(at, item)| write!(f, "{}{item}", if at == 0 { "" } else { between }))
}

/// The name of a recipe, which may be a word that needs keep to themselves.
struct RecipeName<'a>(&'a Name);

impl fmt::Display for RecipeName<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if recipe_needs_quotes(&self.0.text) { self.0.fmt(f) } else { f.write_str(&self.0.text) }
    }
}

impl fmt::Display for Recipe {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.unique {
            f.write_str("unique ")?;
        }
        match &self.source {
            RecipeSource::Literal(value) => Literal(value).fmt(f)?,
            RecipeSource::Range(low, high) => write!(f, "{}..{}", Literal(low), Literal(high))?,
            RecipeSource::Call { name, arguments } if arguments.is_empty() => RecipeName(name).fmt(f)?,
            RecipeSource::Call { name, arguments } => {
                write!(f, "{}(", RecipeName(name))?;
                list(f, arguments, ", ")?;
                f.write_str(")")?;
            }
            RecipeSource::Object(members) => {
                f.write_str("{ ")?;
                for (at, (key, recipe)) in members.iter().enumerate() {
                    let key = Name { text: key.clone(), span: crate::place::Span::default() };
                    write!(f, "{}{key}: {recipe}", if at == 0 { "" } else { ", " })?;
                }
                f.write_str(" }")?;
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
