//! Connections that are given up when the other end neither takes nor sends anything.

use axum::serve::Listener;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio_io_timeout::TimeoutStream;

/// A reader that takes nothing for this long is gone, or means to keep us waiting.
const WRITE_LIMIT: Duration = Duration::from_secs(30);
/// A connection on which nothing comes for this long is closed. Live streams end before.
const READ_LIMIT: Duration = Duration::from_secs(900);
/// After an error the kernel is given a moment: we are out of descriptors, most likely.
const MOMENT: Duration = Duration::from_millis(200);

/// A connection with both limits.
pub(crate) type Timed = Pin<Box<TimeoutStream<TcpStream>>>;

/// Sets the limits of a connection.
pub(crate) fn timed(stream: TcpStream) -> Timed {
    let mut timed = TimeoutStream::new(stream);
    timed.set_write_timeout(Some(WRITE_LIMIT));
    timed.set_read_timeout(Some(READ_LIMIT));
    Box::pin(timed)
}

/// Accepts users.
pub(crate) struct TimedListener(pub(crate) TcpListener);

impl Listener for TimedListener {
    type Io = Timed;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        loop {
            match self.0.accept().await {
                Ok((stream, address)) => return (timed(stream), address),
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be accepted");
                    tokio::time::sleep(MOMENT).await;
                }
            }
        }
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        self.0.local_addr()
    }
}
