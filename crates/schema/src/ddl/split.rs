//! Cutting a DDL file into statements.

use super::dialect::SqlDialect;
use crate::place::Span;

/// One statement as it stands in the file, without its semicolon.
#[derive(Clone, Debug, PartialEq)]
pub struct Statement<'a> {
    /// Its text, comments inside included.
    pub text: &'a str,
    /// Its place in the file.
    pub span: Span,
    /// The lines of data behind it, up to the one that ends them: what `COPY … FROM stdin` reads.
    pub data: Option<&'a str>,
    /// Whether these lines come to the end that they should have.
    pub has_end: bool,
    /// What in it has no other half, and where that stands in the file.
    pub lone: Option<(Lone, usize)>,
}

/// One half of what comes in two.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lone {
    /// A parenthesis that is not closed.
    Open,
    /// One that closes what was not opened.
    Close,
    /// A quote that is not closed: what stands behind it up to the end of the file is taken for a text.
    Quote,
    /// A comment that is not closed, likewise.
    Comment,
}

/// Cuts at the semicolons that stand outside of quotes, comments, dollar quotes and BEGIN … END bodies. What holds only
/// space and comments is no statement. Lines that talk to a command-line client are left out: those that begin with a backslash,
/// and `DELIMITER`, which sets what statements end with from there on.
pub fn split(text: &str, dialect: SqlDialect) -> Vec<Statement<'_>> {
    let mut statements = Vec::new();
    let mut start = None;
    let mut end = 0;
    let mut body = 0_usize;
    let mut words: Vec<&str> = Vec::new();
    let mut delimiter = ";";
    let mut halves = Halves::default();
    let mut at = 0;
    while at < text.len() {
        let rest = &text[at..];
        let first = rest.as_bytes()[0];
        let ends_here = rest.starts_with(delimiter) && (body == 0 || delimiter != ";");
        let (length, counts) = match first {
            _ if ends_here => {
                at += delimiter.len();
                push(&mut statements, text, start.take(), end, halves.take());
                (body, end) = (0, at);
                if words.first().is_some_and(|first| first.eq_ignore_ascii_case("copy"))
                    && words.windows(2).any(|pair| pair[0].eq_ignore_ascii_case("from") && pair[1].eq_ignore_ascii_case("stdin"))
                    && let Some(statement) = statements.last_mut()
                {
                    let from = at + line(&text[at..]);
                    let (data, has_end) = data(&text[from..]);
                    (statement.data, statement.has_end) = (Some(data), has_end);
                    at = from + data.len();
                    if has_end {
                        at += line(&text[at..]);
                    }
                }
                words.clear();
                continue;
            }
            b'\\' if start.is_none() => (line(rest), false),
            b'-' if rest.starts_with("--") => (line(rest), false),
            b'#' if dialect == SqlDialect::Mysql => (line(rest), false),
            b'/' if rest.starts_with("/*") => match comment(rest) {
                Some(length) => (length, false),
                None => (halves.lone(Lone::Comment, at, rest), true),
            },
            b'\'' | b'"' | b'`' => match quoted(rest, first, dialect == SqlDialect::Mysql || escapes(text, at)) {
                Some(length) => (length, true),
                None => (halves.lone(Lone::Quote, at, rest), true),
            },
            b'(' => {
                halves.open.push(at);
                (1, true)
            }
            b')' => {
                if halves.open.pop().is_none() {
                    halves.lone.get_or_insert((Lone::Close, at));
                }
                (1, true)
            }
            b'[' if dialect == SqlDialect::Sqlite => (rest.find(']').map_or(rest.len(), |close| close + 1), true),
            b'$' => (dollar_quoted(rest), true),
            c if c.is_ascii_whitespace() => (1, false),
            _ => {
                let word = word(rest);
                if start.is_none() && word.eq_ignore_ascii_case("delimiter") {
                    let length = line(rest);
                    delimiter = rest[word.len()..length].split_whitespace().next().unwrap_or(";");
                    at += length;
                    continue;
                }
                if !word.is_empty() {
                    let created = words.first().is_some_and(|first| first.eq_ignore_ascii_case("create"));
                    let after_end = words.last().is_some_and(|last| last.eq_ignore_ascii_case("end"));
                    match word.to_ascii_uppercase().as_str() {
                        "BEGIN" if created => body += 1,
                        "CASE" if body > 0 && !after_end => body += 1,
                        // END IF and the like close what was not counted.
                        "IF" | "WHILE" | "LOOP" | "REPEAT" | "FOR" if created && after_end => body += 1,
                        "END" => body = body.saturating_sub(1),
                        _ => {}
                    }
                    words.push(word);
                }
                (word.len().max(rest.chars().next().map_or(1, char::len_utf8)), true)
            }
        };
        if counts {
            start.get_or_insert(at);
            end = at + length;
        }
        at += length;
    }
    push(&mut statements, text, start, end, halves.take());
    statements
}

/// What was opened in a statement, and what has no other half.
#[derive(Default)]
struct Halves {
    open: Vec<usize>,
    lone: Option<(Lone, usize)>,
}

impl Halves {
    /// Notes what is not closed in all that is left; gives how long that is.
    fn lone(&mut self, what: Lone, at: usize, rest: &str) -> usize {
        self.lone = Some((what, at));
        rest.len()
    }

    /// What has no other half at the end of a statement.
    fn take(&mut self) -> Option<(Lone, usize)> {
        let open = self.open.last().map(|&at| (Lone::Open, at));
        self.open.clear();
        self.lone.take().or(open)
    }
}

/// Whether the quote at a place opens a text with backslash escapes, `E'…'`.
fn escapes(text: &str, at: usize) -> bool {
    let before = &text[..at];
    before.ends_with(['e', 'E']) && !before[..at - 1].ends_with(|c: char| c.is_alphanumeric() || c == '_')
}

/// Lines up to the one that ends the data of a COPY, and whether there is one. Without, the data ends before the first line that begins
/// like a statement: what stands there must not be taken for rows.
fn data(rest: &str) -> (&str, bool) {
    let mut at = 0;
    for line in rest.split_inclusive('\n') {
        if line.trim_end() == "\\." {
            return (&rest[..at], true);
        }
        at += line.len();
    }
    let mut at = 0;
    for line in rest.split_inclusive('\n') {
        if begins_statement(line) {
            break;
        }
        at += line.len();
    }
    (&rest[..at], false)
}

/// Whether a line begins like a statement of a dump, and not like a row.
fn begins_statement(line: &str) -> bool {
    const FIRST: [&str; 14] =
        ["CREATE", "ALTER", "DROP", "INSERT", "COPY", "COMMENT", "SELECT", "SET", "GRANT", "REVOKE", "BEGIN", "COMMIT", "UPDATE", "DELETE"];
    let word = word(line);
    line.starts_with("--") || (FIRST.contains(&word) && (line[word.len()..].starts_with(' ') || line[word.len()..].starts_with(';')))
}

fn push<'a>(statements: &mut Vec<Statement<'a>>, text: &'a str, start: Option<usize>, end: usize, lone: Option<(Lone, usize)>) {
    if let Some(start) = start {
        statements.push(Statement { text: &text[start..end], span: Span::new(start, end), data: None, has_end: true, lone });
    }
}

fn line(rest: &str) -> usize {
    rest.find('\n').map_or(rest.len(), |end| end + 1)
}

fn comment(rest: &str) -> Option<usize> {
    rest[2..].find("*/").map(|end| end + 4)
}

/// Up to the closing quote; a doubled quote does not close.
fn quoted(rest: &str, quote: u8, escapes: bool) -> Option<usize> {
    let bytes = rest.as_bytes();
    let mut at = 1;
    while at < bytes.len() {
        if escapes && bytes[at] == b'\\' && quote != b'`' {
            // What is escaped may be the first of several bytes; the others are never a quote.
            at = (at + 2).min(rest.len());
            continue;
        }
        if bytes[at] == quote {
            if bytes.get(at + 1) != Some(&quote) {
                return Some(at + 1);
            }
            at += 1;
        }
        at += 1;
    }
    None
}

fn dollar_quoted(rest: &str) -> usize {
    let tag_end = rest[1..].find(|c: char| !(c.is_alphanumeric() || c == '_')).map_or(rest.len(), |end| end + 1);
    if rest.as_bytes().get(tag_end) != Some(&b'$') {
        return 1;
    }
    let tag = &rest[..=tag_end];
    rest[tag.len()..].find(tag).map_or(rest.len(), |end| tag.len() + end + tag.len())
}

fn word(rest: &str) -> &str {
    let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len());
    &rest[..end]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(text: &str) -> Vec<&str> {
        split(text, SqlDialect::Standard).into_iter().map(|statement| statement.text).collect()
    }

    #[test]
    fn semicolons_inside_quotes_comments_and_bodies_do_not_cut() {
        assert_eq!(texts("a ';' b; -- c;\n d \"e;\" /* ; */ f;;"), ["a ';' b", "d \"e;\" /* ; */ f"]);
        assert_eq!(texts("create function f() as $body$ x; $$ y; $body$; g"), ["create function f() as $body$ x; $$ y; $body$", "g"]);
        let trigger = "CREATE TRIGGER t AFTER INSERT ON h BEGIN UPDATE h SET x = CASE WHEN 1 THEN 2 END; SELECT 1; END";
        assert_eq!(texts(&format!("{trigger}; SELECT 2")), [trigger, "SELECT 2"]);
        assert_eq!(texts("BEGIN; a; END;"), ["BEGIN", "a", "END"]);
        assert_eq!(texts(" -- nothing\n"), [""; 0]);
        assert_eq!(texts("x 'it''s; ü' ; y"), ["x 'it''s; ü'", "y"]);
        assert_eq!(texts("x E'it\\'s; ü' ; y"), ["x E'it\\'s; ü'", "y"]);
    }

    #[test]
    fn what_clients_write_into_dumps_is_understood() {
        let mysql = "# a; b\nINSERT INTO t VALUES ('it\\'s; x');\nDELIMITER ;;\nCREATE TRIGGER t BEGIN IF a THEN b; END IF; END ;;\nDELIMITER ;\nx;";
        let found: Vec<&str> = split(mysql, SqlDialect::Mysql).into_iter().map(|statement| statement.text).collect();
        assert_eq!(found, ["INSERT INTO t VALUES ('it\\'s; x')", "CREATE TRIGGER t BEGIN IF a THEN b; END IF; END", "x"]);
        let copy = "\\connect a;\nCOPY t (a, b) FROM stdin;\n1\tit's; so\n\\.\n\nCREATE TABLE t (a int);";
        let found = split(copy, SqlDialect::Postgres);
        assert_eq!((found[0].text, found[0].data), ("COPY t (a, b) FROM stdin", Some("1\tit's; so\n")));
        assert_eq!(found[1].text, "CREATE TABLE t (a int)");
        let body = "CREATE PROCEDURE p() BEGIN IF a THEN b; END IF; CASE x WHEN 1 THEN y; END CASE; z; END; q";
        assert_eq!(texts(body).len(), 2);
    }

    proptest::proptest! {
        #![proptest_config(kampf_mangle::property(256))]
        #[test]
        fn no_text_makes_it_panic(text in "[a-zü;#'\"$\\\\`\\[\\]/*\n -]{0,60}") {
            for dialect in SqlDialect::ALL {
                for statement in split(&text, dialect) {
                    proptest::prop_assert_eq!(&text[statement.span.start..statement.span.end], statement.text);
                }
            }
        }
    }
}
