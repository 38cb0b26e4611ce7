//! Tables and wrapped text in the width there is.

use unicode_width::UnicodeWidthStr;

use super::out::shown as as_shown;
use super::style::{Look, paint, terminal_width, width};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Align {
    Left,
    Right,
}

/// A column of a table.
#[derive(Clone, Debug)]
pub(crate) struct Column {
    pub(crate) title: String,
    pub(crate) align: Align,
    /// Columns with a higher number go first where there is no room; 0 always stays.
    pub(crate) yields: u8,
    /// What it has in common with its neighbours of the same group, said above them.
    pub(crate) group: &'static str,
    /// The last one, of free text: it takes what room is left, and wraps where that is too little.
    pub(crate) is_open: bool,
}

impl Column {
    pub(crate) fn left(title: impl Into<String>) -> Column {
        Column { title: title.into(), align: Align::Left, yields: 0, group: "", is_open: false }
    }

    pub(crate) fn right(title: impl Into<String>) -> Column {
        Column { title: title.into(), align: Align::Right, yields: 0, group: "", is_open: false }
    }

    pub(crate) fn group(mut self, group: &'static str) -> Column {
        self.group = group;
        self
    }

    pub(crate) fn open(mut self) -> Column {
        self.is_open = true;
        self
    }

    pub(crate) fn yielding(mut self, order: u8) -> Column {
        self.yields = order;
        self
    }
}

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
        let as_shown = |row: &Vec<(Look, String)>| row.iter().map(|(look, text)| (*look, as_shown(text))).collect();
        let rows: Vec<Vec<(Look, String)>> = rows.iter().map(as_shown).collect();
        let mut shown: Vec<usize> = (0..columns.len()).collect();
        let widest = |at: usize| rows.iter().map(|row| row[at].1.width()).chain([columns[at].title.width()]).max().unwrap_or(0);
        // Free text at the end counts with what it cannot do without.
        let counts = |at: usize| if columns[at].is_open { widest(at).min(OPEN) } else { widest(at) };
        let total = |shown: &[usize]| shown.iter().map(|&at| counts(at) + 2).sum::<usize>().saturating_sub(2);
        while total(&shown) > width() {
            let Some(&first) = shown.iter().filter(|&&at| columns[at].yields > 0).max_by_key(|&&at| columns[at].yields) else { break };
            shown.retain(|&at| at != first);
        }
        // Where even the columns that stay have no room beside each other, the first one gets a line of its own.
        let is_torn = total(&shown) > width() && shown.len() > 1;
        let beside = if is_torn { &shown[1..] } else { &shown[..] };
        let indent = if is_torn { 2 } else { 0 };
        let put = |line: &mut String, at: usize, look: Look, text: &str| {
            if !line.trim().is_empty() || (!line.is_empty() && !is_torn) {
                line.push_str("  ");
            }
            let space = " ".repeat(widest(at).saturating_sub(text.width()));
            match columns[at].align {
                _ if columns[at].is_open => *line += &paint(look, text),
                Align::Left => *line += &format!("{}{space}", paint(look, text)),
                Align::Right => *line += &format!("{space}{}", paint(look, text)),
            }
        };
        let mut groups = String::new();
        let mut start = indent;
        for (place, &at) in beside.iter().enumerate() {
            let group = columns[at].group;
            let begins = place == 0 || columns[beside[place - 1]].group != group;
            if begins && !group.is_empty() {
                groups.push_str(&" ".repeat(start - groups.width().min(start)));
                groups.push_str(group);
            }
            start += widest(at) + 2;
        }
        if !groups.is_empty() && groups.width() <= width() {
            self.line(paint(Look::Quiet, &groups));
        }
        let row = |cells: &dyn Fn(usize) -> (Look, String)| {
            let mut line = " ".repeat(indent);
            for &at in beside {
                let (look, text) = cells(at);
                put(&mut line, at, look, &text);
            }
            line
        };
        let head = row(&|at| (Look::Quiet, columns[at].title.clone()));
        let lines: Vec<String> = rows.iter().map(|cells| row(&|at| cells[at].clone())).collect();
        if is_torn {
            self.line(paint(Look::Quiet, &columns[shown[0]].title));
        }
        self.line(head);
        for (cells, line) in rows.iter().zip(lines) {
            if is_torn {
                self.line(paint(cells[shown[0]].0, &cells[shown[0]].1));
            }
            match shown.last().filter(|&&at| columns[at].is_open) {
                Some(&last) => {
                    let (look, text) = &cells[last];
                    let head = line.trim_end().strip_suffix(paint(*look, text).as_str()).unwrap_or(&line).trim_end().to_owned();
                    let start = beside.iter().filter(|&&at| at != last).map(|&at| widest(at) + 2).sum::<usize>() + indent;
                    let space = " ".repeat(start.saturating_sub(plain_width(&head) + 1));
                    let words: Vec<String> = words(text).iter().map(|word| paint(*look, word)).collect();
                    self.hung(&format!("{head}{space}"), &words.join(" "), start);
                }
                None => self.line(line),
            }
        }
    }

    pub(crate) fn into_text(self) -> String {
        self.text
    }
}

/// Columns that free text at the end of a table cannot do without.
const OPEN: usize = 16;

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
