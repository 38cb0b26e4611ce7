//! The grammar of needs.

use winnow::ascii::{digit1, multispace0};
use winnow::combinator::{alt, cut_err, not, opt, peek, preceded, repeat, separated, terminated};
use winnow::error::{ContextError, ErrMode};
use winnow::stream::{Location, Stream};
use winnow::token::one_of;
use winnow::{ModalResult, Parser};

use super::pattern::Pattern;
use super::read::{DEEPEST, OWN_SQL, too_deep};
use super::read::{Input, ReadError, bare_name, expected, literal, name, quoted, read_all, refuse, space, symbol, word};
use super::tree::{Comparison, Expr, Function, Name, Node, Operator, Part, TextMatch};
use super::written::{Give, OrderTerm, Written, WrittenAggregate, WrittenList, WrittenPick, WrittenSource};
use crate::names::{did_you_mean, nearest};
use crate::place::Span;

/// So many operators of arithmetic in a row at most: each is a level of the tree.
const LONGEST: usize = 200;

/// The aggregates.
const AGGREGATES: [&str; 5] = ["count", "sum", "avg", "min", "max"];

/// Reads a condition.
pub fn read_condition(text: &str) -> Result<Expr<Written>, ReadError> {
    read_all(text, condition)
}

/// Reads a value to give back, or to group by.
pub fn read_give(text: &str) -> Result<Give, ReadError> {
    read_all(text, give)
}

/// A value, or a list of related rows, and its name.
fn give(input: &mut Input<'_>) -> ModalResult<Give> {
    let value = match list(input)? {
        Some(list) => list,
        None => condition(input)?,
    };
    let alias = opt(preceded(word("as"), cut_err(name))).parse_next(input)?;
    Ok(Give { value, alias })
}

/// `inspection where temper < 4 order inspected_at desc limit 3 { inspected_at, mites }`; none where something else stands here.
fn list(input: &mut Input<'_>) -> ModalResult<Option<Expr<Written>>> {
    space(input);
    let (before, start) = (input.checkpoint(), input.current_token_start());
    let opens = |input: &mut Input<'_>| {
        let clause = alt((word("where").void(), word("order").void(), word("limit").void()));
        peek(alt((clause, preceded(multispace0, '{').void()))).parse_next(input)
    };
    let path = opt((bare_name, repeat::<_, _, (), _, _>(0.., preceded(symbol("."), name)), opens)).parse_next(input)?;
    input.reset(&before);
    if path.is_none() {
        return Ok(None);
    }
    deeper(input)?;
    let path = separated(1.., cut_err(name), symbol(".")).parse_next(input)?;
    let source = source_behind(input, path, Clauses::All)?;
    if opt(symbol("{")).parse_next(input)?.is_none() {
        let hint = format!("like `{source} {{ … }}`, or aggregate them, like `count({source})`");
        return refuse(input, source.span, "it is not said what is wanted of each of these rows".to_owned(), Some(hint));
    }
    let give = separated(1.., cut_err(give), symbol(",")).parse_next(input)?;
    cut_err(symbol("}")).parse_next(input)?;
    input.state.depth -= 1;
    let span = Span::new(start, input.previous_token_end());
    Ok(Some(Expr { node: Node::Leaf(Written::List(Box::new(WrittenList { source, give }))), span }))
}

/// One level deeper, unless that is too deep.
fn deeper(input: &mut Input<'_>) -> ModalResult<()> {
    if input.state.depth >= DEEPEST {
        let at = input.current_token_start();
        return refuse(input, Span::new(at, at), too_deep(), None);
    }
    input.state.depth += 1;
    Ok(())
}

/// Reads a term to sort by.
pub fn read_order(text: &str) -> Result<OrderTerm, ReadError> {
    read_all(text, order_term)
}

fn order_term(input: &mut Input<'_>) -> ModalResult<OrderTerm> {
    let key = condition(input)?;
    let direction = opt(alt((word("asc").value(false), word("desc").value(true)))).parse_next(input)?;
    Ok(OrderTerm { key, descending: direction.unwrap_or(false) })
}

/// A condition or a value. Every way into something nested leads through here.
fn condition(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    deeper(input)?;
    let parts: Vec<Expr<Written>> = separated(1.., both, word("or")).parse_next(input)?;
    input.state.depth -= 1;
    Ok(joined(parts, Node::Or))
}

fn both(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    let parts: Vec<Expr<Written>> = separated(1.., negated, word("and")).parse_next(input)?;
    Ok(joined(parts, Node::And))
}

fn joined(mut parts: Vec<Expr<Written>>, node: fn(Vec<Expr<Written>>) -> Node<Written>) -> Expr<Written> {
    match parts.len() {
        1 => parts.remove(0),
        _ => {
            let span = parts[0].span.join(parts[parts.len() - 1].span);
            Expr { node: node(parts), span }
        }
    }
}

fn negated(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
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

fn test(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    let left = sum(input)?;
    let start = left.span;
    let done = |node: Node<Written>, end: Span| Expr { node, span: start.join(end) };
    if let Some(comparison) = opt(comparison).parse_next(input)? {
        let right = cut_err(sum).parse_next(input)?;
        let end = right.span;
        return Ok(done(Node::Compare(comparison, Box::new(left), Box::new(right)), end));
    }
    let so_far = |input: &Input<'_>| Span::new(start.start, input.previous_token_end());
    if opt(word("is")).parse_next(input)?.is_some() {
        let negated = opt(word("not")).parse_next(input)?.is_some();
        cut_err(word("null").context(expected("`null`"))).parse_next(input)?;
        return Ok(negate_if(negated, done(Node::IsNull(Box::new(left)), so_far(input))));
    }
    let before = input.checkpoint();
    let negated = opt(word("not")).parse_next(input)?.is_some();
    if opt(word("in")).parse_next(input)?.is_some() {
        if let Some(list) = opt(parameter).parse_next(input)? {
            let end = list.span;
            return Ok(negate_if(negated, done(Node::InList(Box::new(left), Box::new(list)), end)));
        }
        cut_err(symbol("(")).parse_next(input)?;
        let list = separated(1.., cut_err(sum), symbol(",")).parse_next(input)?;
        cut_err(symbol(")")).parse_next(input)?;
        return Ok(negate_if(negated, done(Node::In(Box::new(left), list), so_far(input))));
    }
    if opt(word("between")).parse_next(input)?.is_some() {
        let low = cut_err(sum).parse_next(input)?;
        cut_err(word("and").context(expected("`and`"))).parse_next(input)?;
        let high = cut_err(sum).parse_next(input)?;
        let end = high.span;
        return Ok(negate_if(negated, done(Node::Between(Box::new(left), Box::new(low), Box::new(high)), end)));
    }
    if opt(word("matches")).parse_next(input)?.is_some() {
        space(input);
        let at = input.current_token_start();
        let text = cut_err(quoted('\'').context(expected("a pattern written out, like 'HV-[0-9]+'"))).parse_next(input)?;
        return match Pattern::written(&text) {
            Ok(pattern) => Ok(negate_if(negated, done(Node::Fits(Box::new(left), pattern), so_far(input)))),
            Err((within, message)) => {
                let from = at + 1 + within;
                let hint = "see \"Patterns\" in docs/needs.md for what a pattern may hold".to_owned();
                refuse(input, Span::new(from, from + 1), message, Some(hint))
            }
        };
    }
    let matching = alt(TextMatch::ALL.map(|kind| word(kind.word()).value(kind)));
    if let Some(kind) = opt(matching).parse_next(input)? {
        let pattern = cut_err(sum).parse_next(input)?;
        let end = pattern.span;
        return Ok(negate_if(negated, done(Node::Match(kind, Box::new(left), Box::new(pattern)), end)));
    }
    if negated {
        input.reset(&before);
    }
    Ok(left)
}

fn negate_if(negated: bool, test: Expr<Written>) -> Expr<Written> {
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

fn sum(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    let operator = alt(("+".value(Operator::Add), "-".value(Operator::Subtract), "||".value(Operator::Join)));
    chain(input, operator, product)
}

fn product(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    let operator = alt(("*".value(Operator::Multiply), "/".value(Operator::Divide), "%".value(Operator::Remainder)));
    chain(input, operator, unary)
}

/// Operators of one level, from left to right.
fn chain<'a>(
    input: &mut Input<'a>,
    operator: impl Parser<Input<'a>, Operator, ErrMode<ContextError>>,
    operand: fn(&mut Input<'a>) -> ModalResult<Expr<Written>>,
) -> ModalResult<Expr<Written>> {
    let mut operator = preceded(multispace0, operator);
    let mut left = operand(input)?;
    for many in 1.. {
        let Some(operator) = opt(operator.by_ref()).parse_next(input)? else { break };
        if many > LONGEST {
            let at = input.previous_token_end();
            return refuse(input, Span::new(at - 1, at), format!("more than {LONGEST} operators in a row"), None);
        }
        let right = cut_err(operand).parse_next(input)?;
        let span = left.span.join(right.span);
        left = Expr { node: Node::Arithmetic(operator, Box::new(left), Box::new(right)), span };
    }
    Ok(left)
}

fn unary(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    space(input);
    let start = input.current_token_start();
    // A number with its sign is a value by itself, the smallest one too.
    let minus = |input: &mut Input<'_>| (multispace0, '-', not(one_of(|c: char| c.is_ascii_digit()))).void().parse_next(input);
    let signs: usize = repeat(0.., minus).fold(|| 0, |count, ()| count + 1).parse_next(input)?;
    let inner = primary(input)?;
    if signs.is_multiple_of(2) {
        return Ok(inner);
    }
    let span = Span::new(start, inner.span.end);
    Ok(Expr { node: Node::Call(Function::Negate, vec![inner]), span })
}

fn primary(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    space(input);
    let start = input.current_token_start();
    if opt('(').parse_next(input)?.is_some() {
        let inner = cut_err(condition).parse_next(input)?;
        cut_err(symbol(")")).parse_next(input)?;
        return Ok(Expr { span: Span::new(start, input.previous_token_end()), ..inner });
    }
    if opt(word("case")).parse_next(input)?.is_some() {
        return case(input, start);
    }
    let node = alt((literal.map(Node::Literal), parameter.map(|expr| expr.node), call_or_path))
        .context(expected("a value, a path or a function"))
        .parse_next(input)?;
    Ok(Expr { node, span: Span::new(start, input.previous_token_end()) })
}

fn parameter(input: &mut Input<'_>) -> ModalResult<Expr<Written>> {
    space(input);
    let name = preceded(':', cut_err(name)).parse_next(input)?;
    let span = Span::new(name.span.start - 1, name.span.end);
    Ok(Expr { node: Node::Leaf(Written::Parameter(name)), span })
}

fn case(input: &mut Input<'_>, start: usize) -> ModalResult<Expr<Written>> {
    let one = (preceded(word("when"), cut_err(condition)), preceded(cut_err(word("then").context(expected("`then`"))), cut_err(condition)));
    let cases: Vec<_> = cut_err(repeat(1.., one).context(expected("`when`"))).parse_next(input)?;
    let otherwise = opt(preceded(word("else"), cut_err(condition))).parse_next(input)?;
    cut_err(word("end").context(expected("`when`, `else` or `end`"))).parse_next(input)?;
    Ok(Expr { node: Node::Case(cases, otherwise.map(Box::new)), span: Span::new(start, input.previous_token_end()) })
}

fn call_or_path(input: &mut Input<'_>) -> ModalResult<Node<Written>> {
    let first = bare_name(input)?;
    if opt(symbol("(")).parse_next(input)?.is_some() {
        return call(input, &first);
    }
    path_behind(input, first).map(|path| Node::Leaf(Written::Path(path)))
}

fn path_behind(input: &mut Input<'_>, first: Name) -> ModalResult<Vec<Name>> {
    let mut path = vec![first];
    while opt(symbol(".")).parse_next(input)?.is_some() {
        path.push(cut_err(name).parse_next(input)?);
    }
    Ok(path)
}

/// What stands behind a name and a parenthesis.
fn call(input: &mut Input<'_>, name: &Name) -> ModalResult<Node<Written>> {
    let word_of = name.text.to_ascii_lowercase();
    let node = match word_of.as_str() {
        "exists" => {
            let path = separated(1.., cut_err(self::name), symbol(".")).parse_next(input)?;
            Node::Leaf(Written::Exists(Box::new(source_behind(input, path, Clauses::Where)?)))
        }
        "first" | "last" => return pick(input, name, word_of == "last"),
        "if" => {
            let parameter =
                cut_err(preceded((multispace0, ':'), self::name).context(expected("a parameter, like `:name`"))).parse_next(input)?;
            cut_err(symbol(",")).parse_next(input)?;
            Node::Leaf(Written::If(parameter, Box::new(cut_err(condition).parse_next(input)?)))
        }
        "extract" => {
            let part = part(input)?;
            cut_err(word("from").context(expected("`from`"))).parse_next(input)?;
            Node::Call(Function::Extract(part), vec![cut_err(condition).parse_next(input)?])
        }
        "start_of" => {
            let part = part(input)?;
            cut_err(symbol(",")).parse_next(input)?;
            Node::Call(Function::StartOf(part), vec![cut_err(condition).parse_next(input)?])
        }
        known if AGGREGATES.contains(&known) => aggregate(input, name)?,
        known => {
            let Some((_, function, least, most)) = Function::NAMED.into_iter().find(|(name, ..)| *name == known) else {
                return unknown_function(input, name);
            };
            let arguments: Vec<Expr<Written>> = separated(0.., condition, symbol(",")).parse_next(input)?;
            if arguments.len() < least || arguments.len() > most {
                let wanted = if least == most { format!("{least}") } else { format!("{least} or more") };
                let message = format!("`{known}` takes {wanted}, not {}", arguments.len());
                return refuse(input, name.span, message, Some(form_of(function).to_owned()));
            }
            Node::Call(function, arguments)
        }
    };
    cut_err(symbol(")")).parse_next(input)?;
    Ok(node)
}

fn form_of(function: Function) -> &'static str {
    match function {
        Function::Substring => "substring(text, first place from 1, how many)",
        Function::Coalesce => "coalesce(value, another where it is null, …)",
        Function::NullIf => "nullif(value, null where it is this)",
        Function::Round => "round(decimal, digits)",
        Function::DaysBetween => "days_between(from, to)",
        _ => "it stands for one value, like `length(name)`",
    }
}

fn unknown_function<T>(input: &mut Input<'_>, name: &Name) -> ModalResult<T> {
    let known =
        Function::NAMED.iter().map(|(name, ..)| *name).chain(AGGREGATES).chain(["exists", "extract", "start_of", "if", "first", "last"]);
    let hint = match nearest(&name.text, known) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("the functions are listed in docs/needs.md; {OWN_SQL}"),
    };
    refuse(input, name.span, format!("`{}` is not a function", name.text), Some(hint))
}

fn part(input: &mut Input<'_>) -> ModalResult<Part> {
    let name = cut_err(bare_name.context(expected("a part of a time, like `month`"))).parse_next(input)?;
    match Part::ALL.into_iter().find(|part| part.word().eq_ignore_ascii_case(&name.text)) {
        Some(part) => Ok(part),
        None => {
            let hint = did_you_mean(&name.text, Part::ALL.map(Part::word));
            refuse(input, name.span, format!("`{}` is not a part of a time", name.text), hint)
        }
    }
}

/// What may stand behind the path of a source.
#[derive(Clone, Copy, PartialEq)]
enum Clauses {
    /// `where` alone.
    Where,
    /// `where` and `order`.
    Order,
    /// `limit` too.
    All,
}

/// `last(inspection order inspected_at).mites`, behind the parenthesis.
fn pick(input: &mut Input<'_>, name: &Name, last: bool) -> ModalResult<Node<Written>> {
    let path = separated(1.., cut_err(self::name), symbol(".")).parse_next(input)?;
    let source = source_behind(input, path, Clauses::Order)?;
    cut_err(symbol(")")).parse_next(input)?;
    if opt(symbol(".")).parse_next(input)?.is_none() {
        let hint = format!("name one, like `{}({source}).…`", name.text);
        return refuse(input, name.span, "it is not said which column of that row is wanted".to_owned(), Some(hint));
    }
    let path = separated(1.., cut_err(self::name), symbol(".")).parse_next(input)?;
    let span = Span::new(name.span.start, input.previous_token_end());
    Ok(Node::Leaf(Written::Pick(Box::new(WrittenPick { last, source, path, span }))))
}

/// `where …`, `order …`, `limit …` behind the path of a source.
fn source_behind(input: &mut Input<'_>, path: Vec<Name>, clauses: Clauses) -> ModalResult<WrittenSource> {
    let filter = opt(preceded(word("where"), cut_err(condition))).parse_next(input)?;
    let (mut order, mut limit) = (Vec::new(), None);
    if clauses != Clauses::Where && opt(word("order")).parse_next(input)?.is_some() {
        order = separated(1.., cut_err(order_term), symbol(",")).parse_next(input)?;
    }
    if clauses == Clauses::All && opt(word("limit")).parse_next(input)?.is_some() {
        let digits = preceded(multispace0, digit1.parse_to::<u64>());
        limit = Some(cut_err(digits.context(expected("a whole number"))).parse_next(input)?);
    }
    for stray in ["order", "limit"] {
        let before = input.checkpoint();
        if opt(word(stray)).parse_next(input)?.is_some() {
            input.reset(&before);
            space(input);
            let at = input.current_token_start();
            let message = match clauses {
                Clauses::Where => format!("`{stray}` has no meaning here: all rows count"),
                _ if stray == "limit" => "`limit` has no meaning here: one row is taken".to_owned(),
                _ => format!("`{stray}` is there twice, or in the wrong place: first `where`, then `order`, then `limit`"),
            };
            return refuse(input, Span::new(at, at + stray.len()), message, None);
        }
    }
    let span = Span::new(path[0].span.start, input.previous_token_end());
    Ok(WrittenSource { path, filter, order, limit, span })
}

fn source(input: &mut Input<'_>) -> ModalResult<WrittenSource> {
    let path = separated(1.., cut_err(name), symbol(".")).parse_next(input)?;
    source_behind(input, path, Clauses::Where)
}

/// `count()`, `count(inspection where …)`, `avg(temper from inspection)`, `avg(inspection.temper)`, `sum(frames * 2)`.
fn aggregate(input: &mut Input<'_>, name: &Name) -> ModalResult<Node<Written>> {
    let node = |distinct, of, from| Node::Leaf(Written::Aggregate(Box::new(WrittenAggregate { name: name.clone(), distinct, of, from })));
    // As SQL has it, `count(*)` is `count()`.
    if name.text.eq_ignore_ascii_case("count") {
        let _ = opt(terminated(symbol("*"), peek(symbol(")")))).parse_next(input)?;
    }
    if peek(opt(symbol(")"))).parse_next(input)?.is_some() {
        return Ok(node(false, None, None));
    }
    let distinct = opt(word("distinct")).parse_next(input)?.is_some();
    let of = cut_err(condition).parse_next(input)?;
    if opt(word("from")).parse_next(input)?.is_some() {
        return Ok(node(distinct, Some(of), Some(source(input)?)));
    }
    if let Node::Leaf(Written::Path(path)) = &of.node
        && peek(opt(alt((word("where"), word("order"), word("limit"))))).parse_next(input)?.is_some()
    {
        let path = path.clone();
        return Ok(node(distinct, None, Some(source_behind(input, path, Clauses::Where)?)));
    }
    Ok(node(distinct, Some(of), None))
}
