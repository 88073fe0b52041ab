//! Accepting and carrying conversations.

use crate::certificates::{Authority, AuthorityError};
use itinera_model::Tick;
use itinera_simnet::Service;
use itinera_simnet::service::{Act, Conversation, answer};
use itinera_stack::{Stack, Stream};
use rustls::ServerConfig;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// Bytes read at a time, and of the longest question to a resolver.
const BUFFER: usize = 4_096;
/// An idle client is disconnected after this.
const IDLE: Duration = Duration::from_secs(60);

/// The simulation's time, counted from its start.
#[derive(Debug, Clone, Copy)]
pub struct Clock(Instant);

impl Clock {
    /// A clock that begins now, or began then.
    pub const fn since(begun: Instant) -> Self {
        Self(begun)
    }

    fn now(self) -> Tick {
        let nanos = self.0.elapsed().as_nanos();
        Tick::from_nanos(u64::try_from(nanos).unwrap_or(u64::MAX))
    }
}

/// A stream that can be torn down.
trait Torn: AsyncRead + AsyncWrite + Send + Unpin + 'static {
    fn tear(&self);
}

impl Torn for Stream {
    fn tear(&self) {
        self.abort();
    }
}

impl Torn for TcpStream {
    fn tear(&self) {
        // Closed with nothing to linger for, the kernel sends a reset.
        let _as_good = self.set_zero_linger();
    }
}

impl<S: Torn> Torn for TlsStream<S> {
    fn tear(&self) {
        self.get_ref().0.tear();
    }
}

/// Serves on a host in user space, for as long as the runtime lives.
///
/// # Errors
/// [`AuthorityError`] about its certificate. A port in use is logged.
pub fn serve_on_stack(
    service: &Service,
    stack: &Stack,
    authority: &Authority,
    clock: Clock,
) -> Result<(), AuthorityError> {
    let tls = tls_of(service, authority)?;
    let service = Arc::new(service.clone());
    if service.is_resolver() {
        match stack.datagrams(Some(service.port)) {
            Ok(door) => {
                let service = Arc::clone(&service);
                tokio::spawn(async move {
                    let mut buffer = vec![0; BUFFER];
                    loop {
                        let (length, from) = door.recv_from(&mut buffer).await;
                        if let Some(said) = answer(&service, &buffer[..length], clock.now()) {
                            let _lost = door.send_to(&said, from).await;
                        }
                    }
                });
            }
            Err(error) => tracing::warn!(%error, port = service.port, "cannot be served"),
        }
    }
    match stack.listen(service.port) {
        Ok(mut listener) => {
            tokio::spawn(async move {
                loop {
                    let stream = listener.accept().await;
                    tokio::spawn(receive(stream, Arc::clone(&service), tls.clone(), clock));
                }
            });
        }
        Err(error) => tracing::warn!(%error, port = service.port, "cannot be served"),
    }
    Ok(())
}

/// Serves on the kernel's loopback at any port; gives where. For tests against real sockets.
///
/// # Errors
/// The kernel's word, or [`AuthorityError`] in one.
pub async fn serve_on_loopback(
    service: &Service,
    authority: &Authority,
    clock: Clock,
) -> io::Result<SocketAddr> {
    let tls = tls_of(service, authority).map_err(io::Error::other)?;
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
    let at = listener.local_addr()?;
    if service.refuses(Tick::from_nanos(0)) {
        return Ok(at);
    }
    let service = Arc::new(service.clone());
    if service.is_resolver() {
        let (socket, service) = (UdpSocket::bind(at).await?, Arc::clone(&service));
        tokio::spawn(async move {
            let mut buffer = vec![0; BUFFER];
            while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
                if let Some(said) = answer(&service, &buffer[..length], clock.now()) {
                    let _lost = socket.send_to(&said, from).await;
                }
            }
        });
    }
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(receive(stream, Arc::clone(&service), tls.clone(), clock));
        }
    });
    Ok(at)
}

fn tls_of(
    service: &Service,
    authority: &Authority,
) -> Result<Option<Arc<ServerConfig>>, AuthorityError> {
    service.tls.map(|habit| authority.server(&service.name, habit)).transpose()
}

/// Receives one visitor. What becomes of his connection is his to find out.
async fn receive<S: Torn>(
    stream: S,
    service: Arc<Service>,
    tls: Option<Arc<ServerConfig>>,
    clock: Clock,
) {
    let spoken = match tls {
        _ if service.is_resolver() => be_asked(stream, &service, clock).await,
        None => converse(stream, &service, clock).await,
        Some(config) => match TlsAcceptor::from(config).accept(stream).await {
            Ok(secured) => converse(secured, &service, clock).await,
            Err(error) => Err(error),
        },
    };
    if let Err(error) = spoken {
        tracing::debug!(%error, port = service.port, "a conversation ended early");
    }
}

/// Questions to a resolver by TCP (RFC 7766).
async fn be_asked<S: Torn>(mut stream: S, service: &Service, clock: Clock) -> io::Result<()> {
    loop {
        let length = stream.read_u16().await?;
        let mut question = vec![0; usize::from(length)];
        stream.read_exact(&mut question).await?;
        let Some(said) = answer(service, &question, clock.now()) else { continue };
        let length = u16::try_from(said.len()).unwrap_or(u16::MAX);
        stream.write_all(&length.to_be_bytes()).await?;
        stream.write_all(&said).await?;
    }
}

async fn converse<S: Torn>(mut stream: S, service: &Service, clock: Clock) -> io::Result<()> {
    let (mut conversation, acts) = Conversation::open(service, clock.now());
    if act(&mut stream, acts).await? {
        return Ok(());
    }
    let mut buffer = vec![0; BUFFER];
    loop {
        let reading = tokio::time::timeout(IDLE, stream.read(&mut buffer)).await;
        let length = reading.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
        if length == 0 {
            return stream.shutdown().await;
        }
        if act(&mut stream, conversation.on_octets(&buffer[..length])).await? {
            return Ok(());
        }
    }
}

/// Does what is wanted, in order; true when that was the end.
async fn act<S: Torn>(stream: &mut S, acts: Vec<Act>) -> io::Result<bool> {
    for act in acts {
        match act {
            Act::Say(octets) => {
                stream.write_all(&octets).await?;
                stream.flush().await?;
            }
            Act::Wait(nanos) => tokio::time::sleep(Duration::from_nanos(nanos)).await,
            Act::Close => {
                stream.shutdown().await?;
                return Ok(true);
            }
            Act::Reset => {
                stream.tear();
                return Ok(true);
            }
            Act::Endlessly(octets) => {
                // It ends when the client reads no more.
                let ending = tokio::time::timeout(IDLE, async {
                    while stream.write_all(&octets).await.is_ok() {
                        tokio::task::yield_now().await;
                    }
                });
                let _either_way = ending.await;
                return Ok(true);
            }
        }
    }
    Ok(false)
}
