//! Plans for SQL that a developer wrote.

use kampf_schema::Span;

use crate::choice::Hydration;
use crate::dialect::Dialect;
use crate::need::Need;
use crate::plan::{AppTerm, Bind, Layout, LayoutColumn, Plan, PlanNode, Reach, ResultColumn, RootStatement};

/// A parameter in a developer's SQL that has no value.
#[derive(Clone, Debug, PartialEq)]
pub struct OwnSqlError {
    /// The name, without the colon.
    pub name: String,
    /// Where it stands in the SQL.
    pub span: Span,
}

/// The plan for a developer's SQL. Its columns stand for the need's values in their order; without a need they are taken as
/// they come. `:name` stands for a parameter.
///
/// # Errors
/// A parameter that is not among `parameters`.
pub fn own_sql(
    need: Option<&Need>,
    sql: &str,
    parameters: &[String],
    dialect: &Dialect,
    hydration: Hydration,
) -> Result<Plan, OwnSqlError> {
    let (sql, binds) = bind_names(sql, parameters, dialect)?;
    let give = need.map(|need| need.give.as_slice()).unwrap_or_default();
    Ok(Plan {
        hydration,
        reach: Reach::Root,
        root: RootStatement {
            sql,
            binds,
            columns: give.iter().map(|given| ResultColumn { name: given.name.clone(), kind: Some(given.kind) }).collect(),
        },
        layouts: vec![Layout {
            name: "row".to_owned(),
            columns: give.iter().map(|given| LayoutColumn { name: given.name.clone() }).collect(),
            key: Vec::new(),
            slots: 0,
        }],
        nodes: vec![PlanNode { layout: 0, link: None, path: Vec::new(), for_selection: true, statement: None, offset: 0 }],
        give: (0..give.len()).map(|column| AppTerm::Column { node: 0, column }).collect(),
        filter: None,
        order: Vec::new(),
        limit: None,
        transaction: false,
        open_columns: need.is_none(),
    })
}

/// Replaces `:name` by placeholders, outside of quotes and comments; `::` is a cast and stays.
fn bind_names(sql: &str, parameters: &[String], dialect: &Dialect) -> Result<(String, Vec<Bind>), OwnSqlError> {
    let mut text = String::with_capacity(sql.len());
    let mut binds = Vec::new();
    let mut at = 0;
    while at < sql.len() {
        let rest = &sql[at..];
        let first = rest.chars().next().expect("the rest is not empty");
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
                    binds.push(Bind::Parameter(parameter));
                    text.push_str(&(dialect.placeholder)(binds.len()));
                    at = span.end;
                    continue;
                }
                1
            }
            _ => first.len_utf8(),
        };
        text.push_str(&rest[..length]);
        at += length;
    }
    Ok((text, binds))
}
