//! Tables in the width there is.

use unicode_width::UnicodeWidthStr;

use super::out::shown as as_shown;
use super::page::Page;
use super::style::{Look, paint, width};

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

/// Columns that free text at the end of a table cannot do without.
const OPEN: usize = 16;

/// A cell's look and text.
type Cell = (Look, String);

/// A table with the columns that there is room for.
pub(super) struct Table<'c> {
    columns: &'c [Column],
    rows: Vec<Vec<Cell>>,
    /// Of every column.
    widest: Vec<usize>,
    /// The first column, where it gets a line of its own because even those that stay have no room beside it.
    above: Option<usize>,
    /// The columns beside each other.
    beside: Vec<usize>,
    /// The last column, where it is of free text.
    open: Option<usize>,
    room: usize,
}

/// Which columns of a table a page has room for.
pub(super) fn shown_columns(columns: &[Column], rows: &[Vec<Cell>]) -> Vec<usize> {
    Table::fitted(columns, rows, width()).shown()
}

impl<'c> Table<'c> {
    pub(super) fn fitted(columns: &'c [Column], rows: &[Vec<Cell>], room: usize) -> Table<'c> {
        let harmless = |row: &Vec<Cell>| row.iter().map(|(look, text)| (*look, as_shown(text))).collect();
        let rows: Vec<Vec<Cell>> = rows.iter().map(harmless).collect();
        let widest = |at: usize| rows.iter().map(|row| row[at].1.width()).chain([columns[at].title.width()]).max().unwrap_or(0);
        let widest: Vec<usize> = (0..columns.len()).map(widest).collect();
        // Free text at the end counts with what it cannot do without.
        let counts = |at: usize| if columns[at].is_open { widest[at].min(OPEN) } else { widest[at] };
        let total = |shown: &[usize]| shown.iter().map(|&at| counts(at) + 2).sum::<usize>().saturating_sub(2);
        let mut beside: Vec<usize> = (0..columns.len()).collect();
        while total(&beside) > room {
            let Some(&first) = beside.iter().filter(|&&at| columns[at].yields > 0).max_by_key(|&&at| columns[at].yields) else { break };
            beside.retain(|&at| at != first);
        }
        let above = (total(&beside) > room && beside.len() > 1).then(|| beside.remove(0));
        let open = beside.last().copied().filter(|&at| columns[at].is_open);
        beside.retain(|&at| Some(at) != open);
        Table { columns, rows, widest, above, beside, open, room }
    }

    /// Which columns there is room for.
    fn shown(&self) -> Vec<usize> {
        self.above.iter().chain(&self.beside).chain(&self.open).copied().collect()
    }

    /// By how much lines are moved in.
    fn indent(&self) -> usize {
        if self.above.is_some() { 2 } else { 0 }
    }

    pub(super) fn put(&self, page: &mut Page) {
        let groups = self.groups();
        if !groups.is_empty() && groups.width() <= self.room {
            page.line(paint(Look::Quiet, &groups));
        }
        let title = |at: usize| (Look::Quiet, self.columns[at].title.clone());
        if let Some(above) = self.above {
            page.line(paint(Look::Quiet, &self.columns[above].title));
        }
        let mut head = self.line(&title);
        if let Some(open) = self.open {
            head += &format!("{}{}", if head.is_empty() { "" } else { "  " }, paint(Look::Quiet, &self.columns[open].title));
        }
        page.line(head);
        for row in &self.rows {
            let cell = |at: usize| row[at].clone();
            if let Some(above) = self.above {
                page.line(paint(row[above].0, &row[above].1));
            }
            match self.open {
                Some(open) => {
                    let start = self.indent() + self.beside.iter().map(|&at| self.widest[at] + 2).sum::<usize>();
                    let (look, text) = &row[open];
                    let words: Vec<String> = text.split(' ').map(|word| paint(*look, word)).collect();
                    let gap = if self.beside.is_empty() { "" } else { " " };
                    page.hung(&format!("{}{gap}", self.line(&cell)), &words.join(" "), start);
                }
                None => page.line(self.line(&cell)),
            }
        }
    }

    /// What neighbouring columns have in common, above the first of them.
    fn groups(&self) -> String {
        let mut groups = String::new();
        let mut start = self.indent();
        let mut before = "";
        for at in self.beside.iter().chain(&self.open).copied() {
            let group = self.columns[at].group;
            if group != before && !group.is_empty() {
                groups.push_str(&" ".repeat(start - groups.width().min(start)));
                groups.push_str(group);
            }
            before = group;
            start += self.widest[at] + 2;
        }
        groups
    }

    /// The cells beside each other, but for free text at their end; each as wide as its column.
    fn line(&self, cell: &dyn Fn(usize) -> Cell) -> String {
        let cells = self.beside.iter().map(|&at| {
            let (look, text) = cell(at);
            let space = " ".repeat(self.widest[at].saturating_sub(text.width()));
            match self.columns[at].align {
                Align::Left => format!("{}{space}", paint(look, &text)),
                Align::Right => format!("{space}{}", paint(look, &text)),
            }
        });
        format!("{}{}", " ".repeat(self.indent()), cells.collect::<Vec<_>>().join("  "))
    }
}
