//! Places in a source text.

use serde::{Deserialize, Serialize};

/// A half-open range of byte offsets in one source text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Span {
    /// Offset of the first byte.
    pub start: usize,
    /// Offset behind the last byte; equal to `start` for a place between two characters.
    pub end: usize,
}

impl Span {
    /// The span from `start` up to, not including, `end`.
    pub fn new(start: usize, end: usize) -> Self {
        Span { start, end }
    }

    /// The smallest span that holds both.
    #[must_use]
    pub fn join(self, other: Span) -> Span {
        Span { start: self.start.min(other.start), end: self.end.max(other.end) }
    }

    /// The same span in a text that begins `by` bytes later.
    #[must_use]
    pub fn shifted(self, by: usize) -> Span {
        Span { start: self.start + by, end: self.end + by }
    }
}

/// A place as people count it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineColumn {
    /// Line, counted from 1.
    pub line: usize,
    /// Column in characters (Unicode scalar values), counted from 1.
    pub column: usize,
}

impl LineColumn {
    /// The place of a byte offset; an offset behind the end, or inside a character, gives the nearest place before it.
    pub fn of(text: &str, offset: usize) -> LineColumn {
        let mut offset = offset.min(text.len());
        while !text.is_char_boundary(offset) {
            offset -= 1;
        }
        let before = &text[..offset];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        LineColumn { line: before.bytes().filter(|&byte| byte == b'\n').count() + 1, column: before[line_start..].chars().count() + 1 }
    }

    /// The byte offset of a place; a place behind the end of its line, or of the text, gives that end.
    pub fn offset_in(self, text: &str) -> usize {
        let mut start = 0;
        for _ in 1..self.line {
            match text[start..].find('\n') {
                Some(at) => start += at + 1,
                None => return text.len(),
            }
        }
        let line = text[start..].split('\n').next().unwrap_or_default();
        start + line.char_indices().nth(self.column.saturating_sub(1)).map_or(line.len(), |(at, _)| at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn offsets_and_places_agree_in_a_text_with_wide_characters() {
        let text = "a\nbü→c\n\nd";
        for (offset, _) in text.char_indices() {
            assert_eq!(LineColumn::of(text, offset).offset_in(text), offset, "offset {offset}");
        }
        assert_eq!(LineColumn::of(text, 2), LineColumn { line: 2, column: 1 });
        assert_eq!(LineColumn::of(text, text.find('c').unwrap()), LineColumn { line: 2, column: 4 });
        assert_eq!(LineColumn { line: 9, column: 1 }.offset_in(text), text.len());
    }
}
