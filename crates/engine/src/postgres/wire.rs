//! A stream that counts what goes over it, where it leaves the process.

use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use crate::session::WireCounts;

/// What went over a stream since it was opened.
#[derive(Debug, Default)]
pub(super) struct Wire {
    statements: AtomicU64,
    trips: AtomicU64,
    bytes: AtomicU64,
    /// Whether something was read since something was last written: then the next write begins a new wait.
    answered: AtomicBool,
}

impl Wire {
    pub(super) fn counts(&self) -> WireCounts {
        WireCounts { statements: self.statements.load(Relaxed), trips: self.trips.load(Relaxed), bytes: self.bytes.load(Relaxed) }
    }
}

/// A stream with its counts.
pub(super) struct CountedStream<S> {
    inner: S,
    wire: Arc<Wire>,
    messages: Messages,
}

impl<S> CountedStream<S> {
    pub(super) fn inner(&self) -> &S {
        &self.inner
    }

    pub(super) fn new(inner: S, wire: Arc<Wire>) -> CountedStream<S> {
        wire.answered.store(true, Relaxed);
        CountedStream { inner, wire, messages: Messages::default() }
    }
}

/// Finds the messages in what a client sends, in whatever pieces it comes (protocol 3.0: after a first message without a type,
/// each has a type byte and a length that counts itself).
#[derive(Debug, Default)]
struct Messages {
    started: bool,
    head: Vec<u8>,
    /// Bytes of the current message still to come.
    left: usize,
    /// Whether what is executed next was bound just before; else it fetches from an open cursor.
    bound: bool,
}

impl Messages {
    /// How many statements the bytes ask for: executions of bound ones, and simple queries. Whoever executes a bound one again only
    /// fetches more of its rows.
    fn statements(&mut self, mut bytes: &[u8]) -> u64 {
        let mut statements = 0;
        while !bytes.is_empty() {
            if self.left > 0 {
                let skipped = self.left.min(bytes.len());
                self.left -= skipped;
                bytes = &bytes[skipped..];
                continue;
            }
            let wanted = if self.started { 5 } else { 4 };
            let taken = (wanted - self.head.len()).min(bytes.len());
            self.head.extend_from_slice(&bytes[..taken]);
            bytes = &bytes[taken..];
            if self.head.len() < wanted {
                break;
            }
            if self.started {
                match self.head[0] {
                    b'B' => self.bound = true,
                    b'E' => statements += u64::from(std::mem::take(&mut self.bound)),
                    b'Q' => statements += 1,
                    _ => {}
                }
            }
            let length = self.head[wanted - 4..].iter().fold(0, |length, &byte| length << 8 | usize::from(byte));
            self.left = length.saturating_sub(4);
            self.started = true;
            self.head.clear();
        }
        statements
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for CountedStream<S> {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.inner).poll_read(context, buffer);
        let read = buffer.filled().len() - before;
        if read > 0 {
            self.wire.bytes.fetch_add(read as u64, Relaxed);
            self.wire.answered.store(true, Relaxed);
        }
        polled
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for CountedStream<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        let polled = Pin::new(&mut self.inner).poll_write(context, bytes);
        if let Poll::Ready(Ok(written)) = polled {
            let statements = self.messages.statements(&bytes[..written]);
            self.wire.statements.fetch_add(statements, Relaxed);
            self.wire.bytes.fetch_add(written as u64, Relaxed);
            if self.wire.answered.swap(false, Relaxed) {
                self.wire.trips.fetch_add(1, Relaxed);
            }
        }
        polled
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(kind: u8, body: &[u8]) -> Vec<u8> {
        let length = u32::try_from(body.len() + 4).unwrap().to_be_bytes();
        [&[kind][..], &length, body].concat()
    }

    #[test]
    fn statements_are_counted_in_whatever_pieces_they_come() {
        let mut sent = [&8_u32.to_be_bytes()[..], b"EEEE"].concat();
        for (kind, body) in
            [(b'p', &b"QEQE"[..]), (b'Q', b"BEGIN\0"), (b'P', b"EQ"), (b'B', b""), (b'E', b"\0\0\0\0\0"), (b'S', b""), (b'E', b"fetch")]
        {
            sent.extend(message(kind, body));
        }
        for size in 1..sent.len() {
            let mut messages = Messages::default();
            let found: u64 = sent.chunks(size).map(|piece| messages.statements(piece)).sum();
            assert_eq!(found, 2, "in pieces of {size} bytes");
        }
    }
}
