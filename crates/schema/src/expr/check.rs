//! The one type check: what cannot stand together, with its place.

use super::kind::{MOST_DIGITS, digits_of, fit, kind_of, wider};
use super::tree::{Expr, Function, Node, Operator, Part};
use crate::place::Span;
use crate::types::LogicalType;
use crate::value::Value;

/// Something that cannot stand where it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Mistake {
    /// Where.
    pub span: Span,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// Whether it is a name that nothing has.
    pub is_unknown: bool,
}

impl Mistake {
    /// A mistake without a hint.
    pub fn new(span: Span, message: impl Into<String>) -> Mistake {
        Mistake { span, message: message.into(), hint: None, is_unknown: false }
    }

    /// The same with what to do.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Mistake {
        self.hint = Some(hint.into());
        self
    }
}

/// What the leaves of an expression are.
pub trait Kinds<L> {
    /// The type of a leaf; none where it takes that of what it stands beside.
    fn of(&self, leaf: &L) -> Option<LogicalType>;

    /// An open leaf has this type from here on, or is a list of values of it.
    ///
    /// # Errors
    /// Where it cannot have that.
    fn settle(&mut self, leaf: &L, kind: LogicalType, is_list: bool, place: Span) -> Result<(), Mistake>;
}

/// Checks an expression: every part can stand where it stands, open leaves have got a type, fixed values are of the type they are
/// used as, and a date that is compared with a time is made one. `want` is what a value without a type of its own is taken as.
///
/// # Errors
/// The first part that cannot stand where it stands.
pub fn check<L: Clone>(expr: &Expr<L>, want: Option<LogicalType>, kinds: &mut dyn Kinds<L>) -> Result<(Expr<L>, LogicalType), Mistake> {
    Checker { kinds }.check(expr, want)
}

struct Checker<'a, L> {
    kinds: &'a mut dyn Kinds<L>,
}

type Checked<L> = (Expr<L>, LogicalType);

impl<L: Clone> Checker<'_, L> {
    fn check(&mut self, expr: &Expr<L>, want: Option<LogicalType>) -> Result<Checked<L>, Mistake> {
        let span = expr.span;
        let made = |node: Node<L>, kind: LogicalType| Ok((Expr { node, span }, kind));
        match &expr.node {
            Node::Leaf(leaf) => match (self.kinds.of(leaf), want) {
                (Some(kind), _) => Ok((expr.clone(), kind)),
                (None, Some(kind)) => {
                    self.kinds.settle(leaf, kind, false, span)?;
                    Ok((expr.clone(), kind))
                }
                (None, None) => Err(Mistake::new(span, "its type cannot be told from where it stands")
                    .hint("compare it with a column, or put it beside one")),
            },
            Node::Literal(Value::Null) => match want {
                Some(kind) => made(Node::Literal(Value::Null), kind),
                None => Err(Mistake::new(span, "null has no type here").hint("write `is null`, or put it beside a value")),
            },
            Node::Literal(value) => {
                let own = kind_of(value).unwrap_or(LogicalType::TEXT);
                let Some(want) = want else { return Ok((expr.clone(), own)) };
                let fitting =
                    fit(value, want).ok_or_else(|| Mistake::new(span, format!("this is compared with {want}, which it is not")))?;
                let kind = match (own, want) {
                    (own, LogicalType::Integer | LogicalType::Decimal { .. }) if own.is_number() => own,
                    (LogicalType::Timestamp, LogicalType::Date) => own,
                    _ => want,
                };
                made(Node::Literal(fitting), kind)
            }
            Node::Call(function, parts) => self.call(*function, parts, want, span),
            Node::Arithmetic(operator, left, right) => self.arithmetic(*operator, left, right, want, span),
            Node::Case(cases, otherwise) => {
                let conditions = cases.iter().map(|(condition, _)| self.condition(condition)).collect::<Result<Vec<_>, _>>()?;
                let values: Vec<&Expr<L>> = cases.iter().map(|(_, value)| value).chain(otherwise.as_deref()).collect();
                let (mut values, kind) = self.one_type(&values, want)?;
                let otherwise = otherwise.as_ref().and_then(|_| values.pop()).map(Box::new);
                made(Node::Case(conditions.into_iter().zip(values).collect(), otherwise), kind)
            }
            Node::Compare(comparison, left, right) => {
                let [left, right] = self.pair(left, right)?;
                made(Node::Compare(*comparison, Box::new(left), Box::new(right)), LogicalType::Boolean)
            }
            Node::Same(left, right) => {
                let [left, right] = self.pair(left, right)?;
                made(Node::Same(Box::new(left), Box::new(right)), LogicalType::Boolean)
            }
            Node::Between(value, low, high) => {
                let all = self.comparable(&[value, low, high])?;
                let [value, low, high] = <[Expr<L>; 3]>::try_from(all).unwrap_or_else(|_| unreachable!("as many as were given"));
                made(Node::Between(Box::new(value), Box::new(low), Box::new(high)), LogicalType::Boolean)
            }
            Node::In(value, list) => {
                let all: Vec<&Expr<L>> = std::iter::once(&**value).chain(list).collect();
                let mut all = self.comparable(&all)?;
                let value = all.remove(0);
                made(Node::In(Box::new(value), all), LogicalType::Boolean)
            }
            Node::InList(value, list) => {
                let (value, kind) = self.check(value, None)?;
                if let Some(leaf) = list.as_leaf() {
                    self.kinds.settle(leaf, kind, true, list.span)?;
                }
                made(Node::InList(Box::new(value), list.clone()), LogicalType::Boolean)
            }
            Node::IsNull(inner) => {
                let (inner, _) = self.check(inner, None)?;
                made(Node::IsNull(Box::new(inner)), LogicalType::Boolean)
            }
            Node::Match(kind, text, pattern) => {
                let (text, pattern) = (self.text(text, kind.word())?, self.text(pattern, kind.word())?);
                made(Node::Match(*kind, Box::new(text), Box::new(pattern)), LogicalType::Boolean)
            }
            Node::Fits(text, pattern) => {
                let text = self.text(text, "matches")?;
                made(Node::Fits(Box::new(text), pattern.clone()), LogicalType::Boolean)
            }
            Node::Not(inner) => {
                let inner = self.condition(inner)?;
                made(Node::Not(Box::new(inner)), LogicalType::Boolean)
            }
            Node::And(parts) => {
                let parts = parts.iter().map(|part| self.condition(part)).collect::<Result<_, _>>()?;
                made(Node::And(parts), LogicalType::Boolean)
            }
            Node::Or(parts) => {
                let parts = parts.iter().map(|part| self.condition(part)).collect::<Result<_, _>>()?;
                made(Node::Or(parts), LogicalType::Boolean)
            }
        }
    }

    /// Something true or false.
    fn condition(&mut self, expr: &Expr<L>) -> Result<Expr<L>, Mistake> {
        let (checked, kind) = self.check(expr, Some(LogicalType::Boolean)).map_err(|mistake| {
            // A value alone is no condition, whatever else is wrong with it.
            if matches!(expr.node, Node::Literal(_)) { needs_condition(expr.span) } else { mistake }
        })?;
        let is_fixed = matches!(expr.node, Node::Literal(_));
        if kind != LogicalType::Boolean || is_fixed {
            return Err(needs_condition(expr.span));
        }
        Ok(checked)
    }

    fn text(&mut self, expr: &Expr<L>, word: &str) -> Result<Expr<L>, Mistake> {
        let (checked, kind) = self.check(expr, Some(LogicalType::TEXT))?;
        if !matches!(kind, LogicalType::Text { .. }) {
            return Err(Mistake::new(expr.span, format!("`{word}` needs a text, and this is {kind}")));
        }
        Ok(checked)
    }

    fn whole(&mut self, expr: &Expr<L>, word: &str) -> Result<Expr<L>, Mistake> {
        let (checked, kind) = self.check(expr, Some(LogicalType::Integer))?;
        if kind != LogicalType::Integer {
            return Err(Mistake::new(expr.span, format!("`{word}` needs a whole number here, and this is {kind}")));
        }
        Ok(checked)
    }

    fn call(&mut self, function: Function, parts: &[Expr<L>], want: Option<LogicalType>, span: Span) -> Result<Checked<L>, Mistake> {
        use Function as F;
        let name = function.name();
        let made = |parts: Vec<Expr<L>>, kind: LogicalType| Ok((Expr { node: Node::Call(function, parts), span }, kind));
        match function {
            F::Lower | F::Upper | F::Trim => made(vec![self.text(&parts[0], name)?], LogicalType::TEXT),
            F::Length => made(vec![self.text(&parts[0], name)?], LogicalType::Integer),
            F::Substring => {
                let parts = vec![self.text(&parts[0], name)?, self.whole(&parts[1], name)?, self.whole(&parts[2], name)?];
                made(parts, LogicalType::TEXT)
            }
            F::Coalesce => {
                let (parts, kind) = self.one_type(&parts.iter().collect::<Vec<_>>(), want)?;
                made(parts, kind)
            }
            F::NullIf => {
                let [one, other] = self.pair(&parts[0], &parts[1])?;
                let kind = one.kind(&|leaf| self.kinds.of(leaf)).unwrap_or(LogicalType::TEXT);
                made(vec![one, other], kind)
            }
            F::Negate | F::Absolute => {
                let (part, kind) = self.check(&parts[0], want)?;
                if !kind.is_number() {
                    return Err(Mistake::new(parts[0].span, format!("a number is needed here, and this is {kind}")));
                }
                made(vec![part], kind)
            }
            F::Round => {
                // What is rounded is a decimal, also where the result stands beside a real.
                let (part, kind) = self.check(&parts[0], want.filter(|want| *want != LogicalType::Real))?;
                let digits = match parts[1].as_literal() {
                    Some(Value::Integer(digits @ 0..=18)) => *digits,
                    _ => return Err(Mistake::new(parts[1].span, "how many digits is written out, from 0")),
                };
                match kind {
                    LogicalType::Decimal { .. } => {}
                    LogicalType::Real => {
                        return Err(Mistake::new(parts[0].span, "this is real, which rounds differently from engine to engine")
                            .hint("give it as it is; `round` takes exact decimals"));
                    }
                    _ => return Err(Mistake::new(parts[0].span, format!("`round` takes decimals, and this is {kind}"))),
                }
                let parts = vec![part, Expr { node: Node::Literal(Value::Integer(digits)), span: parts[1].span }];
                let node = Expr { node: Node::Call(function, parts), span };
                let kind = node.kind(&|leaf| self.kinds.of(leaf)).unwrap_or(kind);
                Ok((node, kind))
            }
            F::Extract(part) => {
                let (time, kind) = self.check(&parts[0], Some(LogicalType::Timestamp))?;
                match (kind, part) {
                    (_, Part::Week) => {
                        return Err(Mistake::new(span, "weeks have no number here").hint("use `start_of(week, …)`"));
                    }
                    (LogicalType::Date, Part::Hour | Part::Minute) => {
                        return Err(Mistake::new(parts[0].span, format!("a date has no {}", part.word())));
                    }
                    (LogicalType::Date | LogicalType::Timestamp, _) => {}
                    _ => return Err(needs_time(name, kind, parts[0].span)),
                }
                made(vec![time], LogicalType::Integer)
            }
            F::StartOf(part) => {
                if matches!(part, Part::Hour | Part::Minute) {
                    return Err(Mistake::new(span, format!("`start_of` gives a date, and a date has no {}", part.word()))
                        .hint("use `start_of(day, …)`"));
                }
                let (time, kind) = self.check(&parts[0], Some(LogicalType::Timestamp))?;
                if !matches!(kind, LogicalType::Date | LogicalType::Timestamp) {
                    return Err(needs_time(name, kind, parts[0].span));
                }
                made(vec![time], LogicalType::Date)
            }
            F::DaysBetween => {
                let mut times = Vec::new();
                for part in parts {
                    let (time, kind) = self.check(part, Some(LogicalType::Date))?;
                    if !matches!(kind, LogicalType::Date | LogicalType::Timestamp) {
                        return Err(needs_time(name, kind, part.span));
                    }
                    times.push(time);
                }
                made(times, LogicalType::Integer)
            }
            F::To(kind) => {
                let (part, _) = self.check(&parts[0], want)?;
                made(vec![part], kind)
            }
            other => Err(Mistake::new(span, format!("{other:?} is only known to checks of a schema"))),
        }
    }

    fn arithmetic(
        &mut self,
        operator: Operator,
        left: &Expr<L>,
        right: &Expr<L>,
        want: Option<LogicalType>,
        span: Span,
    ) -> Result<Checked<L>, Mistake> {
        let made = |left, right, kind| Ok((Expr { node: Node::Arithmetic(operator, Box::new(left), Box::new(right)), span }, kind));
        if operator == Operator::Join {
            let (left, right) = (self.text(left, "||")?, self.text(right, "||")?);
            return made(left, right, LogicalType::TEXT);
        }
        let known = |expr: &Expr<L>, this: &Self| expr.kind(&|leaf| this.kinds.of(leaf));
        let beside = known(left, self).or_else(|| known(right, self)).or(want).filter(|kind| kind.is_number());
        let number = |checked: Checked<L>, place: Span| {
            let kind = checked.1;
            if kind.is_number() {
                return Ok(checked);
            }
            let mistake = Mistake::new(place, format!("`{}` needs numbers, and this is {kind}", operator.symbol()));
            Err(match kind {
                LogicalType::Date | LogicalType::Timestamp => mistake.hint("the days between two dates are `days_between(from, to)`"),
                LogicalType::Text { .. } => mistake.hint("texts are joined by `||`"),
                _ => mistake,
            })
        };
        let (one, kind) = number(self.check(left, beside)?, left.span)?;
        let (other, other_kind) = number(self.check(right, beside)?, right.span)?;
        let whole = kind == LogicalType::Integer && other_kind == LogicalType::Integer;
        if operator == Operator::Remainder && !whole {
            let place = if kind == LogicalType::Integer { right.span } else { left.span };
            return Err(Mistake::new(place, "`%` is for whole numbers"));
        }
        let node = Expr { node: Node::Arithmetic(operator, Box::new(one), Box::new(other)), span };
        let kind = node.kind(&|leaf| self.kinds.of(leaf)).unwrap_or(kind);
        if matches!(kind, LogicalType::Decimal { precision, .. } if precision > MOST_DIGITS) {
            return Err(Mistake::new(span, format!("this may have more than {MOST_DIGITS} digits"))
                .hint("divide by 1 first for a real, or leave a factor out"));
        }
        Ok((node, kind))
    }

    fn pair(&mut self, left: &Expr<L>, right: &Expr<L>) -> Result<[Expr<L>; 2], Mistake> {
        let all = self.comparable(&[left, right])?;
        Ok(<[Expr<L>; 2]>::try_from(all).unwrap_or_else(|_| unreachable!("as many as were given")))
    }

    /// Values that are compared with each other; at least one is of the row.
    fn comparable(&mut self, parts: &[&Expr<L>]) -> Result<Vec<Expr<L>>, Mistake> {
        if let Some(null) = parts.iter().find(|part| part.as_literal() == Some(&Value::Null)) {
            return Err(Mistake::new(null.span, "nothing is equal to null").hint("write `is null` or `is not null`"));
        }
        let is_open = |part: &Expr<L>| part.as_leaf().is_some_and(|leaf| self.kinds.of(leaf).is_none());
        if parts.iter().all(|part| part.as_literal().is_some() || is_open(part)) {
            return Err(Mistake::new(parts[0].span, "this compares nothing of the row").hint("compare a column, a path or an aggregate"));
        }
        let (checked, _) = self.together(parts, None)?;
        let timed = checked.iter().any(|(_, kind)| *kind == LogicalType::Timestamp);
        Ok(checked.into_iter().map(|(part, kind)| if timed { converted(part, kind, LogicalType::Timestamp) } else { part }).collect())
    }

    /// Values of which one becomes the result: all are brought to one type.
    fn one_type(&mut self, parts: &[&Expr<L>], want: Option<LogicalType>) -> Result<(Vec<Expr<L>>, LogicalType), Mistake> {
        let (checked, kind) = self.together(parts, want)?;
        Ok((checked.into_iter().map(|(part, own)| converted(part, own, kind)).collect(), kind))
    }

    /// Checks values that stand beside each other: those without a type of their own take that of the others.
    fn together(&mut self, parts: &[&Expr<L>], want: Option<LogicalType>) -> Result<(Vec<Checked<L>>, LogicalType), Mistake> {
        let mut checked: Vec<Option<Checked<L>>> = vec![None; parts.len()];
        let mut first: Option<LogicalType> = None;
        let mut all: Option<(LogicalType, (u8, u8))> = None;
        // Values of the row say what the type is, then written ones.
        for written in [false, true] {
            for (at, part) in parts.iter().enumerate() {
                let is_written = part.as_literal().is_some() || part.kind(&|leaf| self.kinds.of(leaf)).is_none();
                if is_written != written {
                    continue;
                }
                let beside = first
                    .or(want)
                    .or_else(|| if written { parts.iter().find_map(|part| part.as_literal().and_then(kind_of)) } else { None });
                let (part, kind) = self.check(part, if written { beside } else { None })?;
                let digits = digits_of(&part, kind);
                all = Some(match all {
                    None => (kind, digits),
                    Some((known, so_far)) => {
                        let digits = (so_far.0.max(digits.0), so_far.1.max(digits.1));
                        match wider(known, kind, digits) {
                            Some(wider) => (wider, digits),
                            None => {
                                let message = format!("this is {kind} and cannot be compared with {known}");
                                return Err(Mistake::new(parts[at].span, message));
                            }
                        }
                    }
                });
                first = first.or(Some(kind));
                checked[at] = Some((part, kind));
            }
        }
        let kind = all.map(|(kind, _)| kind).or(want).unwrap_or(LogicalType::TEXT);
        Ok((checked.into_iter().flatten().collect(), kind))
    }
}

fn needs_condition(span: Span) -> Mistake {
    Mistake::new(span, "a condition is needed here").hint("compare it with something, like `… > 5`")
}

fn needs_time(name: &str, kind: LogicalType, span: Span) -> Mistake {
    Mistake::new(span, format!("`{name}` needs a date or a time, and this is {kind}"))
}

/// The same value as a wider type.
fn converted<L>(part: Expr<L>, own: LogicalType, kind: LogicalType) -> Expr<L> {
    let same = own == kind || matches!((own, kind), (LogicalType::Text { .. }, LogicalType::Text { .. }));
    if same || part.as_literal() == Some(&Value::Null) {
        return part;
    }
    if let (LogicalType::Decimal { scale: own, .. }, LogicalType::Decimal { scale, .. }) = (own, kind)
        && own == scale
    {
        return part;
    }
    let span = part.span;
    match part.as_literal().and_then(|value| fit(value, kind)).filter(|value| kind_of(value) == Some(kind)) {
        Some(value) => Expr { node: Node::Literal(value), span },
        None => Expr { node: Node::Call(Function::To(kind), vec![part]), span },
    }
}

#[cfg(test)]
mod tests;
