//! Reading texts of the grammar: names, words, written values, and errors with their places.

use winnow::ascii::{digit1, multispace0};
use winnow::combinator::{alt, cut_err, delimited, not, opt, peek, preceded, repeat};
use winnow::error::{ContextError, ErrMode, StrContext, StrContextValue};
use winnow::stream::{LocatingSlice, Location, Stateful};
use winnow::token::{one_of, take_till, take_while};
use winnow::{ModalResult, Parser};

use super::tree::Name;
use crate::calendar::{parse_date, parse_timestamp};
use crate::place::Span;
use crate::value::{Decimal, Value};

/// A text that does not follow the grammar.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadError {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// Where.
    pub span: Span,
}

/// What is known besides the text: how deep it is nested, and a mistake for which there are better words than what was expected.
#[derive(Debug, Default)]
pub(super) struct State {
    pub(super) depth: usize,
    mistake: Option<ReadError>,
}

pub(super) type Input<'a> = Stateful<LocatingSlice<&'a str>, State>;

/// Deeper nesting than this is refused, so that no text can exhaust the stack.
pub(super) const DEEPEST: usize = 64;
/// Words that no name is written like without quotes, in recipes and row counts.
const RECIPE_WORDS: [&str; 18] = [
    "and", "or", "not", "in", "between", "is", "null", "like", "contains", "starts", "ends", "true", "false", "as", "asc", "desc", "by",
    "per",
];

/// Words that no name of a need is written like without quotes.
const WORDS: [&str; 29] = [
    "and", "or", "not", "in", "between", "is", "null", "like", "contains", "starts", "ends", "matches", "true", "false", "as", "asc",
    "desc", "by", "per", "case", "when", "then", "else", "end", "from", "where", "order", "limit", "distinct",
];

/// What needs do not say is written as SQL.
pub(super) const OWN_SQL: &str = "what a need cannot say is written as SQL of your own, under [contest.….contender.…]";

fn is_one_of(words: &[&str], name: &str) -> bool {
    words.iter().any(|word| word.eq_ignore_ascii_case(name))
}

/// What stands here for a word or sign that other languages have; `rest` begins with it.
fn way_out(word: &str, rest: &str) -> Option<String> {
    const OF_SQL: [&str; 9] = ["select", "over", "union", "intersect", "with", "having", "join", "within", "filter"];
    let hint = match word.to_ascii_lowercase().as_str() {
        "*" => "columns are named one by one, and rows are counted by `count()`",
        "ilike" => "in any letters: `lower(name) contains 'bee'`, or `lower(name) like '%bee%'`",
        "descending" => "the larger first: `desc`",
        "ascending" => "without a word the smaller comes first",
        "for" => "so many for each row of a parent: `6 per hive`",
        "limit" => {
            "the key `limit` of the contest says how many rows at most; of rows in a list it stands in the list: `inspection order done_at desc limit 3 { … }`"
        }
        "distinct" => "`distinct = true` is a key of the contest; of values that are counted: `count(distinct path)`",
        "offset" | "fetch" | "skip" => "pages are read by the keys `page` and `pages` of the contest",
        "&" => "both: `and`",
        "|" if !rest.starts_with("||") => "either: `or`; texts are joined by `||`",
        "!" => "the opposite: `not`; what differs: `<>`",
        "," => "each value is a text of the list by itself: [\"a\", \"b\"]",
        word if OF_SQL.contains(&word) => OWN_SQL,
        _ => return None,
    };
    Some(hint.to_owned())
}

fn is_plain(name: &str) -> bool {
    let plain = |c: char| c.is_alphanumeric() || c == '_';
    !name.is_empty() && !name.starts_with(|c: char| c.is_numeric()) && name.chars().all(plain)
}

/// Whether a name must be quoted to stand in an expression.
pub(super) fn needs_quotes(name: &str) -> bool {
    !is_plain(name) || is_one_of(&WORDS, name)
}

/// Whether the name of a recipe must be quoted.
pub(super) fn recipe_needs_quotes(name: &str) -> bool {
    !is_plain(name) || is_one_of(&RECIPE_WORDS, name)
}

/// Runs a parser over the whole text and words its failure.
pub(super) fn read_all<'a, T>(text: &'a str, mut parser: impl FnMut(&mut Input<'a>) -> ModalResult<T>) -> Result<T, ReadError> {
    check_depth(text)?;
    let mut input = Stateful { input: LocatingSlice::new(text), state: State::default() };
    let place = |at: usize| {
        let length = text[at..].chars().take_while(|c| c.is_alphanumeric() || *c == '_').map(char::len_utf8).sum::<usize>();
        let one = text[at..].chars().next().map_or(0, char::len_utf8);
        Span::new(at, at + length.max(one))
    };
    match parser(&mut input) {
        Ok(parsed) => {
            space(&mut input);
            if input.is_empty() {
                return Ok(parsed);
            }
            let span = place(input.current_token_start());
            let word = &text[span.start..span.end];
            let hint = way_out(word, &text[span.start..]);
            Err(ReadError { message: format!("`{word}` is not expected here"), hint, span })
        }
        Err(ErrMode::Backtrack(error) | ErrMode::Cut(error)) => {
            if let Some(mistake) = input.state.mistake {
                return Err(mistake);
            }
            space(&mut input);
            let span = place(input.current_token_start());
            let expected: Vec<String> = error
                .context()
                .filter_map(|context| match context {
                    StrContext::Expected(StrContextValue::Description(what)) => Some((*what).to_owned()),
                    StrContext::Expected(StrContextValue::StringLiteral(what)) => Some(format!("`{what}`")),
                    _ => None,
                })
                .take(1)
                .collect();
            let word = &text[span.start..span.end];
            let found = if word.is_empty() { "the end".to_owned() } else { format!("`{word}`") };
            let message = match expected.first() {
                Some(expected) => format!("expected {expected}, found {found}"),
                None if text.trim().is_empty() => "nothing is written here".to_owned(),
                None => format!("{found} is not expected here"),
            };
            let of_the_language = || {
                (is_one_of(&WORDS, word) && is_plain(word))
                    .then(|| format!("`{word}` is a word of the language; a column or relation of that name stands in double quotes"))
            };
            let hint = way_out(word, &text[span.start..]).or_else(of_the_language);
            Err(ReadError { message, hint, span })
        }
        Err(ErrMode::Incomplete(_)) => {
            Err(ReadError { message: "the text ends too early".to_owned(), hint: None, span: place(text.len()) })
        }
    }
}

/// Ends the reading with words of its own.
pub(super) fn refuse<T>(input: &mut Input<'_>, span: Span, message: String, hint: Option<String>) -> ModalResult<T> {
    input.state.mistake = Some(ReadError { message, hint, span });
    Err(ErrMode::Cut(ContextError::new()))
}

pub(super) fn too_deep() -> String {
    format!("nested deeper than {DEEPEST} levels")
}

fn check_depth(text: &str) -> Result<(), ReadError> {
    let mut depth = 0_usize;
    for (at, c) in text.char_indices() {
        match c {
            '(' | '{' => depth += 1,
            ')' | '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEEPEST {
            return Err(ReadError { message: too_deep(), hint: None, span: Span::new(at, at + 1) });
        }
    }
    Ok(())
}

pub(super) fn space(input: &mut Input<'_>) {
    let _: ModalResult<&str> = multispace0.parse_next(input);
}

pub(super) fn expected(what: &'static str) -> StrContext {
    StrContext::Expected(StrContextValue::Description(what))
}

/// A word of the grammar, upper and lower case alike, not followed by more of a name.
pub(super) fn word<'a>(text: &'static str) -> impl Parser<Input<'a>, (), ErrMode<ContextError>> {
    let more = |c: char| c.is_alphanumeric() || c == '_';
    preceded(multispace0, (winnow::ascii::Caseless(text), not(one_of(more)))).void()
}

pub(super) fn symbol<'a>(text: &'static str) -> impl Parser<Input<'a>, (), ErrMode<ContextError>> {
    preceded(multispace0, text).void().context(StrContext::Expected(StrContextValue::StringLiteral(text)))
}

/// A name, where nothing else can stand.
pub(super) fn name(input: &mut Input<'_>) -> ModalResult<Name> {
    bare_name.context(expected("a name")).parse_next(input)
}

/// A name of a recipe, a column or a table in a recipe or row count.
pub(super) fn recipe_name(input: &mut Input<'_>) -> ModalResult<Name> {
    (|input: &mut Input<'_>| any_name(input, &RECIPE_WORDS)).context(expected("a name")).parse_next(input)
}

pub(super) fn bare_name(input: &mut Input<'_>) -> ModalResult<Name> {
    any_name(input, &WORDS)
}

/// A name: letters, digits and underscores, or anything between double quotes.
fn any_name(input: &mut Input<'_>, words: &[&str]) -> ModalResult<Name> {
    space(input);
    let plain = (one_of(|c: char| c.is_alphabetic() || c == '_'), take_while(0.., |c: char| c.is_alphanumeric() || c == '_'))
        .take()
        .verify(|text: &str| !is_one_of(words, text))
        .map(str::to_owned);
    let quoted = quoted('"').verify(|text: &String| !text.is_empty());
    let (text, span) = alt((plain, quoted)).with_span().parse_next(input)?;
    Ok(Name { text, span: Span::new(span.start, span.end) })
}

/// A text between quotes, the quote itself doubled inside.
pub(super) fn quoted<'a>(quote: char) -> impl Parser<Input<'a>, String, ErrMode<ContextError>> {
    let part = alt((take_till(1.., quote), (quote, quote).take().map(|pair: &str| &pair[1..])));
    delimited(
        quote,
        repeat(0.., part).fold(String::new, |mut text, part: &str| {
            text.push_str(part);
            text
        }),
        cut_err(quote).context(expected("the closing quote")),
    )
}

/// A fixed value: text, number, date, timestamp, true, false or null.
pub(super) fn literal(input: &mut Input<'_>) -> ModalResult<Value> {
    space(input);
    alt((
        quoted('\'').map(|text| Value::Text(text.into())),
        instant,
        number,
        word("null").value(Value::Null),
        word("true").value(Value::Boolean(true)),
        word("false").value(Value::Boolean(false)),
    ))
    .parse_next(input)
}

fn instant(input: &mut Input<'_>) -> ModalResult<Value> {
    let day = |count| take_while(count, |c: char| c.is_ascii_digit());
    let time = (
        'T',
        take_while(1.., |c: char| c.is_ascii_digit() || c == ':' || c == 'Z'),
        opt((peek(('.', one_of('0'..='9'))), '.', digit1, opt('Z'))),
    );
    let (text, time) = (day(4..=4), '-', day(2..=2), '-', day(2..=2), opt(time))
        .map(|parts| parts.5.is_some())
        .with_taken()
        .map(|(time, text)| (text, time))
        .parse_next(input)?;
    let value = if time { parse_timestamp(text).map(Value::Timestamp) } else { parse_date(text).map(Value::Date) };
    value.ok_or_else(|| {
        let mut error = ContextError::new();
        error.push(expected("a date that exists, like 2026-03-01 or 2026-03-01T07:30:00"));
        ErrMode::Cut(error)
    })
}

/// A whole number or an exact decimal; digits may be grouped with `_`.
pub(super) fn number(input: &mut Input<'_>) -> ModalResult<Value> {
    space(input);
    let digits = || (one_of('0'..='9'), take_while(0.., |c: char| c.is_ascii_digit() || c == '_'));
    let text = (opt('-'), digits(), opt((peek(('.', one_of('0'..='9'))), '.', digits()))).take().parse_next(input)?;
    let plain: String = text.chars().filter(|&c| c != '_').collect();
    let value = if plain.contains('.') { Decimal::parse(&plain).map(Value::from) } else { plain.parse().ok().map(Value::Integer) };
    match value {
        Some(value) => Ok(value),
        None => {
            let end = input.previous_token_end();
            let place = Span::new(end.saturating_sub(text.len()), end);
            let hint = "a whole number has at most 64 bits, one with a point at most 36 digits".to_owned();
            refuse(input, place, "this number is too large".to_owned(), Some(hint))
        }
    }
}
