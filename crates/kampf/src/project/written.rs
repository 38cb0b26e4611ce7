//! Strings as they stand in kampf.toml, so that a place in a string's value can be shown in the file.

use kampf_schema::Span;

/// A string of kampf.toml.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Written {
    /// Its value.
    pub(crate) value: String,
    /// Where it stands, quotes included.
    pub(crate) span: Span,
    /// For every byte of the value, and for its end, the offset in the file it comes from.
    offsets: Vec<usize>,
}

impl Written {
    /// The string whose token stands at `span` of the file `text` and has the value `value`.
    pub(crate) fn new(text: &str, span: Span, value: &str) -> Written {
        let token = text.get(span.start..span.end).unwrap_or_default();
        // TOML leaves it to the parser whether line breaks of two characters become one.
        let (decoded, offsets) =
            [false, true].map(|one| decode(token, span.start, one)).into_iter().find(|(text, _)| text == value).unwrap_or_default();
        // A bare key, or a form this decoder does not know: its places are those of the token.
        let offsets = if decoded == value && !offsets.is_empty() {
            offsets
        } else if token == value {
            (span.start..=span.end).collect()
        } else {
            vec![span.start; value.len() + 1]
        };
        Written { value: value.to_owned(), span, offsets }
    }

    /// A place in the value as a place in the file.
    pub(crate) fn place(&self, span: Span) -> Span {
        let at = |offset: usize| self.offsets[offset.min(self.offsets.len() - 1)];
        Span::new(at(span.start), at(span.end).max(at(span.start)))
    }
}

/// The value of a TOML string token (TOML 1.0, "String"), and where each of its bytes comes from.
fn decode(token: &str, start: usize, one_break: bool) -> (String, Vec<usize>) {
    let mut value = String::new();
    let mut offsets = Vec::new();
    let (quote, escapes) = match token {
        _ if token.starts_with("\"\"\"") => ("\"\"\"", true),
        _ if token.starts_with("'''") => ("'''", false),
        _ if token.starts_with('"') => ("\"", true),
        _ if token.starts_with('\'') => ("'", false),
        _ => return (value, offsets),
    };
    let multi_line = quote.len() == 3;
    if token.len() < 2 * quote.len() || !token.ends_with(quote) {
        return (value, offsets);
    }
    let end = token.len() - quote.len();
    let mut at = quote.len();
    if multi_line {
        // A line break right behind the opening quotes does not count.
        let rest = token[at..].strip_prefix("\r\n").or_else(|| token[at..].strip_prefix('\n'));
        at = rest.map_or(at, |rest| token.len() - rest.len());
    }
    let mut push = |text: &str, from: usize| {
        value.push_str(text);
        offsets.extend(std::iter::repeat_n(from, text.len()));
    };
    while at < end {
        let rest = &token[at..end];
        let Some(c) = rest.chars().next() else { break };
        if c != '\\' || !escapes {
            let width = c.len_utf8();
            if one_break && rest.starts_with("\r\n") {
                push("\n", start + at);
                at += 2;
            } else {
                push(&rest[..width], start + at);
                at += width;
            }
            continue;
        }
        let escape = rest[1..].chars().next().unwrap_or(' ');
        let digits = match escape {
            'x' => 2,
            'u' => 4,
            'U' => 8,
            _ => 0,
        };
        let code = rest.get(2..2 + digits).and_then(|digits| u32::from_str_radix(digits, 16).ok()).and_then(char::from_u32);
        let simple = match escape {
            'b' => Some('\u{8}'),
            't' => Some('\t'),
            'n' => Some('\n'),
            'f' => Some('\u{c}'),
            'r' => Some('\r'),
            'e' => Some('\u{1b}'),
            '"' | '\\' => Some(escape),
            _ => None,
        };
        match simple.or(code.filter(|_| digits > 0)) {
            Some(c) => {
                push(c.encode_utf8(&mut [0; 4]), start + at);
                at += 1 + escape.len_utf8() + digits;
            }
            // A backslash at the end of a line swallows the space behind it.
            None => at += 1 + rest[1..].len() - rest[1..].trim_start().len(),
        }
    }
    offsets.push(start + end);
    (value, offsets)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str, key: &str, needle: &str) -> String {
        let table = toml::de::DeTable::parse(text).unwrap();
        let value = table.get_ref().get(key).unwrap();
        let range = value.span();
        let written = Written::new(text, Span::new(range.start, range.end), value.get_ref().as_str().unwrap());
        let at = written.value.find(needle).unwrap();
        let span = written.place(Span::new(at, at + needle.len()));
        text[span.start..span.end].to_owned()
    }

    #[test]
    fn a_place_in_the_value_is_found_in_every_form_of_string() {
        assert_eq!(found("a = \"x lable y\"", "a", "lable"), "lable");
        assert_eq!(found("a = 'x lable y'", "a", "lable"), "lable");
        assert_eq!(found("a = \"\\t\\\"ü\\u00e9\\\" lable\"", "a", "lable"), "lable");
        assert_eq!(found("a = \"\"\"\n  one\n  \\\n   \n two lable\"\"\"", "a", "lable"), "lable");
        assert_eq!(found("a = '''\r\n  one\r\n  lable'''", "a", "lable"), "lable");
        assert_eq!(found("a = \"l\\u0061ble\"", "a", "lable"), "l\\u0061ble");
    }

    proptest::proptest! {
        #![proptest_config(kampf_mangle::property(256))]
        #[test]
        fn every_string_decodes_to_its_value(text in "[a-zü\"'\\\\\n ]{0,20}") {
            let file = format!("a = {}", toml::Value::String(text.clone()));
            let table = toml::de::DeTable::parse(&file).unwrap();
            let range = table.get_ref().get("a").unwrap().span();
            let (decoded, offsets) = decode(&file[range.clone()], range.start, false);
            proptest::prop_assert_eq!(&decoded, &text);
            proptest::prop_assert_eq!(offsets.len(), text.len() + 1);
        }

        #[test]
        fn no_token_makes_it_panic(token in "[\"'\\\\xu0a\nü ]{0,12}") {
            let _ = Written::new(&token, Span::new(0, token.len()), "a");
        }
    }
}
