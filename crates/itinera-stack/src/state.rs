//! The state that the task, handles and streams of a host share.

use crate::carrier::Carrier;
use smoltcp::iface::{Interface, SocketHandle, SocketSet};
use smoltcp::socket::tcp;
use smoltcp::time::Instant as Stamp;
use std::collections::BTreeSet;
use std::io;
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Notify;

/// How long a stream that was let go may take to say goodbye.
const FAREWELL: Duration = Duration::from_secs(10);
/// Ports of sockets without a requested port: apart from those that probes leave from.
pub(crate) const PORTS: std::ops::Range<u16> = 10_000..30_000;

/// The owner of a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Kind {
    Tcp,
    Udp,
}

/// Everything behind the lock.
pub(crate) struct Inner {
    pub(crate) interface: Interface,
    pub(crate) carrier: Carrier,
    pub(crate) sockets: SocketSet<'static>,
    pub(crate) addresses: Vec<IpAddr>,
    /// Ports in use, of TCP and of UDP.
    pub(crate) ports: BTreeSet<(Kind, u16)>,
    pub(crate) next_port: u16,
    /// Connections being opened, and whether they have been: one that is torn down at once was.
    pub(crate) opening: Vec<(SocketHandle, bool)>,
    /// Streams that were let go, and until when they may linger.
    pub(crate) leaving: Vec<(SocketHandle, u16, Instant)>,
}

/// What handles, streams and the task share.
pub(crate) struct Shared {
    pub(crate) inner: Mutex<Inner>,
    /// The stack has work.
    pub(crate) poke: Notify,
    /// The stack has done something.
    pub(crate) done: Notify,
    pub(crate) begun: Instant,
}

impl Shared {
    pub(crate) fn lock(&self) -> MutexGuard<'_, Inner> {
        // Nothing panics while it holds the lock; what smoltcp keeps is whole in any case.
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn poke(&self) {
        self.poke.notify_one();
    }

    pub(crate) fn now(&self) -> Stamp {
        let micros = self.begun.elapsed().as_micros();
        Stamp::from_micros(i64::try_from(micros).unwrap_or(i64::MAX))
    }

    /// Lets a stream go: it says goodbye and is forgotten.
    pub(crate) fn let_go(&self, handle: SocketHandle, port: u16) {
        let mut inner = self.lock();
        inner.sockets.get_mut::<tcp::Socket<'_>>(handle).close();
        inner.leaving.push((handle, port, Instant::now() + FAREWELL));
        drop(inner);
        self.poke();
    }
}

impl Inner {
    pub(crate) fn take_port(&mut self, kind: Kind, port: u16) -> io::Result<u16> {
        if port > 0 && self.ports.insert((kind, port)) {
            Ok(port)
        } else {
            Err(io::ErrorKind::AddrInUse.into())
        }
    }

    pub(crate) fn free_port(&mut self, kind: Kind) -> io::Result<u16> {
        for _ in PORTS {
            let port = self.next_port;
            self.next_port = if port + 1 == PORTS.end { PORTS.start } else { port + 1 };
            if self.ports.insert((kind, port)) {
                return Ok(port);
            }
        }
        Err(io::ErrorKind::AddrInUse.into())
    }

    /// Takes in what came, packet by packet, and notes which connections opened.
    pub(crate) fn take_in(&mut self, now: Stamp) {
        while !self.carrier.came.is_empty() {
            self.interface.poll_ingress_single(now, &mut self.carrier, &mut self.sockets);
            for (handle, opened) in &mut self.opening {
                let state = self.sockets.get::<tcp::Socket<'_>>(*handle).state();
                *opened |= matches!(state, tcp::State::Established | tcp::State::CloseWait);
            }
        }
    }

    pub(crate) fn forget(&mut self, handle: SocketHandle, port: u16) {
        self.opening.retain(|(known, _)| *known != handle);
        self.sockets.remove(handle);
        if PORTS.contains(&port) {
            self.ports.remove(&(Kind::Tcp, port));
        }
    }

    /// Forgets streams that have said goodbye, or had the time to.
    pub(crate) fn reap(&mut self) {
        let now = Instant::now();
        let leaving = std::mem::take(&mut self.leaving);
        for (handle, port, until) in leaving {
            let socket = self.sockets.get_mut::<tcp::Socket<'_>>(handle);
            let gone = matches!(socket.state(), tcp::State::Closed | tcp::State::TimeWait);
            if gone || until <= now {
                self.forget(handle, port);
            } else {
                self.leaving.push((handle, port, until));
            }
        }
    }
}
