//! Plans for SQL that a developer wrote.

use kampf_schema::Span;

use super::fragment::{Bind, Printed, Sql};
use super::select::{Shape, print_select};
use crate::choice::Hydration;
use crate::dialect::{Dialect, KeyList};
use crate::need::{Expect, Need};
use crate::plan::{Body, Plan, WrittenParameter};

/// A parameter in a developer's SQL that has no value.
#[derive(Clone, Debug, PartialEq)]
pub struct OwnSqlError {
    /// The name, without the colon; or a placeholder with a number, like `?1`, to which nothing is bound.
    pub name: String,
    /// Where it stands in the SQL.
    pub span: Span,
}

/// The plan for a developer's SQL. Its columns stand for the need's values in their order; without a need they are taken as
/// they come. `:name` stands for a parameter; the values of a list are written out where the engine takes no lists.
///
/// # Errors
/// A parameter that is not among `parameters`.
pub fn own_sql(need: Option<&Need>, sql: &str, parameters: &[String], hydration: Hydration) -> Result<Plan, OwnSqlError> {
    let is_list = |at: usize| need.and_then(|need| need.parameters.get(at)).is_some_and(|parameter| parameter.is_list);
    let (texts, at) = split_names(sql, parameters)?;
    let places = at.into_iter().map(|at| WrittenParameter { at, is_list: is_list(at) }).collect();
    let give = need.map(|need| need.give.as_slice()).unwrap_or_default();
    let expect = need.map_or(Expect::Many, |need| need.expect);
    let plan = Plan::as_it_comes(hydration, Body::Written(texts, places), "row", give, expect);
    Ok(Plan { open_columns: need.is_none(), ..plan })
}

/// A developer's SQL with `:name` for each of some parameters, none of which is a list.
pub(crate) fn own_body(sql: &str, parameters: &[String]) -> Result<Body, OwnSqlError> {
    let (texts, at) = split_names(sql, parameters)?;
    Ok(Body::Written(texts, at.into_iter().map(|at| WrittenParameter { at, is_list: false }).collect()))
}

impl Body {
    /// The text for a shape.
    pub(crate) fn print(&self, dialect: &Dialect, shape: &Shape<'_>) -> Printed {
        match self {
            Body::Select(select) => print_select(dialect, select, shape),
            Body::Written(texts, parameters) => {
                let mut sql = Sql::default();
                for (at, text) in texts.iter().enumerate() {
                    sql.push(text);
                    if let Some(parameter) = parameters.get(at) {
                        let as_values = parameter.is_list && dialect.key_list == KeyList::Placeholders;
                        sql.add(if as_values { Sql::values(parameter.at) } else { Sql::bind(Bind::Parameter(parameter.at)) });
                    }
                }
                sql.finish(dialect, shape.length)
            }
        }
    }
}

/// Splits at each `:name`, outside of quotes and comments; `::` is a cast and stays.
fn split_names(sql: &str, parameters: &[String]) -> Result<(Vec<String>, Vec<usize>), OwnSqlError> {
    let mut texts = vec![String::with_capacity(sql.len())];
    let mut places = Vec::new();
    let mut at = 0;
    while at < sql.len() {
        let rest = &sql[at..];
        let Some(first) = rest.chars().next() else { break };
        let end = |found: Option<usize>, by: usize| found.map_or(rest.len(), |end| end + by);
        let length = match first {
            '\'' | '"' | '`' => end(rest[1..].find(first), 2),
            '-' if rest.starts_with("--") => end(rest.find('\n'), 1),
            '/' if rest.starts_with("/*") => end(rest[2..].find("*/"), 4),
            ':' if rest.starts_with("::") => 2,
            ':' => {
                let name: String = rest[1..].chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
                if !name.is_empty() && !name.starts_with(|c: char| c.is_ascii_digit()) {
                    let span = Span::new(at, at + 1 + name.len());
                    let parameter = parameters.iter().position(|known| *known == name).ok_or(OwnSqlError { name, span })?;
                    places.push(parameter);
                    texts.push(String::new());
                    at = span.end;
                    continue;
                }
                1
            }
            '?' | '$' if rest[1..].starts_with(|c: char| c.is_ascii_digit()) => {
                let name: String = rest.chars().take(1).chain(rest[1..].chars().take_while(char::is_ascii_digit)).collect();
                return Err(OwnSqlError { span: Span::new(at, at + name.len()), name });
            }
            _ => first.len_utf8(),
        };
        if let Some(text) = texts.last_mut() {
            text.push_str(&rest[..length]);
        }
        at += length;
    }
    Ok((texts, places))
}
