//! Lines and wrapped text in the width there is.

use unicode_width::UnicodeWidthStr;

use super::style::{Look, terminal_width, width};
use super::table::{Column, Table};

/// Text being put together.
#[derive(Clone, Debug, Default)]
pub(crate) struct Page {
    text: String,
}

impl Page {
    pub(crate) fn new() -> Page {
        Page::default()
    }

    pub(crate) fn line(&mut self, line: impl AsRef<str>) {
        self.text.push_str(line.as_ref().trim_end());
        self.text.push('\n');
    }

    pub(crate) fn blank(&mut self) {
        self.text.push('\n');
    }

    /// A paragraph, wrapped at words; lines after the first are moved in by `hang`.
    pub(crate) fn paragraph(&mut self, text: &str, hang: usize) {
        let room = width();
        let unindented = text.trim_start();
        let mut line = " ".repeat(text.len() - unindented.len());
        for word in words(unindented) {
            if !line.trim().is_empty() && plain_width(&line) + 1 + plain_width(&word) > room {
                self.line(&line);
                line = " ".repeat(hang);
            } else if !line.trim().is_empty() {
                line.push(' ');
            }
            line.push_str(&word);
        }
        self.line(&line);
    }

    /// A paragraph behind a head that stays whole; lines after the first are moved in by `hang`.
    pub(crate) fn hung(&mut self, head: &str, text: &str, hang: usize) {
        let room = width();
        let mut line = head.to_owned();
        let mut is_empty = true;
        for word in words(text) {
            if !is_empty && plain_width(&line) + 1 + plain_width(&word) > room {
                self.line(&line);
                line = " ".repeat(hang.saturating_sub(1));
            }
            line.push(' ');
            line.push_str(&word);
            is_empty = false;
        }
        self.line(&line);
    }

    /// A statement, moved in. A terminal would tear long lines anywhere, so they are wrapped there; elsewhere they stay whole.
    pub(crate) fn sql(&mut self, text: &str, indent: usize) {
        for line in text.lines() {
            let line = format!("{}{line}", " ".repeat(indent));
            match terminal_width(&std::io::stdout()) {
                Some(_) => self.paragraph(&line, indent + 4),
                None => self.line(line),
            }
        }
    }

    /// A table. Each cell has its look; rows are as long as there are columns.
    pub(crate) fn table(&mut self, columns: &[Column], rows: &[Vec<(Look, String)>]) {
        Table::fitted(columns, rows, width()).put(self);
    }

    pub(crate) fn into_text(self) -> String {
        self.text
    }
}

/// Units that stay with their number.
const UNITS: [&str; 10] = ["%", "ns", "us", "ms", "s", "min", "B", "KiB", "MiB", "GiB"];

/// The words of a text; a number keeps its unit.
fn words(text: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for word in text.split(' ') {
        let plain = anstream::adapter::strip_str(word).to_string();
        let is_unit = UNITS.contains(&plain.trim_end_matches(['.', ',', ';', ':', ')']));
        let is_number = |before: &String| anstream::adapter::strip_str(before).to_string().ends_with(|sign: char| sign.is_ascii_digit());
        match words.last_mut().filter(|before| is_unit && is_number(before)) {
            Some(before) => *before += &format!(" {word}"),
            None => words.push(word.to_owned()),
        }
    }
    words
}

/// Width without the codes that colour it.
fn plain_width(text: &str) -> usize {
    anstream::adapter::strip_str(text).to_string().width()
}
