//! A statement as tokens, read from left to right.

use std::rc::Rc;

use sqlparser::ast;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer, Word};

use super::dialect::SqlDialect;
use super::read::DdlError;
use super::split::Statement;
use crate::place::{LineColumn, Span};

/// Deeper nesting than this is refused, so that no text can exhaust the stack.
const DEEPEST: usize = 48;
/// More operators than this in one expression are refused, for the same reason: `a OR b OR c` is a tree as deep as it is long.
const MOST_OPERATORS: usize = 10_000;

/// A name with what the file says about it.
#[derive(Clone, Debug)]
pub(super) struct Name {
    pub(super) text: String,
    pub(super) quoted: bool,
    pub(super) span: Span,
}

/// A part of a statement.
#[derive(Clone)]
pub(super) struct Tokens<'a> {
    statement: &'a Statement<'a>,
    pub(super) dialect: SqlDialect,
    tokens: Rc<[TokenWithSpan]>,
    /// The place of each token in the file.
    places: Rc<[Span]>,
    at: usize,
    end: usize,
}

impl<'a> Tokens<'a> {
    pub(super) fn of(statement: &'a Statement<'a>, dialect: SqlDialect) -> Result<Tokens<'a>, DdlError> {
        let tokens = Tokenizer::new(dialect.parser(), statement.text).tokenize_with_location();
        let tokens = tokens.map_err(|error| {
            let place = LineColumn { line: error.location.line as usize, column: error.location.column as usize };
            let at = statement.span.start + place.offset_in(statement.text);
            DdlError::new(format!("this statement cannot be read: {}", error.message), Span::new(at, at + 1))
        })?;
        let tokens: Vec<TokenWithSpan> = tokens.into_iter().filter(|token| !matches!(token.token, Token::Whitespace(_))).collect();
        let tokens = without_globs(tokens);
        let mut reached = Reached { text: statement.text, offset: 0, line: 1, column: 1 };
        let places = tokens.iter().map(|token| {
            let start = reached.at(token.span.start);
            Span::new(start, reached.at(token.span.end).max(start)).shifted(statement.span.start)
        });
        Ok(Tokens { statement, dialect, end: tokens.len(), places: places.collect(), tokens: tokens.into(), at: 0 })
    }

    pub(super) fn is_done(&self) -> bool {
        self.at >= self.end
    }

    pub(super) fn peek(&self) -> &Token {
        self.ahead(0)
    }

    pub(super) fn ahead(&self, by: usize) -> &Token {
        if self.at + by < self.end { &self.tokens[self.at + by].token } else { &Token::EOF }
    }

    /// The place of the next token; that behind the last one at the end.
    pub(super) fn span(&self) -> Span {
        match self.places.get(self.at) {
            Some(place) if self.at < self.end => *place,
            _ => Span::new(self.statement.span.end, self.statement.span.end),
        }
    }

    /// From the next token to the last.
    pub(super) fn whole_span(&self) -> Span {
        match self.places.get(self.end.saturating_sub(1)) {
            Some(last) if self.end > self.at => self.span().join(*last),
            _ => self.span(),
        }
    }

    pub(super) fn next(&mut self) -> Token {
        let token = self.peek().clone();
        self.at += usize::from(self.at < self.end);
        token
    }

    /// A word that is not in quotes, in capital letters; empty for anything else.
    pub(super) fn word_ahead(&self, by: usize) -> String {
        match self.ahead(by) {
            Token::Word(Word { value, quote_style: None, .. }) => value.to_ascii_uppercase(),
            _ => String::new(),
        }
    }

    /// Whether these words come next.
    pub(super) fn sees(&self, words: &[&str]) -> bool {
        words.iter().enumerate().all(|(by, word)| self.word_ahead(by) == *word)
    }

    /// Takes these words where they come next.
    pub(super) fn takes(&mut self, words: &[&str]) -> bool {
        let sees = self.sees(words);
        if sees {
            self.at += words.len();
        }
        sees
    }

    /// Takes one of some words where it comes next.
    pub(super) fn takes_any(&mut self, words: &[&str]) -> bool {
        words.iter().any(|word| self.takes(&[word]))
    }

    pub(super) fn symbol(&mut self, symbol: &Token) -> bool {
        let sees = self.peek() == symbol;
        self.at += usize::from(sees);
        sees
    }

    /// A name, in quotes or not.
    pub(super) fn name(&mut self) -> Result<Name, DdlError> {
        let span = self.span();
        let (text, quoted) = match self.peek() {
            Token::Word(word) => (word.value.clone(), word.quote_style.is_some()),
            Token::DoubleQuotedString(text) | Token::SingleQuotedString(text) => (text.clone(), true),
            _ => return Err(self.unexpected("a name")),
        };
        self.at += 1;
        Ok(Name { text, quoted, span })
    }

    /// A name with those of databases and schemas before it, which say nothing here.
    pub(super) fn object(&mut self) -> Result<Name, DdlError> {
        let mut name = self.name()?;
        while self.symbol(&Token::Period) {
            name = self.name()?;
        }
        Ok(name)
    }

    /// Only the name that comes next, with what stands before it.
    pub(super) fn clone_first_name(&self) -> Result<Tokens<'a>, DdlError> {
        let mut rest = self.clone();
        rest.object()?;
        Ok(Tokens { end: rest.at, ..self.clone() })
    }

    /// What stands in the parentheses that come next, if any; they are taken.
    pub(super) fn group(&mut self) -> Option<Tokens<'a>> {
        if *self.peek() != Token::LParen {
            return None;
        }
        let (mut depth, start) = (0_usize, self.at + 1);
        while self.at < self.end {
            match self.tokens[self.at].token {
                Token::LParen => depth += 1,
                Token::RParen => depth -= 1,
                _ => {}
            }
            self.at += 1;
            if depth == 0 {
                return Some(Tokens { at: start, end: self.at - 1, ..self.clone() });
            }
        }
        Some(Tokens { at: start, end: self.end, ..self.clone() })
    }

    /// The parts between the commas that stand outside of parentheses.
    pub(super) fn items(&self) -> Vec<Tokens<'a>> {
        let mut items = Vec::new();
        let (mut depth, mut start) = (0_i32, self.at);
        for at in self.at..self.end {
            match self.tokens[at].token {
                Token::LParen | Token::LBracket => depth += 1,
                Token::RParen | Token::RBracket => depth -= 1,
                Token::Comma if depth == 0 => {
                    items.push(Tokens { at: start, end: at, ..self.clone() });
                    start = at + 1;
                }
                _ => {}
            }
        }
        if start < self.end {
            items.push(Tokens { at: start, end: self.end, ..self.clone() });
        }
        items
    }

    /// The place of what is left that can only be the beginning of another statement.
    pub(super) fn next_statement(&self) -> Option<Span> {
        const FIRST: [[&str; 2]; 7] = [
            ["CREATE", "TABLE"],
            ["CREATE", "INDEX"],
            ["CREATE", "UNIQUE"],
            ["CREATE", "TYPE"],
            ["ALTER", "TABLE"],
            ["DROP", "TABLE"],
            ["INSERT", "INTO"],
        ];
        let from = |at| Tokens { at, ..self.clone() };
        (self.at..self.end).find(|&at| FIRST.iter().any(|words| from(at).sees(words))).map(|at| self.places[at])
    }

    /// An expression; what stands behind it is left.
    pub(super) fn expression(&mut self) -> Result<ast::Expr, DdlError> {
        let rest: Vec<TokenWithSpan> = self.tokens[self.at.min(self.end)..self.end].to_vec();
        if rest.iter().filter(|token| is_operator(&token.token)).nth(MOST_OPERATORS).is_some() {
            let message = format!("it has more than {MOST_OPERATORS} operators");
            return Err(DdlError::new(message, self.span()).hint("write it as a list, x IN (…), or leave it out"));
        }
        let mut parser = Parser::new(self.dialect.parser()).with_recursion_limit(DEEPEST).with_tokens_with_locations(rest);
        let parsed = parser.parse_expr().map_err(|error| self.worded(&error))?;
        self.at = (self.at + parser.index()).min(self.end);
        Ok(parsed)
    }

    /// An expression that ends where an option of a column could begin: `DEFAULT 1 NOT NULL` ends before NOT.
    pub(super) fn default_expression(&mut self) -> Result<ast::Expr, DdlError> {
        let mut part = self.clone();
        let mut depth = 0_i32;
        for at in self.at..self.end {
            match &self.tokens[at].token {
                Token::LParen | Token::LBracket => depth += 1,
                Token::RParen | Token::RBracket => depth -= 1,
                Token::Word(word) if depth == 0 && at > self.at && word.quote_style.is_none() => {
                    let word = word.value.to_ascii_uppercase();
                    let ends = [
                        "NOT",
                        "NULL",
                        "PRIMARY",
                        "UNIQUE",
                        "CHECK",
                        "REFERENCES",
                        "CONSTRAINT",
                        "COLLATE",
                        "ON",
                        "COMMENT",
                        "AUTO_INCREMENT",
                        "AFTER",
                        "FIRST",
                        "KEY",
                    ];
                    if ends.contains(&word.as_str()) {
                        part.end = at;
                        break;
                    }
                }
                _ => {}
            }
        }
        let parsed = part.expression();
        self.at = if parsed.is_ok() { part.at } else { part.end };
        // A default that is not understood is one that the database computes.
        parsed.or_else(|_| Ok(ast::Expr::Identifier(ast::Ident::new("computed"))))
    }

    /// The parser writes its place into the message: `… at Line: 3, Column: 7`.
    fn worded(&self, error: &ParserError) -> DdlError {
        let text = match error {
            ParserError::TokenizerError(text) | ParserError::ParserError(text) => text.as_str(),
            ParserError::RecursionLimitExceeded => "it is nested too deeply",
        };
        let (message, place) = text.rsplit_once(" at Line: ").unwrap_or((text, ""));
        let numbers: Vec<usize> = place.split(", Column: ").filter_map(|number| number.trim().parse().ok()).collect();
        let at = match numbers.as_slice() {
            [line, column] => LineColumn { line: *line, column: *column }.offset_in(self.statement.text) + self.statement.span.start,
            _ => self.span().start,
        };
        let mut message = message.trim().to_owned();
        if let Some(rest) = message.strip_prefix("Expected: ") {
            message = format!("expected {}", rest.replace(", found: ", ", found `") + if rest.contains(", found: ") { "`" } else { "" });
        }
        DdlError::new(format!("this statement cannot be read: {message}"), Span::new(at, at + 1))
    }

    /// Something else was expected here.
    pub(super) fn unexpected(&self, expected: &str) -> DdlError {
        let found = match self.peek() {
            Token::EOF => "the end".to_owned(),
            other => format!("`{other}`"),
        };
        DdlError::new(format!("this statement cannot be read: expected {expected}, found {found}"), self.span())
    }

    /// Goes on to the next word that is sure to begin an option of a column.
    pub(super) fn skip_to_options(&mut self) {
        let sure = ["NOT", "NULL", "DEFAULT", "PRIMARY", "UNIQUE", "CHECK", "REFERENCES", "CONSTRAINT", "COLLATE", "COMMENT"];
        while !self.is_done() && !sure.contains(&self.word_ahead(0).as_str()) {
            self.at += 1;
        }
    }

    /// The text of the statement up to the last token of this part.
    pub(super) fn whole_text(&self) -> &str {
        let end = self.places[..self.end].last().map_or(self.statement.span.start, |last| last.end);
        self.statement.text.get(..end.saturating_sub(self.statement.span.start)).unwrap_or_default()
    }

    /// The text of what is left.
    pub(super) fn text(&self) -> String {
        let span = self.whole_span();
        let from = span.start.saturating_sub(self.statement.span.start);
        let to = span.end.saturating_sub(self.statement.span.start);
        self.statement.text.get(from..to).unwrap_or_default().to_owned()
    }
}

/// Whether a token joins two terms or stands before one: a tree of an expression is at most as deep as there are of these.
fn is_operator(token: &Token) -> bool {
    match token {
        Token::Word(word) => {
            word.quote_style.is_none() && ["AND", "OR", "NOT", "COLLATE", "IS"].iter().any(|own| word.value.eq_ignore_ascii_case(own))
        }
        Token::Plus | Token::Minus | Token::Mul | Token::Div | Token::Mod | Token::StringConcat | Token::DoubleColon => true,
        _ => false,
    }
}

/// Goes along a text once and finds the offsets of places in it that come in order.
struct Reached<'a> {
    text: &'a str,
    offset: usize,
    line: u64,
    column: u64,
}

impl Reached<'_> {
    fn at(&mut self, place: Location) -> usize {
        // The place of a token that a comment was left out before is never behind the one reached.
        if (place.line, place.column) < (self.line, self.column) {
            return LineColumn { line: place.line as usize, column: place.column as usize }.offset_in(self.text);
        }
        for c in self.text[self.offset..].chars() {
            if (self.line, self.column) >= (place.line, place.column) {
                break;
            }
            self.offset += c.len_utf8();
            self.column += 1;
            if c == '\n' {
                (self.line, self.column) = (self.line + 1, 1);
            }
        }
        self.offset
    }
}

/// The parser does not know `x GLOB 'pattern'`; the same is said by a regular expression.
fn without_globs(mut tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    for at in 1..tokens.len() {
        let (before, rest) = tokens.split_at_mut(at);
        let (Some(TokenWithSpan { token: Token::Word(word), .. }), Some(pattern)) = (before.last_mut(), rest.first_mut()) else { continue };
        if let Token::SingleQuotedString(glob) = &mut pattern.token
            && word.quote_style.is_none()
            && word.value.eq_ignore_ascii_case("glob")
        {
            *glob = crate::expr::glob(glob);
            before[at - 1].token = Token::make_keyword("REGEXP");
        }
    }
    tokens
}
