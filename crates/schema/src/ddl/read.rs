//! From statements to a schema.

use std::fmt;

use sqlparser::ast::{self, ObjectName};
use sqlparser::dialect::{Dialect, GenericDialect, SQLiteDialect};
use sqlparser::parser::Parser;
use sqlparser::tokenizer::Location;

use super::split::{Statement, split};
use super::table;
use crate::model::{Index, Schema, Unique};
use crate::names::did_you_mean;
use crate::place::{LineColumn, Span};

/// What a DDL file holds.
#[derive(Clone, Debug, Default)]
pub struct Ddl {
    /// The schema.
    pub schema: Schema,
    /// Statements and parts that have no bearing.
    pub passed_over: Vec<PassedOver>,
    /// Trouble with single tables: a table's name and what was not understood. It matters once a contest, or a parent of
    /// one of its tables, uses the table.
    pub not_understood: Vec<(String, DdlError)>,
}

/// Something in the file that has no bearing on the schema.
#[derive(Clone, Debug, PartialEq)]
pub struct PassedOver {
    /// Its first words.
    pub what: String,
    /// Its place.
    pub span: Span,
}

/// Something in the file that matters and is wrong or not understood.
#[derive(Clone, Debug, PartialEq)]
pub struct DdlError {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// Where.
    pub span: Span,
}

impl DdlError {
    pub(super) fn new(message: impl Into<String>, span: Span) -> Self {
        DdlError { message: message.into(), hint: None, span }
    }

    pub(super) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

impl fmt::Display for DdlError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for DdlError {}

/// Places inside one statement, from the parser's lines and columns to offsets in the file.
pub(super) struct Places<'a> {
    statement: &'a Statement<'a>,
}

impl Places<'_> {
    /// The span of a parsed part; the whole statement where the parser kept no place.
    pub(super) fn span(&self, span: sqlparser::tokenizer::Span) -> Span {
        if span.start.line == 0 {
            return self.statement.span;
        }
        let offset = |at: Location| LineColumn { line: at.line as usize, column: at.column as usize }.offset_in(self.statement.text);
        let start = offset(span.start);
        Span::new(start, offset(span.end).max(start)).shifted(self.statement.span.start)
    }
}

/// Reads a DDL file.
///
/// # Errors
/// The first statement that should make a table or an index but is not SQL, and references or indexes that name what is not there.
pub fn read(text: &str) -> Result<Ddl, DdlError> {
    let mut ddl = Ddl::default();
    let mut later = Vec::new();
    let statements = split(text);
    for statement in &statements {
        let words: Vec<String> = statement.text.split_whitespace().take(4).map(str::to_ascii_uppercase).collect();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        match words.as_slice() {
            ["CREATE", "TABLE", ..] => {
                let ast::Statement::CreateTable(create) = parse(statement)? else {
                    return Err(DdlError::new("this statement does not make a plain table", statement.span));
                };
                let places = Places { statement };
                if create.query.is_some() {
                    return Err(DdlError::new("a table made from a query has no columns to fill", statement.span)
                        .hint("write the table with its columns"));
                }
                if ddl.schema.find(&table_name(&create.name)).is_some() {
                    if create.if_not_exists {
                        ddl.passed_over.push(passed(statement));
                        continue;
                    }
                    let message = format!("table `{}` is made twice", table_name(&create.name));
                    return Err(DdlError::new(message, statement.span).hint("keep one of the two statements"));
                }
                later.push((ddl.schema.tables.len(), table::columns(&mut ddl, &create, &places)?));
            }
            ["CREATE", "INDEX", ..] | ["CREATE", "UNIQUE", "INDEX", ..] => {
                let ast::Statement::CreateIndex(create) = parse(statement)? else {
                    return Err(DdlError::new("this statement does not make a plain index", statement.span));
                };
                index(&mut ddl, &create, statement)?;
            }
            _ => ddl.passed_over.push(passed(statement)),
        }
    }
    for (table, references) in later {
        for reference in references {
            table::refer(&mut ddl, table, reference)?;
        }
    }
    if ddl.schema.tables.is_empty() {
        return Err(
            DdlError::new("there is no CREATE TABLE in this file", Span::default()).hint("give the SQL statements that make your tables")
        );
    }
    Ok(ddl)
}

fn passed(statement: &Statement<'_>) -> PassedOver {
    let mut what: String = statement.text.split_whitespace().take(6).collect::<Vec<_>>().join(" ");
    if what.chars().count() > 60 {
        what = what.chars().take(59).chain(['…']).collect();
    }
    PassedOver { what, span: statement.span }
}

/// Parses with the dialect that knows most, then with SQLite's.
fn parse(statement: &Statement<'_>) -> Result<ast::Statement, DdlError> {
    let attempt = |dialect: &dyn Dialect| {
        let mut parser = Parser::new(dialect).with_recursion_limit(48).try_with_sql(statement.text)?;
        let parsed = parser.parse_statement()?;
        match parser.peek_token().token {
            sqlparser::tokenizer::Token::EOF => Ok(parsed),
            _ => parser.expected_ref("end of statement", parser.peek_token_ref()),
        }
    };
    attempt(&GenericDialect {}).or_else(|error| attempt(&SQLiteDialect {}).map_err(|_| error)).map_err(|error| worded(&error, statement))
}

/// The parser writes its place into the message: `… at Line: 3, Column: 7`.
fn worded(error: &sqlparser::parser::ParserError, statement: &Statement<'_>) -> DdlError {
    let text = match error {
        sqlparser::parser::ParserError::TokenizerError(text) | sqlparser::parser::ParserError::ParserError(text) => text.as_str(),
        sqlparser::parser::ParserError::RecursionLimitExceeded => "it is nested too deeply",
    };
    let (message, place) = text.rsplit_once(" at Line: ").unwrap_or((text, ""));
    let numbers: Vec<usize> = place.split(", Column: ").filter_map(|number| number.trim().parse().ok()).collect();
    let at = match numbers.as_slice() {
        [line, column] => LineColumn { line: *line, column: *column }.offset_in(statement.text) + statement.span.start,
        _ => statement.span.start,
    };
    let mut message = message.trim().to_owned();
    if let Some(rest) = message.strip_prefix("Expected: ") {
        message = format!("expected {}", rest.replace(", found: ", ", found `") + if rest.contains(", found: ") { "`" } else { "" });
    }
    DdlError::new(format!("this statement cannot be read: {message}"), Span::new(at, at + 1))
}

/// The table's own name, without that of a schema before it.
pub(super) fn table_name(name: &ObjectName) -> String {
    name.0.last().and_then(|part| part.as_ident()).map(|ident| ident.value.clone()).unwrap_or_default()
}

/// Whether the table's own name is written in quotes.
pub(super) fn is_quoted(name: &ObjectName) -> bool {
    name.0.last().and_then(|part| part.as_ident()).is_some_and(|ident| ident.quote_style.is_some())
}

fn index(ddl: &mut Ddl, create: &ast::CreateIndex, statement: &Statement<'_>) -> Result<(), DdlError> {
    let name = table_name(&create.table_name);
    let places = Places { statement };
    let Some(id) = ddl.schema.find(&name) else {
        let known = ddl.schema.tables.iter().map(|table| table.name.as_str());
        let mut error = DdlError::new(format!("this index is on `{name}`, which no statement before makes"), statement.span);
        error.hint = did_you_mean(&name, known);
        return Err(error);
    };
    let columns = table::key_columns(&ddl.schema.tables[id.0], &create.columns, &places);
    let columns = match columns {
        Ok(columns) if create.predicate.is_none() => columns,
        // An index over an expression or a part of the rows only makes reading faster; a unique one is a rule that must hold.
        _ if !create.unique => {
            ddl.passed_over.push(passed(statement));
            return Ok(());
        }
        Ok(_) => {
            let error = DdlError::new("a unique index over a part of the rows is not understood yet", statement.span);
            ddl.not_understood.push((ddl.schema.tables[id.0].name.clone(), error.hint("make it a plain unique index, or remove it")));
            return Ok(());
        }
        Err(error) => {
            ddl.not_understood.push((ddl.schema.tables[id.0].name.clone(), error));
            return Ok(());
        }
    };
    let table = &mut ddl.schema.tables[id.0];
    if create.unique {
        table.uniques.push(Unique { columns });
    } else {
        table.indexes.push(Index { name: create.name.as_ref().map(table_name), columns });
    }
    Ok(())
}
