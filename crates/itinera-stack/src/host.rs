//! The host: its task, its ports, and the doors to them.

use crate::carrier::Carrier;
use crate::state::{Inner, Kind, PORTS, Shared};
use crate::stream::Stream;
use smoltcp::iface::{Config, Interface, SocketHandle, SocketSet};
use smoltcp::socket::{tcp, udp};
use smoltcp::time::Instant as Stamp;
use smoltcp::wire::{HardwareAddress, IpAddress, IpCidr, IpEndpoint};
use std::collections::BTreeSet;
use std::future::poll_fn;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::task::Poll;
use std::time::{Duration, Instant};
use tokio::sync::{Notify, mpsc};

/// Bytes of each buffer of a stream: as much as may be in flight without window scaling.
const BUFFER: usize = 65_535;
/// Connections that may be opening at a port at once. Further ones are refused, so there is room for
/// what comes while the program that accepts them waits for a processor.
const BACKLOG: usize = 16;
/// A peer that says nothing for so long while it owes something is gone.
const GONE: smoltcp::time::Duration = smoltcp::time::Duration::from_secs(60);
/// The longest sleep of the host's task, which checks for remaining handles.
const GLANCE: Duration = Duration::from_millis(500);

/// A host: its addresses, and doors to its ports.
#[derive(Clone)]
pub struct Stack(Arc<Shared>);

/// The ports of a host; it does not keep the host alive.
#[derive(Clone)]
pub struct Ports(std::sync::Weak<Shared>);

impl std::fmt::Debug for Ports {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Ports").finish_non_exhaustive()
    }
}

impl Ports {
    /// True for a port in use, of TCP or of UDP. What comes for others is another
    /// program's, of the same address.
    pub fn has(&self, tcp: bool, port: u16) -> bool {
        let kind = if tcp { Kind::Tcp } else { Kind::Udp };
        self.0.upgrade().is_some_and(|shared| shared.lock().ports.contains(&(kind, port)))
    }
}

impl std::fmt::Debug for Stack {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Stack").field("addresses", &self.0.lock().addresses).finish_non_exhaustive()
    }
}

impl Stack {
    /// The ports in use here, for the task that carries the packets.
    pub fn ports(&self) -> Ports {
        Ports(Arc::downgrade(&self.0))
    }

    /// A host with these addresses. Packets for it come by `came`, those that it sends go by
    /// `leaving`; what finds that full is lost, as in any network. `chance` chooses first
    /// sequence numbers and ports.
    ///
    /// Must be called in a Tokio runtime: the host's task runs there, until every handle, stream
    /// and listener is gone or `came` ends.
    pub fn new(
        addresses: Vec<IpAddr>,
        came: mpsc::Receiver<Vec<u8>>,
        leaving: mpsc::Sender<Vec<u8>>,
        chance: u64,
    ) -> Self {
        let mut carrier = Carrier::default();
        let mut config = Config::new(HardwareAddress::Ip);
        config.random_seed = chance;
        let mut interface = Interface::new(config, &mut carrier, Stamp::ZERO);
        interface.update_ip_addrs(|own| {
            for address in &addresses {
                let all_bits = if address.is_ipv6() { 128 } else { 32 };
                // As many as it has room for: one of each version of IP.
                let _full = own.push(IpCidr::new(IpAddress::from(*address), all_bits));
            }
        });
        // The medium has no neighbours, so any gateway does.
        let _full = interface.routes_mut().add_default_ipv4_route(Ipv4Addr::UNSPECIFIED);
        let _full = interface.routes_mut().add_default_ipv6_route(Ipv6Addr::UNSPECIFIED);
        let room = u64::from(PORTS.end - PORTS.start);
        let first = u16::try_from(chance % room).unwrap_or_default();
        let shared = Arc::new(Shared {
            inner: Mutex::new(Inner {
                interface,
                carrier,
                sockets: SocketSet::new(Vec::new()),
                addresses,
                ports: BTreeSet::new(),
                next_port: PORTS.start + first,
                opening: Vec::new(),
                leaving: Vec::new(),
            }),
            poke: Notify::new(),
            done: Notify::new(),
            begun: Instant::now(),
        });
        tokio::spawn(live(Arc::clone(&shared), came, leaving));
        Self(shared)
    }

    fn source_for(&self, to: IpAddr) -> io::Result<IpAddr> {
        let inner = self.0.lock();
        let own = inner.addresses.iter().find(|own| own.is_ipv6() == to.is_ipv6());
        own.copied().ok_or_else(|| io::ErrorKind::NetworkUnreachable.into())
    }

    /// Opens a connection; waits as long as it takes to be accepted or refused.
    ///
    /// # Errors
    /// `ConnectionRefused` when the far end resets it, `NetworkUnreachable` without an address
    /// of that version of IP, `TimedOut` without an answer for a minute.
    ///
    /// # Cancel safety
    /// When dropped, the attempt is given up.
    pub async fn connect(&self, to: SocketAddr) -> io::Result<Stream> {
        let from = self.source_for(to.ip())?;
        let (handle, port) = {
            let mut inner = self.0.lock();
            let inner = &mut *inner;
            let port = inner.free_port(Kind::Tcp)?;
            let handle = inner.sockets.add(new_socket());
            let socket = inner.sockets.get_mut::<tcp::Socket<'_>>(handle);
            let opened = socket.connect(
                inner.interface.context(),
                IpEndpoint::from(to),
                IpEndpoint::new(from.into(), port),
            );
            if opened.is_err() {
                inner.forget(handle, port);
                return Err(io::ErrorKind::InvalidInput.into());
            }
            inner.opening.push((handle, false));
            (handle, port)
        };
        let stream = Stream::new(Arc::clone(&self.0), handle, port, to);
        let begun = Instant::now();
        self.0.poke();
        poll_fn(|context| {
            let mut inner = self.0.lock();
            let opened = inner.opening.contains(&(handle, true));
            let socket = inner.sockets.get_mut::<tcp::Socket<'_>>(handle);
            match socket.state() {
                _ if opened => Poll::Ready(Ok(())),
                tcp::State::SynSent | tcp::State::SynReceived => {
                    socket.register_send_waker(context.waker());
                    Poll::Pending
                }
                tcp::State::Closed => {
                    let gone = begun.elapsed() >= Duration::from(GONE);
                    let kind = if gone {
                        io::ErrorKind::TimedOut
                    } else {
                        io::ErrorKind::ConnectionRefused
                    };
                    Poll::Ready(io::Result::Err(kind.into()))
                }
                _ => Poll::Ready(Ok(())),
            }
        })
        .await?;
        self.0.lock().opening.retain(|(known, _)| *known != handle);
        Ok(stream)
    }

    /// Accepts connections at a port of ours.
    ///
    /// # Errors
    /// `AddrInUse` when it is in use.
    pub fn listen(&self, port: u16) -> io::Result<Listener> {
        self.0.lock().take_port(Kind::Tcp, port)?;
        let mut listener = Listener { shared: Arc::clone(&self.0), port, waiting: Vec::new() };
        listener.fill();
        Ok(listener)
    }

    /// A door for datagrams at a port of ours, or at a free one.
    ///
    /// # Errors
    /// `AddrInUse` when it is in use.
    pub fn datagrams(&self, port: Option<u16>) -> io::Result<Datagrams> {
        let mut inner = self.0.lock();
        let port = match port {
            Some(port) => inner.take_port(Kind::Udp, port)?,
            None => inner.free_port(Kind::Udp)?,
        };
        let buffer =
            || udp::PacketBuffer::new(vec![udp::PacketMetadata::EMPTY; 64], vec![0; BUFFER]);
        let mut socket = udp::Socket::new(buffer(), buffer());
        socket.bind(port).map_err(|_| io::Error::from(io::ErrorKind::AddrInUse))?;
        let handle = inner.sockets.add(socket);
        drop(inner);
        Ok(Datagrams { shared: Arc::clone(&self.0), handle, port })
    }
}

fn new_socket() -> tcp::Socket<'static> {
    let buffer = || tcp::SocketBuffer::new(vec![0; BUFFER]);
    let mut socket = tcp::Socket::new(buffer(), buffer());
    socket.set_timeout(Some(GONE));
    socket.set_nagle_enabled(false);
    socket
}

/// The host's life: packets in, protocols, packets out.
async fn live(
    shared: Arc<Shared>,
    mut came: mpsc::Receiver<Vec<u8>>,
    leaving: mpsc::Sender<Vec<u8>>,
) {
    loop {
        let sleep = {
            let mut inner = shared.lock();
            let now = shared.now();
            inner.take_in(now);
            let Inner { interface, carrier, sockets, .. } = &mut *inner;
            interface.poll(now, carrier, sockets);
            while let Some(packet) = carrier.leaving.pop_front() {
                // A full carrier loses packets, as any network.
                let _lost = leaving.try_send(packet);
            }
            let sleep = interface.poll_delay(now, sockets).map_or(GLANCE, Duration::from);
            inner.reap();
            sleep.min(GLANCE)
        };
        shared.done.notify_waiters();
        if Arc::strong_count(&shared) == 1 && shared.lock().leaving.is_empty() {
            return;
        }
        tokio::select! {
            packet = came.recv() => {
                let Some(packet) = packet else { return };
                let mut inner = shared.lock();
                inner.carrier.came.push_back(packet);
                while let Ok(packet) = came.try_recv() {
                    inner.carrier.came.push_back(packet);
                }
            }
            () = shared.poke.notified() => {}
            () = tokio::time::sleep(sleep) => {}
        }
    }
}

/// Accepts connections at one port.
pub struct Listener {
    shared: Arc<Shared>,
    port: u16,
    waiting: Vec<SocketHandle>,
}

impl std::fmt::Debug for Listener {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Listener").field("port", &self.port).finish_non_exhaustive()
    }
}

impl Listener {
    fn fill(&mut self) {
        let mut inner = self.shared.lock();
        while self.waiting.len() < BACKLOG {
            let mut socket = new_socket();
            // It fails for port 0 only, which cannot be taken.
            let _listening = socket.listen(self.port);
            self.waiting.push(inner.sockets.add(socket));
        }
    }

    /// The next connection.
    ///
    /// # Cancel safety
    /// Safe: a connection that was not taken waits for the next call.
    pub async fn accept(&mut self) -> Stream {
        let shared = Arc::clone(&self.shared);
        loop {
            let mut done = std::pin::pin!(shared.done.notified());
            done.as_mut().enable();
            if let Some(stream) = self.take_open() {
                return stream;
            }
            done.await;
        }
    }

    fn take_open(&mut self) -> Option<Stream> {
        let mut inner = self.shared.lock();
        let mut found = None;
        let sockets = &mut inner.sockets;
        self.waiting.retain(|handle| {
            let socket = sockets.get_mut::<tcp::Socket<'_>>(*handle);
            match socket.state() {
                tcp::State::Listen | tcp::State::SynReceived => true,
                // Gone before it was taken.
                tcp::State::Closed => {
                    sockets.remove(*handle);
                    false
                }
                _ if found.is_some() => true,
                _ => {
                    found = socket.remote_endpoint().map(|peer| (*handle, peer));
                    found.is_none()
                }
            }
        });
        drop(inner);
        self.fill();
        let (handle, peer) = found?;
        let peer = SocketAddr::new(peer.addr.into(), peer.port);
        Some(Stream::new(Arc::clone(&self.shared), handle, self.port, peer))
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        let mut inner = self.shared.lock();
        inner.ports.remove(&(Kind::Tcp, self.port));
        for handle in self.waiting.drain(..) {
            inner.sockets.remove(handle);
        }
    }
}

/// A door for datagrams.
pub struct Datagrams {
    shared: Arc<Shared>,
    handle: SocketHandle,
    port: u16,
}

impl std::fmt::Debug for Datagrams {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Datagrams").field("port", &self.port).finish_non_exhaustive()
    }
}

impl Datagrams {
    /// Sends one; waits for room in the send buffer, as a kernel does.
    ///
    /// # Errors
    /// `InvalidInput` for an address that cannot be sent to and for a payload over the buffer's
    /// size. A packet that the network loses is no error.
    ///
    /// # Cancel safety
    /// Safe: when dropped before it is ready, nothing is sent.
    pub async fn send_to(&self, payload: &[u8], to: SocketAddr) -> io::Result<()> {
        if payload.len() > BUFFER {
            return Err(io::ErrorKind::InvalidInput.into());
        }
        let sending = poll_fn(|context| {
            let mut inner = self.shared.lock();
            let socket = inner.sockets.get_mut::<udp::Socket<'_>>(self.handle);
            match socket.send_slice(payload, IpEndpoint::from(to)) {
                Ok(()) => Poll::Ready(io::Result::Ok(())),
                Err(udp::SendError::BufferFull) => {
                    socket.register_send_waker(context.waker());
                    Poll::Pending
                }
                Err(udp::SendError::Unaddressable) => {
                    Poll::Ready(Err(io::ErrorKind::InvalidInput.into()))
                }
            }
        });
        sending.await?;
        self.shared.poke();
        Ok(())
    }

    /// The next one, cut to the buffer's length.
    ///
    /// # Cancel safety
    /// Safe: nothing is taken before it is ready.
    pub async fn recv_from(&self, buffer: &mut [u8]) -> (usize, SocketAddr) {
        poll_fn(|context| {
            let mut inner = self.shared.lock();
            let socket = inner.sockets.get_mut::<udp::Socket<'_>>(self.handle);
            let Ok((payload, about)) = socket.recv() else {
                socket.register_recv_waker(context.waker());
                return Poll::Pending;
            };
            let length = payload.len().min(buffer.len());
            buffer[..length].copy_from_slice(&payload[..length]);
            let from = about.endpoint;
            Poll::Ready((length, SocketAddr::new(from.addr.into(), from.port)))
        })
        .await
    }
}

impl Drop for Datagrams {
    fn drop(&mut self) {
        let mut inner = self.shared.lock();
        inner.sockets.remove(self.handle);
        inner.ports.remove(&(Kind::Udp, self.port));
    }
}
