//! Conditions and terms as SQL.

use super::{Function, Operator, Rule, Scalar};
use crate::calendar::{format_date, format_timestamp};
use crate::model::Table;
use crate::value::{Decimal, Value};

/// How an engine writes what is written differently. What it cannot say makes the whole condition unsayable there.
#[derive(Clone, Copy, Debug)]
pub struct Spelling {
    /// A name in quotes.
    pub quote: fn(&str) -> String,
    /// Whether there are true and false; else they are 1 and 0.
    pub has_booleans: bool,
    /// Whether dates and timestamps have types of their own; else they are texts.
    pub has_dates: bool,
    /// What joins a text and a regular expression: case told apart, and not.
    pub matches: Option<(&'static str, &'static str)>,
    /// What joins a text and a pattern with `%` and `_`: case told apart, and not.
    pub like: (Option<&'static str>, Option<&'static str>),
    /// `floor` and `ceil`.
    pub has_floor: bool,
}

impl Rule {
    /// The condition as SQL; `None` where the engine cannot say it.
    pub fn sql(&self, table: &Table, spelling: &Spelling) -> Option<String> {
        let join = |rules: &[Rule], word: &str| {
            let parts: Option<Vec<String>> = rules.iter().map(|rule| rule.sql(table, spelling)).collect();
            parts.map(|parts| format!("({})", parts.join(word)))
        };
        Some(match self {
            Rule::Compare(comparison, left, right) => {
                format!("{} {} {}", left.sql(table, spelling)?, comparison.symbol(), right.sql(table, spelling)?)
            }
            Rule::In(term, list) => {
                let list: Option<Vec<String>> = list.iter().map(|item| item.sql(table, spelling)).collect();
                format!("{} IN ({})", term.sql(table, spelling)?, list?.join(", "))
            }
            Rule::IsNull(term) => format!("{} IS NULL", term.sql(table, spelling)?),
            Rule::Same(left, right) => format!("{} IS NOT DISTINCT FROM {}", left.sql(table, spelling)?, right.sql(table, spelling)?),
            Rule::Matches(term, pattern) => {
                let term = term.sql(table, spelling)?;
                match &pattern.like {
                    Some(like) => {
                        let word = if pattern.any_case { spelling.like.1 } else { spelling.like.0 }?;
                        format!("{term} {word} {}", quoted(like))
                    }
                    None => {
                        let (told_apart, any_case) = spelling.matches?;
                        format!("{term} {} {}", if pattern.any_case { any_case } else { told_apart }, quoted(&pattern.text))
                    }
                }
            }
            Rule::Not(rule) => match &**rule {
                Rule::IsNull(term) => format!("{} IS NOT NULL", term.sql(table, spelling)?),
                other => format!("NOT ({})", other.sql(table, spelling)?),
            },
            Rule::And(rules) => join(rules, " AND ")?,
            Rule::Or(rules) => join(rules, " OR ")?,
            Rule::Truth(term) => term.sql(table, spelling)?,
        })
    }
}

impl Scalar {
    /// The term as SQL; `None` where the engine cannot say it.
    pub fn sql(&self, table: &Table, spelling: &Spelling) -> Option<String> {
        Some(match self {
            Scalar::Column(column) => (spelling.quote)(&table.columns[*column].name),
            Scalar::Literal(value) => literal(value, spelling),
            Scalar::Call(function, terms) => {
                let terms: Option<Vec<String>> = terms.iter().map(|term| term.sql(table, spelling)).collect();
                call(*function, &terms?, spelling)?
            }
            Scalar::Arithmetic(operator, left, right) => {
                let symbol = match operator {
                    Operator::Add => "+",
                    Operator::Subtract => "-",
                    Operator::Multiply => "*",
                    Operator::Divide => "/",
                    Operator::Remainder => "%",
                    Operator::Join => "||",
                };
                format!("({} {symbol} {})", left.sql(table, spelling)?, right.sql(table, spelling)?)
            }
            Scalar::Choose(cases) => {
                let mut text = "CASE".to_owned();
                for (rule, term) in cases {
                    text += &format!(" WHEN {} THEN {}", rule.sql(table, spelling)?, term.sql(table, spelling)?);
                }
                text + " END"
            }
            Scalar::Whether(rule) => format!("({})", rule.sql(table, spelling)?),
        })
    }
}

fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

impl Spelling {
    /// A fixed value as SQL.
    pub fn literal(&self, value: &Value) -> String {
        literal(value, self)
    }
}

fn literal(value: &Value, spelling: &Spelling) -> String {
    let dated = |word: &str, text: &str| if spelling.has_dates { format!("{word} '{text}'") } else { quoted(text) };
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Integer(number) => number.to_string(),
        Value::Decimal(units, scale) => Decimal { units: units.get(), scale: *scale }.to_string(),
        Value::Real(number) => format!("{number:?}"),
        Value::Text(text) => quoted(text),
        Value::Boolean(truth) if spelling.has_booleans => truth.to_string(),
        Value::Boolean(truth) => u8::from(*truth).to_string(),
        Value::Date(days) => dated("DATE", &format_date(*days)),
        Value::Timestamp(micros) => dated("TIMESTAMP", &format_timestamp(*micros)),
        Value::Uuid(_) => quoted(&value.to_string()),
        Value::Blob(_) => format!("X{}", quoted(&value.to_string())),
    }
}

fn call(function: Function, terms: &[String], spelling: &Spelling) -> Option<String> {
    use Function as F;
    let plain = |name: &str| Some(format!("{name}({})", terms.join(", ")));
    let counted = |word: &str| {
        let parts: Vec<String> = terms.iter().map(|term| format!("CASE WHEN {term} IS {word} THEN 1 ELSE 0 END")).collect();
        Some(format!("({})", parts.join(" + ")))
    };
    match function {
        F::Length => plain("length"),
        F::Lower => plain("lower"),
        F::Upper => plain("upper"),
        F::Trim => plain("trim"),
        F::Part => plain("substr"),
        F::Absolute => plain("abs"),
        F::Round => plain("round"),
        F::FirstKnown => plain("coalesce"),
        F::NullIf => plain("nullif"),
        F::Replace => plain("replace"),
        F::Known => counted("NOT NULL"),
        F::Unknown => counted("NULL"),
        F::Floor if spelling.has_floor => plain("floor"),
        F::Ceiling if spelling.has_floor => plain("ceil"),
        // Generated JSON is JSON; the year and the others are written in ways that differ too much to be worth it.
        _ => None,
    }
}
