//! The lines of a contender's output, as they come and within bounds.

use kampf_protocol::{LONGEST_LINE, PREFIX};

/// A line of the protocol, or why there is none.
#[derive(Debug, PartialEq)]
pub(crate) enum Line {
    /// It begins as the protocol's lines do.
    Whole(String),
    /// It is longer than any line may be.
    TooLong,
    /// It is not UTF-8.
    NotText,
}

/// Puts lines together from whatever pieces they come in. Of a line that is log nothing is kept, however long it is.
#[derive(Debug, Default)]
pub(crate) struct Lines {
    bytes: Vec<u8>,
    /// Where the bytes begin that were not looked at yet, and where those before which there is no end of line.
    start: usize,
    searched: usize,
    /// The rest of the line is passed over.
    skipping: bool,
}

impl Lines {
    pub(crate) fn push(&mut self, piece: &[u8]) {
        if self.start > 0 && self.start == self.bytes.len() {
            self.bytes.clear();
            (self.start, self.searched) = (0, 0);
        }
        self.bytes.extend_from_slice(piece);
    }

    /// Whether more is waiting here than any line may be long; it is to be looked at before there is more.
    pub(crate) fn is_full(&self) -> bool {
        self.bytes.len() - self.start > LONGEST_LINE
    }

    /// The next line of the protocol that is there whole.
    pub(crate) fn next(&mut self) -> Option<Line> {
        loop {
            let end = self.bytes[self.searched..].iter().position(|&byte| byte == b'\n').map(|at| self.searched + at);
            let Some(end) = end else {
                self.searched = self.bytes.len();
                return self.unfinished();
            };
            let (from, skipped) = (self.start, std::mem::take(&mut self.skipping));
            (self.start, self.searched) = (end + 1, end + 1);
            let line = &self.bytes[from..end];
            if skipped || !line.starts_with(PREFIX.as_bytes()) {
                continue;
            }
            if line.len() > LONGEST_LINE {
                return Some(Line::TooLong);
            }
            return Some(std::str::from_utf8(line).map_or(Line::NotText, |line| Line::Whole(line.to_owned())));
        }
    }

    /// A line whose end has not come: log is let go of at once, a line of the protocol once it is too long.
    fn unfinished(&mut self) -> Option<Line> {
        let line = &self.bytes[self.start..];
        let known = line.len().min(PREFIX.len());
        let is_log = self.skipping || line[..known] != PREFIX.as_bytes()[..known];
        let too_long = !is_log && line.len() > LONGEST_LINE;
        if is_log || too_long {
            self.skipping |= !line.is_empty();
            self.bytes.clear();
        } else if self.start > 0 {
            self.bytes.drain(..self.start);
        }
        (self.start, self.searched) = (0, self.bytes.len());
        too_long.then_some(Line::TooLong)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(text: &[u8], size: usize) -> Vec<Line> {
        let mut lines = Lines::default();
        let mut found = Vec::new();
        for piece in text.chunks(size) {
            lines.push(piece);
            found.extend(std::iter::from_fn(|| lines.next()));
        }
        found
    }

    #[test]
    fn lines_of_the_protocol_are_found_in_whatever_pieces_they_come_and_log_is_passed_over() {
        let text = b"log\n\xff\xfe\n{\"kampf\":1,\"a\":1}\n\n{\"kampf\" is log too\n{\"kampf\":1,\xff}\n{\"kampf\":1,\"b\":2}\nrest";
        for size in 1..text.len() + 1 {
            let expected =
                [Line::Whole("{\"kampf\":1,\"a\":1}".to_owned()), Line::NotText, Line::Whole("{\"kampf\":1,\"b\":2}".to_owned())];
            assert_eq!(all(text, size), expected, "in pieces of {size} bytes");
        }
    }

    #[test]
    fn what_never_ends_is_not_kept() {
        let mut lines = Lines::default();
        for _ in 0..100 {
            lines.push(&[b'x'; 100_000]);
            assert_eq!(lines.next(), None);
            assert!(lines.bytes.len() <= 100_000);
        }
        lines.push(b"\n{\"kampf\":1,");
        assert_eq!(lines.next(), None);
        let piece = vec![b'1'; LONGEST_LINE / 4];
        for _ in 0..4 {
            assert_eq!(lines.next(), None);
            lines.push(&piece);
        }
        assert_eq!(lines.next(), Some(Line::TooLong));
        assert!(lines.bytes.is_empty());
        lines.push(b"more of it\n{\"kampf\":1,\"a\":1}\n");
        assert_eq!(lines.next(), Some(Line::Whole("{\"kampf\":1,\"a\":1}".to_owned())));
    }
}
