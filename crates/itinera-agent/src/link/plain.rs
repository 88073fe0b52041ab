//! Probing without privilege: datagram sockets for echo and UDP (icmp(7), udp(7)), with what
//! routers say from their error queues (ip(7), IP_RECVERR).
//!
//! Limits: no TCP; the quoted IP header is not given, so that marks, hop limits and addresses as
//! they arrived stay unknown; routers that quote 8 bytes of UDP leave nothing to tell probes by.

use super::{Incoming, LinkError};
use crate::sys;
use itinera_probe::Report;
use itinera_wire::{Addresses, IpHeader, UdpHeader, checksum, ip};
use nix::libc;
use nix::sys::socket::{
    ControlMessage, ControlMessageOwned, MsgFlags, SockaddrIn, SockaddrIn6, SockaddrStorage,
    recvmsg, sendmsg, setsockopt, sockopt,
};
use rustix::net::sockopt::{Ipv4PathMtuDiscovery, Ipv6PathMtuDiscovery};
use rustix::net::sockopt::{set_ip_mtu_discover, set_ipv6_mtu_discover};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::collections::BTreeMap;
use std::io::{self, IoSlice, IoSliceMut};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, SocketAddrV4, SocketAddrV6};
use std::os::fd::AsRawFd;
use std::sync::{Arc, Mutex};
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;
use tokio::sync::mpsc;

const CONTROL: usize = 512;
const LONGEST: usize = 9_216;
/// What has come in and not been taken yet; more is dropped, as by any receive buffer.
const BACKLOG: usize = 4_096;
/// A queued error fails the next send, which then does not happen; each try takes one away.
const TRIES: usize = 8;
/// Sockets kept open: one for each flow.
const MAX_SOCKETS: usize = 1_024;
/// Origins of errors in the queue: ICMP of either version.
const FROM_ICMP: [u8; 2] = [2, 3];

/// Protocol, own port or identifier, and whether it is IPv6.
type Key = (u8, u16, bool);

/// Something that came in, with its bytes.
type Received = (Incoming, Vec<u8>);

#[derive(Debug)]
struct Plain {
    key: Key,
    /// For echo the identifier that the kernel has chosen, and writes into what leaves: one that
    /// no other program uses, since sockets that share one receive each other's answers.
    id: u16,
    fd: AsyncFd<Socket>,
}

/// Datagram sockets in use.
#[derive(Debug)]
pub struct PlainLink {
    sockets: Mutex<BTreeMap<Key, Arc<Plain>>>,
    came: mpsc::Sender<Received>,
    inbox: tokio::sync::Mutex<mpsc::Receiver<Received>>,
}

impl PlainLink {
    /// Begins without any socket: each flow opens its own.
    ///
    /// # Errors
    /// [`LinkError::NoEcho`] when the kernel gives this account no datagram sockets for echo.
    pub fn open() -> Result<Self, LinkError> {
        Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::ICMPV4))
            .map_err(LinkError::NoEcho)?;
        let (came, inbox) = mpsc::channel(BACKLOG);
        let inbox = tokio::sync::Mutex::new(inbox);
        Ok(Self { sockets: Mutex::new(BTreeMap::new()), came, inbox })
    }

    pub(super) fn send(&self, packet: &[u8]) -> io::Result<()> {
        let invalid = |_| io::Error::from(io::ErrorKind::InvalidData);
        let (header, transport) = IpHeader::parse(packet).map_err(invalid)?;
        let addresses = header.addresses();
        let six = matches!(addresses, Addresses::V6 { .. });
        let (key, data) = match header.protocol() {
            ip::UDP => {
                let (udp, payload) = UdpHeader::parse(transport).map_err(invalid)?;
                ((ip::UDP, udp.source_port, six), payload)
            }
            protocol if header.is_icmp() => {
                let [high, low] = *transport
                    .get(4..)
                    .and_then(<[u8]>::first_chunk)
                    .ok_or(io::ErrorKind::InvalidData)?;
                ((protocol, u16::from_be_bytes([high, low]), six), transport)
            }
            _ => return Err(io::ErrorKind::Unsupported.into()),
        };
        let port = match key.0 {
            ip::UDP => UdpHeader::parse(transport).map_err(invalid)?.0.destination_port,
            _ => 0,
        };
        let socket = self.socket(key, addresses.source())?;
        socket.send(&header, data, SocketAddr::new(addresses.destination(), port), &self.came)
    }

    fn socket(&self, key: Key, source: IpAddr) -> io::Result<Arc<Plain>> {
        let mut sockets = self.sockets.lock().map_err(|_| io::Error::from(io::ErrorKind::Other))?;
        if let Some(known) = sockets.get(&key) {
            return Ok(Arc::clone(known));
        }
        while sockets.len() >= MAX_SOCKETS {
            // The task that reads it ends when it has no other holder.
            sockets.pop_first();
        }
        let plain = Arc::new(open(key, source)?);
        sockets.insert(key, Arc::clone(&plain));
        tokio::spawn(read(Arc::downgrade(&plain), self.came.clone()));
        Ok(plain)
    }

    pub(super) fn listen(&self, port: u16) -> io::Result<()> {
        self.socket((ip::UDP, port, false), Ipv4Addr::UNSPECIFIED.into())?;
        // A kernel without IPv6 has none to listen on.
        let _no_six = self.socket((ip::UDP, port, true), Ipv6Addr::UNSPECIFIED.into());
        Ok(())
    }

    pub(super) async fn receive(&self, buffer: &mut [u8]) -> io::Result<Incoming> {
        let came = self.inbox.lock().await.recv().await;
        // We hold a sender ourselves.
        let (incoming, octets) = came.ok_or(io::ErrorKind::BrokenPipe)?;
        let length = octets.len().min(buffer.len());
        buffer[..length].copy_from_slice(&octets[..length]);
        Ok(incoming)
    }
}

fn open(key: Key, source: IpAddr) -> io::Result<Plain> {
    let (protocol, port, six) = key;
    let domain = if six { Domain::IPV6 } else { Domain::IPV4 };
    let socket = Socket::new(domain, Type::DGRAM, Some(Protocol::from(i32::from(protocol))))?;
    if six {
        socket.set_only_v6(true)?;
    }
    let own = if protocol == ip::UDP { port } else { 0 };
    socket.bind(&SockAddr::from(SocketAddr::new(source, own)))?;
    let bound = socket.local_addr()?.as_socket();
    let id = bound.map_or(own, |bound| bound.port());
    if six {
        setsockopt(&socket, sockopt::Ipv6RecvErr, &true)?;
        setsockopt(&socket, sockopt::Ipv6RecvHopLimit, &true)?;
        socket.set_recv_tclass_v6(true)?;
    } else {
        setsockopt(&socket, sockopt::Ipv4RecvErr, &true)?;
        setsockopt(&socket, sockopt::Ipv4RecvTtl, &true)?;
        socket.set_recv_tos_v4(true)?;
    }
    // Early: the first packets after this may come without a stamp.
    let _no_stamps = setsockopt(&socket, sockopt::ReceiveTimestampns, &true);
    socket.set_recv_buffer_size(1 << 20)?;
    socket.set_nonblocking(true)?;
    Ok(Plain { key, id, fd: sys::watched(socket)? })
}

/// Reads a socket until its link has no more use for it.
async fn read(plain: std::sync::Weak<Plain>, came: mpsc::Sender<Received>) {
    loop {
        let Some(plain) = plain.upgrade() else { return };
        let wait = plain.fd.ready(Interest::READABLE | Interest::ERROR);
        let ready = tokio::time::timeout(std::time::Duration::from_secs(5), wait).await;
        let Ok(Ok(mut ready)) = ready else {
            continue;
        };
        let mut took = false;
        while let Some(one) = plain.take() {
            took = true;
            // It is not taken in time: lost, as in any full receive buffer.
            let _full = came.try_send(one);
        }
        if !took {
            ready.clear_ready();
        }
    }
}

impl Plain {
    fn send(
        &self,
        header: &IpHeader,
        data: &[u8],
        to: SocketAddr,
        came: &mpsc::Sender<Received>,
    ) -> io::Result<()> {
        let socket = self.fd.get_ref();
        let whole = header.is_unfragmented();
        match to {
            SocketAddr::V4(_) if whole => set_ip_mtu_discover(socket, Ipv4PathMtuDiscovery::PROBE)?,
            SocketAddr::V4(_) => set_ip_mtu_discover(socket, Ipv4PathMtuDiscovery::DONT)?,
            SocketAddr::V6(_) => set_ipv6_mtu_discover(socket, Ipv6PathMtuDiscovery::PROBE)?,
        }
        for _ in 1..TRIES {
            match self.send_once(header, data, to) {
                // A pending error is returned instead of sending: take it away and send.
                Err(_) => match self.take_error() {
                    Some(one) => {
                        let _full = came.try_send(one);
                    }
                    None => break,
                },
                sent => return sent,
            }
        }
        self.send_once(header, data, to)
    }

    fn send_once(&self, header: &IpHeader, data: &[u8], to: SocketAddr) -> io::Result<()> {
        let (limit, class) = (i32::from(header.hop_limit()), header.traffic_class());
        let six = i32::from(class);
        let controls = match to {
            SocketAddr::V4(_) => [ControlMessage::Ipv4Ttl(&limit), ControlMessage::Ipv4Tos(&class)],
            SocketAddr::V6(_) => {
                [ControlMessage::Ipv6HopLimit(&limit), ControlMessage::Ipv6TClass(&six)]
            }
        };
        let to = SockaddrStorage::from(to);
        let parts = [IoSlice::new(data)];
        let flags = MsgFlags::MSG_DONTWAIT;
        sendmsg(self.fd.get_ref().as_raw_fd(), &parts, &controls, flags, Some(&to))?;
        Ok(())
    }

    /// The next error or answer.
    fn take(&self) -> Option<Received> {
        self.take_error().or_else(|| self.take_answer())
    }

    /// The next error from the queue: what a router said of one of our probes.
    fn take_error(&self) -> Option<Received> {
        let (mut buffer, mut control) = ([0; LONGEST], [0; CONTROL]);
        let mut parts = [IoSliceMut::new(&mut buffer)];
        let flags = MsgFlags::MSG_ERRQUEUE | MsgFlags::MSG_DONTWAIT;
        let fd = self.fd.get_ref().as_raw_fd();
        let message = recvmsg::<SockaddrStorage>(fd, &mut parts, Some(&mut control), flags).ok()?;
        let (mut stamp, mut hop_limit, mut error) = (None, None, None);
        for part in message.cmsgs().into_iter().flatten() {
            match part {
                ControlMessageOwned::ScmTimestampns(at) => stamp = Some(nanos(at)),
                ControlMessageOwned::Ipv4Ttl(limit) | ControlMessageOwned::Ipv6HopLimit(limit) => {
                    hop_limit = u8::try_from(limit).ok();
                }
                ControlMessageOwned::Ipv4RecvErr(said, from) => {
                    error = from.map(|from| (said, IpAddr::from(SockaddrIn::from(from).ip())));
                }
                ControlMessageOwned::Ipv6RecvErr(said, from) => {
                    error = from.map(|from| (said, IpAddr::from(SockaddrIn6::from(from).ip())));
                }
                _ => {}
            }
        }
        let to = message.address;
        let length = message.bytes;
        let (said, from) = error.filter(|(said, _)| FROM_ICMP.contains(&said.ee_origin))?;
        let report = report_of(&said, self.key.2)?;
        let transport = self.transport(&buffer[..length], to);
        let protocol = self.key.0;
        let incoming = Incoming::Report {
            length: transport.len(),
            stamp,
            protocol,
            port: self.key.1,
            from,
            hop_limit,
            report,
        };
        Some((incoming, transport))
    }

    /// What is quoted, from the transport header on: for UDP that header is made again, as far as
    /// enough of the payload is there to know its checksum.
    fn transport(&self, data: &[u8], to: Option<SockaddrStorage>) -> Vec<u8> {
        let (protocol, own, _) = self.key;
        if protocol != ip::UDP {
            return self.restored(data);
        }
        let port = to.as_ref().and_then(|to| {
            let four = to.as_sockaddr_in().map(|to| SocketAddrV4::from(*to).port());
            four.or_else(|| to.as_sockaddr_in6().map(|to| SocketAddrV6::from(*to).port()))
        });
        let length = u16::try_from(data.len() + 8).unwrap_or(u16::MAX);
        let mut transport = Vec::with_capacity(data.len() + 8);
        for field in [own, port.unwrap_or(0), length, 0] {
            transport.extend_from_slice(&field.to_be_bytes());
        }
        transport.extend_from_slice(data);
        transport
    }

    /// An echo with the identifier that its engine gave it, and the checksum that goes with that
    /// (RFC 1624).
    fn restored(&self, echo: &[u8]) -> Vec<u8> {
        let mut echo = echo.to_vec();
        if let Some([_, _, sum_high, sum_low, id_high, id_low]) = echo.first_chunk_mut::<6>()
            && [*id_high, *id_low] == self.id.to_be_bytes()
        {
            let sum = u16::from_be_bytes([*sum_high, *sum_low]);
            let changed = checksum::add(!self.id, self.key.1);
            let sum = checksum::field(checksum::add(!sum, changed));
            [*sum_high, *sum_low] = sum.to_be_bytes();
            [*id_high, *id_low] = self.key.1.to_be_bytes();
        }
        echo
    }

    /// The next answer of a target itself.
    fn take_answer(&self) -> Option<Received> {
        let (mut buffer, mut control) = ([0; LONGEST], [0; CONTROL]);
        let mut parts = [IoSliceMut::new(&mut buffer)];
        let fd = self.fd.get_ref().as_raw_fd();
        let flags = MsgFlags::MSG_DONTWAIT;
        let message = recvmsg::<SockaddrStorage>(fd, &mut parts, Some(&mut control), flags).ok()?;
        let (mut stamp, mut hop_limit, mut traffic_class) = (None, None, None);
        for part in message.cmsgs().into_iter().flatten() {
            match part {
                ControlMessageOwned::ScmTimestampns(at) => stamp = Some(nanos(at)),
                ControlMessageOwned::Ipv4Ttl(limit) | ControlMessageOwned::Ipv6HopLimit(limit) => {
                    hop_limit = u8::try_from(limit).ok();
                }
                ControlMessageOwned::Ipv4Tos(class) => traffic_class = Some(class),
                ControlMessageOwned::Ipv6TClass(class) => traffic_class = u8::try_from(class).ok(),
                _ => {}
            }
        }
        let from = message.address.as_ref().and_then(address_of);
        let length = message.bytes;
        let (from, from_port) = from?;
        let (protocol, port, _) = self.key;
        let payload = match protocol {
            ip::UDP => {
                let mut datagram = Vec::with_capacity(length + 8);
                let whole = u16::try_from(length + 8).unwrap_or(u16::MAX);
                for field in [from_port, port, whole, 0] {
                    datagram.extend_from_slice(&field.to_be_bytes());
                }
                datagram.extend_from_slice(&buffer[..length]);
                datagram
            }
            _ => self.restored(&buffer[..length]),
        };
        let length = payload.len();
        let incoming =
            Incoming::Payload { length, stamp, protocol, from, hop_limit, traffic_class };
        Some((incoming, payload))
    }
}

fn address_of(from: &SockaddrStorage) -> Option<(IpAddr, u16)> {
    let four = from.as_sockaddr_in().map(|from| SocketAddrV4::from(*from));
    let six = from.as_sockaddr_in6().map(|from| SocketAddrV6::from(*from));
    four.map(|from| (IpAddr::V4(*from.ip()), from.port()))
        .or_else(|| six.map(|from| (IpAddr::V6(*from.ip()), from.port())))
}

fn nanos(at: nix::sys::time::TimeSpec) -> i128 {
    i128::from(at.tv_sec()) * 1_000_000_000 + i128::from(at.tv_nsec())
}

/// What an error of the queue says; nothing for what no router says of a probe.
const fn report_of(said: &libc::sock_extended_err, six: bool) -> Option<Report> {
    match (six, said.ee_type, said.ee_code) {
        (false, 11, 0) | (true, 3, 0) => Some(Report::TimeExceeded),
        (false, 3, 4) | (true, 2, _) => Some(Report::TooBig { mtu: said.ee_info }),
        (false, 3, code) | (true, 1, code) => Some(Report::Unreachable { code }),
        _ => None,
    }
}

/// Whether the kernel lets this account have datagram sockets for echo.
pub(crate) fn may_echo() -> bool {
    Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::ICMPV4)).is_ok()
}
