//! Writing a kampf.toml: whatever names come from a schema, nothing leaves the place that it is written to.

use toml_writer::{TomlKeyBuilder, TomlStringBuilder, TomlWrite};

use crate::output::shown;

/// A TOML file being put together, with the comments that a person wants to find there.
#[derive(Debug, Default)]
pub(crate) struct TomlText {
    text: String,
}

/// A value that is written.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Scalar<'a> {
    Text(&'a str),
    Number(u64),
    Factor(f64),
}

/// Whether a text can be shown as it is.
fn is_plain(text: &str) -> bool {
    shown(text) == text
}

/// Writing into a text never fails.
const WRITES: &str = "a text takes whatever is written";

impl TomlText {
    /// A key and its value as one line, for a comment or a message.
    pub(crate) fn entry(key: &str, value: Scalar<'_>) -> String {
        let mut text = TomlText::default();
        text.value(key, value);
        shown(text.text.trim_end())
    }

    /// A comment, a line for each of its lines; control characters are written out, so that none ends it early.
    pub(crate) fn comment(&mut self, text: &str) {
        for line in text.lines() {
            self.text += "# ";
            self.text += &shown(line);
            self.text.push('\n');
        }
    }

    /// A comment whose whole text is one line, whatever is in it.
    pub(crate) fn note(&mut self, text: &str) {
        self.text += "#   ";
        self.text += &shown(text);
        self.text.push('\n');
    }

    pub(crate) fn blank(&mut self) {
        self.text.push('\n');
    }

    /// The header of a table: the names that lead to it.
    pub(crate) fn table(&mut self, names: &[&str]) {
        self.text.open_table_header().expect(WRITES);
        for (at, name) in names.iter().enumerate() {
            if at > 0 {
                self.text.key_sep().expect(WRITES);
            }
            self.name(name);
        }
        self.text.close_table_header().expect(WRITES);
        self.text.push('\n');
    }

    pub(crate) fn value(&mut self, key: &str, value: Scalar<'_>) {
        self.key(key);
        self.scalar(value);
        self.text.push('\n');
    }

    pub(crate) fn list(&mut self, key: &str, items: &[String]) {
        self.key(key);
        self.text.open_array().expect(WRITES);
        for (at, item) in items.iter().enumerate() {
            if at > 0 {
                self.text.val_sep().expect(WRITES);
                self.text.space().expect(WRITES);
            }
            self.scalar(Scalar::Text(item));
        }
        self.text.close_array().expect(WRITES);
        self.text.push('\n');
    }

    fn key(&mut self, key: &str) {
        self.name(key);
        self.text.space().expect(WRITES);
        self.text.keyval_sep().expect(WRITES);
        self.text.space().expect(WRITES);
    }

    fn name(&mut self, name: &str) {
        if is_plain(name) {
            return self.text.key(name).expect(WRITES);
        }
        let mut quoted = String::new();
        quoted.key(TomlKeyBuilder::new(name).as_basic()).expect(WRITES);
        self.escaped(&quoted);
    }

    fn scalar(&mut self, value: Scalar<'_>) {
        match value {
            Scalar::Number(number) => self.text.value(number).expect(WRITES),
            Scalar::Factor(number) if number.fract() == 0.0 => self.text.value(number as i64).expect(WRITES),
            Scalar::Factor(number) => self.text.value(number).expect(WRITES),
            Scalar::Text(text) if is_plain(text) => self.text.value(text).expect(WRITES),
            Scalar::Text(text) => {
                let mut quoted = String::new();
                quoted.value(TomlStringBuilder::new(text).as_basic()).expect(WRITES);
                self.escaped(&quoted);
            }
        }
    }

    /// A quoted text in which TOML itself would leave some characters as they are that a terminal obeys.
    fn escaped(&mut self, quoted: &str) {
        for c in quoted.chars() {
            if is_plain(c.encode_utf8(&mut [0; 4])) { self.text.push(c) } else { self.text += &format!("\\u{:04X}", u32::from(c)) }
        }
    }

    pub(crate) fn into_text(self) -> String {
        self.text
    }
}
