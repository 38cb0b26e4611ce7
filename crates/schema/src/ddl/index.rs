//! Reading an index that is not in the schema's file.

use super::create::key_part;
use super::draft::{Condition, IndexManner, KeyPart};
use super::expression::ExpressionReader;
use super::finish::index;
use super::read::DdlError;
use super::split::{Statement, split};
use super::tokens::Tokens;
use crate::index::Index;
use crate::model::{Schema, Table, TableId};
use crate::names::did_you_mean;
use crate::place::Span;

/// Reads what an index is on, in the schema's SQL: `inspection(hive_id, inspected_at desc)`, `keeper(lower(name))`.
///
/// # Errors
/// When it cannot be read, or names what is not there; the place is one in the text.
pub fn read_index(schema: &Schema, on: &str) -> Result<(TableId, Index), DdlError> {
    within(on, || {
        let statements = split(on, schema.dialect);
        let mut tokens = whole(schema, &statements, on)?;
        let name = tokens.object()?;
        let table = schema.find(&name.text).ok_or_else(|| {
            let mut error = DdlError::new(format!("there is no table `{}`", name.text), name.span);
            error.hint = did_you_mean(&name.text, schema.tables.iter().map(|table| table.name.as_str()));
            error
        })?;
        let Some(list) = tokens.group().filter(|list| !list.is_done()) else {
            return Err(tokens.unexpected("the columns in parentheses, like inspection(hive_id, inspected_at desc)"));
        };
        if !tokens.is_done() {
            return Err(tokens.unexpected("nothing more"));
        }
        let mut parts = Vec::new();
        for mut item in list.items() {
            let span = item.whole_span();
            let part = key_part(&mut item)?;
            known(schema.table(table), &part, span)?;
            parts.push(part);
        }
        let index = read(schema, table, &parts, &IndexManner::default()).map_err(|unknown| not_known(&unknown, list.whole_span()))?;
        Ok((table, index))
    })
}

/// Reads the condition of an index that holds a part of a table's rows.
///
/// # Errors
/// When it cannot be read, or says what is not known; the place is one in the text.
pub fn read_index_condition(schema: &Schema, table: TableId, text: &str) -> Result<crate::expr::Rule, DdlError> {
    within(text, || {
        let statements = split(text, schema.dialect);
        let mut tokens = whole(schema, &statements, text)?;
        let span = tokens.whole_span();
        let expr = tokens.expression()?;
        if !tokens.is_done() {
            return Err(tokens.unexpected("the end of the condition"));
        }
        let among = Some(Condition { expr, sql: text.to_owned(), span });
        let index = read(schema, table, &[], &IndexManner { among, ..IndexManner::default() });
        let read = index.map_err(|unknown| not_known(&unknown, span))?.among;
        read.ok_or_else(|| DdlError::new("a condition is expected", span))
    })
}

/// Runs a reader, and has the place of its error lie in the text.
fn within<T>(text: &str, read: impl FnOnce() -> Result<T, DdlError>) -> Result<T, DdlError> {
    read().map_err(|mut error| {
        let inside = |at: usize| (at.min(text.len())..=text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
        error.span = Span::new(inside(error.span.start), inside(error.span.end));
        error.message = error.message.replace("this statement cannot be read", "this cannot be read");
        error
    })
}

/// The tokens of a text that is one piece.
fn whole<'a>(schema: &Schema, statements: &'a [Statement<'a>], text: &str) -> Result<Tokens<'a>, DdlError> {
    let everything = Span::new(0, text.len());
    match statements {
        [statement] => match statement.lone {
            Some((_, at)) => Err(DdlError::new("this lacks its other half", Span::new(at, at + 1))),
            None => Tokens::of(statement, schema.dialect),
        },
        [] => Err(DdlError::new("this is empty", everything)),
        _ => Err(DdlError::new("this has a semicolon in it", everything)),
    }
}

fn read(schema: &Schema, table: TableId, parts: &[KeyPart], manner: &IndexManner) -> Result<Index, String> {
    let table = schema.table(table);
    let find = |name: &str| table.find(name);
    let mut reading = ExpressionReader::new(table, &find, None, schema.dialect);
    reading.as_needs = true;
    index(&reading, parts, manner)
}

/// A column that is named must be there.
fn known(table: &Table, part: &KeyPart, span: Span) -> Result<(), DdlError> {
    let sqlparser::ast::Expr::Identifier(name) = &part.expr else { return Ok(()) };
    if table.find(&name.value).is_some() {
        return Ok(());
    }
    let mut error = DdlError::new(format!("table `{}` has no column `{}`", table.name, name.value), span);
    error.hint = did_you_mean(&name.value, table.columns.iter().map(|column| column.name.as_str()));
    Err(error)
}

fn not_known(unknown: &str, span: Span) -> DdlError {
    DdlError::new(format!("{unknown} is not known here"), span)
}

#[cfg(test)]
mod tests {
    use super::super::read as read_ddl;
    use super::*;

    fn schema() -> Schema {
        read_ddl(
            "CREATE TABLE hive (id integer PRIMARY KEY, label text, open boolean);
             CREATE INDEX by_label ON hive (lower(label) DESC, id) WHERE open;
             CREATE INDEX found ON hive USING hash (label);
             CREATE INDEX held ON hive (label DESC NULLS LAST) INCLUDE (open);",
        )
        .unwrap()
        .schema
    }

    #[test]
    fn an_index_is_read_and_said_again() {
        let schema = schema();
        for on in ["hive(label)", "hive(label desc, id)", "hive(lower(label), id desc nulls last)"] {
            let (table, index) = read_index(&schema, on).unwrap();
            assert_eq!(index.on(schema.table(table)), on);
        }
        assert_eq!(read_index(&schema, "HIVE ( \"label\" )").unwrap().1.leading_columns(), [1]);
        assert_eq!(read_index_condition(&schema, TableId(0), "open and label is not null").unwrap().column_set(), [1, 2]);
    }

    #[test]
    fn indexes_of_the_file_keep_what_they_are() {
        let schema = schema();
        let hive = &schema.tables[0];
        let on: Vec<String> = hive.indexes.iter().map(|index| index.on(hive)).collect();
        assert_eq!(on, ["hive(lower(label) desc, id)", "hive(label)", "hive(label desc nulls last)"]);
        assert!(hive.indexes[0].among.is_some() && hive.indexes[1].hashed && hive.indexes[2].include == [2]);
        assert!(hive.is_indexed(&[1]) && !hive.is_indexed(&[2]), "the one with a condition does not count");
    }

    #[test]
    fn what_is_wrong_is_said_at_its_place() {
        let schema = schema();
        let cases = [
            ("hve(label)", "there is no table `hve`", "hve"),
            ("hive", "expected the columns in parentheses", ""),
            ("hive()", "expected the columns in parentheses", ""),
            ("hive(lable)", "has no column `lable`", "lable"),
            ("hive(label", "lacks its other half", "("),
            ("hive(label) where open", "expected nothing more", "where"),
            ("hive(mine(label))", "the function mine is not known here", "mine(label)"),
            ("", "this is empty", ""),
            ("hive(label); drop", "has a semicolon", "hive(label); drop"),
        ];
        for (on, message, at) in cases {
            let error = read_index(&schema, on).unwrap_err();
            assert!(error.message.contains(message), "{on}: {}", error.message);
            assert_eq!(&on[error.span.start..error.span.end], at, "{on}: {}", error.message);
        }
        assert!(read_index_condition(&schema, TableId(0), "opn").unwrap_err().message.contains("opn"));
    }
}
