//! Where whole IP packets go out and come in: the kernel's raw sockets, or a simulated internet
//! behind a loopback socket.

mod plain;
mod raw;
pub(crate) mod simulated;

use itinera_model::path::Method;
use itinera_probe::Report;
use simulated::{Frame, SimulatedSocket};
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

pub use plain::PlainLink;
pub(crate) use plain::may_echo;
pub(crate) use raw::PORTS;
pub use raw::{RawLink, RawSockets};

/// Addresses for documentation (RFC 5737, RFC 3849), where every default route leads and no packet
/// goes.
const ANYWHERE_4: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 1);
const ANYWHERE_6: Ipv6Addr = Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1);

/// Why a link cannot be opened.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LinkError {
    /// The kernel refuses raw sockets to this account.
    #[error(
        "raw sockets are refused: run as root, or grant them with `setcap cap_net_raw+ep` on this program"
    )]
    NotPermitted(#[source] io::Error),
    /// The kernel gives this account no datagram sockets for echo either.
    #[error(
        "echo without privilege is refused: allow it with `sysctl -w net.ipv4.ping_group_range=\"0 2147483647\"`"
    )]
    NoEcho(#[source] io::Error),
    /// Something else about the raw socket.
    #[error("cannot open a raw socket")]
    Raw(#[source] io::Error),
    /// The loopback socket.
    #[error("cannot open a loopback socket toward the simulation at {0}")]
    Simulated(SocketAddr, #[source] io::Error),
}

/// How probes leave.
#[derive(Debug)]
pub enum Link {
    /// The kernel's raw sockets.
    Raw(Box<RawLink>),
    /// Datagram sockets, without privilege: echo and UDP.
    Plain(Box<PlainLink>),
    /// A simulated internet: whole IP packets as datagrams, our addresses in it as given.
    Simulated {
        /// Connected to the simulation.
        socket: SimulatedSocket,
        /// Our addresses in the simulated internet.
        addresses: Vec<IpAddr>,
    },
}

/// What came in, with the kernel's stamp (nanoseconds since 1970) where it has made one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Incoming {
    /// A whole IP packet.
    Packet {
        /// Its bytes in the buffer.
        length: usize,
        /// When it came in.
        stamp: Option<i128>,
        /// How long after that a simulated link delivered it, in microseconds; 0 on real links.
        link_us: u32,
    },
    /// The payload of an IPv6 packet, without its header; ICMPv6 with its checksum verified.
    Payload {
        /// Its bytes in the buffer.
        length: usize,
        /// When it came in.
        stamp: Option<i128>,
        /// Its protocol number.
        protocol: u8,
        /// The sender.
        from: IpAddr,
        /// Hop limit that was left.
        hop_limit: Option<u8>,
        /// Traffic class it came with.
        traffic_class: Option<u8>,
    },
    /// What a router said of a probe, from an error queue.
    Report {
        /// Bytes of the probe's transport in the buffer, as far as quoted.
        length: usize,
        /// When it came in.
        stamp: Option<i128>,
        /// The probe's protocol number.
        protocol: u8,
        /// The probe's source port or identifier.
        port: u16,
        /// The sender.
        from: IpAddr,
        /// Hop limit that was left.
        hop_limit: Option<u8>,
        /// What was said.
        report: Report,
    },
}

impl Incoming {
    /// How long after its stamp a simulated link delivered it, in microseconds.
    pub const fn link_us(&self) -> u32 {
        match self {
            Self::Packet { link_us, .. } => *link_us,
            Self::Payload { .. } | Self::Report { .. } => 0,
        }
    }

    /// The kernel's stamp, or the simulated link's.
    pub const fn stamp(&self) -> Option<i128> {
        match self {
            Self::Packet { stamp, .. }
            | Self::Payload { stamp, .. }
            | Self::Report { stamp, .. } => *stamp,
        }
    }
}

/// Names a packet that the kernel will stamp when it leaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct SendId {
    six: bool,
    number: u32,
}

impl SendId {
    pub(crate) const fn is_six(self) -> bool {
        self.six
    }
}

/// Where an agent can be reached; the kernel is asked where it is not fixed.
#[derive(Debug, Clone)]
pub(crate) struct OwnAddresses(Option<Vec<IpAddr>>);

impl OwnAddresses {
    pub(crate) fn now(&self) -> Vec<IpAddr> {
        self.0.clone().unwrap_or_else(|| {
            let anywhere = [ANYWHERE_4.into(), ANYWHERE_6.into()];
            anywhere.into_iter().filter_map(|there| kernels_source_for(there).ok()).collect()
        })
    }
}

/// The address that packets to `destination` leave from, by the kernel's routes.
fn kernels_source_for(destination: IpAddr) -> io::Result<IpAddr> {
    // Connecting a datagram socket sends nothing and makes the kernel choose.
    let any: IpAddr = match destination {
        IpAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
        IpAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
    };
    let socket = std::net::UdpSocket::bind((any, 0))?;
    socket.connect((destination, 9))?;
    Ok(socket.local_addr()?.ip())
}

impl Link {
    /// Opens raw sockets.
    ///
    /// # Errors
    /// [`LinkError::NotPermitted`] or [`LinkError::Raw`].
    pub fn raw(sockets: RawSockets) -> Result<Self, LinkError> {
        sockets.watched().map(Box::new).map(Self::Raw)
    }

    /// Probes without privilege, by echo and UDP.
    ///
    /// # Errors
    /// [`LinkError::NoEcho`].
    pub fn plain() -> Result<Self, LinkError> {
        PlainLink::open().map(Box::new).map(Self::Plain)
    }

    /// Whether probes of a method can leave by it.
    pub const fn can(&self, method: Method) -> bool {
        !matches!((self, method), (Self::Plain(_), Method::TcpSyn))
    }

    /// Connects to a simulation on loopback in which this agent has `addresses`.
    ///
    /// # Errors
    /// [`LinkError::Simulated`].
    pub async fn simulated(
        simulation: SocketAddr,
        addresses: Vec<IpAddr>,
    ) -> Result<Self, LinkError> {
        let socket = SimulatedSocket::connect(simulation).await;
        let socket = socket.map_err(|error| LinkError::Simulated(simulation, error))?;
        Ok(Self::Simulated { socket, addresses })
    }

    /// The address that probes to `destination` leave from.
    ///
    /// # Errors
    /// The kernel's error when there is no route.
    pub fn source_for(&self, destination: IpAddr) -> io::Result<IpAddr> {
        match self {
            Self::Simulated { addresses, .. } => addresses
                .iter()
                .copied()
                .find(|own| own.is_ipv6() == destination.is_ipv6())
                .ok_or_else(|| io::ErrorKind::NetworkUnreachable.into()),
            Self::Raw(_) | Self::Plain(_) => kernels_source_for(destination),
        }
    }

    /// Makes a UDP port ours, so that packets to it come in and the kernel does not call it
    /// unreachable.
    ///
    /// # Errors
    /// Whatever the kernel says: another program may have it.
    pub fn listen(&self, port: u16) -> io::Result<()> {
        match self {
            Self::Simulated { .. } => Ok(()),
            Self::Raw(raw) => raw.listen(port),
            Self::Plain(plain) => plain.listen(port),
        }
    }

    /// Tells, whenever it is asked, the addresses at which others may reach this agent, one of each
    /// version of IP: those that packets to nowhere in particular would leave from then.
    pub(crate) fn own_addresses(&self) -> OwnAddresses {
        match self {
            Self::Simulated { addresses, .. } => OwnAddresses(Some(addresses.clone())),
            Self::Raw(_) | Self::Plain(_) => OwnAddresses(None),
        }
    }

    /// Sends a whole IP packet, which a simulated link takes at `unix_nanos`. Where the kernel
    /// stamps what leaves, gives the packet's name.
    ///
    /// # Errors
    /// Whatever the kernel says; the packet has not left then.
    pub fn send(
        &self,
        packet: &[u8],
        destination: IpAddr,
        unix_nanos: i128,
    ) -> io::Result<Option<SendId>> {
        match self {
            Self::Simulated { socket, .. } => {
                let unix_nanos = i64::try_from(unix_nanos).unwrap_or(0);
                let frame = Frame { unix_nanos, late_us: 0, packet };
                socket.try_send(&frame.emit()).map(|_| None)
            }
            Self::Raw(raw) => raw.send(packet, destination),
            Self::Plain(plain) => plain.send(packet).map(|()| None),
        }
    }

    /// Adds to `found` when packets left (nanoseconds since 1970), as far as the kernel has said
    /// so since the last call; over IPv4 and over IPv6 where it is `owed`.
    pub fn sent_stamps(&self, owed: [bool; 2], found: &mut Vec<(SendId, i128)>) {
        match self {
            Self::Simulated { .. } | Self::Plain(_) => {}
            Self::Raw(raw) => raw.sent_stamps(owed, found),
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
        match self {
            Self::Simulated { socket, .. } => {
                let length = socket.recv(buffer).await?;
                let Some(frame) = Frame::parse(&buffer[..length]) else {
                    return Err(io::ErrorKind::InvalidData.into());
                };
                let Frame { unix_nanos, late_us: link_us, packet } = frame;
                let packet = length - packet.len()..length;
                let incoming = Incoming::Packet {
                    length: packet.len(),
                    stamp: Some(unix_nanos.into()),
                    link_us,
                };
                buffer.copy_within(packet, 0);
                Ok(incoming)
            }
            Self::Raw(raw) => raw.receive(buffer).await,
            Self::Plain(plain) => plain.receive(buffer).await,
        }
    }
}
