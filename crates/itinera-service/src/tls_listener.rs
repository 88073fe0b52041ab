//! Accepts agents over TLS and tells handlers whose certificate they showed.

use axum::extract::connect_info::Connected;
use axum::serve::{IncomingStream, Listener};
use rustls::ServerConfig;
use sha2::{Digest, Sha256};
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, mpsc};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// A handshake that takes longer is given up.
const HANDSHAKE_LIMIT: Duration = Duration::from_secs(10);
/// Handshakes under way at once; further callers wait in the kernel's queue.
const HANDSHAKES: usize = 64;

/// Who is at the other end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Peer {
    pub(crate) address: SocketAddr,
    /// Digest of the client certificate that the authority has verified; absent for none.
    pub(crate) certificate_sha256: Option<[u8; 32]>,
}

/// Connections whose handshake is done.
pub(crate) struct TlsListener {
    address: SocketAddr,
    ready: mpsc::Receiver<(TlsStream<TcpStream>, Peer)>,
}

impl TlsListener {
    pub(crate) fn new(tcp: TcpListener, tls: ServerConfig) -> io::Result<Self> {
        let address = tcp.local_addr()?;
        let (done, ready) = mpsc::channel(HANDSHAKES);
        tokio::spawn(accept(tcp, TlsAcceptor::from(Arc::new(tls)), done));
        Ok(Self { address, ready })
    }
}

async fn accept(
    tcp: TcpListener,
    acceptor: TlsAcceptor,
    done: mpsc::Sender<(TlsStream<TcpStream>, Peer)>,
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
            let handshake = acceptor.accept(stream);
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
    type Io = TlsStream<TcpStream>;
    type Addr = Peer;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        match self.ready.recv().await {
            Some(connection) => connection,
            // The accepting task lives as long as we do.
            None => std::future::pending().await,
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
