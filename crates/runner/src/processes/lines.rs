//! The lines of a contender's output, as they come and within bounds.

use kampf_protocol::{LONGEST_LINE, begins_like_reply, may_be_reply};

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

    /// Whether what has come last begins like a line of the protocol and has no end.
    pub(crate) fn has_begun(&self) -> bool {
        begins_like_reply(&self.bytes[self.start..])
    }

    /// The next line that is there whole and may be the protocol's.
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
            if skipped || !may_be_reply(line) {
                continue;
            }
            let is_meant = begins_like_reply(line);
            match std::str::from_utf8(line) {
                _ if line.len() > LONGEST_LINE && is_meant => return Some(Line::TooLong),
                Ok(line) if line.len() <= LONGEST_LINE => return Some(Line::Whole(line.to_owned())),
                Err(_) if is_meant => return Some(Line::NotText),
                _ => continue,
            }
        }
    }

    /// A line whose end has not come: log is let go of at once, a line of the protocol once it is too long.
    fn unfinished(&mut self) -> Option<Line> {
        let line = &self.bytes[self.start..];
        // What begins like an object may turn out to be a reply at its very end.
        let is_too_long = line.len() > LONGEST_LINE;
        let is_log = self.skipping || is_surely_log(line) || (is_too_long && !begins_like_reply(line));
        let too_long = !is_log && is_too_long;
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

/// Whether a line that has begun so is log, whatever follows.
fn is_surely_log(line: &[u8]) -> bool {
    const MARK: &[u8] = "\u{feff}".as_bytes();
    let known = line.len().min(MARK.len());
    let rest = if line[..known] == MARK[..known] { &line[known..] } else { line };
    rest.trim_ascii_start().first().is_some_and(|first| *first != b'{')
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
        let text =
            b"log\n\xff\xfe\n{\"kampf\":1,\"a\":1}\n\n{\"level\":\"\xff kampf\"}\n{\"level\":1}\n{\"kampf\" is meant\n{\"kampf\":1,\xff}\n\
            \xef\xbb\xbf{ \"a\":1,\"kampf\":1}\nrest";
        let whole = |line: &str| Line::Whole(line.to_owned());
        for size in 1..text.len() + 1 {
            let expected =
                [whole("{\"kampf\":1,\"a\":1}"), whole("{\"kampf\" is meant"), Line::NotText, whole("\u{feff}{ \"a\":1,\"kampf\":1}")];
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
            assert!(lines.has_begun());
            lines.push(&piece);
        }
        assert_eq!(lines.next(), Some(Line::TooLong));
        assert!(lines.bytes.is_empty());
        assert!(!lines.has_begun());
        lines.push(b"more of it\n{\"kampf\":1,\"a\":1}\n");
        assert_eq!(lines.next(), Some(Line::Whole("{\"kampf\":1,\"a\":1}".to_owned())));
    }
    #[test]
    fn an_object_without_an_end_is_log_once_it_is_longer_than_any_line_may_be() {
        let mut lines = Lines::default();
        lines.push(b"{\"level\":\"");
        let piece = vec![b'x'; LONGEST_LINE / 4];
        for _ in 0..5 {
            assert_eq!(lines.next(), None);
            lines.push(&piece);
        }
        assert_eq!(lines.next(), None);
        assert!(lines.bytes.is_empty() && !lines.has_begun());
        lines.push(b"\"}\n{\"kampf\": 1}\n");
        assert_eq!(lines.next(), Some(Line::Whole("{\"kampf\": 1}".to_owned())));
    }
}
