//! Guesses for texts.

use kampf_schema::expr::{Argument, Recipe, RecipeSource, read_recipe};
use kampf_schema::{ColumnForm, LogicalType, Value};

use super::by_name::by_name;
use super::{Guess, Subject, guess, written};
use crate::bounds::Bounds;

/// So long a text is made without being asked for one; where a check wants a longer one, no row fits, which is said.
const MOST_LETTERS: u64 = 20_000;

pub(super) fn text(subject: &Subject<'_>) -> Guess {
    if let Some(recipe) = by_form(subject) {
        return guess(recipe, "its type");
    }
    let bounds = subject.bounds;
    if let Some(shape) = &bounds.shape {
        return guess(format!("matching({})", written(&Value::from(shape.as_str()))), "a check");
    }
    let room = bounds.longest.unwrap_or(u64::MAX).max(1);
    if bounds.lower && !bounds.upper && bounds.shortest <= 1 && room >= 12 {
        // Much is in small letters anyway.
        let natural = by_name(subject, room)
            .filter(|recipe| ["host", "email", "login", "url", "slug", "hex", "uuid4"].iter().any(|small| recipe.starts_with(small)));
        return guess(natural.unwrap_or_else(|| "slug(1..2)".to_owned()), "a check");
    }
    if bounds.shortest > 1 || bounds.lower || bounds.upper {
        if let Some(recipe) = by_name(subject, room).filter(|recipe| all_obey(recipe, bounds)) {
            return guess(recipe, "its name and a check");
        }
        let length = bounds.shortest.max(6).min(room).max(bounds.shortest).min(MOST_LETTERS);
        let letter = if bounds.upper { '@' } else { '&' };
        return guess(format!("code('{}')", letter.to_string().repeat(length as usize)), "a check");
    }
    let recipe = by_name(subject, room);
    // What the schema puts there by itself is no code, address or hash where those are no words.
    let is_unlike = |recipe: &str| CODES.iter().any(|code| recipe.starts_with(code)) && usual_word(subject).is_some();
    match recipe {
        Some(recipe) if !is_unlike(&recipe) => guess(recipe, "its name"),
        _ => fallback(subject, room),
    }
}

/// How recipes begin that make no words.
const CODES: [&str; 9] = ["code(", "hex(", "matching(", "host", "url", "email", "phone", "address", "uuid4"];

/// A default that is a word.
fn usual_word<'s>(subject: &'s Subject<'_>) -> Option<&'s str> {
    match subject.default() {
        Some(Value::Text(usual)) if !usual.is_empty() && usual.chars().all(char::is_alphabetic) => Some(usual),
        _ => None,
    }
}

/// Whether all words that a recipe picks from are as checks want texts.
fn all_obey(recipe: &str, bounds: &Bounds) -> bool {
    let Ok(Recipe { source: RecipeSource::Call { name, arguments }, .. }) = read_recipe(recipe) else { return false };
    let obeys = |text: &str| {
        let length = text.chars().count() as u64;
        let is_long_enough = (bounds.shortest..=bounds.longest.unwrap_or(u64::MAX)).contains(&length);
        is_long_enough && !(bounds.upper && text.to_uppercase() != text) && !(bounds.lower && text.to_lowercase() != text)
    };
    name.text == "pick" && arguments.iter().all(|argument| matches!(argument, Argument::Value(Value::Text(text), _) if obeys(text)))
}

/// Something else than a word that is nearly always there, written in letters as large.
fn other_than(usual: &str) -> Option<&'static str> {
    let mut letters = usual.chars();
    let first = letters.next().filter(|_| usual.chars().all(char::is_alphabetic))?;
    match (first.is_uppercase(), letters.all(char::is_uppercase)) {
        (true, true) => Some("OTHER"),
        (true, false) => Some("Other"),
        _ => Some("other"),
    }
    .filter(|other| *other != usual)
}

fn by_form(subject: &Subject<'_>) -> Option<String> {
    Some(match subject.column.form {
        ColumnForm::Plain => return None,
        ColumnForm::Json => "{ source: pick('web' 5, 'import' 2, 'api' 1), size: exponential(20) in 1..500, note: words(2..6) or null 30%, tags: list(words(1), 0..3) }".to_owned(),
        ColumnForm::Address => "address".to_owned(),
        ColumnForm::Network => r"matching('^10\.[1-9][0-9]\.[0-9]\.0/24$')".to_owned(),
        ColumnForm::MacAddress => "code('02:~~:~~:~~:~~:~~')".to_owned(),
        ColumnForm::Time => "daytime".to_owned(),
        ColumnForm::Interval => "length('1 minute'..'8 hours')".to_owned(),
        ColumnForm::Bits(bits) => format!("bits({})", if bits == 0 { "1..8".to_owned() } else { bits.to_string() }),
        ColumnForm::Xml => "matching('^<note><size>[0-9]{1,3}</size><text>[a-z]{4,12}</text></note>$')".to_owned(),
        ColumnForm::Point => r"matching('^\(([6-9]|1[0-4])\.[0-9]{4},(4[7-9]|5[0-4])\.[0-9]{4}\)$')".to_owned(),
        ColumnForm::Range => r"matching('^\[[1-4][0-9],[5-9][0-9]\)$')".to_owned(),
        ColumnForm::Several => {
            let words: Vec<String> = subject.column.words.iter().map(|word| written(&Value::from(word.as_str()))).collect();
            format!("some({})", words.join(", "))
        }
        ColumnForm::Array(LogicalType::Integer) => "list(1..1000, 0..5)".to_owned(),
        ColumnForm::Array(LogicalType::Decimal { .. } | LogicalType::Real) => "list(0.00..100.00, 0..5)".to_owned(),
        ColumnForm::Array(_) => "list(words(1), 0..4)".to_owned(),
        ColumnForm::Search => "words(4..12)".to_owned(),
    })
}

fn fallback(subject: &Subject<'_>, room: u64) -> Guess {
    // A default says what the column mostly holds.
    if let Some(Value::Text(usual)) = subject.default()
        && !usual.is_empty()
    {
        if let Ok(number) = usual.parse::<i64>() {
            let width = usual.len().max(1);
            let others: Vec<String> = [number + 1, number + 2, number + 5]
                .iter()
                .map(ToString::to_string)
                .filter(|text| text.len() as u64 <= room)
                .map(|text| format!("'{text}' 1"))
                .collect();
            if !others.is_empty() && width < 10 {
                return guess(format!("pick({} 7, {})", written(&Value::Text(usual.clone())), others.join(", ")), "its default");
            }
        }
        let recipe = match other_than(usual).filter(|other| other.len() as u64 <= room) {
            Some(other) => format!("pick({} 9, '{other}' 1)", written(&Value::Text(usual.clone()))),
            None => written(&Value::Text(usual.clone())),
        };
        return guess(recipe, "its default");
    }
    let recipe = match room {
        0..=2 => format!("code('{}')", "@".repeat(room as usize)),
        3..=7 => format!("code('{}')", "&".repeat(room as usize)),
        // What is short is one of few more often than a sentence; common words come as often as in a natural text.
        8..=64 => "words(1)".to_owned(),
        65..=500 => "words(1..2)".to_owned(),
        _ => "words(1..4)".to_owned(),
    };
    guess(recipe, "its type")
}
