//! Where whole IP packets go out and come in: the kernel's raw sockets, or a simulated internet
//! behind a loopback socket.

use crate::sys;
use rustix::net::{RecvFlags, recvfrom};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Read};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, SocketAddrV6};
use tokio::io::unix::{AsyncFd, AsyncFdReadyGuard};
use tokio::net::UdpSocket;

/// Octets of receive buffer asked for: bursts of answers must not be taken for loss.
const RECEIVE_BUFFER: usize = 1 << 20;

/// Why a link cannot be opened.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LinkError {
    /// The kernel refuses raw sockets to this account.
    #[error(
        "raw sockets are refused: run as root, or grant them with `setcap cap_net_raw+ep` on this program"
    )]
    NotPermitted(#[source] io::Error),
    /// Something else about the raw socket.
    #[error("cannot open a raw socket")]
    Raw(#[source] io::Error),
    /// The loopback socket.
    #[error("cannot open a loopback socket toward the simulation at {0}")]
    Simulated(SocketAddr, #[source] io::Error),
}

/// A way out for probes.
#[derive(Debug)]
pub enum Link {
    /// The kernel's raw sockets (raw(7), ipv6(7)): ICMP comes in, any protocol goes out.
    Kernel {
        /// IPv4: whole packets both ways.
        four: AsyncFd<Socket>,
        /// IPv6: whole packets out, messages without their IP header in; absent where the
        /// kernel has no IPv6.
        six: Option<AsyncFd<Socket>>,
    },
    /// A simulated internet: whole IP packets as datagrams, our addresses in it as given.
    Simulated {
        /// Connected to the simulation.
        socket: UdpSocket,
        /// Our addresses in the simulated internet.
        addresses: Vec<IpAddr>,
    },
}

/// What came in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Incoming {
    /// A whole IP packet of this many octets.
    Packet(usize),
    /// An ICMPv6 message of this many octets, checksum verified, without its IP header.
    Message(usize, Ipv6Addr),
}

impl Link {
    /// Opens raw sockets.
    ///
    /// # Errors
    /// [`LinkError::NotPermitted`] or [`LinkError::Raw`].
    pub fn kernel() -> Result<Self, LinkError> {
        let refused = |error: io::Error| match error.kind() {
            io::ErrorKind::PermissionDenied => LinkError::NotPermitted(error),
            _ => LinkError::Raw(error),
        };
        let four = Socket::new(Domain::IPV4, Type::RAW, Some(Protocol::ICMPV4)).map_err(refused)?;
        let prepare = |socket: Socket| -> io::Result<AsyncFd<Socket>> {
            socket.set_recv_buffer_size(RECEIVE_BUFFER)?;
            socket.set_nonblocking(true)?;
            sys::watched(socket)
        };
        let open_four = || {
            four.set_header_included_v4(true)?;
            prepare(four)
        };
        let open_six = || {
            let six = Socket::new(Domain::IPV6, Type::RAW, Some(Protocol::ICMPV6))?;
            six.set_header_included_v6(true)?;
            prepare(six)
        };
        let six = open_six()
            .inspect_err(|error| tracing::info!(%error, "IPv6 cannot be probed here"))
            .ok();
        Ok(Self::Kernel { four: open_four().map_err(LinkError::Raw)?, six })
    }

    /// Connects to a simulation on loopback in which this agent has `addresses`.
    ///
    /// # Errors
    /// [`LinkError::Simulated`].
    pub async fn simulated(
        simulation: SocketAddr,
        addresses: Vec<IpAddr>,
    ) -> Result<Self, LinkError> {
        let open = async {
            let socket = UdpSocket::bind("127.0.0.1:0").await?;
            socket.connect(simulation).await?;
            io::Result::Ok(socket)
        };
        let socket = open.await.map_err(|error| LinkError::Simulated(simulation, error))?;
        Ok(Self::Simulated { socket, addresses })
    }

    /// The address that probes to `destination` leave from.
    ///
    /// # Errors
    /// The kernel's word when there is no way there.
    pub fn source_for(&self, destination: IpAddr) -> io::Result<IpAddr> {
        match self {
            Self::Simulated { addresses, .. } => addresses
                .iter()
                .copied()
                .find(|own| own.is_ipv6() == destination.is_ipv6())
                .ok_or_else(|| io::ErrorKind::NetworkUnreachable.into()),
            Self::Kernel { .. } => {
                // Connecting a datagram socket sends nothing and makes the kernel choose.
                let any: IpAddr = match destination {
                    IpAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
                    IpAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
                };
                let socket = std::net::UdpSocket::bind((any, 0))?;
                socket.connect((destination, 9))?;
                Ok(socket.local_addr()?.ip())
            }
        }
    }

    /// Sends a whole IP packet.
    ///
    /// # Errors
    /// Whatever the kernel says; the packet has not left then.
    pub fn send(&self, packet: &[u8], destination: IpAddr) -> io::Result<()> {
        match self {
            Self::Simulated { socket, .. } => socket.try_send(packet).map(drop),
            Self::Kernel { four, six } => {
                let raw = match (destination, six) {
                    (IpAddr::V4(_), _) => four,
                    (IpAddr::V6(_), Some(six)) => six,
                    (IpAddr::V6(_), None) => return Err(io::ErrorKind::Unsupported.into()),
                };
                let to = SockAddr::from(SocketAddr::from((destination, 0)));
                raw.get_ref().send_to(packet, &to).map(drop)
            }
        }
    }

    /// Receives one packet or message into `buffer`.
    ///
    /// # Errors
    /// Whatever the kernel says.
    ///
    /// # Cancel safety
    /// Safe: nothing is lost when the future is dropped before it is ready.
    pub async fn receive(&self, buffer: &mut [u8]) -> io::Result<Incoming> {
        let (four, six) = match self {
            Self::Simulated { socket, .. } => {
                return socket.recv(buffer).await.map(Incoming::Packet);
            }
            Self::Kernel { four, six } => (four, six),
        };
        loop {
            tokio::select! {
                ready = four.readable() => {
                    if let Ok(read) = ready?.try_io(|socket| socket.get_ref().read(buffer)) {
                        return read.map(Incoming::Packet);
                    }
                }
                ready = readable(six.as_ref()) => {
                    if let Ok(read) = ready?.try_io(|socket| message(socket.get_ref(), buffer)) {
                        return read;
                    }
                }
            }
        }
    }
}

/// Ready when the socket is; never where there is none.
async fn readable(socket: Option<&AsyncFd<Socket>>) -> io::Result<AsyncFdReadyGuard<'_, Socket>> {
    match socket {
        Some(socket) => socket.readable().await,
        None => std::future::pending().await,
    }
}

fn message(socket: &Socket, buffer: &mut [u8]) -> io::Result<Incoming> {
    let (length, _, from) = recvfrom(socket, buffer, RecvFlags::empty())?;
    match from.map(SocketAddrV6::try_from) {
        Some(Ok(from)) => Ok(Incoming::Message(length, *from.ip())),
        _ => Err(io::ErrorKind::InvalidData.into()),
    }
}
