//! Where whole IP packets go out and come in: the kernel's raw sockets, or a simulated internet
//! behind a loopback socket.

use crate::sys;
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Read};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;
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
    /// The kernel's raw sockets (raw(7)): ICMP comes in, any protocol goes out.
    Kernel(AsyncFd<Socket>),
    /// A simulated internet: whole IP packets as datagrams, our address in it as given.
    Simulated {
        /// Connected to the simulation.
        socket: UdpSocket,
        /// Our address in the simulated internet.
        address: Ipv4Addr,
    },
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
        let socket =
            Socket::new(Domain::IPV4, Type::RAW, Some(Protocol::ICMPV4)).map_err(refused)?;
        let prepare = |socket: Socket| -> io::Result<AsyncFd<Socket>> {
            socket.set_header_included_v4(true)?;
            socket.set_recv_buffer_size(RECEIVE_BUFFER)?;
            socket.set_nonblocking(true)?;
            sys::watched(socket)
        };
        prepare(socket).map(Self::Kernel).map_err(LinkError::Raw)
    }

    /// Connects to a simulation on loopback in which this agent has `address`.
    ///
    /// # Errors
    /// [`LinkError::Simulated`].
    pub async fn simulated(simulation: SocketAddr, address: Ipv4Addr) -> Result<Self, LinkError> {
        let open = async {
            let socket = UdpSocket::bind("127.0.0.1:0").await?;
            socket.connect(simulation).await?;
            io::Result::Ok(socket)
        };
        let socket = open.await.map_err(|error| LinkError::Simulated(simulation, error))?;
        Ok(Self::Simulated { socket, address })
    }

    /// The address that probes to `destination` leave from.
    ///
    /// # Errors
    /// The kernel's word when there is no way there, or `Unsupported` for IPv6.
    pub fn source_for(&self, destination: Ipv4Addr) -> io::Result<Ipv4Addr> {
        match self {
            Self::Simulated { address, .. } => Ok(*address),
            Self::Kernel(_) => {
                // Connecting a datagram socket sends nothing and makes the kernel choose.
                let socket = std::net::UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0))?;
                socket.connect((destination, 9))?;
                match socket.local_addr()?.ip() {
                    IpAddr::V4(address) => Ok(address),
                    IpAddr::V6(_) => Err(io::ErrorKind::Unsupported.into()),
                }
            }
        }
    }

    /// Sends a whole IP packet.
    ///
    /// # Errors
    /// Whatever the kernel says; the packet has not left then.
    pub fn send(&self, packet: &[u8], destination: Ipv4Addr) -> io::Result<()> {
        match self {
            Self::Simulated { socket, .. } => socket.try_send(packet).map(drop),
            Self::Kernel(raw) => {
                let to = SockAddr::from(SocketAddr::from((destination, 0)));
                raw.get_ref().send_to(packet, &to).map(drop)
            }
        }
    }

    /// Receives one whole IP packet; gives its length.
    ///
    /// # Errors
    /// Whatever the kernel says.
    ///
    /// # Cancel safety
    /// Safe: no packet is lost when the future is dropped before it is ready.
    pub async fn receive(&self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Simulated { socket, .. } => socket.recv(buffer).await,
            Self::Kernel(raw) => {
                raw.async_io(Interest::READABLE, |socket| (&*socket).read(buffer)).await
            }
        }
    }
}
