//! A stream that remembers how it began: what a server said first tells what it is.

use std::io;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// Bytes remembered.
const REMEMBERED: usize = 64;

/// The first bytes that came.
#[derive(Debug, Clone, Default)]
pub(crate) struct Received(Arc<Mutex<Vec<u8>>>);

impl Received {
    fn first(&self) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Something came at all.
    pub(crate) fn anything(&self) -> bool {
        !self.first().is_empty()
    }

    /// It began as TLS does: an alert or a handshake (RFC 8446 section 5.1).
    pub(crate) fn is_tls(&self) -> bool {
        matches!(self.first().as_slice(), [0x15 | 0x16, 0x03, ..])
    }
}

/// Passes everything on, and remembers the beginning.
#[derive(Debug)]
pub(crate) struct FirstBytes<S> {
    inner: S,
    received: Received,
}

impl<S> FirstBytes<S> {
    pub(crate) fn new(inner: S) -> (Self, Received) {
        let received = Received::default();
        (Self { inner, received: received.clone() }, received)
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for FirstBytes<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.inner).poll_read(context, buffer);
        let came = &buffer.filled()[before..];
        if !came.is_empty() {
            let mut first = self.received.0.lock().unwrap_or_else(PoisonError::into_inner);
            let room = REMEMBERED.saturating_sub(first.len());
            first.extend(came.iter().take(room));
        }
        polled
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for FirstBytes<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        octets: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(context, octets)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}
