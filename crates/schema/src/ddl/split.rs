//! Cutting a DDL file into statements.

use crate::place::Span;

/// One statement as it stands in the file, without its semicolon.
#[derive(Clone, Debug, PartialEq)]
pub struct Statement<'a> {
    /// Its text, comments inside included.
    pub text: &'a str,
    /// Its place in the file.
    pub span: Span,
}

/// Cuts at the semicolons that stand outside of quotes, comments, dollar quotes and BEGIN … END bodies. What holds only
/// space and comments is no statement.
pub fn split(text: &str) -> Vec<Statement<'_>> {
    let mut statements = Vec::new();
    let mut start = None;
    let mut end = 0;
    let mut body = 0_usize;
    let mut words: Vec<&str> = Vec::new();
    let mut at = 0;
    while at < text.len() {
        let rest = &text[at..];
        let first = rest.as_bytes()[0];
        let (length, counts) = match first {
            b'-' if rest.starts_with("--") => (line(rest), false),
            b'/' if rest.starts_with("/*") => (comment(rest), false),
            b'\'' | b'"' | b'`' => (quoted(rest, first), true),
            b'[' => (rest.find(']').map_or(rest.len(), |close| close + 1), true),
            b'$' => (dollar_quoted(rest), true),
            b';' if body == 0 => {
                push(&mut statements, text, start.take(), end);
                words.clear();
                at += 1;
                continue;
            }
            c if c.is_ascii_whitespace() => (1, false),
            _ => {
                let word = word(rest);
                if !word.is_empty() {
                    match word.to_ascii_uppercase().as_str() {
                        "BEGIN" if words.first().is_some_and(|first| first.eq_ignore_ascii_case("create")) => body += 1,
                        "CASE" if body > 0 => body += 1,
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
    push(&mut statements, text, start, end);
    statements
}

fn push<'a>(statements: &mut Vec<Statement<'a>>, text: &'a str, start: Option<usize>, end: usize) {
    if let Some(start) = start {
        statements.push(Statement { text: &text[start..end], span: Span::new(start, end) });
    }
}

fn line(rest: &str) -> usize {
    rest.find('\n').map_or(rest.len(), |end| end + 1)
}

fn comment(rest: &str) -> usize {
    rest[2..].find("*/").map_or(rest.len(), |end| end + 4)
}

/// Up to the closing quote; a doubled quote does not close.
fn quoted(rest: &str, quote: u8) -> usize {
    let bytes = rest.as_bytes();
    let mut at = 1;
    while at < bytes.len() {
        if bytes[at] == quote {
            if bytes.get(at + 1) != Some(&quote) {
                return at + 1;
            }
            at += 1;
        }
        at += 1;
    }
    rest.len()
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
        split(text).into_iter().map(|statement| statement.text).collect()
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
    }

    proptest::proptest! {
        #[test]
        fn no_text_makes_it_panic(text in "[a-zü;'\"$\\[\\]/*\n -]{0,60}") {
            for statement in split(&text) {
                proptest::prop_assert_eq!(&text[statement.span.start..statement.span.end], statement.text);
            }
        }
    }
}
