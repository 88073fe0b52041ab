//! A stream that remembers how it began: what a server said first tells what it is.

use std::io;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// Octets remembered.
const REMEMBERED: usize = 64;

/// The first octets that came.
#[derive(Debug, Clone, Default)]
pub(crate) struct Heard(Arc<Mutex<Vec<u8>>>);

impl Heard {
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
pub(crate) struct Watched<S> {
    inner: S,
    heard: Heard,
}

impl<S> Watched<S> {
    pub(crate) fn new(inner: S) -> (Self, Heard) {
        let heard = Heard::default();
        (Self { inner, heard: heard.clone() }, heard)
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Watched<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.inner).poll_read(context, buffer);
        let came = &buffer.filled()[before..];
        if !came.is_empty() {
            let mut first = self.heard.0.lock().unwrap_or_else(PoisonError::into_inner);
            let room = REMEMBERED.saturating_sub(first.len());
            first.extend(came.iter().take(room));
        }
        polled
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Watched<S> {
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
