//! Over what services are asked: the kernel's sockets, or a host in user space.

use itinera_model::check::Why;
use itinera_stack::Stack;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpSocket, UdpSocket};

/// Bytes of the longest datagram that is listened for.
const LONGEST: usize = 4_096;

/// Carries connections and datagrams.
#[derive(Debug, Clone)]
pub enum Net {
    /// The kernel's sockets; from this address where one is wanted.
    Kernel {
        /// The address they leave from.
        source: Option<IpAddr>,
    },
    /// A host of the simulated internet.
    Stack(Stack),
}

/// Bytes in both directions.
pub trait Both: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Both for T {}

/// An open connection.
pub type Connection = Box<dyn Both>;

/// Accepts connections.
#[derive(Debug)]
pub enum Listener {
    /// The kernel's.
    Kernel(TcpListener),
    /// A host's of the simulated internet.
    Stack(itinera_stack::Listener),
}

impl Listener {
    /// The next connection, and its client where that is known.
    ///
    /// # Errors
    /// The kernel's word.
    pub async fn accept(&mut self) -> io::Result<(Connection, Option<IpAddr>)> {
        match self {
            Self::Kernel(listener) => {
                let (stream, from) = listener.accept().await?;
                Ok((Box::new(stream), Some(from.ip().to_canonical())))
            }
            Self::Stack(listener) => Ok((Box::new(listener.accept().await), None)),
        }
    }
}

/// Sends and receives datagrams at one port.
#[derive(Debug)]
pub enum Datagrams {
    /// The kernel's.
    Kernel(UdpSocket),
    /// A host's of the simulated internet.
    Stack(itinera_stack::Datagrams),
}

impl Datagrams {
    /// Sends one; waits for room in the send buffer.
    ///
    /// # Errors
    /// The kernel's error, or `InvalidInput` from the simulated host.
    pub async fn send_to(&self, datagram: &[u8], there: SocketAddr) -> io::Result<()> {
        match self {
            Self::Kernel(socket) => socket.send_to(datagram, there).await.map(drop),
            Self::Stack(door) => door.send_to(datagram, there).await,
        }
    }

    /// The next one that comes.
    ///
    /// # Errors
    /// The kernel's word.
    pub async fn recv_from(&self, buffer: &mut [u8]) -> io::Result<(usize, SocketAddr)> {
        match self {
            Self::Kernel(socket) => socket.recv_from(buffer).await,
            Self::Stack(door) => Ok(door.recv_from(buffer).await),
        }
    }
}

impl Net {
    /// Listens for connections at a port, from any address of its version of IP.
    ///
    /// # Errors
    /// The kernel's word: the port is taken.
    pub async fn listen(&self, port: u16) -> io::Result<Listener> {
        match self {
            Self::Kernel { .. } => {
                let both = TcpListener::bind((Ipv6Addr::UNSPECIFIED, port)).await;
                let listener = match both {
                    Ok(listener) => listener,
                    // A kernel without IPv6.
                    Err(_) => TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)).await?,
                };
                Ok(Listener::Kernel(listener))
            }
            Self::Stack(stack) => stack.listen(port).map(Listener::Stack),
        }
    }

    /// Opens a door for datagrams: at this port, or any.
    ///
    /// # Errors
    /// The kernel's word: the port is taken.
    pub async fn datagrams(&self, port: Option<u16>, six: bool) -> io::Result<Datagrams> {
        match self {
            Self::Kernel { .. } => {
                let any: IpAddr =
                    if six { Ipv6Addr::UNSPECIFIED.into() } else { Ipv4Addr::UNSPECIFIED.into() };
                UdpSocket::bind((any, port.unwrap_or(0))).await.map(Datagrams::Kernel)
            }
            Self::Stack(stack) => stack.datagrams(port).map(Datagrams::Stack),
        }
    }

    /// Opens a connection.
    ///
    /// # Errors
    /// The kernel's word, or the host's.
    pub async fn connect(&self, there: SocketAddr) -> io::Result<Connection> {
        match self {
            Self::Kernel { source } => {
                let socket =
                    if there.is_ipv4() { TcpSocket::new_v4() } else { TcpSocket::new_v6() }?;
                if let Some(source) = source {
                    socket.bind(SocketAddr::new(*source, 0))?;
                }
                let stream = socket.connect(there).await?;
                // What is timed must not wait to be gathered.
                stream.set_nodelay(true)?;
                Ok(Box::new(stream))
            }
            Self::Stack(stack) => Ok(Box::new(stack.connect(there).await?)),
        }
    }

    /// Sends a datagram and gives the first answer from there that `means` something.
    pub(crate) async fn ask<T>(
        &self,
        datagram: &[u8],
        there: SocketAddr,
        wait: Duration,
        means: impl Fn(&[u8]) -> Option<T>,
    ) -> io::Result<T> {
        let asking = async {
            let mut buffer = vec![0; LONGEST];
            match self {
                Self::Kernel { source } => {
                    let any: IpAddr = match there {
                        SocketAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
                        SocketAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
                    };
                    let socket = UdpSocket::bind((source.unwrap_or(any), 0)).await?;
                    // Connected: the kernel drops what others send, and tells of refusals.
                    socket.connect(there).await?;
                    socket.send(datagram).await?;
                    loop {
                        let length = socket.recv(&mut buffer).await?;
                        if let Some(meant) = means(&buffer[..length]) {
                            return Ok(meant);
                        }
                    }
                }
                Self::Stack(stack) => {
                    let door = stack.datagrams(None)?;
                    door.send_to(datagram, there).await?;
                    loop {
                        let (length, from) = door.recv_from(&mut buffer).await;
                        if from == there
                            && let Some(meant) = means(&buffer[..length])
                        {
                            return Ok(meant);
                        }
                    }
                }
            }
        };
        tokio::time::timeout(wait, asking)
            .await
            .unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
    }
}

/// Why a connection does not open.
pub(crate) fn why_not_open(error: &io::Error) -> Why {
    match error.kind() {
        io::ErrorKind::ConnectionRefused => Why::Refused,
        io::ErrorKind::TimedOut => Why::NoAnswer,
        io::ErrorKind::ConnectionReset => Why::Reset,
        _ => Why::Unreachable,
    }
}

/// Why an open connection gives no more.
pub(crate) fn why_ended(error: &io::Error) -> Why {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => Why::Closed,
        io::ErrorKind::TimedOut => Why::NoAnswer,
        io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable => Why::Unreachable,
        _ => Why::Reset,
    }
}
