//! CREATE TABLE: columns and rules as they are written.

use sqlparser::ast;
use sqlparser::tokenizer::Token;

use super::draft::{Condition, Constraint, ConstraintKind, DraftColumn, DraftTable, IndexManner, KeyPart, Meaning};
use super::read::{DdlError, Replay};
use super::tokens::{Name, Tokens};
use super::types::column_type;

/// What engines take of columns at most.
const MOST_COLUMNS: usize = 4_096;

/// Words with which a rule of a table begins.
fn begins_rule(item: &Tokens<'_>) -> bool {
    let two = (item.word_ahead(0), item.word_ahead(1));
    match two.0.as_str() {
        "CONSTRAINT" => !matches!(item.ahead(1), Token::Comma | Token::EOF),
        "FOREIGN" => two.1 == "KEY",
        "CHECK" => *item.ahead(1) == Token::LParen,
        "EXCLUDE" => *item.ahead(1) == Token::LParen || two.1 == "USING",
        "PRIMARY" => true,
        "UNIQUE" => *item.ahead(1) == Token::LParen || matches!(two.1.as_str(), "KEY" | "INDEX" | "NULLS") || key_follows(item, 1),
        "INDEX" | "KEY" => *item.ahead(1) == Token::LParen || key_follows(item, 1),
        "FULLTEXT" | "SPATIAL" => matches!(two.1.as_str(), "KEY" | "INDEX") || *item.ahead(1) == Token::LParen || key_follows(item, 1),
        _ => false,
    }
}

/// Whether a name and then a list of columns, or `USING`, follow: a column of the name KEY has a type there.
fn key_follows(item: &Tokens<'_>, by: usize) -> bool {
    matches!(item.ahead(by), Token::Word(_))
        && (*item.ahead(by + 1) == Token::LParen && !matches!(item.ahead(by + 2), Token::Number(..)) || item.word_ahead(by + 1) == "USING")
}

impl Replay<'_> {
    /// Behind CREATE TABLE [IF NOT EXISTS]: a name, then columns and rules.
    pub(super) fn create_table(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let if_missing = tokens.takes(&["IF", "NOT", "EXISTS"]);
        let name = tokens.object()?;
        if let Some(known) = self.find(&name.text)
            && !(name.quoted && self.tables[known].name.quoted && self.tables[known].name.text != name.text)
        {
            let other = if if_missing { " (IF NOT EXISTS)" } else { "; it would be refused" };
            self.warn(
                name.span,
                format!(
                    "the table `{}` is there already: what counts is the statement that made it before, not this one{other}",
                    name.text
                ),
            );
            return Ok(());
        }
        let mut table = DraftTable::new(name);
        if tokens.takes(&["LIKE"]) {
            self.like(&mut table, tokens)?;
        } else if tokens.sees(&["PARTITION", "OF"]) {
            // Its rows are those of the whole table.
            self.pass_over();
            return Ok(());
        } else if let Some(mut body) = tokens.group().filter(|body| !body.sees(&["SELECT"]) && !body.sees(&["WITH"])) {
            if body.sees(&["LIKE"]) && *body.ahead(2) == Token::EOF {
                body.next();
                self.like(&mut table, &mut body)?;
            } else {
                for mut item in body.items() {
                    self.item(&mut table, &mut item)?;
                    if table.columns.len() > MOST_COLUMNS {
                        break;
                    }
                }
            }
            if tokens.takes(&["INHERITS"])
                && let Some(parents) = tokens.group()
            {
                for mut parent in parents.items() {
                    self.inherit(&mut table, &mut parent)?;
                }
            }
            if table.columns.len() > MOST_COLUMNS {
                let message = format!("table `{}` has more than {MOST_COLUMNS} columns, which no engine keeps", table.name.text);
                return Err(DdlError::new(message, table.name.span).hint("split it, or leave it out"));
            }
            if table.columns.is_empty() {
                let message = format!("table `{}` has no columns", table.name.text);
                table.unreadable = Some(DdlError::new(message, table.name.span));
            }
        } else {
            let message = format!("`{}` is made from a query, which has no columns to fill", table.name.text);
            table.unreadable = Some(DdlError::new(message, table.name.span).hint("write the table with its columns"));
        }
        if let Some(missing) = tokens.next_statement() {
            return Err(
                DdlError::new("another statement begins here, before the end of this one", missing).hint("put a semicolon before it")
            );
        }
        if let Some(rest) = inline_as(tokens) {
            table.unreadable.get_or_insert(rest);
        }
        self.tables.push(table);
        Ok(())
    }

    fn like(&mut self, table: &mut DraftTable, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let other = tokens.object()?;
        let model = self.table_of(&other)?;
        let (columns, constraints) = (self.tables[model].columns.clone(), self.tables[model].constraints.clone());
        table.columns.extend(columns);
        // In MySQL, LIKE takes the rules along; in PostgreSQL where INCLUDING says so.
        let everything = tokens.dialect == super::SqlDialect::Mysql || tokens.text().to_ascii_uppercase().contains("INCLUDING ALL");
        if everything {
            let own = |constraint: &&Constraint| !matches!(constraint.kind, ConstraintKind::Refers { .. });
            table.constraints.extend(constraints.iter().filter(own).map(|constraint| Constraint { name: None, ..constraint.clone() }));
        }
        Ok(())
    }

    fn inherit(&mut self, table: &mut DraftTable, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let parent = tokens.object()?;
        let parent = self.table_of(&parent)?;
        let parent = self.tables[parent].clone();
        let new = parent.columns.into_iter().filter(|column| table.column(&column.name.text).is_none()).collect::<Vec<_>>();
        table.columns.splice(0..0, new);
        let checks = parent.constraints.into_iter().filter(|constraint| matches!(constraint.kind, ConstraintKind::Check(_)));
        table.constraints.extend(checks);
        Ok(())
    }

    /// A column or a rule, as it stands in CREATE TABLE or behind ADD.
    pub(super) fn item(&mut self, table: &mut DraftTable, item: &mut Tokens<'_>) -> Result<(), DdlError> {
        if item.sees(&["LIKE"]) && matches!(item.ahead(1), Token::Word(_)) && !matches!(item.ahead(2), Token::LParen | Token::Comma) {
            let known = matches!(item.ahead(1), Token::Word(word) if self.find(&word.value).is_some());
            if known || *item.ahead(2) == Token::Period {
                item.next();
                return self.like(table, item);
            }
        }
        if begins_rule(item) { self.rule(table, item) } else { self.column(table, item).map(|_| ()) }
    }

    /// Adds a column and gives its place.
    pub(super) fn column(&mut self, table: &mut DraftTable, item: &mut Tokens<'_>) -> Result<usize, DdlError> {
        let name = item.name()?;
        if table.columns.iter().any(|column| {
            column.name.text.eq_ignore_ascii_case(&name.text) && !(name.quoted && column.name.quoted && column.name.text != name.text)
        }) {
            return Err(DdlError::new(format!("column `{}` is there twice", name.text), name.span));
        }
        let named = |word: &str| self.meaning_of(word);
        let meaning = column_type(item, &named)
            .map_err(|error| DdlError { message: format!("`{}.{}`: {}", table.name.text, name.text, error.message), ..error });
        let (nullable, numbered, default) = match &meaning {
            Ok(meaning) => (meaning.nullable, meaning.numbered, meaning.default.clone()),
            Err(_) => (true, false, None),
        };
        if meaning.is_err() {
            // What stands behind a type that is not known cannot be told from the type.
            item.skip_to_options();
        }
        let at = table.columns.len();
        table.columns.push(DraftColumn { name, former: Vec::new(), meaning, nullable, default, computed: None, numbered });
        self.options(table, at, item)?;
        Ok(at)
    }

    /// What stands behind a column's type.
    pub(super) fn options(&mut self, table: &mut DraftTable, at: usize, item: &mut Tokens<'_>) -> Result<(), DdlError> {
        let mut named = None;
        let own = |table: &DraftTable| {
            let name = &table.columns[at].name;
            let ident =
                ast::Ident { value: name.text.clone(), quote_style: name.quoted.then_some('"'), span: sqlparser::tokenizer::Span::empty() };
            vec![KeyPart::of(ast::Expr::Identifier(ident))]
        };
        while !item.is_done() {
            let span = item.span();
            let mut add = |table: &mut DraftTable, kind| table.constraints.push(Constraint { name: named.take(), kind, span });
            match item.word_ahead(0).as_str() {
                "CONSTRAINT" => {
                    item.next();
                    named = Some(item.name()?.text);
                }
                "NOT" if item.takes(&["NOT", "NULL"]) => {
                    table.columns[at].nullable = false;
                    conflict_clause(item);
                }
                "NOT"
                    if item.takes(&["NOT", "DEFERRABLE"])
                        || item.takes(&["NOT", "VALID"])
                        || item.takes(&["NOT", "ENFORCED"])
                        || item.takes(&["NOT", "VISIBLE"]) => {}
                "NULL" => {
                    item.next();
                }
                "PRIMARY" => {
                    item.next();
                    item.takes(&["KEY"]);
                    item.takes_any(&["ASC", "DESC"]);
                    conflict_clause(item);
                    add(table, ConstraintKind::Primary(own(table)));
                }
                "KEY" => {
                    // MySQL's short form of a primary key.
                    item.next();
                    add(table, ConstraintKind::Primary(own(table)));
                }
                "UNIQUE" => {
                    item.next();
                    item.takes(&["KEY"]);
                    conflict_clause(item);
                    add(table, ConstraintKind::Unique(own(table), None));
                }
                "CHECK" => {
                    item.next();
                    let condition = self.condition(item)?;
                    add(table, ConstraintKind::Check(condition));
                }
                "DEFAULT" => {
                    item.next();
                    table.columns[at].default = Some(item.default_expression()?);
                }
                "REFERENCES" => {
                    let kind = refers(item, vec![table.columns[at].name.text.clone()])?;
                    add(table, kind);
                }
                "GENERATED" | "AS" => {
                    item.takes(&["GENERATED"]);
                    item.takes(&["ALWAYS"]);
                    item.takes(&["BY", "DEFAULT"]);
                    item.takes(&["ON", "NULL"]);
                    item.takes(&["AS"]);
                    if item.takes(&["IDENTITY"]) {
                        item.group();
                        table.columns[at].numbered = true;
                        table.columns[at].nullable = false;
                    } else if let Some(mut inner) = item.group() {
                        table.columns[at].computed = Some(inner.expression()?);
                        item.takes_any(&["STORED", "VIRTUAL", "PERSISTENT"]);
                    } else {
                        return Err(item.unexpected("what the column is made from"));
                    }
                }
                "AUTO_INCREMENT" | "AUTOINCREMENT" | "IDENTITY" => {
                    item.next();
                    item.group();
                    table.columns[at].numbered = true;
                }
                "COLLATE" | "CHARSET" | "COMMENT" | "STORAGE" | "COMPRESSION" | "ENCODE" | "COLUMN_FORMAT" | "AFTER" => {
                    item.next();
                    item.next();
                    while item.symbol(&Token::Period) {
                        item.next();
                    }
                }
                "CHARACTER" => {
                    item.takes(&["CHARACTER", "SET"]);
                    item.next();
                }
                "ON" => {
                    // ON UPDATE CURRENT_TIMESTAMP, ON CONFLICT …
                    item.next();
                    item.next();
                    item.next();
                    item.group();
                }
                "DEFERRABLE" | "ENFORCED" | "INVISIBLE" | "VISIBLE" | "FIRST" | "STORED" | "VIRTUAL" | "BINARY" | "UNSIGNED"
                | "ZEROFILL" | "ASC" | "DESC" => {
                    item.next();
                }
                "INITIALLY" | "USING" => {
                    item.next();
                    item.next();
                }
                _ if matches!(item.peek(), Token::Eq) => {
                    item.next();
                    item.next();
                }
                _ => return Err(item.unexpected("a rule of the column")),
            }
        }
        Ok(())
    }

    /// A rule of a table: what may stand behind CONSTRAINT, and keys and indexes as MySQL writes them.
    pub(super) fn rule(&mut self, table: &mut DraftTable, item: &mut Tokens<'_>) -> Result<(), DdlError> {
        let span = item.whole_span();
        let mut name = None;
        if item.takes(&["CONSTRAINT"]) && !matches!(item.word_ahead(0).as_str(), "PRIMARY" | "UNIQUE" | "FOREIGN" | "CHECK") {
            name = Some(item.name()?.text);
        }
        let kind = if item.takes(&["PRIMARY"]) {
            if !item.takes(&["KEY"]) {
                return Err(item.unexpected("KEY"));
            }
            let parts = self.parts_or_index(table, item, &mut name)?;
            ConstraintKind::Primary(parts)
        } else if item.takes(&["UNIQUE"]) {
            item.takes_any(&["KEY", "INDEX"]);
            // Nulls alike or not: generated values of such columns differ either way.
            let _ = item.takes(&["NULLS", "NOT", "DISTINCT"]) || item.takes(&["NULLS", "DISTINCT"]);
            let parts = self.parts_or_index(table, item, &mut name)?;
            ConstraintKind::Unique(parts, None)
        } else if item.takes(&["FOREIGN"]) {
            item.takes(&["KEY"]);
            if !matches!(item.peek(), Token::LParen) {
                name = name.or(Some(item.name()?.text));
            }
            let Some(columns) = item.group() else { return Err(item.unexpected("the columns that refer")) };
            let columns = columns.items().into_iter().map(|mut column| column.name().map(|name| name.text)).collect::<Result<_, _>>()?;
            refers(item, columns)?
        } else if item.takes(&["CHECK"]) {
            ConstraintKind::Check(self.condition(item)?)
        } else if item.takes_any(&["EXCLUDE", "FULLTEXT", "SPATIAL"]) {
            self.pass_over_part(span);
            return Ok(());
        } else if item.takes_any(&["INDEX", "KEY"]) {
            let parts = self.parts(item, &mut name)?;
            ConstraintKind::Index(parts, IndexManner::default())
        } else if item.takes(&["NOT", "NULL"]) {
            if let Some(at) = item.name().ok().and_then(|column| table.column(&column.text)) {
                table.columns[at].nullable = false;
            }
            return Ok(());
        } else {
            return Err(item.unexpected("a rule of the table"));
        };
        table.constraints.push(Constraint { name, kind, span });
        Ok(())
    }

    /// The columns of a key: named, or those of a unique index that becomes the key.
    fn parts_or_index(
        &mut self,
        table: &mut DraftTable,
        item: &mut Tokens<'_>,
        name: &mut Option<String>,
    ) -> Result<Vec<KeyPart>, DdlError> {
        if !item.takes(&["USING", "INDEX"]) {
            return self.parts(item, name);
        }
        let index = item.name()?;
        let named = |constraint: &Constraint| constraint.name.as_ref().is_some_and(|name| name.eq_ignore_ascii_case(&index.text));
        let known = table.constraints.iter().position(|rule| named(rule) && matches!(rule.kind, ConstraintKind::Unique(_, None)));
        match known.map(|at| table.constraints.remove(at).kind) {
            Some(ConstraintKind::Unique(parts, _)) => Ok(parts),
            _ => Err(DdlError::new(format!("`{}` has no unique index `{}`", table.name.text, index.text), index.span)),
        }
    }

    /// The columns of a key or an index, its own name before them where it has one.
    pub(super) fn parts(&mut self, item: &mut Tokens<'_>, name: &mut Option<String>) -> Result<Vec<KeyPart>, DdlError> {
        while !item.is_done() && *item.peek() != Token::LParen {
            if item.takes(&["USING"]) {
                item.next();
                continue;
            }
            let own = item.name()?;
            name.get_or_insert(own.text);
        }
        let Some(list) = item.group() else { return Err(item.unexpected("the columns in parentheses")) };
        list.items().into_iter().map(|mut part| key_part(&mut part)).collect()
    }

    /// A condition in parentheses; what follows it says when it is looked at, and has no bearing.
    pub(super) fn condition(&mut self, item: &mut Tokens<'_>) -> Result<Condition, DdlError> {
        let span = item.span();
        let Some(mut inner) = item.group() else { return Err(item.unexpected("the condition in parentheses")) };
        let (span, sql) = (span.join(inner.whole_span()), inner.text());
        let expr = inner.expression().unwrap_or_else(|error| {
            // What is wrong with it is said where it would be used.
            let why = error.message.trim_start_matches("this statement cannot be read: ").to_owned();
            ast::Expr::Value(ast::Value::Placeholder(format!("something that cannot be read ({why})")).into())
        });
        while item.takes(&["NOT", "VALID"])
            || item.takes(&["NO", "INHERIT"])
            || item.takes(&["NOT", "ENFORCED"])
            || item.takes(&["ENFORCED"])
        {}
        conflict_clause(item);
        Ok(Condition { expr, sql, span })
    }

    /// What a name of a type stands for, where the file or the user says so.
    pub(super) fn meaning_of(&self, word: &str) -> Option<Meaning> {
        self.types.iter().rev().find(|(name, _)| name.eq_ignore_ascii_case(word)).map(|(_, meaning)| meaning.clone())
    }
}

/// A table may be made by columns and a query.
fn inline_as(tokens: &mut Tokens<'_>) -> Option<DdlError> {
    let span = tokens.span();
    (tokens.sees(&["AS", "SELECT"]) || tokens.sees(&["SELECT"]))
        .then(|| DdlError::new("columns that come from a query are not known here", span).hint("write the table with its columns"))
}

fn conflict_clause(item: &mut Tokens<'_>) {
    if item.takes(&["ON", "CONFLICT"]) {
        item.next();
    }
}

/// `column`, `column(10)`, `(expression)`, with an order behind it.
pub(super) fn key_part(part: &mut Tokens<'_>) -> Result<KeyPart, DdlError> {
    let mut ordered = bare_part(part)?;
    // Before its order may stand how texts are compared, which has no bearing.
    while !part.is_done() {
        if part.takes(&["DESC"]) {
            ordered.descending = true;
        } else if part.takes(&["NULLS", "FIRST"]) {
            ordered.nulls_first = Some(true);
        } else if part.takes(&["NULLS", "LAST"]) {
            ordered.nulls_first = Some(false);
        } else {
            part.next();
        }
    }
    Ok(ordered)
}

fn bare_part(part: &mut Tokens<'_>) -> Result<KeyPart, DdlError> {
    let plain = matches!(part.peek(), Token::Word(_) | Token::DoubleQuotedString(_) | Token::SingleQuotedString(_));
    if plain && matches!((part.ahead(1), part.ahead(2), part.ahead(3)), (Token::LParen, Token::Number(..), Token::RParen)) {
        let name = part.name()?;
        let length = part.group().and_then(|mut length| match length.next() {
            Token::Number(text, _) => text.parse().ok(),
            _ => None,
        });
        return Ok(KeyPart { length, ..KeyPart::of(ast::Expr::Identifier(ident(name))) });
    }
    if plain
        && *part.ahead(1) != Token::LParen
        && *part.ahead(1) != Token::Period
        && (*part.ahead(1) == Token::EOF || !part.word_ahead(1).is_empty())
    {
        return Ok(KeyPart::of(ast::Expr::Identifier(ident(part.name()?))));
    }
    Ok(KeyPart::of(part.expression()?))
}

fn ident(name: Name) -> ast::Ident {
    ast::Ident { value: name.text, quote_style: name.quoted.then_some('"'), span: sqlparser::tokenizer::Span::empty() }
}

/// REFERENCES, the parent, and how.
fn refers(item: &mut Tokens<'_>, columns: Vec<String>) -> Result<ConstraintKind, DdlError> {
    if !item.takes(&["REFERENCES"]) {
        return Err(item.unexpected("REFERENCES"));
    }
    let parent = item.object()?;
    let parent_columns = match item.group() {
        Some(list) => list.items().into_iter().map(|mut column| column.name()).collect::<Result<_, _>>()?,
        None => Vec::new(),
    };
    let mut manner = String::new();
    loop {
        if item.takes(&["MATCH"]) {
            item.next();
        } else if item.sees(&["ON", "DELETE"]) || item.sees(&["ON", "UPDATE"]) {
            let what = format!("ON {}", item.word_ahead(1));
            item.takes(&["ON"]);
            item.next();
            let then = ["CASCADE", "RESTRICT"].into_iter().find(|word| item.takes(&[word]));
            let then = then.or_else(|| item.takes(&["SET", "NULL"]).then_some("SET NULL"));
            let then = then.or_else(|| item.takes(&["SET", "DEFAULT"]).then_some("SET DEFAULT"));
            let then = then.or_else(|| item.takes(&["NO", "ACTION"]).then_some("NO ACTION"));
            manner += &format!(" {what} {}", then.ok_or_else(|| item.unexpected("what happens then"))?);
            item.group();
        } else if item.takes(&["NOT", "DEFERRABLE"]) || item.takes(&["INITIALLY", "IMMEDIATE"]) || item.takes(&["NOT", "VALID"]) {
        } else if item.takes(&["DEFERRABLE"]) {
            if !manner.contains("DEFERRABLE") {
                manner += " DEFERRABLE";
            }
        } else if item.takes(&["INITIALLY", "DEFERRED"]) {
            // Those that are looked at late are those that can be.
            if !manner.contains("DEFERRABLE") {
                manner += " DEFERRABLE";
            }
            manner += " INITIALLY DEFERRED";
        } else {
            break;
        }
    }
    Ok(ConstraintKind::Refers { columns, parent, parent_columns, manner })
}
