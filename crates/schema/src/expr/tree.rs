//! The tree a need is read into.

use crate::place::Span;
use crate::value::Value;

/// A name with its place.
#[derive(Clone, Debug, PartialEq)]
pub struct Name {
    /// The name, without quotes.
    pub text: String,
    /// Where it stands.
    pub span: Span,
}

/// An expression with its place.
#[derive(Clone, Debug, PartialEq)]
pub struct Expr {
    /// What it is.
    pub node: Node,
    /// Where it stands.
    pub span: Span,
}

/// The kinds of expression.
#[derive(Clone, Debug, PartialEq)]
pub enum Node {
    /// A fixed value.
    Literal(Value),
    /// Names joined by points: relations, then a column or a relation.
    Path(Vec<Name>),
    /// A parameter, `:before`.
    Parameter(String),
    /// A function of something, `avg(inspection.temper)`.
    Call {
        /// The function.
        name: Name,
        /// What it is applied to.
        arguments: Vec<Expr>,
    },
    /// Two operands compared.
    Compare(Comparison, Box<Expr>, Box<Expr>),
    /// Whether an operand is one of several.
    In(Box<Expr>, Vec<Expr>),
    /// Whether an operand lies between two others, both included.
    Between(Box<Expr>, Box<Expr>, Box<Expr>),
    /// Whether an operand is null.
    IsNull(Box<Expr>),
    /// Whether a text fits another.
    Match(TextMatch, Box<Expr>, Box<Expr>),
    /// The opposite.
    Not(Box<Expr>),
    /// All of them, at least two.
    And(Vec<Expr>),
    /// Any of them, at least two.
    Or(Vec<Expr>),
}

/// A comparison of two values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
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

/// One value to give back.
#[derive(Clone, Debug, PartialEq)]
pub struct Give {
    /// The value.
    pub value: Expr,
    /// The name asked for with `as`.
    pub alias: Option<Name>,
}

/// One term to sort by.
#[derive(Clone, Debug, PartialEq)]
pub struct OrderTerm {
    /// What to sort by: an expression, or the name of a given value.
    pub key: Expr,
    /// Largest first.
    pub descending: bool,
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
