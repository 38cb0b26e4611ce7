//! Replaying the statements of a file, in their order.

use std::fmt;

use super::dialect::SqlDialect;
use super::draft::{DraftTables, Meaning};
use super::split::{Lone, Statement, split};
use super::tokens::{Name, Tokens};
use super::types;
use crate::model::Schema;
use crate::names::did_you_mean;
use crate::place::Span;

/// What a DDL file holds.
#[derive(Clone, Debug)]
pub struct Ddl {
    /// The schema.
    pub schema: Schema,
    /// What it was read as.
    pub dialect: SqlDialect,
    /// Statements and parts that are not followed, in the order of the file.
    pub passed_over: Vec<PassedOver>,
}

/// Something in the file that is not followed.
#[derive(Clone, Debug, PartialEq)]
pub struct PassedOver {
    /// Its first words, or what comes of it.
    pub what: String,
    /// Its place.
    pub span: Span,
    /// Whether what is loaded is other than the file says for it; else it has no bearing on that.
    pub matters: bool,
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
    /// The type of a column that is not known, where it is that.
    pub unknown_type: Option<String>,
}

impl DdlError {
    pub(super) fn new(message: impl Into<String>, span: Span) -> Self {
        DdlError { message: message.into(), hint: None, span, unknown_type: None }
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

/// Reads a DDL file in the dialect that it speaks for itself.
///
/// # Errors
/// See [`read_with`].
pub fn read(text: &str) -> Result<Ddl, DdlError> {
    read_with(text, None, &[])
}

/// Reads a DDL file, in a dialect or in the one it speaks for itself. `types` gives names of types that the file uses and does not explain a meaning: `geometry_dump` that of `text`.
///
/// # Errors
/// The first statement that makes or changes a table and is not understood; types that are not known; references and indexes
/// that name what is not there.
pub fn read_with(text: &str, dialect: Option<SqlDialect>, types: &[(String, String)]) -> Result<Ddl, DdlError> {
    // Where a statement lacks its end, that is beyond the file's.
    let inside = |at: usize| (at.min(text.len())..=text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
    read_whole(text, dialect, types)
        .map_err(|error| DdlError { span: Span::new(inside(error.span.start), inside(error.span.end)), ..error })
}

fn read_whole(text: &str, dialect: Option<SqlDialect>, types: &[(String, String)]) -> Result<Ddl, DdlError> {
    let dialect = dialect.unwrap_or_else(|| SqlDialect::of(text));
    let statements = split(text, dialect);
    let mut replay = Replay {
        dialect,
        tables: DraftTables::default(),
        types: types.iter().filter_map(|(name, means)| Some((name.clone(), types::of_word(means)?))).collect(),
        passed_names: Vec::new(),
        passed_over: Vec::new(),
        statement_span: Span::default(),
        statement: "",
    };
    for statement in &statements {
        replay.statement_span = statement.span;
        replay.statement = statement.text;
        replay.take(statement)?;
    }
    let schema = replay.finish()?;
    if schema.tables.is_empty() {
        return Err(
            DdlError::new("there is no CREATE TABLE in this file", Span::default()).hint("give the SQL statements that make your tables")
        );
    }
    replay.passed_over.sort_by_key(|passed| passed.span.start);
    Ok(Ddl { schema, dialect, passed_over: replay.passed_over })
}

/// Whether a word can stand behind a name under `[types]`.
pub fn is_type(word: &str) -> bool {
    types::of_word(word).is_some()
}

/// The state of the schema between two statements.
pub(super) struct Replay<'a> {
    pub(super) dialect: SqlDialect,
    pub(super) tables: DraftTables,
    /// Types that the file, or the user, gives a meaning.
    pub(super) types: Vec<(String, Meaning)>,
    /// Names of views and the like.
    passed_names: Vec<String>,
    passed_over: Vec<PassedOver>,
    pub(super) statement_span: Span,
    statement: &'a str,
}

impl<'a> Replay<'a> {
    fn take(&mut self, statement: &'a Statement<'a>) -> Result<(), DdlError> {
        let words: Vec<String> = leading_words(statement.text, 5);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        match words.as_slice() {
            ["CREATE", "TABLE", ..] => self.behind(statement, 2, Replay::create_table),
            ["CREATE", "UNLOGGED", "TABLE", ..] => self.behind(statement, 3, Replay::create_table),
            ["CREATE", "OR", "REPLACE", "TABLE", ..] => self.behind(statement, 4, |replay, tokens| {
                replay.drop_tables(&mut tokens.clone_first_name()?)?;
                replay.create_table(tokens)
            }),
            ["CREATE", "INDEX", ..] => self.behind(statement, 2, |replay, tokens| replay.create_index(tokens, false)),
            ["CREATE", "UNIQUE", "INDEX", ..] => self.behind(statement, 3, |replay, tokens| replay.create_index(tokens, true)),
            ["CREATE", "TYPE", ..] => self.behind(statement, 2, Replay::create_type),
            ["CREATE", "DOMAIN", ..] => self.behind(statement, 2, Replay::create_domain),
            ["ALTER", "TYPE", ..] => self.behind(statement, 2, Replay::alter_type),
            ["ALTER", "TABLE", ..] => self.behind(statement, 2, Replay::alter_table),
            ["DROP", "TABLE", ..] => self.behind(statement, 2, Replay::drop_tables),
            ["DROP", "INDEX", ..] => self.behind(statement, 2, Replay::drop_index),
            ["RENAME", "TABLE", ..] => self.behind(statement, 2, |replay, tokens| replay.rename_tables(tokens)),
            ["INSERT" | "REPLACE", ..] => self.seeds(statement, Replay::insert),
            ["COPY", ..] if statement.data.is_some() => {
                if !statement.has_end {
                    self.warn(
                        statement.span,
                        "the rows behind this COPY have no end (a line with `\\.`), so they end where the next statement begins",
                    );
                }
                self.seeds(statement, |replay, tokens| replay.copy(tokens, statement.data.unwrap_or_default()))
            }
            _ => {
                let name = |at: usize| {
                    words.get(at).map(|name| name.rsplit('.').next().unwrap_or_default().trim_matches(['"', '`', '[', ']']).to_owned())
                };
                let at = words.iter().position(|word| matches!(*word, "VIEW" | "TABLE")).map_or(usize::MAX, |at| at + 1);
                self.passed_names.extend(name(at));
                self.look_for_end(statement);
                self.pass_over();
                Ok(())
            }
        }
    }

    /// Says where something is not closed that swallows what stands behind it.
    fn look_for_end(&mut self, statement: &Statement<'_>) {
        let Some((lone @ (Lone::Quote | Lone::Comment), at)) = statement.lone else { return };
        let what = if lone == Lone::Quote { "quote" } else { "comment" };
        self.warn(
            Span::new(at, at + 1),
            format!("a {what} begins here that is not closed, so the rest of the file is taken for a part of it"),
        );
    }

    fn behind(
        &mut self,
        statement: &'a Statement<'a>,
        words: usize,
        read: impl FnOnce(&mut Replay<'a>, &mut Tokens<'a>) -> Result<(), DdlError>,
    ) -> Result<(), DdlError> {
        if let Some((lone, at)) = statement.lone {
            let wrong = match lone {
                Lone::Open => "this parenthesis is not closed",
                Lone::Close => "this closes a parenthesis that was not opened",
                Lone::Quote => "this quote is not closed",
                Lone::Comment => "this comment is not closed",
            };
            return Err(DdlError::new(wrong, Span::new(at, at + 1)).hint("look whether the file is whole, and add what is missing"));
        }
        let mut tokens = Tokens::of(statement, self.dialect)?;
        (0..words).for_each(|_| {
            tokens.next();
        });
        read(self, &mut tokens)
    }

    /// Rows that cannot be read are data that is left out, never a failure.
    fn seeds(
        &mut self,
        statement: &'a Statement<'a>,
        read: impl FnOnce(&mut Replay<'a>, &mut Tokens<'a>) -> Result<(), DdlError>,
    ) -> Result<(), DdlError> {
        if let Err(error) = self.behind(statement, 1, read) {
            self.warn(statement.span, format!("the rows of this statement are left out: {}", error.message));
        }
        Ok(())
    }

    /// The table of a name.
    pub(super) fn find(&self, name: &str) -> Option<usize> {
        self.tables.find(name)
    }

    pub(super) fn table_of(&self, name: &Name) -> Result<usize, DdlError> {
        self.find(&name.text).ok_or_else(|| self.no_table(name, "this statement is about"))
    }

    pub(super) fn no_table(&self, name: &Name, what: &str) -> DdlError {
        let mut error = DdlError::new(format!("{what} `{}`, which no statement before makes", name.text), name.span);
        error.hint = did_you_mean(&name.text, self.tables.iter().map(|table| table.name.text.as_str()));
        error
    }

    pub(super) fn no_column(&self, table: usize, name: &Name) -> DdlError {
        let table = &self.tables[table];
        let mut error = DdlError::new(format!("table `{}` has no column `{}`", table.name.text, name.text), name.span);
        error.hint = did_you_mean(&name.text, table.columns.iter().map(|column| column.name.text.as_str()));
        error
    }

    /// Whether a name is that of a view or the like.
    pub(super) fn is_passed(&self, name: &str) -> bool {
        self.passed_names.iter().any(|passed| passed.eq_ignore_ascii_case(name))
    }

    /// The statement has no bearing.
    pub(super) fn pass_over(&mut self) {
        self.passed_over.push(PassedOver { what: first_words(self.statement), span: self.statement_span, matters: false });
    }

    /// A part of the statement has no bearing.
    pub(super) fn pass_over_part(&mut self, span: Span) {
        let from = span.start.saturating_sub(self.statement_span.start);
        let to = span.end.saturating_sub(self.statement_span.start);
        let what = self.statement.get(from..to).map_or_else(|| first_words(self.statement), first_words);
        self.passed_over.push(PassedOver { what, span, matters: false });
    }

    /// What is loaded is other than the file says.
    pub(super) fn warn(&mut self, span: Span, what: impl Into<String>) {
        self.passed_over.push(PassedOver { what: what.into(), span, matters: true });
    }
}

/// The first words in capital letters, comments left out.
fn leading_words(text: &str, count: usize) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = text;
    while words.len() < count {
        rest = rest.trim_start();
        if rest.starts_with("--") || rest.starts_with('#') {
            rest = rest.split_once('\n').map_or("", |(_, rest)| rest);
            continue;
        }
        if rest.starts_with("/*") {
            rest = rest[2..].split_once("*/").map_or("", |(_, rest)| rest);
            continue;
        }
        if rest.is_empty() {
            break;
        }
        let end = rest.find(|c: char| c.is_whitespace() || c == '(').unwrap_or(rest.len()).max(1);
        let end = if rest.is_char_boundary(end) { end } else { rest.chars().next().map_or(1, char::len_utf8) };
        words.push(rest[..end].to_ascii_uppercase());
        rest = &rest[end..];
    }
    words
}

fn first_words(text: &str) -> String {
    let what: String = text.split_whitespace().take(6).collect::<Vec<_>>().join(" ");
    if what.chars().count() > 60 { what.chars().take(59).chain(['…']).collect() } else { what }
}
