//! A connection as Tokio knows streams.

use crate::state::Shared;
use smoltcp::iface::SocketHandle;
use smoltcp::socket::tcp;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// A connection. Dropping it closes it.
pub struct Stream {
    shared: Arc<Shared>,
    handle: SocketHandle,
    port: u16,
    peer: SocketAddr,
}

impl std::fmt::Debug for Stream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Stream").field("peer", &self.peer).finish_non_exhaustive()
    }
}

impl Stream {
    pub(crate) const fn new(
        shared: Arc<Shared>,
        handle: SocketHandle,
        port: u16,
        peer: SocketAddr,
    ) -> Self {
        Self { shared, handle, port, peer }
    }

    /// The peer.
    pub const fn peer(&self) -> SocketAddr {
        self.peer
    }

    /// Ends it at once by a reset (RFC 9293 section 3.10.5).
    pub fn abort(&self) {
        self.shared.lock().sockets.get_mut::<tcp::Socket<'_>>(self.handle).abort();
        self.shared.poke();
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        self.shared.let_go(self.handle, self.port);
    }
}

impl AsyncRead for Stream {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let mut inner = self.shared.lock();
        let socket = inner.sockets.get_mut::<tcp::Socket<'_>>(self.handle);
        if socket.can_recv() {
            let read = socket.recv_slice(buffer.initialize_unfilled());
            buffer.advance(read.unwrap_or_default());
            drop(inner);
            // The window may have opened.
            self.shared.poke();
            return Poll::Ready(Ok(()));
        }
        if socket.may_recv() {
            socket.register_recv_waker(context.waker());
            return Poll::Pending;
        }
        // Closed by the peer in order, or torn down.
        match socket.recv_slice(&mut []) {
            Err(tcp::RecvError::InvalidState) => {
                Poll::Ready(Err(io::ErrorKind::ConnectionReset.into()))
            }
            Ok(_) | Err(tcp::RecvError::Finished) => Poll::Ready(Ok(())),
        }
    }
}

impl AsyncWrite for Stream {
    fn poll_write(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        octets: &[u8],
    ) -> Poll<io::Result<usize>> {
        let mut inner = self.shared.lock();
        let socket = inner.sockets.get_mut::<tcp::Socket<'_>>(self.handle);
        if !socket.may_send() {
            return Poll::Ready(Err(io::ErrorKind::ConnectionReset.into()));
        }
        if !socket.can_send() {
            socket.register_send_waker(context.waker());
            return Poll::Pending;
        }
        let sent = socket.send_slice(octets).unwrap_or_default();
        drop(inner);
        self.shared.poke();
        Poll::Ready(Ok(sent))
    }

    /// What was written is in the stack's hands; it is sent as fast as the far end takes it.
    fn poll_flush(self: Pin<&mut Self>, _context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.shared.lock().sockets.get_mut::<tcp::Socket<'_>>(self.handle).close();
        self.shared.poke();
        Poll::Ready(Ok(()))
    }
}
