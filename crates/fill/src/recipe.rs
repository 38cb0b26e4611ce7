//! From recipes to makers.

mod arguments;

use kampf_schema::expr::{Argument, Name, Recipe, Source};
use kampf_schema::{LogicalType, Span, TableId, Value, did_you_mean};

use self::arguments::{clock, durations, fit, lengths, lengths_from_0, pick, range, real, time_like, with_manner};
use crate::derived::Derived;
use crate::maker::{Distribution, ListForm, Maker, NumberKind, Origin};
use crate::period::{DAY, Manner};
use crate::random::Zipf;
use crate::shape::Shape;
use crate::uuids::UUIDS_SINCE;

/// What is wrong with a recipe.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct RecipeError {
    pub(crate) message: String,
    pub(crate) hint: Option<String>,
    /// In the recipe's text; none for all of it.
    pub(crate) span: Option<Span>,
}

fn wrong<T>(message: impl Into<String>, hint: impl Into<String>) -> Result<T, RecipeError> {
    Err(RecipeError { message: message.into(), hint: Some(hint.into()), span: None })
}

/// Who knows the columns that recipes name.
pub(crate) trait Columns {
    /// The column of a path and the kind of its values.
    fn origin(&self, path: &[Name]) -> Result<(Origin, LogicalType), RecipeError>;

    /// The table of a name whose rows are counted for each row of this one, and the reference by which they are.
    fn counted(&self, child: &Name) -> Result<(TableId, usize), RecipeError>;
}

/// For recipes that belong to no table.
pub(crate) struct NoColumns;

impl Columns for NoColumns {
    fn counted(&self, child: &Name) -> Result<(TableId, usize), RecipeError> {
        self.origin(std::slice::from_ref(child)).map(|_| (TableId(0), 0))
    }

    fn origin(&self, path: &[Name]) -> Result<(Origin, LogicalType), RecipeError> {
        let error = RecipeError { message: "there is no row here whose columns could be named".to_owned(), hint: None, span: None };
        Err(RecipeError { span: path.first().map(|name| name.span), ..error })
    }
}

/// All named ways.
pub(crate) const NAMES: [&str; 41] = [
    "count",
    "normal",
    "lognormal",
    "exponential",
    "zipf",
    "pick",
    "sequence",
    "share",
    "words",
    "text",
    "title",
    "name",
    "first_name",
    "last_name",
    "place",
    "street",
    "email",
    "login",
    "url",
    "host",
    "slug",
    "phone",
    "code",
    "matching",
    "hex",
    "address",
    "uuid4",
    "uuid7",
    "bytes",
    "recent",
    "office",
    "daytime",
    "length",
    "bits",
    "list",
    "some",
    "after",
    "step",
    "linear",
    "when",
    "same",
];

/// The maker of a recipe for a type.
pub(crate) fn maker(recipe: &Recipe, kind: LogicalType, columns: &dyn Columns) -> Result<Maker, RecipeError> {
    let maker = match &recipe.source {
        Source::Literal(value) => Maker::Fixed(fit(value, kind)?),
        Source::Range(low, high) => range(low, high, kind)?,
        Source::Object(members) => {
            let members = members.iter().map(|(key, recipe)| {
                let maker = inner(recipe, columns)?;
                Ok((key.clone(), maker, recipe.null_share))
            });
            Maker::Object(members.collect::<Result<_, RecipeError>>()?)
        }
        Source::Call { name, arguments } => call(name, arguments, kind, &recipe.bounds, columns)
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
        Source::Literal(value) => of(value),
        Source::Range(low, high) => match (of(low), of(high)) {
            (LogicalType::Integer, high) => high,
            (low, _) => low,
        },
        Source::Object(_) => LogicalType::TEXT,
        Source::Call { name, arguments } => match (name.text.to_lowercase().as_str(), arguments.first()) {
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

/// What would suit a type, for hints.
fn suitable(kind: LogicalType) -> &'static str {
    match kind {
        LogicalType::Integer => "a range like `1..100`, `normal(50, 10) in 0..100`, or `pick(1 5, 2 3)`",
        LogicalType::Decimal { .. } | LogicalType::Real => "a range like `0.5..99.5`, or `normal(50, 10) in 0..100`",
        LogicalType::Text { .. } => "`words(1..3)`, `text(200)`, `name`, `place`, `code('AB-####')`, or `pick('a' 3, 'b')`",
        LogicalType::Boolean => "`share(30)` for true in 30 of 100, `true`, or `false`",
        LogicalType::Date => "a range like `2020-01-01..2026-06-30`",
        LogicalType::Timestamp => "a range like `2020-01-01..2026-06-30`, or with times `2026-01-01T08:00:00..2026-01-01T18:00:00`",
        LogicalType::Uuid => "`uuid4` or `uuid7`",
        LogicalType::Blob => "`bytes(200)`",
    }
}

fn call(
    name: &Name,
    arguments: &[Argument],
    kind: LogicalType,
    bounds: &Option<(Value, Value)>,
    columns: &dyn Columns,
) -> Result<Maker, RecipeError> {
    let no_arguments = |maker: Maker| match arguments {
        [] => Ok(maker),
        _ => wrong(format!("`{}` takes nothing in parentheses", name.text), format!("write `{}`", name.text)),
    };
    let numbers = || match kind {
        LogicalType::Integer => Ok(NumberKind::Integer),
        LogicalType::Decimal { scale, .. } => Ok(NumberKind::Decimal(scale)),
        LogicalType::Real => Ok(NumberKind::Real),
        _ => wrong(format!("this makes numbers, but the column is {kind}"), format!("use {}", suitable(kind))),
    };
    let ends = || {
        let Some((low, high)) = bounds else { return Ok(None) };
        match (real(low)?, real(high)?) {
            (least, most) if least <= most => Ok(Some((least, most))),
            _ => wrong(format!("`in {low}..{high}` has nothing inside"), format!("write the smaller one first, `in {high}..{low}`")),
        }
    };
    let of_numbers = |from: Distribution| Ok(Maker::Numbers { from, bounds: ends()?, kind: numbers()? });
    let positive = |value: &Value, what: &str| match real(value)? {
        number if number > 0.0 => Ok(number),
        _ => wrong(format!("{what} must be above 0"), format!("like `{}`", example(&name.text))),
    };
    match (name.text.to_lowercase().as_str(), arguments) {
        ("normal", [Argument::Value(mean, None), Argument::Value(deviation, None)]) => {
            of_numbers(Distribution::Normal { mean: real(mean)?, deviation: real(deviation)? })
        }
        ("normal", _) => usage(name, "a mean and a standard deviation"),
        ("lognormal", [Argument::Value(median, None), Argument::Value(sigma, None)]) => {
            of_numbers(Distribution::LogNormal { median: positive(median, "the median")?, sigma: real(sigma)? })
        }
        ("lognormal", _) => usage(name, "a median and the standard deviation of the logarithm"),
        ("exponential", [Argument::Value(mean, None)]) => of_numbers(Distribution::Exponential { mean: positive(mean, "the mean")? }),
        ("exponential", _) => usage(name, "a mean"),
        ("zipf", [Argument::Value(exponent, None)]) => {
            let Some((low, high)) = ends()? else { return usage(name, "an exponent, and its ranks behind `in`") };
            of_numbers(Distribution::Zipf(Zipf::new((high - low) as u64 + 1, positive(exponent, "the exponent")?), low))
        }
        ("zipf", _) => usage(name, "an exponent, and its ranks behind `in`"),
        ("pick", _) => pick(arguments, kind),
        ("sequence", arguments) => {
            let whole = |argument: Option<&Argument>, default| match argument {
                None => Ok(default),
                Some(Argument::Value(Value::Integer(number), None)) => Ok(*number),
                _ => usage(name, "a first number and a step"),
            };
            Ok(Maker::Sequence(whole(arguments.first(), 1)?, whole(arguments.get(1), 1)?, numbers()?))
        }
        ("words", _) => lengths(name, arguments, (1, 3), "words").map(|(low, high)| Maker::Words(low, high)),
        ("title", _) => lengths(name, arguments, (2, 5), "words").map(|(low, high)| Maker::Title(low, high)),
        ("text", _) => lengths(name, arguments, (20, 200), "characters").map(|(low, high)| Maker::Text(low, high)),
        ("name", []) => Ok(Maker::Name),
        ("name", paths) => Ok(Maker::From(Box::new(Derived::Joined(origins(name, paths, "the columns with its parts", columns)?)))),
        ("count", [Argument::Path(path)]) if path.len() == 1 && kind == LogicalType::Integer => {
            let (child, reference) = columns.counted(&path[0])?;
            Ok(Maker::From(Box::new(Derived::Count(child, reference))))
        }
        ("count", _) => usage(name, "a table whose rows belong to this one, for a whole number"),
        ("first_name", _) => no_arguments(Maker::FirstName),
        ("last_name", _) => no_arguments(Maker::LastName),
        ("place", _) => no_arguments(Maker::Place),
        ("street", _) => no_arguments(Maker::Street),
        ("login", _) => no_arguments(Maker::Login),
        ("url", _) => no_arguments(Maker::Url),
        ("host", _) => no_arguments(Maker::Host),
        ("address", _) => no_arguments(Maker::Address),
        ("phone", _) => no_arguments(Maker::Code(Shape::code("+00 ### ######"))),
        ("email", []) => Ok(Maker::Email),
        ("email", paths) => Ok(Maker::From(Box::new(Derived::Email(origins(name, paths, "columns to make the address from", columns)?)))),
        ("slug", [Argument::Path(path)]) => Ok(Maker::From(Box::new(Derived::Slug(columns.origin(path)?.0)))),
        ("slug", _) => lengths(name, arguments, (2, 4), "words").map(|(low, high)| Maker::Slug(low, high)),
        ("same", [Argument::Path(path)]) => {
            let (origin, of) = columns.origin(path)?;
            Ok(Maker::From(Box::new(match (kind, of) {
                (LogicalType::Timestamp, LogicalType::Date) | (LogicalType::Date, LogicalType::Timestamp) => {
                    Derived::After(origin, 0, 0, kind)
                }
                _ => Derived::Same(origin),
            })))
        }
        ("same", _) => usage(name, "a column"),
        ("code", [Argument::Value(Value::Text(pattern), None)]) => Ok(Maker::Code(Shape::code(pattern))),
        ("code", _) => usage(name, "a pattern: # is a digit, @ a capital letter, & a small one, ~ a hexadecimal digit"),
        ("matching", [Argument::Value(Value::Text(pattern), None)]) => match Shape::regex(pattern) {
            Some(shape) => Ok(Maker::Code(shape)),
            None => wrong(
                format!("`{pattern}` is no regular expression that texts can be made from"),
                format!("like `{}`", example("matching")),
            ),
        },
        ("matching", _) => usage(name, "a regular expression"),
        ("hex", _) => {
            let (low, high) = lengths(name, arguments, (32, 32), "digits")?;
            Ok(Maker::Code(Shape::Times(Box::new(Shape::code("~")), low, high)))
        }
        ("bits", _) => {
            let (low, high) = lengths(name, arguments, (8, 8), "bits")?;
            Ok(Maker::Code(Shape::Times(Box::new(Shape::OneOf(vec![('0', '1')])), low, high)))
        }
        ("share", [Argument::Value(Value::Integer(share @ 0..=100), None)]) if kind == LogicalType::Boolean => {
            Ok(Maker::Boolean(share.unsigned_abs()))
        }
        ("share", _) if kind == LogicalType::Boolean => usage(name, "how many of 100 are true"),
        ("share", _) => wrong(format!("this makes true and false, but the column is {kind}"), format!("use {}", suitable(kind))),
        ("bytes", _) if kind == LogicalType::Blob => lengths(name, arguments, (32, 32), "bytes").map(|(low, high)| Maker::Bytes(low, high)),
        ("bytes", _) => wrong(format!("this makes bytes, but the column is {kind}"), format!("use {}", suitable(kind))),
        ("uuid4", []) => uuid(Maker::Uuid, kind),
        ("uuid7", []) => uuid(Maker::UuidInOrder(UUIDS_SINCE), kind),
        ("uuid4" | "uuid7", _) => no_arguments(Maker::Uuid),
        ("recent", [Argument::Range(low, high)]) => with_manner(range(low, high, time_like(kind))?, kind, Manner::Recent),
        ("office", [Argument::Range(low, high)]) => with_manner(range(low, high, time_like(kind))?, kind, Manner::Office),
        ("recent" | "office", _) => usage(name, "a range of dates"),
        ("daytime", []) => Ok(Maker::TimeOfDay(0, 86_399)),
        ("daytime", [Argument::Range(Value::Text(low), Value::Text(high))]) => match (clock(low), clock(high)) {
            (Some(low), Some(high)) if low <= high => Ok(Maker::TimeOfDay(low, high)),
            _ => usage(name, "two times of day"),
        },
        ("daytime", _) => usage(name, "two times of day"),
        ("length", [Argument::Range(Value::Text(low), Value::Text(high))]) => {
            let (low, high) = durations(low, high)?;
            Ok(Maker::Length((low / 1_000_000).unsigned_abs(), (high / 1_000_000).unsigned_abs()))
        }
        ("length", _) => usage(name, "two lengths of time"),
        ("list", [of, rest @ ..]) => {
            let (low, high) = lengths_from_0(name, rest, (0, 3))?;
            let of = match of {
                Argument::Recipe(recipe) => inner(recipe, columns)?,
                Argument::Path(path) if path.len() == 1 => inner(&plain_call(&path[0]), columns)?,
                Argument::Range(low, high) => {
                    let recipe = Recipe { unique: false, source: Source::Range(low.clone(), high.clone()), bounds: None, null_share: 0 };
                    inner(&recipe, columns)?
                }
                _ => return usage(name, "a recipe, and how many values"),
            };
            Ok(Maker::List(Box::new(of), low, high, ListForm::Json))
        }
        ("list", _) => usage(name, "a recipe, and how many values"),
        ("some", words) => {
            let words = words.iter().map(|word| match word {
                Argument::Value(Value::Text(word), None) => Ok(word.to_string()),
                _ => usage(name, "words in quotes"),
            });
            Ok(Maker::Several(words.collect::<Result<_, _>>()?))
        }
        ("after" | "step", [Argument::Path(path), rest @ ..]) => {
            let (origin, of) = columns.origin(path)?;
            let (low, high) = match rest {
                [] => (0, 30 * DAY),
                [Argument::Range(Value::Text(low), Value::Text(high))] => durations(low, high)?,
                [Argument::Value(Value::Text(length), None)] => durations(length, length)?,
                _ => return usage(name, "a column and how much later"),
            };
            let fits = matches!(kind, LogicalType::Date | LogicalType::Timestamp | LogicalType::Integer)
                && (kind == of
                    || matches!((kind, of), (LogicalType::Timestamp, LogicalType::Date) | (LogicalType::Date, LogicalType::Timestamp)));
            if !fits {
                return wrong(
                    format!("`{}` is {of}, and this column {kind}", path_text(path)),
                    "both must be dates, timestamps, or seconds since 1970",
                );
            }
            let is_step = name.text.eq_ignore_ascii_case("step");
            if is_step && !matches!(origin, Origin::Parent(..)) {
                return usage(name, "a column of the parent, like `hive.since`");
            }
            Ok(Maker::From(Box::new(if is_step {
                Derived::Step(origin, low, high, kind)
            } else {
                Derived::After(origin, low, high, kind)
            })))
        }
        ("after" | "step", _) => usage(name, "a column and how much later"),
        ("linear", [Argument::Path(path), Argument::Value(slope, None), rest @ ..]) => {
            let (of, other) = columns.origin(path)?;
            if !other.is_number() {
                return wrong(format!("`{}` is {other}, not a number", path_text(path)), format!("like `{}`", example("linear")));
            }
            let number = |at: usize| match rest.get(at) {
                None => Ok(0.0),
                Some(Argument::Value(value, None)) => real(value),
                Some(_) => usage(name, "a column, a slope, what is added, and a standard deviation"),
            };
            let kind = numbers()?;
            Ok(Maker::From(Box::new(Derived::Linear {
                of,
                slope: real(slope)?,
                intercept: number(0)?,
                noise: number(1)?,
                bounds: ends()?,
                kind,
            })))
        }
        ("linear", _) => usage(name, "a column, a slope, what is added, and a standard deviation"),
        ("when", [Argument::Path(path), cases @ ..]) => {
            let (origin, of) = columns.origin(path)?;
            let cases = cases.iter().map(|case| match case {
                Argument::Case(value, recipe) => {
                    let value = value.as_ref().map(|value| fit(value, of)).transpose()?;
                    Ok((value, maker(recipe, kind, columns)?, recipe.null_share))
                }
                _ => usage(name, "a column, then a recipe for each of its values"),
            });
            Ok(Maker::From(Box::new(Derived::When(origin, cases.collect::<Result<_, _>>()?))))
        }
        ("when", _) => usage(name, "a column, then a recipe for each of its values"),
        _ => Err(RecipeError {
            message: format!("`{}` is not a recipe", name.text),
            hint: did_you_mean(&name.text, NAMES),
            span: Some(name.span),
        }),
    }
}

/// The columns that a way is made from.
fn origins(name: &Name, paths: &[Argument], what: &str, columns: &dyn Columns) -> Result<Vec<Origin>, RecipeError> {
    let origin = |path: &Argument| match path {
        Argument::Path(path) => columns.origin(path).map(|(origin, _)| origin),
        _ => usage(name, what),
    };
    paths.iter().map(origin).collect()
}

/// A named way is given what it does not take.
fn usage<T>(name: &Name, what: &str) -> Result<T, RecipeError> {
    wrong(format!("`{}` takes {what}", name.text), format!("like `{}`", example(&name.text)))
}

/// How a named way is written.
fn example(name: &str) -> &'static str {
    match name.to_lowercase().as_str() {
        "normal" => "normal(6, 2) in 1..10",
        "lognormal" => "lognormal(40, 0.8) in 1..5000",
        "exponential" => "exponential(12)",
        "zipf" => "zipf(1.1) in 1..1000",
        "sequence" => "sequence(1000, 10)",
        "code" => "code('AB-####')",
        "matching" => "matching('^[A-Z]{2}[0-9]+$')",
        "share" => "share(30)",
        "recent" => "recent(2020-01-01..2026-06-30)",
        "office" => "office(2020-01-01..2026-06-30)",
        "daytime" => "daytime('08:00'..'18:00')",
        "length" => "length('1 minute'..'2 hours')",
        "list" => "list(words(1), 0..4)",
        "some" => "some('read', 'write', 'own')",
        "after" => "after(opened, '1 hour'..'30 days')",
        "step" => "step(hive.since, '5 days'..'9 days')",
        "linear" => "linear(weight, 0.4, 10, 2) in 0..100",
        "when" => "when(state, 'dead': null, else: 1..10)",
        "email" => "email(first_name, last_name)",
        "name" => "name(first_name, last_name)",
        "count" => "count(inspection)",
        _ => "same(other_column)",
    }
}

fn plain_call(name: &Name) -> Recipe {
    Recipe { unique: false, source: Source::Call { name: name.clone(), arguments: Vec::new() }, bounds: None, null_share: 0 }
}

fn path_text(path: &[Name]) -> String {
    path.iter().map(|name| name.text.as_str()).collect::<Vec<_>>().join(".")
}

fn uuid(maker: Maker, kind: LogicalType) -> Result<Maker, RecipeError> {
    match kind {
        LogicalType::Uuid => Ok(maker),
        // Kept as text, a UUID is a code of hexadecimal digits.
        LogicalType::Text { .. } => Ok(Maker::Code(Shape::code("~~~~~~~~-~~~~-4~~~-a~~~-~~~~~~~~~~~~"))),
        _ => wrong(format!("this makes UUIDs, but the column is {kind}"), format!("use {}", suitable(kind))),
    }
}

#[cfg(test)]
mod tests;
