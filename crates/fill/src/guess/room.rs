//! What units, checks and defaults say about how large numbers are.

use kampf_schema::expr::{Argument, Recipe, RecipeSource, read_recipe};
use kampf_schema::{LogicalType, Value};

use super::{Guess, Subject, guess, written};

/// A unit at the end of a name.
pub(super) struct Unit {
    words: &'static [&'static str],
    /// What most things measure in it: the median, and the standard deviation of the logarithm.
    median: f64,
    sigma: f64,
    /// Nothing measures more.
    pub(super) most: i64,
}

const UNITS: [Unit; 9] = [
    Unit { words: &["mm", "millimetres", "millimeters"], median: 240.0, sigma: 0.6, most: 5_000 },
    Unit { words: &["cm", "centimetres", "centimeters"], median: 60.0, sigma: 0.6, most: 500 },
    Unit { words: &["km", "kilometres", "kilometers"], median: 30.0, sigma: 1.0, most: 2_000 },
    Unit { words: &["g", "gram", "grams"], median: 800.0, sigma: 0.9, most: 50_000 },
    Unit { words: &["kg", "kilograms"], median: 12.0, sigma: 0.7, most: 1_000 },
    Unit { words: &["mg", "milligrams"], median: 250.0, sigma: 0.8, most: 5_000 },
    Unit { words: &["ml", "millilitres", "milliliters"], median: 350.0, sigma: 0.8, most: 10_000 },
    Unit { words: &["cents"], median: 2_400.0, sigma: 1.0, most: 10_000_000 },
    Unit { words: &["ms", "milliseconds"], median: 120.0, sigma: 1.0, most: 600_000 },
];

/// The unit in which a column's numbers are, by the end of its name.
pub(super) fn unit(subject: &Subject<'_>) -> Option<&'static Unit> {
    UNITS.iter().find(|unit| subject.words.len() > 1 && subject.ends(unit.words))
}

impl Unit {
    /// How its numbers spread between two.
    pub(super) fn distribution(&self, low: f64, high: f64) -> String {
        if self.median < 2.0 * low || 2.0 * self.median > high {
            return spread_evenly(low, high);
        }
        format!("lognormal({}, {})", self.median, self.sigma)
    }
}

fn spread_evenly(low: f64, high: f64) -> String {
    format!("normal({}, {})", short((low + high) / 2.0), short((high - low) / 6.0))
}

/// A number of a recipe with as many digits as anybody would write.
fn short(number: f64) -> String {
    if number.abs() >= 100.0 {
        format!("{number:.0}")
    } else {
        format!("{number:.3}").trim_end_matches('0').trim_end_matches('.').to_owned()
    }
}

/// So much of what a check allows stays unused at most.
const UNUSED: f64 = 12.0;

/// The guess, or another one where it is nothing like the column's default or stays far below what a check allows.
pub(super) fn fitting(subject: &Subject<'_>, guessed: Guess) -> Guess {
    let Some((low, high)) = read_recipe(&guessed.recipe).ok().and_then(|recipe| ends(&recipe)) else { return guessed };
    if let Some(recipe) = about_default(subject, low, high) {
        return guess(recipe, "its default");
    }
    let real = |value: &Option<Value>| value.as_ref().and_then(|value| value.as_ref().as_real());
    let Some(most) = real(&subject.bounds.most).filter(|_| has_checked_most(subject)) else { return guessed };
    if high <= 0.0 || most <= UNUSED * high {
        return guessed;
    }
    let least = real(&subject.bounds.least).unwrap_or(0.0);
    let whole = |number: f64| if subject.column.kind == LogicalType::Integer { format!("{number:.0}") } else { short(number) };
    guess(format!("lognormal({}, 0.8) in {}..{}", whole(most / 12.0), whole(least), whole(most)), "a check")
}

/// The smallest and the largest of a few thousand values, about; none for what makes no numbers.
fn ends(recipe: &Recipe) -> Option<(f64, f64)> {
    let real = |value: &Value| value.as_ref().as_real();
    let ends = match &recipe.source {
        RecipeSource::Literal(value) => (real(value)?, real(value)?),
        RecipeSource::Range(low, high) => (real(low)?, real(high)?),
        RecipeSource::Call { name, arguments } => {
            let number = |at: usize| match arguments.get(at) {
                Some(Argument::Value(value, _)) => real(value),
                _ => None,
            };
            match name.text.as_str() {
                "normal" => (number(0)? - 3.0 * number(1)?, number(0)? + 3.0 * number(1)?),
                "lognormal" => (number(0)? / libm::exp(3.0 * number(1)?), number(0)? * libm::exp(3.0 * number(1)?)),
                "exponential" => (0.0, 8.0 * number(0)?),
                "pick" => {
                    let all: Option<Vec<f64>> = (0..arguments.len()).map(number).collect();
                    all.filter(|all| !all.is_empty())?.into_iter().fold((f64::MAX, f64::MIN), |(low, high), at| (low.min(at), high.max(at)))
                }
                _ => return None,
            }
        }
        RecipeSource::Object(_) => return None,
    };
    let inside = recipe.bounds.as_ref().and_then(|(low, high)| Some((real(low)?, real(high)?)));
    Some(inside.map_or(ends, |(low, high)| (ends.0.clamp(low, high), ends.1.clamp(low, high))))
}

/// The default most often, and a few others, where a guess would not come near it.
fn about_default(subject: &Subject<'_>, low: f64, high: f64) -> Option<String> {
    let default = subject.default()?;
    // Nothing is like nothing, and one is what things are counted by.
    let number = default.as_ref().as_real().filter(|number| number.abs() > 1.0)?;
    if (low..=high).contains(&number) {
        return None;
    }
    let within = |value: &Value| {
        let above = subject.bounds.least.as_ref().is_none_or(|least| least.as_ref().order(value.as_ref()).is_le());
        let below = subject.bounds.most.as_ref().is_none_or(|most| most.as_ref().order(value.as_ref()).is_ge());
        above && below
    };
    let others: Vec<Value> = match default {
        Value::Integer(whole) => vec![Value::Integer(whole / 2), Value::Integer(whole.saturating_mul(2))],
        Value::Decimal(units, scale) => {
            [units.get() / 2, units.get().saturating_mul(5) / 4].map(|units| Value::Decimal(units.into(), *scale)).into()
        }
        Value::Real(real) => vec![Value::Real(real / 2.0), Value::Real(real * 1.25)],
        _ => return None,
    };
    let others: String = others.iter().filter(|other| within(other)).map(|other| format!(", {} 1", written(other))).collect();
    Some(format!("pick({} 8{others})", written(default)))
}

/// Whether a check, and not only its type, says how large a number may be.
fn has_checked_most(subject: &Subject<'_>) -> bool {
    let of_type = subject.column.limits.filter(|_| subject.column.kind == LogicalType::Integer).map(|(_, high)| Value::Integer(high));
    subject.bounds.most.is_some() && subject.bounds.most != of_type
}
