//! The named ways of making values: a table, of each how it is called, what it takes, how it is written, and what makes its values.

use kampf_schema::expr::{Argument, Name, Recipe, RecipeSource};
use kampf_schema::{LogicalType, Value, did_you_mean};

use super::arguments::{clock, durations, fit, lengths_from_0, pick, range, real};
use super::call::{Call, derived, path_text};
use super::columns::Columns;
use super::error::{RecipeError, suitable, wrong};
use super::histories::{path, previous};
use super::times::{are_date_and_timestamp, step};
use crate::after::After;
use crate::derived::Derived;
use crate::maker::{Distribution, ListForm, Maker};
use crate::period::TimeManner;
use crate::random::Zipf;
use crate::shape::Shape;
use crate::uuids::UUIDS_SINCE;

/// The maker of a recipe for a type.
pub(crate) fn maker(recipe: &Recipe, kind: LogicalType, columns: &dyn Columns) -> Result<Maker, RecipeError> {
    let maker = match &recipe.source {
        RecipeSource::Literal(value) => Maker::Fixed(fit(value, kind)?),
        RecipeSource::Range(low, high) => range(low, high, kind)?,
        RecipeSource::Object(members) => {
            let members = members.iter().map(|(key, recipe)| {
                let maker = inner(recipe, columns)?;
                Ok((key.clone(), maker, recipe.null_share))
            });
            Maker::Object(members.collect::<Result<_, RecipeError>>()?)
        }
        RecipeSource::Call { name, arguments } => call(name, arguments, kind, &recipe.bounds, columns)
            .map_err(|error| RecipeError { span: error.span.or(Some(name.span)), ..error })?,
    };
    let bounded =
        matches!(maker, Maker::Numbers { .. }) || matches!(&maker, Maker::From(derived) if matches!(**derived, Derived::Linear { .. }));
    if recipe.bounds.is_some() && !bounded {
        return wrong("`in` bounds only distributions of numbers", "write the range itself, like `1..10`");
    }
    if is_text(&maker) && !matches!(kind, LogicalType::Text { .. }) {
        return wrong(format!("this makes text, but the column is {kind}"), format!("use {}", suitable(kind)));
    }
    Ok(maker)
}

fn is_text(maker: &Maker) -> bool {
    maker.takes_number()
        || matches!(
            maker,
            Maker::Code(_)
                | Maker::Address
                | Maker::TimeOfDay(..)
                | Maker::Length(..)
                | Maker::Object(_)
                | Maker::List(..)
                | Maker::Several(_)
        )
}

/// The maker of a recipe inside another, of the kind that it speaks of itself.
fn inner(recipe: &Recipe, columns: &dyn Columns) -> Result<Maker, RecipeError> {
    let of = |value: &Value| match value {
        Value::Integer(_) => LogicalType::Integer,
        Value::Decimal(_, scale) => LogicalType::Decimal { precision: 28, scale: *scale },
        Value::Real(_) => LogicalType::Real,
        Value::Boolean(_) => LogicalType::Boolean,
        Value::Date(_) => LogicalType::Date,
        Value::Timestamp(_) => LogicalType::Timestamp,
        _ => LogicalType::TEXT,
    };
    let kind = match &recipe.source {
        RecipeSource::Literal(value) => of(value),
        RecipeSource::Range(low, high) => match (of(low), of(high)) {
            (LogicalType::Integer, high) => high,
            (low, _) => low,
        },
        RecipeSource::Object(_) => LogicalType::TEXT,
        RecipeSource::Call { name, arguments } => match (name.text.to_lowercase().as_str(), arguments.first()) {
            ("normal" | "lognormal" | "exponential" | "linear", _) => match &recipe.bounds {
                Some((low, high)) if of(low) == LogicalType::Integer && of(high) == LogicalType::Integer => LogicalType::Integer,
                _ => LogicalType::Decimal { precision: 15, scale: 2 },
            },
            ("zipf" | "sequence", _) => LogicalType::Integer,
            ("pick", Some(Argument::Value(value, _))) => of(value),
            ("share", _) => LogicalType::Boolean,
            ("uuid4" | "uuid7", _) => LogicalType::Uuid,
            ("recent" | "office", Some(Argument::Range(low, _))) => of(low),
            ("bytes", _) => LogicalType::Blob,
            _ => LogicalType::TEXT,
        },
    };
    maker(recipe, kind, columns)
}

/// A named way.
struct Way {
    name: &'static str,
    /// What stands in its parentheses; empty where it takes nothing.
    takes: &'static str,
    /// How it is written.
    example: &'static str,
    /// Its maker; none where it is given what it does not take.
    maker: fn(&Call<'_>) -> Result<Option<Maker>, RecipeError>,
}

const fn way(
    name: &'static str,
    takes: &'static str,
    example: &'static str,
    maker: fn(&Call<'_>) -> Result<Option<Maker>, RecipeError>,
) -> Way {
    Way { name, takes, example, maker }
}

static WAYS: [Way; 43] = [
    way("count", "a table whose rows belong to this one, for a whole number", "count(inspection)", count),
    way("normal", "a mean and a standard deviation", "normal(6, 2) in 1..10", normal),
    way("lognormal", "a median and the standard deviation of the logarithm", "lognormal(40, 0.8) in 1..5000", log_normal),
    way("exponential", "a mean", "exponential(12)", exponential),
    way("zipf", "an exponent, and its ranks behind `in`", "zipf(1.1) in 1..1000", zipf),
    way("pick", "values, each with its weight", "pick('a' 3, 'b' 1)", |call| pick(call.arguments, call.kind).map(Some)),
    way("sequence", "a first number and a step", "sequence(1000, 10)", sequence),
    way("share", "how many of 100 are true", "share(30)", share),
    way("words", "how many words", "words(1..3)", |call| call.of_lengths((1, 3), "words", Maker::Words)),
    way("text", "how many characters", "text(200)", |call| call.of_lengths((20, 200), "characters", Maker::Text)),
    way("title", "how many words", "title(2..5)", |call| call.of_lengths((2, 5), "words", Maker::Title)),
    way("name", "the columns with its parts", "name(first_name, last_name)", name),
    way("first_name", "", "first_name", |call| call.plain(Maker::FirstName)),
    way("last_name", "", "last_name", |call| call.plain(Maker::LastName)),
    way("place", "", "place", |call| call.plain(Maker::Place)),
    way("street", "", "street", |call| call.plain(Maker::Street)),
    way("email", "columns to make the address from", "email(first_name, last_name)", email),
    way("login", "", "login", |call| call.plain(Maker::Login)),
    way("url", "", "url", |call| call.plain(Maker::Url)),
    way("host", "", "host", |call| call.plain(Maker::Host)),
    way("slug", "how many words, or a column", "slug(2..4)", slug),
    way("phone", "", "phone", |call| call.plain(Maker::Code(Shape::code("+00 ### ######")))),
    way("code", "a pattern: # is a digit, @ a capital letter, & a small one, ~ a hexadecimal digit", "code('AB-####')", code),
    way("matching", "a regular expression", "matching('^[A-Z]{2}[0-9]+$')", matching),
    way("hex", "how many digits", "hex(32)", |call| {
        call.of_lengths((32, 32), "digits", |low, high| Maker::Code(Shape::Times(Box::new(Shape::code("~")), low, high)))
    }),
    way("address", "", "address", |call| call.plain(Maker::Address)),
    way("uuid4", "", "uuid4", |call| call.uuid(Maker::Uuid)),
    way("uuid7", "", "uuid7", |call| call.uuid(Maker::UuidInOrder(UUIDS_SINCE))),
    way("bytes", "how many bytes", "bytes(200)", bytes),
    way("recent", "a range of dates, and hours of the day", "recent(2020-01-01..2026-06-30, '07:00'..'23:00')", |call| {
        call.in_manner(TimeManner::Recent)
    }),
    way("office", "a range of dates", "office(2020-01-01..2026-06-30)", |call| call.in_manner(TimeManner::Office)),
    way("daytime", "two times of day", "daytime('08:00'..'18:00')", daytime),
    way("length", "two lengths of time", "length('1 minute'..'2 hours')", length),
    way("bits", "how many bits", "bits(8)", |call| {
        let bits = |low, high| Maker::Code(Shape::Times(Box::new(Shape::OneOf(vec![('0', '1')])), low, high));
        call.of_lengths((8, 8), "bits", bits)
    }),
    way("list", "a recipe, and how many values", "list(words(1), 0..4)", list),
    way("some", "words in quotes", "some('read', 'write', 'own')", some),
    way(
        "after",
        "columns, how much later, in which hours, and not after which day",
        "after(opened, '1 hour'..'30 days', 2026-06-30)",
        |call| Ok(call.later()?.and_then(|after| derived(Derived::After(after)))),
    ),
    way("step", "a column and how much later", "step(hive.since, '5 days'..'9 days')", step),
    way("path", "a parent's state, and the states on the way to it", "path(hive.state, 'new', 'weak', 'strong')", path),
    way("previous", "a column, and what the first row has", "previous(to_state, 'new')", previous),
    way("linear", "a column, a slope, what is added, and a standard deviation", "linear(weight, 0.4, 10, 2) in 0..100", linear),
    way("when", "a column, then a recipe for each of its values", "when(state, 'dead': null, else: 1..10)", when),
    way("same", "a column", "same(other_column)", same),
];

/// The names of all ways.
fn names() -> impl Iterator<Item = &'static str> {
    WAYS.iter().map(|way| way.name)
}

/// The maker of a call.
fn call(
    name: &Name,
    arguments: &[Argument],
    kind: LogicalType,
    bounds: &Option<(Value, Value)>,
    columns: &dyn Columns,
) -> Result<Maker, RecipeError> {
    let lower = name.text.to_lowercase();
    let Some(way) = WAYS.iter().find(|way| way.name == lower) else {
        return Err(RecipeError {
            message: format!("`{}` is not a recipe", name.text),
            hint: did_you_mean(&name.text, names()),
            span: Some(name.span),
        });
    };
    let call = Call { name, example: way.example, arguments, kind, bounds, columns };
    (way.maker)(&call)?.map_or_else(|| call.usage(way.takes), Ok)
}

fn count(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    match call.arguments {
        [Argument::Path(path)] if path.len() == 1 && call.kind == LogicalType::Integer => {
            let (child, reference) = call.columns.counted(&path[0])?;
            Ok(derived(Derived::Count(child, reference)))
        }
        _ => Ok(None),
    }
}

fn normal(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Value(mean, None), Argument::Value(deviation, None)] = call.arguments else { return Ok(None) };
    call.of_numbers(Distribution::Normal { mean: real(mean)?, deviation: real(deviation)? })
}

fn log_normal(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Value(median, None), Argument::Value(sigma, None)] = call.arguments else { return Ok(None) };
    call.of_numbers(Distribution::LogNormal { median: call.positive(median, "the median")?, sigma: real(sigma)? })
}

fn exponential(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Value(mean, None)] = call.arguments else { return Ok(None) };
    call.of_numbers(Distribution::Exponential { mean: call.positive(mean, "the mean")? })
}

fn zipf(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Value(exponent, None)] = call.arguments else { return Ok(None) };
    let Some((low, high)) = call.ends()? else { return Ok(None) };
    call.of_numbers(Distribution::Zipf(Zipf::new((high - low) as u64 + 1, call.positive(exponent, "the exponent")?), low))
}

fn sequence(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let whole = |at: usize| match call.arguments.get(at) {
        None => Some(1),
        Some(Argument::Value(Value::Integer(number), None)) => Some(*number),
        _ => None,
    };
    let Some((first, step)) = whole(0).zip(whole(1)) else { return Ok(None) };
    Ok(Some(Maker::Sequence(first, step, call.numbers()?)))
}

fn share(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    if call.kind != LogicalType::Boolean {
        return wrong(format!("this makes true and false, but the column is {}", call.kind), format!("use {}", suitable(call.kind)));
    }
    Ok(match call.arguments {
        [Argument::Value(Value::Integer(share @ 0..=100), None)] => Some(Maker::Boolean(share.unsigned_abs())),
        _ => None,
    })
}

fn name(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    Ok(match call.arguments {
        [] => Some(Maker::Name),
        _ => call.origins()?.and_then(|origins| derived(Derived::Joined(origins))),
    })
}

fn email(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    Ok(match call.arguments {
        [] => Some(Maker::Email),
        _ => call.origins()?.and_then(|origins| derived(Derived::Email(origins))),
    })
}

fn slug(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    match call.arguments {
        [Argument::Path(path)] => Ok(derived(Derived::Slug(call.columns.origin(path)?.0))),
        _ => call.of_lengths((2, 4), "words", Maker::Slug),
    }
}

fn code(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Value(Value::Text(pattern), None)] = call.arguments else { return Ok(None) };
    Ok(Some(Maker::Code(Shape::code(pattern))))
}

fn matching(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Value(Value::Text(pattern), None)] = call.arguments else { return Ok(None) };
    match Shape::regex(pattern) {
        Some(shape) => Ok(Some(Maker::Code(shape))),
        None => wrong(format!("`{pattern}` is no regular expression that texts can be made from"), format!("like `{}`", call.example)),
    }
}

fn bytes(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    if call.kind != LogicalType::Blob {
        return wrong(format!("this makes bytes, but the column is {}", call.kind), format!("use {}", suitable(call.kind)));
    }
    call.of_lengths((32, 32), "bytes", Maker::Bytes)
}

fn daytime(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    Ok(match call.arguments {
        [] => Some(Maker::TimeOfDay(0, 86_399)),
        [Argument::Range(Value::Text(low), Value::Text(high))] => match (clock(low), clock(high)) {
            (Some(low), Some(high)) if low <= high => Some(Maker::TimeOfDay(low, high)),
            _ => None,
        },
        _ => None,
    })
}

fn length(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Range(Value::Text(low), Value::Text(high))] = call.arguments else { return Ok(None) };
    let (low, high) = durations(low, high)?;
    Ok(Some(Maker::Length((low / 1_000_000).unsigned_abs(), (high / 1_000_000).unsigned_abs())))
}

fn list(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [of, rest @ ..] = call.arguments else { return Ok(None) };
    let (low, high) = lengths_from_0(call.name, rest, (0, 3))?;
    let recipe = |source: RecipeSource| Recipe { unique: false, source, bounds: None, null_share: 0 };
    let of = match of {
        Argument::Recipe(recipe) => inner(recipe, call.columns)?,
        Argument::Path(path) if path.len() == 1 => {
            inner(&recipe(RecipeSource::Call { name: path[0].clone(), arguments: Vec::new() }), call.columns)?
        }
        Argument::Range(low, high) => inner(&recipe(RecipeSource::Range(low.clone(), high.clone())), call.columns)?,
        _ => return Ok(None),
    };
    Ok(Some(Maker::List(Box::new(of), low, high, ListForm::Json)))
}

fn some(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let word = |argument: &Argument| match argument {
        Argument::Value(Value::Text(word), None) => Some(word.to_string()),
        _ => None,
    };
    Ok(call.arguments.iter().map(word).collect::<Option<_>>().map(Maker::Several))
}

fn linear(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Path(path), Argument::Value(slope, None), rest @ ..] = call.arguments else { return Ok(None) };
    let (of, other) = call.columns.origin(path)?;
    if !other.is_number() {
        return wrong(format!("`{}` is {other}, not a number", path_text(path)), format!("like `{}`", call.example));
    }
    let number = |at: usize| match rest.get(at) {
        None => Ok(Some(0.0)),
        Some(Argument::Value(value, None)) => real(value).map(Some),
        Some(_) => Ok(None),
    };
    let kind = call.numbers()?;
    let slope = real(slope)?;
    let Some((intercept, noise)) = number(0)?.zip(number(1)?) else { return Ok(None) };
    Ok(derived(Derived::Linear { of, slope, intercept, noise, bounds: call.ends()?, kind }))
}

fn when(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Path(path), cases @ ..] = call.arguments else { return Ok(None) };
    let (origin, of) = call.columns.origin(path)?;
    let mut makers = Vec::new();
    for case in cases {
        let Argument::Case(value, recipe) = case else { return Ok(None) };
        let value = value.as_ref().map(|value| fit(value, of)).transpose()?;
        makers.push((value, maker(recipe, call.kind, call.columns)?, recipe.null_share));
    }
    Ok(derived(Derived::When(origin, makers)))
}

fn same(call: &Call<'_>) -> Result<Option<Maker>, RecipeError> {
    let [Argument::Path(path)] = call.arguments else { return Ok(None) };
    let (origin, of) = call.columns.origin(path)?;
    Ok(derived(match are_date_and_timestamp(call.kind, of) {
        true => Derived::After(After::same(origin, call.kind)),
        false => Derived::Same(origin),
    }))
}
