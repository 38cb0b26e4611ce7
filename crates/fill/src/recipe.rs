//! From recipes to makers.

use kampf_schema::expr::{Argument, Name, Recipe, Source};
use kampf_schema::{LogicalType, Span, Value, did_you_mean, parse_date, parse_timestamp};

use crate::batch::Batch;
use crate::maker::{Maker, NumberKind};
use crate::random::{Random, key};
use crate::vocabulary::Vocabulary;

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

const NAMES: [&str; 10] = ["normal", "pick", "words", "text", "name", "place", "email", "code", "share", "bytes"];

/// The maker of a recipe for a type.
pub(crate) fn maker(recipe: &Recipe, kind: LogicalType) -> Result<Maker, RecipeError> {
    let maker = match &recipe.source {
        Source::Literal(value) => Maker::Fixed(fit(value, kind)?),
        Source::Range(low, high) => range(low, high, kind)?,
        Source::Call { name, arguments } => {
            let mut maker = call(name, arguments, kind).map_err(|error| RecipeError { span: error.span.or(Some(name.span)), ..error })?;
            if let (Maker::Normal { bounds, .. }, Some((low, high))) = (&mut maker, &recipe.bounds) {
                *bounds = Some((real(low)?, real(high)?));
            }
            maker
        }
    };
    if recipe.bounds.is_some() && !matches!(maker, Maker::Normal { .. }) {
        return wrong("`in` bounds only `normal`", "write the range itself, like `1..10`");
    }
    let texts = matches!(maker, Maker::Words(..) | Maker::Text(..) | Maker::Name | Maker::Place | Maker::Email | Maker::Code(_));
    if texts && !matches!(kind, LogicalType::Text { .. }) {
        return wrong(format!("this makes text, but the column is {kind}"), format!("use {}", suitable(kind)));
    }
    Ok(maker)
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
        LogicalType::Uuid => "no recipe: UUIDs are always drawn anew",
        LogicalType::Blob => "`bytes(200)`",
    }
}

fn call(name: &Name, arguments: &[Argument], kind: LogicalType) -> Result<Maker, RecipeError> {
    let no_arguments = |maker: Maker| match arguments {
        [] => Ok(maker),
        _ => wrong(format!("`{}` takes nothing in parentheses", name.text), format!("write `{}`", name.text)),
    };
    match name.text.to_lowercase().as_str() {
        "normal" => {
            let [Argument::Value(mean, None), Argument::Value(deviation, None)] = arguments else {
                return wrong("`normal` takes a mean and a standard deviation", "like `normal(6, 2) in 1..10`");
            };
            let kind = match kind {
                LogicalType::Integer => NumberKind::Integer,
                LogicalType::Decimal { scale, .. } => NumberKind::Decimal(scale),
                LogicalType::Real => NumberKind::Real,
                _ => return wrong(format!("this makes numbers, but the column is {kind}"), format!("use {}", suitable(kind))),
            };
            Ok(Maker::Normal { mean: real(mean)?, deviation: real(deviation)?, bounds: None, kind })
        }
        "pick" => pick(arguments, kind),
        "words" => lengths(name, arguments, (1, 3), "words").map(|(low, high)| Maker::Words(low, high)),
        "text" => lengths(name, arguments, (20, 200), "characters").map(|(low, high)| Maker::Text(low, high)),
        "name" => no_arguments(Maker::Name),
        "place" => no_arguments(Maker::Place),
        "email" => no_arguments(Maker::Email),
        "code" => match arguments {
            [Argument::Value(Value::Text(pattern), None)] => Ok(Maker::Code(pattern.to_string())),
            _ => wrong("`code` takes a pattern", "like `code('AB-####')`: # is a digit, @ a capital letter"),
        },
        "share" => match (arguments, kind) {
            ([Argument::Value(Value::Integer(share @ 0..=100), None)], LogicalType::Boolean) => Ok(Maker::Boolean(share.unsigned_abs())),
            (_, LogicalType::Boolean) => wrong("`share` takes how many of 100 are true", "like `share(30)`"),
            _ => wrong(format!("this makes true and false, but the column is {kind}"), format!("use {}", suitable(kind))),
        },
        "bytes" => match (arguments, kind) {
            ([Argument::Value(Value::Integer(length @ 0..=1_000_000), None)], LogicalType::Blob) => Ok(Maker::Bytes(length.unsigned_abs())),
            (_, LogicalType::Blob) => wrong("`bytes` takes a length up to 1_000_000", "like `bytes(200)`"),
            _ => wrong(format!("this makes bytes, but the column is {kind}"), format!("use {}", suitable(kind))),
        },
        _ => Err(RecipeError {
            message: format!("`{}` is not a recipe", name.text),
            hint: did_you_mean(&name.text, NAMES),
            span: Some(name.span),
        }),
    }
}

/// One number, or a range of them.
fn lengths(name: &Name, arguments: &[Argument], default: (u64, u64), what: &str) -> Result<(u64, u64), RecipeError> {
    let positive = |value: &Value| match value {
        Value::Integer(number @ 1..=10_000_000) => Some(number.unsigned_abs()),
        _ => None,
    };
    let found = match arguments {
        [] => Some(default),
        [Argument::Value(length, None)] => positive(length).map(|length| (length, length)),
        [Argument::Range(low, high)] => positive(low).zip(positive(high)).filter(|(low, high)| low <= high),
        _ => None,
    };
    found.map_or_else(
        || wrong(format!("`{}` takes a number of {what}, from 1 on", name.text), format!("like `{0}(3)` or `{0}(2..5)`", name.text)),
        Ok,
    )
}

fn pick(arguments: &[Argument], kind: LogicalType) -> Result<Maker, RecipeError> {
    let mut weighted = Vec::new();
    for argument in arguments {
        let Argument::Value(value, weight) = argument else {
            return wrong("`pick` takes single values", "like `pick('calm' 5, 'lively' 2)`");
        };
        let weight = weight.as_ref().map_or(Ok(1.0), real)?;
        if weight < 0.0 {
            return wrong("a weight cannot be negative", "like `pick('calm' 5, 'lively' 2)`");
        }
        weighted.push((fit(value, kind)?, weight));
    }
    let total: f64 = weighted.iter().map(|(_, weight)| weight).sum();
    if total <= 0.0 {
        return wrong("`pick` needs at least one value with a weight", "like `pick('calm' 5, 'lively' 2)`");
    }
    let mut sum = 0.0;
    let shares = weighted.into_iter().map(|(value, weight)| {
        sum += weight;
        (value, (sum / total * 4_294_967_296.0) as u64)
    });
    Ok(Maker::Pick(shares.collect()))
}

/// Values picked with equal chances.
pub(crate) fn pick_evenly(values: &[Value]) -> Maker {
    let share = |at: usize| ((at as u64 + 1) << 32) / values.len() as u64;
    Maker::Pick(values.iter().enumerate().map(|(at, value)| (value.clone(), share(at))).collect())
}

fn range(low: &Value, high: &Value, kind: LogicalType) -> Result<Maker, RecipeError> {
    let (low_value, high_value) = (fit(low, kind)?, fit(high, kind)?);
    if low_value.as_ref().order(high_value.as_ref()).is_gt() {
        return wrong("the range ends before it begins", "write the smaller value first");
    }
    match (low_value, high_value) {
        (Value::Integer(low), Value::Integer(high)) => Ok(Maker::Integers(low, high)),
        (Value::Decimal(low, scale), Value::Decimal(high, _)) => Ok(Maker::Decimals(low.get(), high.get(), scale)),
        (Value::Real(low), Value::Real(high)) => Ok(Maker::Reals(low, high)),
        (Value::Date(low), Value::Date(high)) => Ok(Maker::Dates(low, high)),
        (Value::Timestamp(low), Value::Timestamp(high)) => Ok(Maker::Timestamps(low, high)),
        _ => wrong(format!("a range makes no sense for {kind}"), format!("use {}", suitable(kind))),
    }
}

/// A literal as a value of the column's type.
fn fit(value: &Value, kind: LogicalType) -> Result<Value, RecipeError> {
    let fitted = match (value, kind) {
        (Value::Null, _) => Some(Value::Null),
        (Value::Integer(_), LogicalType::Integer)
        | (Value::Text(_), LogicalType::Text { .. })
        | (Value::Boolean(_), LogicalType::Boolean)
        | (Value::Date(_), LogicalType::Date)
        | (Value::Timestamp(_), LogicalType::Timestamp) => Some(value.clone()),
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Decimal { scale, .. }) => {
            value.as_ref().as_decimal().and_then(|decimal| decimal.rescaled(scale)).map(Value::from)
        }
        (Value::Integer(_) | Value::Decimal(..), LogicalType::Real) => value.as_ref().as_real().map(Value::Real),
        (Value::Date(days), LogicalType::Timestamp) => Some(Value::Timestamp(i64::from(*days) * 86_400_000_000)),
        (Value::Text(text), LogicalType::Date) => parse_date(text).map(Value::Date),
        (Value::Text(text), LogicalType::Timestamp) => parse_timestamp(text).map(Value::Timestamp),
        _ => None,
    };
    fitted.map_or_else(|| wrong(format!("`{value}` is not {kind}"), format!("use {}", suitable(kind))), Ok)
}

fn real(value: &Value) -> Result<f64, RecipeError> {
    value.as_ref().as_real().map_or_else(|| wrong(format!("`{value}` is not a number"), "write a number"), Ok)
}

/// Makes values of a recipe that belongs to no column, for parameters.
#[derive(Clone, Debug)]
pub struct RecipeMaker {
    maker: Maker,
    words: Vocabulary,
    key: u64,
}

impl RecipeMaker {
    /// The maker of a recipe for a type, under a name.
    ///
    /// # Errors
    /// What is wrong with the recipe: message, hint and place.
    pub fn new(recipe: &Recipe, kind: LogicalType, seed: u64, name: &str) -> Result<RecipeMaker, (String, Option<String>, Option<Span>)> {
        let maker = maker(recipe, kind).map_err(|error| (error.message, error.hint, error.span))?;
        Ok(RecipeMaker { maker, words: Vocabulary::new(seed), key: key(seed, name) })
    }

    /// The n-th value.
    pub fn value(&self, n: u64) -> Value {
        let mut batch = Batch::new(1);
        self.maker.make(&mut Random::at(self.key, n), &self.words, &mut batch);
        batch.last().to_value()
    }

    /// A number below `n` for the n-th drawing, for drawing rows.
    pub fn row(seed: u64, name: &str, drawing: u64, rows: u64) -> u64 {
        Random::at(key(seed, name), drawing).below(rows)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use kampf_schema::Decimal;
    use kampf_schema::expr::read_recipe;

    fn values(text: &str, kind: LogicalType) -> Vec<Value> {
        let maker = RecipeMaker::new(&read_recipe(text).unwrap(), kind, 7, "test").unwrap();
        (0..500).map(|n| maker.value(n)).collect()
    }

    fn error(text: &str, kind: LogicalType) -> String {
        RecipeMaker::new(&read_recipe(text).unwrap(), kind, 7, "test").unwrap_err().0
    }

    #[test]
    fn every_recipe_makes_what_it_says() {
        let inside = |text: &str, kind, low: &str, high: &str| {
            for value in values(text, kind) {
                let shown = value.as_ref();
                let bound = |text: &str| Decimal::parse(text).map_or_else(|| Value::from(text), Value::from);
                if let Value::Text(text) = &value {
                    assert!((low.len()..=high.len()).contains(&text.chars().count()), "{text}");
                } else if !matches!(value, Value::Date(_) | Value::Timestamp(_)) {
                    assert!(shown.order(bound(low).as_ref()).is_ge() && shown.order(bound(high).as_ref()).is_le(), "{value}");
                } else {
                    assert!((low..=high).contains(&value.to_string().as_str()), "{value}");
                }
            }
        };
        inside("1..100", LogicalType::Integer, "1", "100");
        inside("-1.50..2.25", LogicalType::Decimal { precision: 8, scale: 2 }, "-1.50", "2.25");
        inside("0..1", LogicalType::Real, "0", "1");
        inside("normal(6, 2) in 1..10", LogicalType::Integer, "1", "10");
        inside("2020-01-01..2020-01-31", LogicalType::Date, "2020-01-01", "2020-01-31");
        inside("2020-01-01..2020-01-31", LogicalType::Timestamp, "2020-01-01 00:00:00.000000", "2020-01-31 00:00:00.000000");
        inside("text(5..9)", LogicalType::TEXT, "12345", "123456789");
        let codes = values("code('AB-##@')", LogicalType::TEXT);
        assert!(codes.iter().all(|code| code.to_string().starts_with("AB-") && code.to_string().len() == 6));
        let calm = values("pick('calm' 9, 'lively' 1)", LogicalType::TEXT).iter().filter(|value| value.to_string() == "calm").count();
        assert!((420..480).contains(&calm), "{calm}");
    }

    #[test]
    fn recipes_that_do_not_suit_are_refused() {
        assert_eq!(error("text(5)", LogicalType::Integer), "this makes text, but the column is integer");
        assert_eq!(error("9..1", LogicalType::Integer), "the range ends before it begins");
        assert_eq!(error("nromal(1, 2)", LogicalType::Real), "`nromal` is not a recipe");
        assert_eq!(error("pick('a')", LogicalType::Integer), "`a` is not integer");
        assert_eq!(error("text(0)", LogicalType::TEXT), "`text` takes a number of characters, from 1 on");
        assert_eq!(error("1..3 in 1..2", LogicalType::Integer), "`in` bounds only `normal`");
    }
}
