//! Reading needs.

use winnow::ascii::{digit1, multispace0};
use winnow::combinator::{alt, cut_err, delimited, not, opt, peek, preceded, repeat, separated, terminated};
use winnow::error::{ContextError, ErrMode, StrContext, StrContextValue};
use winnow::stream::{LocatingSlice, Location, Stream};
use winnow::token::{one_of, take_till, take_while};
use winnow::{ModalResult, Parser};

use super::tree::{Comparison, Expr, Give, Name, Node, OrderTerm, TextMatch};
use crate::calendar::{parse_date, parse_timestamp};
use crate::place::Span;
use crate::value::{Decimal, Value};

/// A text that does not follow the grammar.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadError {
    /// What is wrong.
    pub message: String,
    /// Where.
    pub span: Span,
}

pub(super) type Input<'a> = LocatingSlice<&'a str>;

/// Deeper nesting than this is refused, so that no text can exhaust the stack.
const DEEPEST: usize = 64;

const KEYWORDS: [&str; 18] = [
    "and", "or", "not", "in", "between", "is", "null", "like", "contains", "starts", "ends", "true", "false", "as", "asc", "desc", "by",
    "per",
];

/// Whether a name must be quoted to stand in an expression.
pub(super) fn needs_quotes(name: &str) -> bool {
    let plain = |c: char| c.is_alphanumeric() || c == '_';
    name.is_empty()
        || name.starts_with(|c: char| c.is_numeric())
        || !name.chars().all(plain)
        || KEYWORDS.iter().any(|keyword| keyword.eq_ignore_ascii_case(name))
}

/// Reads a condition.
pub fn read_condition(text: &str) -> Result<Expr, ReadError> {
    read_all(text, condition)
}

/// Reads a value to give back.
pub fn read_give(text: &str) -> Result<Give, ReadError> {
    read_all(text, |input: &mut Input<'_>| {
        let value = operand(input)?;
        let alias = opt(preceded(word("as"), cut_err(name))).parse_next(input)?;
        Ok(Give { value, alias })
    })
}

/// Reads a term to sort by.
pub fn read_order(text: &str) -> Result<OrderTerm, ReadError> {
    read_all(text, |input: &mut Input<'_>| {
        let key = operand(input)?;
        let direction = opt(alt((word("asc").value(false), word("desc").value(true)))).parse_next(input)?;
        Ok(OrderTerm { key, descending: direction.unwrap_or(false) })
    })
}

/// Runs a parser over the whole text and words its failure.
pub(super) fn read_all<'a, T>(text: &'a str, mut parser: impl FnMut(&mut Input<'a>) -> ModalResult<T>) -> Result<T, ReadError> {
    check_depth(text)?;
    let mut input = LocatingSlice::new(text);
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
            Err(ReadError { message: format!("`{}` is not expected here", &text[span.start..span.end]), span })
        }
        Err(ErrMode::Backtrack(error) | ErrMode::Cut(error)) => {
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
            let found = if span.start == span.end { "the end".to_owned() } else { format!("`{}`", &text[span.start..span.end]) };
            let message = match expected.first() {
                Some(expected) => format!("expected {expected}, found {found}"),
                None if text.trim().is_empty() => "nothing is written here".to_owned(),
                None => format!("{found} is not expected here"),
            };
            Err(ReadError { message, span })
        }
        Err(ErrMode::Incomplete(_)) => Err(ReadError { message: "the text ends too early".to_owned(), span: place(text.len()) }),
    }
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
            return Err(ReadError { message: format!("nested deeper than {DEEPEST} levels"), span: Span::new(at, at + 1) });
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

/// A name: letters, digits and underscores, or anything between double quotes.
fn bare_name(input: &mut Input<'_>) -> ModalResult<Name> {
    space(input);
    let plain = (one_of(|c: char| c.is_alphabetic() || c == '_'), take_while(0.., |c: char| c.is_alphanumeric() || c == '_'))
        .take()
        .verify(|text: &str| !KEYWORDS.iter().any(|keyword| keyword.eq_ignore_ascii_case(text)))
        .map(str::to_owned);
    let quoted = quoted('"').verify(|text: &String| !text.is_empty());
    let (text, span) = alt((plain, quoted)).with_span().parse_next(input)?;
    Ok(Name { text, span: Span::new(span.start, span.end) })
}

/// A text between quotes, the quote itself doubled inside.
fn quoted<'a>(quote: char) -> impl Parser<Input<'a>, String, ErrMode<ContextError>> {
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

fn condition(input: &mut Input<'_>) -> ModalResult<Expr> {
    let parts: Vec<Expr> = separated(1.., both, word("or")).parse_next(input)?;
    Ok(joined(parts, Node::Or))
}

fn both(input: &mut Input<'_>) -> ModalResult<Expr> {
    let parts: Vec<Expr> = separated(1.., negated, word("and")).parse_next(input)?;
    Ok(joined(parts, Node::And))
}

fn joined(mut parts: Vec<Expr>, node: fn(Vec<Expr>) -> Node) -> Expr {
    match parts.len() {
        1 => parts.remove(0),
        _ => {
            let span = parts[0].span.join(parts[parts.len() - 1].span);
            Expr { node: node(parts), span }
        }
    }
}

fn negated(input: &mut Input<'_>) -> ModalResult<Expr> {
    space(input);
    let start = input.current_token_start();
    // A loop, not recursion: a row of `not` is read in constant stack.
    let nots: usize = repeat(0.., word("not")).fold(|| 0, |count, ()| count + 1).parse_next(input)?;
    let inner = test(input)?;
    if nots.is_multiple_of(2) {
        return Ok(inner);
    }
    let span = Span::new(start, inner.span.end);
    Ok(Expr { node: Node::Not(Box::new(inner)), span })
}

fn test(input: &mut Input<'_>) -> ModalResult<Expr> {
    if opt(symbol("(")).parse_next(input)?.is_some() {
        return terminated(cut_err(condition), cut_err(symbol(")"))).parse_next(input);
    }
    let left = operand(input)?;
    let start = left.span;
    let done = |node: Node, end: Span| Expr { node, span: start.join(end) };
    if let Some(comparison) = opt(comparison).parse_next(input)? {
        let right = cut_err(operand).parse_next(input)?;
        let end = right.span;
        return Ok(done(Node::Compare(comparison, Box::new(left), Box::new(right)), end));
    }
    if opt(word("is")).parse_next(input)?.is_some() {
        let negated = opt(word("not")).parse_next(input)?.is_some();
        cut_err(word("null").context(expected("`null`"))).parse_next(input)?;
        let end = Span::new(0, input.previous_token_end()).join(start);
        return Ok(negate_if(negated, done(Node::IsNull(Box::new(left)), Span::new(start.start, end.end))));
    }
    let before = input.checkpoint();
    let negated = opt(word("not")).parse_next(input)?.is_some();
    if opt(word("in")).parse_next(input)?.is_some() {
        cut_err(symbol("(")).parse_next(input)?;
        let list = separated(1.., cut_err(operand), symbol(",")).parse_next(input)?;
        cut_err(symbol(")")).parse_next(input)?;
        let end = Span::new(start.start, input.previous_token_end());
        return Ok(negate_if(negated, done(Node::In(Box::new(left), list), end)));
    }
    if opt(word("between")).parse_next(input)?.is_some() {
        let low = cut_err(operand).parse_next(input)?;
        cut_err(word("and").context(expected("`and`"))).parse_next(input)?;
        let high = cut_err(operand).parse_next(input)?;
        let end = high.span;
        return Ok(negate_if(negated, done(Node::Between(Box::new(left), Box::new(low), Box::new(high)), end)));
    }
    let matching =
        alt([TextMatch::Like, TextMatch::Contains, TextMatch::Starts, TextMatch::Ends].map(|kind| word(kind.word()).value(kind)));
    if let Some(kind) = opt(matching).parse_next(input)? {
        let pattern = cut_err(operand).parse_next(input)?;
        let end = pattern.span;
        return Ok(negate_if(negated, done(Node::Match(kind, Box::new(left), Box::new(pattern)), end)));
    }
    if negated {
        input.reset(&before);
    }
    Ok(left)
}

fn negate_if(negated: bool, test: Expr) -> Expr {
    if !negated {
        return test;
    }
    let span = test.span;
    Expr { node: Node::Not(Box::new(test)), span }
}

fn comparison(input: &mut Input<'_>) -> ModalResult<Comparison> {
    space(input);
    alt((
        "<=".value(Comparison::LessOrEqual),
        ">=".value(Comparison::GreaterOrEqual),
        "<>".value(Comparison::Unequal),
        "!=".value(Comparison::Unequal),
        "=".value(Comparison::Equal),
        "<".value(Comparison::Less),
        ">".value(Comparison::Greater),
    ))
    .parse_next(input)
}

fn operand(input: &mut Input<'_>) -> ModalResult<Expr> {
    space(input);
    let start = input.current_token_start();
    let node = alt((literal.map(Node::Literal), preceded(':', cut_err(name)).map(|name| Node::Parameter(name.text)), call_or_path))
        .context(expected("a value, a path or a function"))
        .parse_next(input)?;
    Ok(Expr { node, span: Span::new(start, input.previous_token_end()) })
}

fn call_or_path(input: &mut Input<'_>) -> ModalResult<Node> {
    let first = bare_name(input)?;
    if opt(symbol("(")).parse_next(input)?.is_some() {
        let arguments = separated(0.., operand, symbol(",")).parse_next(input)?;
        cut_err(symbol(")")).parse_next(input)?;
        return Ok(Node::Call { name: first, arguments });
    }
    let mut path = vec![first];
    while opt(symbol(".")).parse_next(input)?.is_some() {
        path.push(cut_err(name).parse_next(input)?);
    }
    Ok(Node::Path(path))
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
    value.ok_or_else(|| {
        let mut error = ContextError::new();
        error.push(expected("a number of at most 64 bits, or of at most 36 digits with a point"));
        ErrMode::Cut(error)
    })
}
