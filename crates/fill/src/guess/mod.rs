//! Guessing how a column's values look, from its name, its type, its checks and its neighbours. A guess is a recipe like any
//! that a user writes, so that it can be shown, copied and changed.

mod by_name;
mod histories;
mod numbers;
mod people;
mod room;
mod rows;
mod texts;
mod times;

use kampf_schema::expr::Name;
use kampf_schema::{Column, ColumnId, Default, LogicalType, Reference, Schema, Span, Table, TableId, Value, name_words};

use crate::bounds::Bounds;
use crate::names;

pub use times::LAST_DAY;

pub use rows::{LEAST_SCALE, MOST_SCALE, RowGuesses};

/// Thousandths of a percent of nulls where nothing is said: one in ten.
pub(crate) const NULL_SHARE: u32 = 10_000;

/// A recipe with what it was guessed from.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Guess {
    pub(crate) recipe: String,
    pub(crate) why: &'static str,
}

fn guess(recipe: impl Into<String>, why: &'static str) -> Guess {
    Guess { recipe: recipe.into(), why }
}

/// What is known about a column.
struct Subject<'a> {
    schema: &'a Schema,
    table: TableId,
    id: ColumnId,
    column: &'a Column,
    bounds: &'a Bounds,
    /// The words of its name, in small letters.
    words: Vec<String>,
    /// The name in small letters, words joined.
    joined: String,
    /// By which of its references the rows of each table are counted.
    counted: &'a [Option<usize>],
}

impl Subject<'_> {
    /// Whether one of the name's words is among these.
    fn has(&self, words: &[&str]) -> bool {
        self.words.iter().any(|own| words.contains(&own.as_str()))
    }

    /// Whether the last word of the name is among these.
    fn ends(&self, words: &[&str]) -> bool {
        self.words.last().is_some_and(|own| words.contains(&own.as_str()))
    }

    /// Whether the name as a whole is one of these, without what joins its words.
    fn is(&self, names: &[&str]) -> bool {
        names.contains(&self.joined.as_str())
    }

    /// Whether one of these stands anywhere in the name.
    fn holds(&self, parts: &[&str]) -> bool {
        parts.iter().any(|part| self.joined.contains(part))
    }

    fn default(&self) -> Option<&Value> {
        match &self.column.default {
            Some(Default::Value(value)) if *value != Value::Null => Some(value),
            _ => None,
        }
    }
}

/// How a recipe names the parent that a reference of one column leads to: by its table, or where others lead there too by the column.
fn named_parent(subject: &Subject<'_>, reference: &Reference) -> String {
    let table = subject.schema.table(subject.table);
    let is_same = |other: &&Reference| other.parent == reference.parent;
    let is_alone = reference.parent != subject.table && table.references.iter().filter(is_same).count() == 1;
    named(if is_alone { &subject.schema.table(reference.parent).name } else { &table.columns[reference.columns[0]].name })
}

/// The recipe that suits a column.
pub(crate) fn recipe(schema: &Schema, table: TableId, id: ColumnId, bounds: &Bounds, counted: &[Option<usize>]) -> Guess {
    let column = &schema.table(table).columns[id];
    let words = name_words(&column.name);
    let subject = Subject { schema, table, id, column, bounds, joined: words.concat(), words, counted };
    if let Some(guess) = histories::step(&subject) {
        return guess;
    }
    if let Some(values) = &bounds.one_of
        && !values.is_empty()
    {
        return one_of(&subject, values);
    }
    match column.kind {
        LogicalType::Integer => numbers::whole(&subject),
        LogicalType::Decimal { .. } | LogicalType::Real => numbers::broken(&subject),
        LogicalType::Text { .. } => texts::text(&subject),
        LogicalType::Boolean => truth(&subject),
        LogicalType::Date | LogicalType::Timestamp => times::time(&subject),
        LogicalType::Uuid => guess("uuid4", "its type"),
        LogicalType::Blob => bytes(&subject),
    }
}

/// The share of nulls of a column that may be null.
pub(crate) fn null_share(table: &Table, column: &Column) -> u32 {
    let words = name_words(&column.name);
    let has = |list: &[&str]| words.iter().any(|word| list.contains(&word.as_str()));
    match () {
        () if has(&["deleted", "removed", "cancelled", "canceled", "archived", "banned", "locked", "failed", "error"]) => 92_000,
        // What is over is the smaller part.
        () if names::over(table, column).is_some() => 80_000,
        () if names::is_of_what_is_over(table) && has(&["closed", "resolved", "finished", "completed", "ended"]) => 25_000,
        () if names::says_answer(column) => 60_000,
        () if has(&["closed", "ended", "finished", "completed", "resolved", "expired", "until", "end", "died", "sold"]) => 45_000,
        () if has(&["middle", "line2", "address2", "fax", "suffix", "prefix", "nickname"]) => 70_000,
        () if has(&["comment", "comments", "note", "notes", "remark", "remarks", "description"]) => 30_000,
        () => NULL_SHARE,
    }
}

/// Values as a recipe writes them.
fn written(value: &Value) -> String {
    let recipe = kampf_schema::expr::Recipe {
        unique: false,
        source: kampf_schema::expr::RecipeSource::Literal(value.clone()),
        bounds: None,
        null_share: 0,
    };
    recipe.to_string()
}

/// A name as a recipe writes it.
fn named(name: &str) -> String {
    Name { text: name.to_owned(), span: Span::default() }.to_string()
}

/// The default comes most often; without one, the values come less and less often in the order they are written. Of states that rows begin in
/// and go on from most have gone on.
fn one_of(subject: &Subject<'_>, values: &[Value]) -> Guess {
    if values.len() == 1 {
        return guess(written(&values[0]), "a check");
    }
    let default = subject.default();
    let count = values.len();
    let first = default.unwrap_or(&values[0]);
    let goes_on = count > 2 && names::says_state(subject.column) && matches!(first, Value::Text(text) if names::is_first_state(text));
    let weight = |at: usize, value: &Value| match default {
        _ if goes_on => usize::try_from(names::state_weight(&value.to_string())).unwrap_or(1),
        Some(default) if default == value => 2 * count,
        Some(_) => 1,
        None => (count - at).div_ceil(count.div_ceil(4)),
    };
    let items: Vec<String> = values.iter().enumerate().map(|(at, value)| format!("{} {}", written(value), weight(at, value))).collect();
    guess(format!("pick({})", items.join(", ")), "a check")
}

fn truth(subject: &Subject<'_>) -> Guess {
    let is_over = names::over(subject.schema.table(subject.table), subject.column).is_some();
    let is_rare = is_over || subject.has(&["deleted", "removed", "banned", "locked", "blocked", "archived", "hidden", "spam", "failed"]);
    // A default says what most rows are, whatever the name.
    let (share, why) = match () {
        () if subject.default() == Some(&Value::Boolean(true)) => (88, "its default"),
        () if subject.default() == Some(&Value::Boolean(false)) && !is_rare => (12, "its default"),
        () if is_rare => (4, "its name"),
        () if subject.has(&["active", "enabled", "visible", "valid", "confirmed", "verified", "public"]) => (88, "its name"),
        () if subject.has(&["is", "has", "default", "primary", "main"]) => (30, "its name"),
        () => (50, "its type"),
    };
    guess(format!("share({share})"), why)
}

/// Bytes of a value that is only guessed, at most.
const MOST_BYTES: u64 = 10_000;

fn bytes(subject: &Subject<'_>) -> Guess {
    let (shortest, longest) = (subject.bounds.shortest, subject.bounds.longest);
    if shortest > 0 || longest.is_some() {
        let least = shortest.clamp(1, MOST_BYTES);
        let most = longest.unwrap_or(least * 4).clamp(1, MOST_BYTES);
        return match least.min(most) {
            least if least == most => guess(format!("bytes({most})"), "a check"),
            least => guess(format!("bytes({least}..{})", most.min(least.max(64) * 4)), "a check"),
        };
    }
    match subject.column.limits {
        Some((low, high)) if low == high => guess(format!("bytes({})", low.clamp(1, MOST_BYTES as i64)), "its type"),
        Some((_, high)) => guess(format!("bytes({}..{})", (high / 2).clamp(1, 64), high.clamp(1, 64)), "its type"),
        None if subject.has(&["image", "picture", "photo", "content", "data", "body", "file", "document", "blob", "cache", "payload"]) => {
            guess("bytes(800..6_000)", "its name")
        }
        None => guess("bytes(16..64)", "its type"),
    }
}

#[cfg(test)]
mod tests;
