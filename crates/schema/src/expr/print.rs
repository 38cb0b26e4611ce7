//! Printing expressions so that they read back as the same tree.

use std::fmt;

use super::read::needs_quotes;
use super::tree::{Expr, Function, Name, Node, Operator};
use super::written::{Give, OrderTerm, Written, WrittenAggregate, WrittenList, WrittenPick, WrittenSource};
use crate::calendar::format_timestamp;
use crate::value::Value;

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if needs_quotes(&self.text) {
            return write!(f, "\"{}\"", self.text.replace('"', "\"\""));
        }
        f.write_str(&self.text)
    }
}

pub(super) struct Literal<'a>(pub(super) &'a Value);

impl fmt::Display for Literal<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            Value::Text(text) => write!(f, "'{}'", text.replace('\'', "''")),
            Value::Timestamp(micros) => f.write_str(&format_timestamp(*micros).replace(' ', "T")),
            other => write!(f, "{other}"),
        }
    }
}

/// How tightly a form binds.
#[derive(Clone, Copy, PartialEq, PartialOrd)]
enum Level {
    Or,
    And,
    Not,
    Test,
    Sum,
    Product,
    Unary,
    Primary,
}

fn level<L>(expr: &Expr<L>) -> Level {
    match &expr.node {
        Node::Or(_) => Level::Or,
        Node::And(_) => Level::And,
        Node::Not(_) => Level::Not,
        Node::Compare(..)
        | Node::In(..)
        | Node::InList(..)
        | Node::Between(..)
        | Node::IsNull(_)
        | Node::Same(..)
        | Node::Match(..)
        | Node::Fits(..) => Level::Test,
        Node::Arithmetic(Operator::Add | Operator::Subtract | Operator::Join, ..) => Level::Sum,
        Node::Arithmetic(..) => Level::Product,
        Node::Call(Function::Negate, _) => Level::Unary,
        Node::Call(Function::To(_), parts) => parts.first().map_or(Level::Primary, level),
        Node::Leaf(_) | Node::Literal(_) | Node::Call(..) | Node::Case(..) => Level::Primary,
    }
}

/// An expression that must bind at least as tightly as a level.
struct Tight<'a, L>(&'a Expr<L>, Level);

impl<L: fmt::Display> fmt::Display for Tight<'_, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if level(self.0) < self.1 { write!(f, "({})", self.0) } else { self.0.fmt(f) }
    }
}

fn list<T: fmt::Display>(f: &mut fmt::Formatter<'_>, items: impl IntoIterator<Item = T>, between: &str) -> fmt::Result {
    items.into_iter().enumerate().try_for_each(|(at, item)| write!(f, "{}{item}", if at == 0 { "" } else { between }))
}

impl<L: fmt::Display> fmt::Display for Expr<L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let operand = |expr| Tight(expr, Level::Sum);
        match &self.node {
            Node::Leaf(leaf) => leaf.fmt(f),
            Node::Literal(value) => Literal(value).fmt(f),
            Node::Call(Function::Negate, parts) => parts.iter().try_for_each(|part| write!(f, "-{}", SignedApart(part))),
            Node::Call(Function::To(_), parts) => parts.iter().try_for_each(|part| part.fmt(f)),
            Node::Call(Function::Extract(part), parts) => {
                write!(f, "extract({} from ", part.word())?;
                list(f, parts, ", ")?;
                f.write_str(")")
            }
            Node::Call(Function::StartOf(part), parts) => {
                write!(f, "start_of({}, ", part.word())?;
                list(f, parts, ", ")?;
                f.write_str(")")
            }
            Node::Call(function, parts) => {
                write!(f, "{}(", function.name())?;
                list(f, parts, ", ")?;
                f.write_str(")")
            }
            Node::Arithmetic(operator, left, right) => {
                // From left to right: what stands on the right binds more tightly.
                let (own, above) = if level(self) == Level::Sum { (Level::Sum, Level::Product) } else { (Level::Product, Level::Unary) };
                write!(f, "{} {} {}", Tight(left, own), operator.symbol(), Tight(right, above))
            }
            Node::Case(cases, otherwise) => {
                f.write_str("case")?;
                for (condition, value) in cases {
                    write!(f, " when {condition} then {value}")?;
                }
                if let Some(value) = otherwise {
                    write!(f, " else {value}")?;
                }
                f.write_str(" end")
            }
            Node::Compare(comparison, left, right) => write!(f, "{} {} {}", operand(left), comparison.symbol(), operand(right)),
            Node::In(value, items) => {
                write!(f, "{} in (", operand(value))?;
                list(f, items.iter().map(operand), ", ")?;
                f.write_str(")")
            }
            Node::InList(value, items) => write!(f, "{} in {}", operand(value), items),
            Node::Between(value, low, high) => write!(f, "{} between {} and {}", operand(value), operand(low), operand(high)),
            Node::IsNull(value) => write!(f, "{} is null", operand(value)),
            Node::Same(left, right) => write!(f, "{} is the same as {}", operand(left), operand(right)),
            Node::Match(kind, text, pattern) => write!(f, "{} {} {}", operand(text), kind.word(), operand(pattern)),
            Node::Fits(text, pattern) => {
                let written = pattern.written.as_ref().unwrap_or(&pattern.text);
                write!(f, "{} matches {}", operand(text), Literal(&Value::from(written.as_str())))
            }
            Node::Not(inner) => write!(f, "not {}", Tight(inner, Level::Test)),
            Node::And(parts) => list(f, parts.iter().map(|part| Tight(part, Level::Not)), " and "),
            Node::Or(parts) => list(f, parts.iter().map(|part| Tight(part, Level::And)), " or "),
        }
    }
}

/// What a minus stands before: a number in parentheses, which would else be one with its sign.
struct SignedApart<'a, L>(&'a Expr<L>);

impl<L: fmt::Display> fmt::Display for SignedApart<'_, L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let apart = matches!(self.0.node, Node::Literal(_)) || level(self.0) < Level::Primary;
        if apart { write!(f, "({})", self.0) } else { self.0.fmt(f) }
    }
}

impl fmt::Display for Written {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Written::Path(names) => list(f, names, "."),
            Written::Parameter(name) => write!(f, ":{name}"),
            Written::Aggregate(aggregate) => aggregate.fmt(f),
            Written::Exists(source) => write!(f, "exists({source})"),
            Written::If(parameter, condition) => write!(f, "if(:{parameter}, {condition})"),
            Written::Pick(pick) => pick.fmt(f),
            Written::List(list) => list.fmt(f),
        }
    }
}

impl fmt::Display for WrittenPick {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}({}).", if self.last { "last" } else { "first" }, self.source)?;
        list(f, &self.path, ".")
    }
}

impl fmt::Display for WrittenList {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {{ ", self.source)?;
        list(f, &self.give, ", ")?;
        f.write_str(" }")
    }
}

impl fmt::Display for WrittenAggregate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}({}", self.name.text, if self.distinct { "distinct " } else { "" })?;
        match (&self.of, &self.from) {
            (Some(of), Some(source)) => write!(f, "{of} from {source}")?,
            (Some(of), None) => of.fmt(f)?,
            (None, Some(source)) => source.fmt(f)?,
            (None, None) => {}
        }
        f.write_str(")")
    }
}

impl fmt::Display for WrittenSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        list(f, &self.path, ".")?;
        self.filter.as_ref().map_or(Ok(()), |filter| write!(f, " where {filter}"))?;
        if !self.order.is_empty() {
            f.write_str(" order ")?;
            list(f, &self.order, ", ")?;
        }
        self.limit.map_or(Ok(()), |limit| write!(f, " limit {limit}"))
    }
}

impl fmt::Display for Give {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.value)?;
        self.alias.as_ref().map_or(Ok(()), |alias| write!(f, " as {alias}"))
    }
}

impl fmt::Display for OrderTerm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.key, if self.descending { " desc" } else { "" })
    }
}
