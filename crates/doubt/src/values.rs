//! Values that are nothing like what a column's name, default, checks and type say.

use kampf_fill::allowed;
use kampf_fill::names::{has, words};
use kampf_schema::{ColumnForm, ColumnId, Default, LogicalType, TableId, Value};

use crate::lives::ENOUGH;
use crate::look::{Cases, Looked, shown};
use crate::{Doubt, DoubtKind};

/// By how much values may stay below what a check allows.
const UNUSED: f64 = 20.0;

/// By how much all values may lie beside a default.
const BESIDE: f64 = 4.0;

/// Moments are larger than this, in seconds: 1973.
const FIRST_EPOCH: i64 = 100_000_000;

/// Words of a text that is longer than a line.
const LONG_TEXTS: [&str; 24] = [
    "log",
    "recipe",
    "body",
    "content",
    "notes",
    "description",
    "instructions",
    "story",
    "bio",
    "biography",
    "review",
    "transcript",
    "article",
    "message",
    "comment",
    "comments",
    "remarks",
    "report",
    "summary",
    "feedback",
    "terms",
    "abstract",
    "reasoning",
    "explanation",
];

/// Words of a text that stay few.
const SHORT: u64 = 4;

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, doubts: &mut Vec<Doubt>) {
    let model = looked.table(table);
    let allowed = allowed(model);
    for (at, allowed) in allowed.iter().enumerate() {
        if model.columns[at].computed.is_some() || model.references.iter().any(|reference| reference.columns.contains(&at)) {
            continue;
        }
        if allowed.one_of.is_none() {
            doubts.extend(unlike_default(looked, table, at));
            doubts.extend(code(looked, table, at));
        }
        doubts.extend(unused(looked, table, at, allowed.most.as_ref()));
        doubts.extend(unit(looked, table, at));
        doubts.extend(epoch(looked, table, at));
        doubts.extend(few_words(looked, table, at));
        doubts.extend(numbered(looked, table, at));
    }
}

fn numbers<'l>(looked: &'l Looked<'_>, table: TableId, at: ColumnId) -> impl Iterator<Item = f64> + 'l {
    looked.known(table, at).filter_map(|value| value.as_ref().as_real())
}

fn is_number(kind: LogicalType) -> bool {
    matches!(kind, LogicalType::Integer | LogicalType::Decimal { .. } | LogicalType::Real)
}

/// All rows of a column, the doubt being about the column.
fn all(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Cases {
    let mut cases = Cases::default();
    looked.known(table, at).for_each(|value| cases.look(true, || shown(value)));
    cases
}

fn unlike_default(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let Some(Default::Value(default)) = &column.default else { return None };
    let is_unlike = match default {
        Value::Text(text) if !text.is_empty() => {
            let classes = classes(text);
            column.form == ColumnForm::Plain && looked.known(table, at).all(|value| self::classes(&value.to_string()) != classes)
        }
        _ if is_number(column.kind) => {
            // Nothing is like nothing, and one is what things are counted by.
            let default = default.as_ref().as_real().filter(|number| number.abs() > 1.0)?;
            let is_near = |number: f64| (number / default) >= 1.0 / BESIDE && (number / default) <= BESIDE;
            !numbers(looked, table, at).any(is_near)
        }
        _ => false,
    };
    let cases = all(looked, table, at);
    if !is_unlike || cases.of() < ENOUGH {
        return None;
    }
    cases.doubt(
        DoubtKind::UnlikeDefault,
        table,
        vec![at],
        format!("have a `{}` that is nothing like its default, {}", column.name, shown(default)),
    )
}

/// Which kinds of characters a text has: letters, digits, and what joins them.
fn classes(text: &str) -> (bool, bool, Vec<char>) {
    let mut joints: Vec<char> = text.chars().filter(|c| !c.is_alphanumeric()).collect();
    joints.sort_unstable();
    joints.dedup();
    (text.chars().any(char::is_alphabetic), text.chars().any(|c| c.is_ascii_digit()), joints)
}

fn code(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let is_code = has(column, &["country", "currency", "language", "lang", "nationality"]);
    if !is_code || !matches!(column.kind, LogicalType::Text { .. }) {
        return None;
    }
    let mut cases = Cases::default();
    looked.known(table, at).for_each(|value| cases.look(value.to_string().contains(|c: char| c.is_ascii_digit()), || shown(value)));
    cases.doubt(DoubtKind::Code, table, vec![at], format!("have digits in `{}`", column.name))
}

fn unused(looked: &Looked<'_>, table: TableId, at: ColumnId, most: Option<&Value>) -> Option<Doubt> {
    let column = looked.column(table, at);
    let most = most.filter(|_| is_number(column.kind))?.as_ref().as_real()?;
    let largest = numbers(looked, table, at).reduce(f64::max)?;
    let cases = all(looked, table, at);
    if cases.of() < ENOUGH || largest <= 0.0 || most < UNUSED * largest {
        return None;
    }
    let what = format!("have a `{}` of at most {largest}, where a check allows {most}", column.name);
    cases.doubt(DoubtKind::UnusedRange, table, vec![at], what)
}

fn unit(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let small = words(column)
        .last()
        .is_some_and(|word| matches!(word.as_str(), "mm" | "millimetres" | "millimeters" | "ml" | "grams" | "g" | "cents"));
    let largest = numbers(looked, table, at).reduce(f64::max).filter(|_| small && is_number(column.kind))?;
    let cases = all(looked, table, at);
    if cases.of() < ENOUGH || largest > 100.0 {
        return None;
    }
    cases.doubt(DoubtKind::Unit, table, vec![at], format!("have a `{}` of at most {largest}, little for the unit in its name", column.name))
}

fn epoch(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let words = words(column);
    let says = words.last().is_some_and(|word| matches!(word.as_str(), "ts" | "epoch" | "timestamp" | "unixtime" | "millis"));
    let is_made_at = words.len() > 1 && words.last().is_some_and(|word| word == "at");
    if column.kind != LogicalType::Integer || !(says || is_made_at) {
        return None;
    }
    let mut cases = Cases::default();
    for value in looked.known(table, at) {
        cases.look(matches!(value, Value::Integer(number) if *number < FIRST_EPOCH), || shown(value));
    }
    cases.doubt(DoubtKind::Epoch, table, vec![at], format!("have a `{}` that is no moment in seconds or milliseconds", column.name))
}

fn few_words(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let has_room = matches!(column.kind, LogicalType::Text { length } if length.is_none_or(|length| length >= 500));
    let is_long = words(column).last().is_some_and(|word| LONG_TEXTS.contains(&word.as_str()));
    if !has_room || !is_long || column.form != ColumnForm::Plain {
        return None;
    }
    let mut cases = Cases::default();
    for value in looked.known(table, at) {
        let words = value.to_string().split_whitespace().count() as u64;
        cases.look(words <= SHORT, || shown(value));
    }
    if cases.of() < ENOUGH || cases.share() <= 0.5 {
        return None;
    }
    cases.doubt(DoubtKind::FewWords, table, vec![at], format!("have a `{}` of {SHORT} words or fewer", column.name))
}

/// Numbers at the end of names that are unique only within a parent, and of addresses.
fn numbered(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let model = looked.table(table);
    let is_email = has(column, &["email", "mail"]);
    let is_name = has(column, &["name", "title"]);
    let is_reference = |column: &ColumnId| model.references.iter().any(|reference| reference.columns.contains(column));
    let within = model.keys().any(|key| key.contains(&at) && key.iter().any(is_reference));
    if !matches!(column.kind, LogicalType::Text { .. }) || !(is_email || is_name && within) {
        return None;
    }
    let mut cases = Cases::default();
    for value in looked.known(table, at) {
        let text = value.to_string();
        let name = text.split('@').next().unwrap_or_default();
        cases.look(name.ends_with(|c: char| c.is_ascii_digit()), || shown(value));
    }
    if cases.of() < ENOUGH || cases.share() <= 0.5 {
        return None;
    }
    cases.doubt(DoubtKind::NumberedNames, table, vec![at], format!("have a number behind `{}`", column.name))
}
