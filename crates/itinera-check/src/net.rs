//! Over what services are asked: the kernel's sockets, or a host in user space.

use itinera_model::check::Why;
use itinera_stack::Stack;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpSocket, UdpSocket};

/// Octets of the longest datagram that is listened for.
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

/// Octets both ways.
pub(crate) trait Both: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Both for T {}

/// An open connection.
pub(crate) type Connection = Box<dyn Both>;

impl Net {
    /// Opens a connection.
    pub(crate) async fn connect(&self, there: SocketAddr) -> io::Result<Connection> {
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
                    door.send_to(datagram, there)?;
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
