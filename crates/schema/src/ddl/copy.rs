//! `COPY … FROM stdin` and the lines behind it, in PostgreSQL's text and CSV formats (its manual, "COPY", "File Formats").

use sqlparser::tokenizer::Token;

use super::draft::{Seed, SeedRows};
use super::insert::MOST_ROWS;
use super::read::{DdlError, Replay};
use super::tokens::Tokens;

/// How the lines are to be read.
#[derive(Clone, Debug, PartialEq)]
struct Format {
    csv: bool,
    binary: bool,
    delimiter: Option<char>,
    null: Option<String>,
    header: bool,
    quote: char,
    escape: Option<char>,
}

impl Default for Format {
    fn default() -> Format {
        Format { csv: false, binary: false, delimiter: None, null: None, header: false, quote: '"', escape: None }
    }
}

impl Format {
    fn delimiter(&self) -> char {
        self.delimiter.unwrap_or(if self.csv { ',' } else { '\t' })
    }

    fn null(&self) -> &str {
        self.null.as_deref().unwrap_or(if self.csv { "" } else { "\\N" })
    }

    /// What stands behind FROM stdin: options in parentheses, or the words of before there were any.
    fn read(tokens: &mut Tokens<'_>) -> Format {
        let mut format = Format::default();
        tokens.takes(&["WITH"]);
        if let Some(list) = tokens.group() {
            list.items().into_iter().for_each(|mut option| format.option(&mut option));
            return format;
        }
        while !tokens.is_done() && !tokens.sees(&["WHERE"]) {
            format.option(tokens);
        }
        format
    }

    /// One option; what says nothing of how lines are read is passed over.
    fn option(&mut self, tokens: &mut Tokens<'_>) {
        let word = tokens.word_ahead(0);
        tokens.next();
        match word.as_str() {
            "FORMAT" => self.option(tokens),
            "CSV" => self.csv = true,
            "BINARY" => self.binary = true,
            "HEADER" => {
                let is_off = tokens.takes_any(&["FALSE", "OFF"]) || matches!(tokens.peek(), Token::Number(number, _) if number == "0");
                self.header = !is_off;
                tokens.takes_any(&["TRUE", "ON", "MATCH"]);
            }
            "DELIMITER" | "DELIMITERS" => self.delimiter = text(tokens).and_then(|text| text.chars().next()),
            "NULL" => self.null = text(tokens),
            "QUOTE" => self.quote = text(tokens).and_then(|text| text.chars().next()).unwrap_or('"'),
            "ESCAPE" => self.escape = text(tokens).and_then(|text| text.chars().next()),
            _ => {}
        }
    }

    /// The first rows, each with its fields; none for a field that is null.
    fn rows(&self, data: &str, most: usize) -> Vec<Vec<Option<String>>> {
        let rows = if self.csv { self.csv_rows(data, most) } else { self.text_rows(data, most) };
        rows.into_iter().skip(usize::from(self.header)).collect()
    }

    fn text_rows(&self, data: &str, most: usize) -> Vec<Vec<Option<String>>> {
        let field = |field: &str| (field != self.null()).then(|| unescaped(field));
        let line = |line: &str| fields(line, self.delimiter()).into_iter().map(field).collect();
        data.lines().take(most).map(line).collect()
    }

    /// A field in quotes may hold delimiters, line breaks, and quotes that are escaped; without quotes it may be null.
    fn csv_rows(&self, data: &str, most: usize) -> Vec<Vec<Option<String>>> {
        let escape = self.escape.unwrap_or(self.quote);
        let (mut rows, mut row) = (Vec::new(), Vec::new());
        let (mut field, mut was_quoted, mut inside) = (String::new(), false, false);
        let mut characters = data.chars().peekable();
        let finish = |field: &mut String, was_quoted: &mut bool| {
            let text = std::mem::take(field);
            let is_null = !std::mem::take(was_quoted) && text == self.null();
            (!is_null).then_some(text)
        };
        while let Some(character) = characters.next() {
            if inside {
                match character {
                    escaped if escaped == escape && characters.peek().is_some_and(|next| *next == self.quote || *next == escape) => {
                        field.extend(characters.next());
                    }
                    quote if quote == self.quote => inside = false,
                    other => field.push(other),
                }
                continue;
            }
            match character {
                quote if quote == self.quote => (inside, was_quoted) = (true, true),
                delimiter if delimiter == self.delimiter() => row.push(finish(&mut field, &mut was_quoted)),
                '\r' if characters.peek() == Some(&'\n') => {}
                '\n' => {
                    row.push(finish(&mut field, &mut was_quoted));
                    rows.push(std::mem::take(&mut row));
                    if rows.len() == most {
                        return rows;
                    }
                }
                other => field.push(other),
            }
        }
        if !field.is_empty() || !row.is_empty() || was_quoted {
            row.push(finish(&mut field, &mut was_quoted));
            rows.push(row);
        }
        rows
    }
}

/// The text that an option is given, with or without AS.
fn text(tokens: &mut Tokens<'_>) -> Option<String> {
    tokens.takes(&["AS"]);
    match tokens.next() {
        Token::SingleQuotedString(text) => Some(text),
        Token::EscapedStringLiteral(text) => Some(text),
        _ => None,
    }
}

/// Cut at the delimiters that no backslash stands before.
fn fields(line: &str, delimiter: char) -> Vec<&str> {
    let (mut fields, mut begins, mut escaped) = (Vec::new(), 0, false);
    for (at, character) in line.char_indices() {
        if !escaped && character == delimiter {
            fields.push(&line[begins..at]);
            begins = at + character.len_utf8();
        }
        escaped = !escaped && character == '\\';
    }
    fields.push(&line[begins..]);
    fields
}

fn unescaped(field: &str) -> String {
    let mut text = String::with_capacity(field.len());
    let mut characters = field.chars();
    while let Some(character) = characters.next() {
        match character {
            '\\' => match characters.next() {
                Some('n') => text.push('\n'),
                Some('t') => text.push('\t'),
                Some('r') => text.push('\r'),
                Some(other) => text.push(other),
                None => {}
            },
            other => text.push(other),
        }
    }
    text
}

impl Replay<'_> {
    /// Behind COPY, with the lines of data behind the statement.
    pub(super) fn copy(&mut self, tokens: &mut Tokens<'_>, data: &str) -> Result<(), DdlError> {
        let name = tokens.object()?;
        let columns = match tokens.group() {
            Some(list) => Some(list.items().into_iter().map(|mut item| item.name().map(|name| name.text)).collect::<Result<Vec<_>, _>>()?),
            None => None,
        };
        tokens.takes(&["FROM"]);
        tokens.takes(&["STDIN"]);
        let format = Format::read(tokens);
        let Some(at) = self.find(&name.text).filter(|_| !format.binary) else {
            self.pass_over();
            return Ok(());
        };
        let seed = |field: Option<String>| Some(field.map_or(Seed::Null, Seed::Text));
        let rows = format.rows(data, MOST_ROWS + 2).into_iter().map(|row| row.into_iter().map(seed).collect()).collect();
        self.put(at, SeedRows { columns, rows });
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn some(fields: &[&str]) -> Vec<Option<String>> {
        fields.iter().map(|field| Some((*field).to_owned()).filter(|field| field != "-")).collect()
    }

    #[test]
    fn csv_may_hold_delimiters_quotes_and_line_breaks_in_quotes() {
        let format = Format { csv: true, ..Format::default() };
        let rows = format.rows("1,\"a, \"\"b\"\"\",\n2,\"two\nlines\",\"\"\r\n3,,c", 9);
        assert_eq!(rows, [some(&["1", "a, \"b\"", "-"]), some(&["2", "two\nlines", ""]), some(&["3", "-", "c"])]);
        let other = Format {
            csv: true,
            delimiter: Some(';'),
            null: Some("none".to_owned()),
            quote: '\'',
            escape: Some('\\'),
            header: true,
            ..format
        };
        assert_eq!(other.rows("a;b\n1;none\n'it\\'s';'none'\n", 9), [some(&["1", "-"]), some(&["it's", "none"])]);
    }

    #[test]
    fn text_knows_its_escapes_and_a_delimiter_of_its_own() {
        let format = Format::default();
        assert_eq!(format.rows("1\t\\N\ta\\tb\n2\t\\\\N\t\n", 9), [some(&["1", "-", "a\tb"]), some(&["2", "\\N", ""])]);
        let piped = Format { delimiter: Some('|'), null: Some(String::new()), ..format };
        assert_eq!(piped.rows("1|a\\|b|\n", 9), [some(&["1", "a|b", "-"])]);
    }
}
