//! The one tree of conditions and values: of needs as they are written and as they are resolved, of checks in a schema, and of SQL
//! statements. They differ in what stands at its leaves.

use serde::{Deserialize, Serialize};

use super::pattern::Pattern;
use crate::place::Span;
use crate::types::LogicalType;
use crate::value::Value;

/// A name with its place.
#[derive(Clone, Debug, PartialEq)]
pub struct Name {
    /// The name, without quotes.
    pub text: String,
    /// Where it stands.
    pub span: Span,
}

/// A condition or a value, over leaves of some form. Two are equal where they say the same, wherever they stand.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Expr<L> {
    /// What it is.
    pub node: Node<L>,
    /// Where it was written; an empty place where it was not.
    #[serde(skip)]
    pub span: Span,
}

impl<L: PartialEq> PartialEq for Expr<L> {
    fn eq(&self, other: &Expr<L>) -> bool {
        self.node == other.node
    }
}

impl<L> From<Node<L>> for Expr<L> {
    fn from(node: Node<L>) -> Expr<L> {
        Expr { node, span: Span::default() }
    }
}

/// The kinds of expression. Conditions are values too: true, false, or null where null leaves it unknown.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Node<L> {
    /// What only its user knows: a column, a parameter.
    Leaf(L),
    /// A fixed value.
    Literal(Value),
    /// A function of something.
    Call(Function, Vec<Expr<L>>),
    /// Two numbers, or two texts for [`Operator::Join`].
    Arithmetic(Operator, Box<Expr<L>>, Box<Expr<L>>),
    /// The value of the first condition that holds; else the last one, or null where there is none.
    Case(Vec<(Expr<L>, Expr<L>)>, Option<Box<Expr<L>>>),
    /// Two values compared.
    Compare(Comparison, Box<Expr<L>>, Box<Expr<L>>),
    /// Whether a value is one of several.
    In(Box<Expr<L>>, Vec<Expr<L>>),
    /// Whether a value is in a list.
    InList(Box<Expr<L>>, Box<Expr<L>>),
    /// Whether a value lies between two others, both included.
    Between(Box<Expr<L>>, Box<Expr<L>>, Box<Expr<L>>),
    /// Whether a value is null.
    IsNull(Box<Expr<L>>),
    /// Whether two values are the same, or both null.
    Same(Box<Expr<L>>, Box<Expr<L>>),
    /// Whether a text is found in another.
    Match(TextMatch, Box<Expr<L>>, Box<Expr<L>>),
    /// Whether a text fits a pattern.
    Fits(Box<Expr<L>>, Pattern),
    /// The opposite.
    Not(Box<Expr<L>>),
    /// All of them.
    And(Vec<Expr<L>>),
    /// Any of them.
    Or(Vec<Expr<L>>),
}

/// What two values are joined by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Operator {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`: always a real; by zero null.
    Divide,
    /// `/` as checks of a schema have it: of whole numbers the whole part.
    DivideWhole,
    /// `%`, with the sign of the dividend; by zero null.
    Remainder,
    /// `||`: texts one after the other.
    Join,
}

impl Operator {
    /// The sign as SQL and the grammar write it.
    pub fn symbol(self) -> &'static str {
        match self {
            Operator::Add => "+",
            Operator::Subtract => "-",
            Operator::Multiply => "*",
            Operator::Divide | Operator::DivideWhole => "/",
            Operator::Remainder => "%",
            Operator::Join => "||",
        }
    }
}

/// A part of a date or a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The year.
    Year,
    /// The month, from 1.
    Month,
    /// The week, which begins on a Monday.
    Week,
    /// The day of the month, from 1.
    Day,
    /// The hour, from 0.
    Hour,
    /// The minute, from 0.
    Minute,
}

impl Part {
    /// All of them.
    pub const ALL: [Part; 6] = [Part::Year, Part::Month, Part::Week, Part::Day, Part::Hour, Part::Minute];

    /// The word of the grammar and of SQL.
    pub fn word(self) -> &'static str {
        match self {
            Part::Year => "year",
            Part::Month => "month",
            Part::Week => "week",
            Part::Day => "day",
            Part::Hour => "hour",
            Part::Minute => "minute",
        }
    }
}

/// The functions that are known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Function {
    /// Code points of a text, bytes of a blob.
    Length,
    /// Bytes of a text.
    Octets,
    /// A to Z as small letters.
    Lower,
    /// a to z as capital letters.
    Upper,
    /// All letters as small ones, as checks of a schema have it.
    LowerAll,
    /// All letters as capital ones, as checks of a schema have it.
    UpperAll,
    /// Without spaces around it.
    Trim,
    /// A part: text, first code point from 1, how many.
    Substring,
    /// The number with the other sign.
    Negate,
    /// The number without its sign.
    Absolute,
    /// Rounded, halves away from zero, to so many digits where a second value says so.
    Round,
    /// The whole number below.
    Floor,
    /// The whole number above.
    Ceiling,
    /// The first that is not null.
    Coalesce,
    /// Null where both are alike.
    NullIf,
    /// The largest.
    Greatest,
    /// The smallest.
    Least,
    /// How many are not null.
    Known,
    /// How many are null.
    Unknown,
    /// A part of a date or time, as a whole number.
    Extract(Part),
    /// The first day of the part that a date or time lies in.
    StartOf(Part),
    /// Days from the first date to the second.
    DaysBetween,
    /// The text is JSON, which generated JSON always is.
    IsJson,
    /// Where the second text begins in the first, from 1; 0 where it does not.
    Position,
    /// A text with one part exchanged for another.
    Replace,
    /// The same value as another type that holds it: a whole number as a decimal, a number as a real, a date as a time.
    To(LogicalType),
}

impl Function {
    /// Those that needs know, by name, with how many arguments they take at least and at most. `extract` and `start_of` besides.
    pub const NAMED: [(&'static str, Function, usize, usize); 10] = [
        ("lower", Function::Lower, 1, 1),
        ("upper", Function::Upper, 1, 1),
        ("trim", Function::Trim, 1, 1),
        ("length", Function::Length, 1, 1),
        ("substring", Function::Substring, 3, 3),
        ("coalesce", Function::Coalesce, 1, usize::MAX),
        ("nullif", Function::NullIf, 2, 2),
        ("abs", Function::Absolute, 1, 1),
        ("round", Function::Round, 2, 2),
        ("days_between", Function::DaysBetween, 2, 2),
    ];

    /// The name that needs know it by; of one that only schemas have, the name it has there.
    pub fn name(self) -> &'static str {
        match self {
            Function::Extract(_) => "extract",
            Function::StartOf(_) => "start_of",
            Function::LowerAll => "lower",
            Function::UpperAll => "upper",
            Function::Floor => "floor",
            Function::Ceiling => "ceil",
            Function::Greatest => "greatest",
            Function::Least => "least",
            Function::Known => "num_nonnulls",
            Function::Unknown => "num_nulls",
            Function::IsJson => "is_json",
            Function::Position => "position",
            Function::Replace => "replace",
            other => Function::NAMED.iter().find(|(_, function, ..)| *function == other).map_or("", |(name, ..)| name),
        }
    }
}

/// A comparison of two values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Comparison {
    /// `=`
    Equal,
    /// `<>` or `!=`
    Unequal,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
}

impl Comparison {
    /// The comparison as SQL and the grammar write it.
    pub fn symbol(self) -> &'static str {
        match self {
            Comparison::Equal => "=",
            Comparison::Unequal => "<>",
            Comparison::Less => "<",
            Comparison::LessOrEqual => "<=",
            Comparison::Greater => ">",
            Comparison::GreaterOrEqual => ">=",
        }
    }

    /// Whether it holds for two values in this order.
    pub fn holds(self, order: std::cmp::Ordering) -> bool {
        match self {
            Comparison::Equal => order.is_eq(),
            Comparison::Unequal => order.is_ne(),
            Comparison::Less => order.is_lt(),
            Comparison::LessOrEqual => order.is_le(),
            Comparison::Greater => order.is_gt(),
            Comparison::GreaterOrEqual => order.is_ge(),
        }
    }
}

/// How a text is looked for in another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TextMatch {
    /// A pattern with `%` for any characters and `_` for one, upper and lower case told apart.
    Like,
    /// Anywhere in it.
    Contains,
    /// At its beginning.
    Starts,
    /// At its end.
    Ends,
}

impl TextMatch {
    /// All of them.
    pub const ALL: [TextMatch; 4] = [TextMatch::Like, TextMatch::Contains, TextMatch::Starts, TextMatch::Ends];

    /// The word of the grammar.
    pub fn word(self) -> &'static str {
        match self {
            TextMatch::Like => "like",
            TextMatch::Contains => "contains",
            TextMatch::Starts => "starts",
            TextMatch::Ends => "ends",
        }
    }

    /// Whether `text` fits `pattern`.
    pub fn holds(self, text: &str, pattern: &str) -> bool {
        match self {
            TextMatch::Like => like(text, pattern),
            TextMatch::Contains => text.contains(pattern),
            TextMatch::Starts => text.starts_with(pattern),
            TextMatch::Ends => text.ends_with(pattern),
        }
    }
}

/// Matches with one pointer to go back to: the last `%` and the text it began at.
fn like(text: &str, pattern: &str) -> bool {
    let (text, pattern): (Vec<char>, Vec<char>) = (text.chars().collect(), pattern.chars().collect());
    let (mut at, mut wanted) = (0, 0);
    let mut retry = None;
    while at < text.len() {
        match pattern.get(wanted) {
            Some('%') => {
                retry = Some((wanted, at));
                wanted += 1;
            }
            Some(&c) if c == '_' || c == text[at] => {
                at += 1;
                wanted += 1;
            }
            _ => match retry {
                Some((percent, from)) => {
                    at = from + 1;
                    wanted = percent + 1;
                    retry = Some((percent, from + 1));
                }
                None => return false,
            },
        }
    }
    pattern[wanted..].iter().all(|&c| c == '%')
}

impl<L> Expr<L> {
    /// A fixed value.
    pub fn literal(value: impl Into<Value>) -> Expr<L> {
        Node::Literal(value.into()).into()
    }

    /// The leaf, where it is nothing else.
    pub fn as_leaf(&self) -> Option<&L> {
        if let Node::Leaf(leaf) = &self.node { Some(leaf) } else { None }
    }

    /// The fixed value, where it is nothing else.
    pub fn as_literal(&self) -> Option<&Value> {
        if let Node::Literal(value) = &self.node { Some(value) } else { None }
    }

    /// Whether a number is the result of reckoning, and not only kept or chosen.
    pub fn is_reckoned(&self) -> bool {
        matches!(&self.node, Node::Arithmetic(..) | Node::Call(Function::Negate | Function::Absolute | Function::Round, _))
            || matches!(&self.node, Node::Call(Function::To(_), parts) if parts.iter().any(Expr::is_reckoned))
    }

    /// All of some conditions.
    pub fn all(mut conditions: Vec<Expr<L>>) -> Expr<L> {
        if conditions.len() == 1 { conditions.remove(0) } else { Node::And(conditions).into() }
    }

    /// The conditions that all must hold, one by one.
    pub fn conjuncts(&self) -> Vec<&Expr<L>> {
        match &self.node {
            Node::And(conditions) => conditions.iter().flat_map(Expr::conjuncts).collect(),
            _ => vec![self],
        }
    }

    /// What it is made of, from left to right.
    pub fn parts(&self) -> Vec<&Expr<L>> {
        match &self.node {
            Node::Leaf(_) | Node::Literal(_) => Vec::new(),
            Node::Call(_, parts) | Node::And(parts) | Node::Or(parts) => parts.iter().collect(),
            Node::Arithmetic(_, left, right)
            | Node::Compare(_, left, right)
            | Node::Same(left, right)
            | Node::InList(left, right)
            | Node::Match(_, left, right) => vec![left, right],
            Node::In(value, list) => std::iter::once(&**value).chain(list).collect(),
            Node::Between(value, low, high) => vec![value, low, high],
            Node::IsNull(inner) | Node::Fits(inner, _) | Node::Not(inner) => vec![inner],
            Node::Case(cases, otherwise) => {
                cases.iter().flat_map(|(condition, value)| [condition, value]).chain(otherwise.as_deref()).collect()
            }
        }
    }

    /// Calls `each` with every leaf, from left to right.
    pub fn for_each_leaf<'a>(&'a self, each: &mut dyn FnMut(&'a L)) {
        match &self.node {
            Node::Leaf(leaf) => each(leaf),
            _ => self.parts().into_iter().for_each(|part| part.for_each_leaf(each)),
        }
    }

    /// All leaves, from left to right.
    pub fn leaves(&self) -> Vec<&L> {
        let mut leaves = Vec::new();
        self.for_each_leaf(&mut |leaf| leaves.push(leaf));
        leaves
    }

    /// The same over other leaves.
    ///
    /// # Errors
    /// The first leaf that there is no other for.
    pub fn try_map<M, E>(&self, of: &mut dyn FnMut(&L) -> Result<Expr<M>, E>) -> Result<Expr<M>, E> {
        let mut all = |parts: &[Expr<L>]| parts.iter().map(|part| part.try_map(of)).collect::<Result<Vec<_>, E>>();
        let node = match &self.node {
            Node::Leaf(leaf) => {
                let mapped = of(leaf)?;
                return Ok(Expr { span: if mapped.span == Span::default() { self.span } else { mapped.span }, ..mapped });
            }
            Node::Literal(value) => Node::Literal(value.clone()),
            Node::Call(function, parts) => Node::Call(*function, all(parts)?),
            Node::And(parts) => Node::And(all(parts)?),
            Node::Or(parts) => Node::Or(all(parts)?),
            Node::In(value, list) => {
                let list = all(list)?;
                Node::In(Box::new(value.try_map(of)?), list)
            }
            Node::Case(cases, otherwise) => {
                let cases = cases.iter().map(|(condition, value)| Ok((condition.try_map(of)?, value.try_map(of)?)));
                let cases = cases.collect::<Result<_, E>>()?;
                Node::Case(cases, otherwise.as_ref().map(|other| other.try_map(of).map(Box::new)).transpose()?)
            }
            Node::Arithmetic(operator, left, right) => {
                Node::Arithmetic(*operator, Box::new(left.try_map(of)?), Box::new(right.try_map(of)?))
            }
            Node::Compare(comparison, left, right) => Node::Compare(*comparison, Box::new(left.try_map(of)?), Box::new(right.try_map(of)?)),
            Node::Same(left, right) => Node::Same(Box::new(left.try_map(of)?), Box::new(right.try_map(of)?)),
            Node::InList(value, list) => Node::InList(Box::new(value.try_map(of)?), Box::new(list.try_map(of)?)),
            Node::Match(kind, text, pattern) => Node::Match(*kind, Box::new(text.try_map(of)?), Box::new(pattern.try_map(of)?)),
            Node::Between(value, low, high) => {
                Node::Between(Box::new(value.try_map(of)?), Box::new(low.try_map(of)?), Box::new(high.try_map(of)?))
            }
            Node::IsNull(inner) => Node::IsNull(Box::new(inner.try_map(of)?)),
            Node::Fits(inner, pattern) => Node::Fits(Box::new(inner.try_map(of)?), pattern.clone()),
            Node::Not(inner) => Node::Not(Box::new(inner.try_map(of)?)),
        };
        Ok(Expr { node, span: self.span })
    }

    /// The same over other leaves.
    pub fn map<M>(&self, of: &mut dyn FnMut(&L) -> Expr<M>) -> Expr<M> {
        let Ok(mapped) = self.try_map(&mut |leaf| Ok::<_, std::convert::Infallible>(of(leaf)));
        mapped
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn like_matches_as_sql_means_it() {
        for (text, pattern, fits) in [
            ("Haselmoor", "Hasel%", true),
            ("haselmoor", "Hasel%", false),
            ("aab", "%ab", true),
            ("abc", "a_c", true),
            ("ac", "a_c", false),
            ("", "%", true),
            ("", "", true),
            ("x", "", false),
            ("äöü", "_ö_", true),
            ("mississippi", "%iss%pi", true),
            ("mississippi", "%iss%ppp%", false),
        ] {
            assert_eq!(TextMatch::Like.holds(text, pattern), fits, "{text} like {pattern}");
        }
    }
}
