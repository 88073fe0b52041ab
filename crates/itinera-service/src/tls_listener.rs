//! Accepts agents over TLS and passes the peer certificate to handlers.

use crate::timed_listener::{Timed, timed};
use axum::extract::connect_info::Connected;
use axum::serve::{IncomingStream, Listener};
use rustls::ServerConfig;
use sha2::{Digest, Sha256};
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, mpsc};
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// A handshake that takes longer is given up.
const HANDSHAKE_LIMIT: Duration = Duration::from_secs(10);
/// Handshakes in progress at once; further callers wait in the kernel's queue.
const HANDSHAKES: usize = 64;

/// The client of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Peer {
    pub(crate) address: SocketAddr,
    /// Digest of the client certificate that the authority has verified; absent for none.
    pub(crate) certificate_sha256: Option<[u8; 32]>,
}

/// Connections after the handshake.
pub(crate) struct TlsListener {
    address: SocketAddr,
    ready: mpsc::Receiver<(TlsStream<Timed>, Peer)>,
    /// The task that accepts; it ends with the listener.
    accepting: JoinSet<()>,
}

impl TlsListener {
    pub(crate) fn new(tcp: TcpListener, tls: Arc<ServerConfig>) -> io::Result<Self> {
        let address = tcp.local_addr()?;
        let (done, ready) = mpsc::channel(HANDSHAKES);
        let mut accepting = JoinSet::new();
        accepting.spawn(accept(tcp, TlsAcceptor::from(tls), done));
        Ok(Self { address, ready, accepting })
    }
}

async fn accept(
    tcp: TcpListener,
    acceptor: TlsAcceptor,
    done: mpsc::Sender<(TlsStream<Timed>, Peer)>,
) {
    let slots = Arc::new(Semaphore::new(HANDSHAKES));
    while !done.is_closed() {
        let Ok(slot) = Arc::clone(&slots).acquire_owned().await else {
            return;
        };
        let (stream, address) = tokio::select! {
            accepted = tcp.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    // Out of descriptors, most likely: give it a moment.
                    tracing::warn!(%error, "an agent could not be accepted");
                    tokio::time::sleep(Duration::from_millis(200)).await;
                    continue;
                }
            },
            () = done.closed() => return,
        };
        let (acceptor, done) = (acceptor.clone(), done.clone());
        tokio::spawn(async move {
            let handshake = acceptor.accept(timed(stream));
            match tokio::time::timeout(HANDSHAKE_LIMIT, handshake).await {
                Ok(Ok(tls)) => {
                    let certificates = tls.get_ref().1.peer_certificates();
                    let first = certificates.and_then(|certificates| certificates.first());
                    let certificate_sha256 = first.map(|der| Sha256::digest(der).into());
                    let _listener_gone =
                        done.send((tls, Peer { address, certificate_sha256 })).await;
                }
                Ok(Err(error)) => tracing::info!(%address, %error, "TLS refused"),
                Err(_) => tracing::info!(%address, "TLS handshake took too long"),
            }
            drop(slot);
        });
    }
}

impl Listener for TlsListener {
    type Io = TlsStream<Timed>;
    type Addr = Peer;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        match self.ready.recv().await {
            Some(connection) => connection,
            // It ends only by a panic: ours lets the supervisor begin again.
            None => {
                let ended = self.accepting.join_next().await;
                #[allow(clippy::panic, reason = "a listener that accepts nothing is of no use")]
                {
                    panic!("the accepting task has ended: {ended:?}")
                }
            }
        }
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        Ok(Peer { address: self.address, certificate_sha256: None })
    }
}

impl Connected<IncomingStream<'_, TlsListener>> for Peer {
    fn connect_info(stream: IncomingStream<'_, TlsListener>) -> Self {
        *stream.remote_addr()
    }
}
