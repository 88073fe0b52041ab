//! The kernel's raw sockets (raw(7), ipv6(7)), with its own stamps in both directions.

use super::{Incoming, LinkError, SendId};
use crate::sys;
use nix::libc;
use nix::sys::socket::{
    ControlMessageOwned, MsgFlags, SockaddrIn6, SockaddrStorage, TimestampingFlag, Timestamps,
    recvmsg, setsockopt, sockopt,
};
use rustix::net::sockopt::{Ipv4PathMtuDiscovery, Ipv6PathMtuDiscovery};
use rustix::net::sockopt::{set_ip_mtu_discover, set_ipv6_mtu_discover};
use socket2::{Domain, Protocol, SockAddr, SockFilter, Socket, Type};
use std::io::{self, IoSliceMut};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::os::fd::AsRawFd;
use tokio::io::unix::{AsyncFd, AsyncFdReadyGuard};

/// Bytes of receive buffer asked for: bursts of answers must not be taken for loss.
const RECEIVE_BUFFER: usize = 1 << 20;
/// Control messages of one packet: stamps, an error, a hop limit.
const CONTROL: usize = 512;
/// Transmit stamps taken from a socket's queue at once.
const MAX_STAMPS: usize = 64;
/// Origin of an error queue entry that is a transmit stamp (SO_EE_ORIGIN_TIMESTAMPING).
const FROM_STAMPING: u8 = 4;

/// The source ports that probes leave from; answers to others are left to their owners.
pub(crate) const PORTS: std::ops::Range<u16> = 40_000..60_000;

/// What comes in on a socket.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// IPv4 packets, whole.
    Four,
    /// Payloads of IPv6 packets of this protocol.
    Six(u8),
}

#[derive(Debug)]
struct Opened {
    kind: Kind,
    socket: Socket,
    /// The kernel stamps what leaves by it.
    stamped: bool,
}

/// Raw sockets before the runtime watches them: opened by a thread that may still drop what
/// privilege opening them needs.
#[derive(Debug)]
pub struct RawSockets {
    four: [Opened; 3],
    six: Option<[Opened; 3]>,
}

const TCP: i32 = libc::IPPROTO_TCP;
const UDP: i32 = libc::IPPROTO_UDP;

impl RawSockets {
    /// Opens them: ICMP to send whole packets and to hear answers, TCP and UDP to hear targets
    /// that answer by themselves.
    ///
    /// Where an interface is named, probes leave by it and answers are heard on it alone.
    ///
    /// # Errors
    /// [`LinkError::NotPermitted`] or [`LinkError::Raw`]. A kernel without IPv6 is none.
    pub fn open(interface: Option<&str>) -> Result<Self, LinkError> {
        let refused = |error: io::Error| match error.kind() {
            io::ErrorKind::PermissionDenied => LinkError::NotPermitted(error),
            _ => LinkError::Raw(error),
        };
        let open = |kind, protocol| open(kind, protocol, interface);
        let four = || -> io::Result<_> {
            Ok([
                open(Kind::Four, libc::IPPROTO_ICMP)?,
                open(Kind::Four, TCP)?,
                open(Kind::Four, UDP)?,
            ])
        };
        let six = || -> io::Result<_> {
            Ok([
                open(Kind::Six(58), libc::IPPROTO_ICMPV6)?,
                open(Kind::Six(6), TCP)?,
                open(Kind::Six(17), UDP)?,
            ])
        };
        let four = four().map_err(refused)?;
        let six =
            six().inspect_err(|error| tracing::info!(%error, "IPv6 cannot be probed here")).ok();
        Ok(Self { four, six })
    }

    /// True when the kernel stamps what leaves by them.
    pub fn are_stamped(&self) -> bool {
        self.four[0].stamped
    }

    /// True when there is IPv6.
    pub const fn have_six(&self) -> bool {
        self.six.is_some()
    }

    /// Hands them to the present runtime.
    ///
    /// # Errors
    /// [`LinkError::Raw`].
    pub(crate) fn watched(self) -> Result<RawLink, LinkError> {
        let watch = |opened: [Opened; 3]| -> io::Result<[Watched; 3]> {
            let [icmp, tcp, udp] = opened;
            Ok([Watched::new(icmp)?, Watched::new(tcp)?, Watched::new(udp)?])
        };
        let open = || -> io::Result<RawLink> {
            let held = std::sync::Mutex::default();
            Ok(RawLink { four: watch(self.four)?, six: self.six.map(watch).transpose()?, held })
        };
        open().map_err(LinkError::Raw)
    }
}

fn open(kind: Kind, protocol: i32, interface: Option<&str>) -> io::Result<Opened> {
    let domain = if kind == Kind::Four { Domain::IPV4 } else { Domain::IPV6 };
    let socket = Socket::new(domain, Type::RAW, Some(Protocol::from(protocol)))?;
    socket.bind_device(interface.map(str::as_bytes))?;
    let sends = !matches!(protocol, TCP | UDP);
    if sends {
        match kind {
            // What the kernel has learned about a path's MTU must not stop what measures it.
            Kind::Four => {
                socket.set_header_included_v4(true)?;
                set_ip_mtu_discover(&socket, Ipv4PathMtuDiscovery::PROBE)?;
            }
            Kind::Six(_) => {
                socket.set_header_included_v6(true)?;
                set_ipv6_mtu_discover(&socket, Ipv6PathMtuDiscovery::PROBE)?;
            }
        }
    } else {
        socket.attach_filter(&only_ours(kind, protocol))?;
    }
    if kind != Kind::Four {
        socket.set_recv_hoplimit_v6(true)?;
        socket.set_recv_tclass_v6(true)?;
    }
    // Early: the first packets after this may come without a stamp.
    let stamped = stamp(&socket, sends).is_ok();
    socket.set_recv_buffer_size(RECEIVE_BUFFER)?;
    socket.set_nonblocking(true)?;
    Ok(Opened { kind, socket, stamped: stamped && sends })
}

/// Asks the kernel to stamp packets: what comes in with the packet, what leaves through the
/// error queue, by number. Asking again restarts the numbers.
fn stamp(socket: &Socket, sends: bool) -> nix::Result<()> {
    let incoming = TimestampingFlag::SOF_TIMESTAMPING_SOFTWARE
        | TimestampingFlag::SOF_TIMESTAMPING_RX_SOFTWARE;
    let outgoing = TimestampingFlag::SOF_TIMESTAMPING_TX_SOFTWARE
        | TimestampingFlag::SOF_TIMESTAMPING_OPT_ID
        | TimestampingFlag::SOF_TIMESTAMPING_OPT_TSONLY;
    setsockopt(socket, sockopt::Timestamping, &incoming)?;
    if sends {
        setsockopt(socket, sockopt::Timestamping, &(incoming | outgoing))?;
    }
    Ok(())
}

/// A datagram socket that has an address and drops what comes to it.
fn hold(address: SocketAddr) -> io::Result<Socket> {
    let domain = Domain::for_address(address);
    let socket = Socket::new(domain, Type::DGRAM, Some(Protocol::UDP))?;
    if address.is_ipv6() {
        socket.set_only_v6(true)?;
    }
    const RETURN: u16 = 0x06;
    socket.attach_filter(&[SockFilter::new(RETURN, 0, 0, 0)])?;
    socket.bind(&SockAddr::from(address))?;
    Ok(socket)
}

/// A filter program (socket(7)) that lets pass what goes to our ports, and of TCP only what
/// accepts or refuses a connection: the traffic of other programs is not read.
fn only_ours(kind: Kind, protocol: i32) -> Vec<SockFilter> {
    // Instructions of the classic machine: load byte or half word at X + k, jump, return.
    const X_FROM_HEADER_LEN: u16 = 0xb1;
    const LOAD_X: u16 = 0x01;
    const HALF: u16 = 0x48;
    const OCTET: u16 = 0x50;
    const AT_LEAST: u16 = 0x35;
    const ANY_BIT: u16 = 0x45;
    const RETURN: u16 = 0x06;
    // IPv4 sockets see the IP header with its length in the first byte; IPv6 sockets do not.
    let start = match kind {
        Kind::Four => SockFilter::new(X_FROM_HEADER_LEN, 0, 0, 0),
        Kind::Six(_) => SockFilter::new(LOAD_X, 0, 0, 0),
    };
    let (first, end) = (u32::from(PORTS.start), u32::from(PORTS.end));
    let pass = SockFilter::new(RETURN, 0, 0, u32::MAX);
    let drop = SockFilter::new(RETURN, 0, 0, 0);
    let port = SockFilter::new(HALF, 0, 0, 2);
    if protocol == UDP {
        return vec![
            start,
            port,
            SockFilter::new(AT_LEAST, 0, 2, first),
            SockFilter::new(AT_LEAST, 1, 0, end),
            pass,
            drop,
        ];
    }
    let syn_or_reset = 0x06;
    vec![
        start,
        port,
        SockFilter::new(AT_LEAST, 0, 4, first),
        SockFilter::new(AT_LEAST, 3, 0, end),
        SockFilter::new(OCTET, 0, 0, 13),
        SockFilter::new(ANY_BIT, 0, 1, syn_or_reset),
        pass,
        drop,
    ]
}

#[derive(Debug)]
struct Watched {
    kind: Kind,
    fd: AsyncFd<Socket>,
    /// Number of the next packet to leave, as the kernel counts; absent where it does not stamp.
    next_id: std::sync::Mutex<Option<u32>>,
}

impl Watched {
    fn new(opened: Opened) -> io::Result<Self> {
        let next_id = std::sync::Mutex::new(opened.stamped.then_some(0));
        Ok(Self { kind: opened.kind, fd: sys::watched(opened.socket)?, next_id })
    }

    async fn readable(&self) -> io::Result<AsyncFdReadyGuard<'_, Socket>> {
        self.fd.readable().await
    }

    fn receive(&self, buffer: &mut [u8]) -> io::Result<Incoming> {
        let mut control = [0; CONTROL];
        let mut parts = [IoSliceMut::new(buffer)];
        let fd = self.fd.get_ref().as_raw_fd();
        let message =
            recvmsg::<SockaddrStorage>(fd, &mut parts, Some(&mut control), MsgFlags::MSG_DONTWAIT)?;
        let (mut stamp, mut hop_limit, mut traffic_class) = (None, None, None);
        for part in message.cmsgs().into_iter().flatten() {
            match part {
                ControlMessageOwned::ScmTimestampsns(stamps) => stamp = unix_nanos(stamps),
                ControlMessageOwned::Ipv6HopLimit(limit) => hop_limit = u8::try_from(limit).ok(),
                ControlMessageOwned::Ipv6TClass(class) => traffic_class = u8::try_from(class).ok(),
                _ => {}
            }
        }
        let length = message.bytes;
        match self.kind {
            Kind::Four => Ok(Incoming::Packet { length, stamp, link_us: 0 }),
            Kind::Six(protocol) => {
                let from = message.address.as_ref().and_then(SockaddrStorage::as_sockaddr_in6);
                let from = from.map(SockaddrIn6::ip).ok_or(io::ErrorKind::InvalidData)?.into();
                Ok(Incoming::Payload { length, stamp, protocol, from, hop_limit, traffic_class })
            }
        }
    }

    fn send(&self, packet: &[u8], to: IpAddr) -> io::Result<Option<u32>> {
        // The destination port of an IPv6 raw socket must be zero.
        let to = SockAddr::from(SocketAddr::from((to, 0)));
        let sent = self.fd.get_ref().send_to(packet, &to);
        let Ok(mut next_id) = self.next_id.lock() else {
            return sent.map(|_| None);
        };
        match sent {
            Ok(_) => {
                let id = *next_id;
                *next_id = id.map(|id| id.wrapping_add(1));
                Ok(id)
            }
            Err(error) => {
                // Whether the kernel has counted it cannot be known: count from the start.
                if next_id.is_some() {
                    *next_id = stamp(self.fd.get_ref(), true).ok().map(|()| 0);
                }
                Err(error)
            }
        }
    }

    /// Takes transmit stamps from the error queue, which must not fill: numbers and times.
    fn sent_stamps(&self, found: &mut Vec<(u32, i128)>) {
        let fd = self.fd.get_ref().as_raw_fd();
        let mut control = [0; CONTROL];
        for _ in 0..MAX_STAMPS {
            let mut nothing = [];
            let flags = MsgFlags::MSG_ERRQUEUE | MsgFlags::MSG_DONTWAIT;
            let Ok(message) =
                recvmsg::<SockaddrStorage>(fd, &mut nothing, Some(&mut control), flags)
            else {
                return;
            };
            let (mut stamp, mut id) = (None, None);
            for part in message.cmsgs().into_iter().flatten() {
                match part {
                    ControlMessageOwned::ScmTimestampsns(stamps) => stamp = unix_nanos(stamps),
                    ControlMessageOwned::Ipv4RecvErr(error, _) => {
                        id = (error.ee_origin == FROM_STAMPING).then_some(error.ee_data);
                    }
                    ControlMessageOwned::Ipv6RecvErr(error, _) => {
                        id = (error.ee_origin == FROM_STAMPING).then_some(error.ee_data);
                    }
                    _ => {}
                }
            }
            found.extend(id.zip(stamp));
        }
    }
}

/// The kernel's software stamp: nanoseconds since 1970 by the wall clock; absent where it has
/// made none.
fn unix_nanos(stamps: Timestamps) -> Option<i128> {
    let (seconds, nanos) = (stamps.system.tv_sec(), stamps.system.tv_nsec());
    let at = i128::from(seconds) * 1_000_000_000 + i128::from(nanos);
    (at > 0).then_some(at)
}

/// Raw sockets in use.
#[derive(Debug)]
pub struct RawLink {
    four: [Watched; 3],
    six: Option<[Watched; 3]>,
    /// Datagram sockets that hear nothing: with them the kernel takes their port for served, and
    /// gives it to no other socket.
    held: std::sync::Mutex<Vec<(u16, Vec<Socket>)>>,
}

impl RawLink {
    pub(super) fn send(&self, packet: &[u8], to: IpAddr) -> io::Result<Option<SendId>> {
        let (socket, six) = match (to, &self.six) {
            (IpAddr::V4(_), _) => (&self.four[0], false),
            (IpAddr::V6(_), Some(six)) => (&six[0], true),
            (IpAddr::V6(_), None) => return Err(io::ErrorKind::Unsupported.into()),
        };
        Ok(socket.send(packet, to)?.map(|number| SendId { six, number }))
    }

    pub(super) fn listen(&self, port: u16) -> io::Result<()> {
        let mut held = self.held.lock().map_err(|_| io::Error::from(io::ErrorKind::Other))?;
        if held.iter().any(|(known, _)| *known == port) {
            return Ok(());
        }
        let any: [IpAddr; 2] = [Ipv4Addr::UNSPECIFIED.into(), Ipv6Addr::UNSPECIFIED.into()];
        let any = any.into_iter().take(if self.six.is_some() { 2 } else { 1 });
        let sockets = any.map(|address| hold(SocketAddr::new(address, port)));
        held.push((port, sockets.collect::<io::Result<_>>()?));
        Ok(())
    }

    pub(super) fn sent_stamps(&self, owed: [bool; 2], found: &mut Vec<(SendId, i128)>) {
        let mut numbers = Vec::new();
        if owed[0] {
            self.four[0].sent_stamps(&mut numbers);
        }
        found.extend(numbers.drain(..).map(|(number, at)| (SendId { six: false, number }, at)));
        if let Some([icmp, ..]) = &self.six
            && owed[1]
        {
            icmp.sent_stamps(&mut numbers);
            found.extend(numbers.drain(..).map(|(number, at)| (SendId { six: true, number }, at)));
        }
    }

    pub(super) async fn receive(&self, buffer: &mut [u8]) -> io::Result<Incoming> {
        let six = |index: usize| self.six.as_ref().map(|six| &six[index]);
        loop {
            let (mut ready, socket) = tokio::select! {
                ready = self.four[0].readable() => (ready?, &self.four[0]),
                ready = self.four[1].readable() => (ready?, &self.four[1]),
                ready = self.four[2].readable() => (ready?, &self.four[2]),
                Some(ready) = readable(six(0)) => ready?,
                Some(ready) = readable(six(1)) => ready?,
                Some(ready) = readable(six(2)) => ready?,
            };
            if let Ok(read) = ready.try_io(|_| socket.receive(buffer)) {
                return read;
            }
        }
    }
}

/// Ready when the socket is; at once nothing where there is none.
async fn readable(
    watched: Option<&Watched>,
) -> Option<io::Result<(AsyncFdReadyGuard<'_, Socket>, &Watched)>> {
    let watched = watched?;
    Some(watched.readable().await.map(|ready| (ready, watched)))
}
