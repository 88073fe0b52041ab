//! What switches announce of themselves (IEEE 802.1AB): heard on every link, never asked for.

use crate::sys;
use itinera_model::host_facts::{Announced, MAX_ITEMS, MAX_TEXT};
use itinera_model::text::from_octets;
use itinera_wire::lldp::{Announcement, ETHERTYPE, GROUPS};
use nix::errno::Errno;
use nix::sys::socket::{LinkAddr, recvfrom};
use socket2::{Domain, Protocol, Socket, Type};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::os::fd::AsRawFd;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Longer than any frame that is not a jumbo.
const MAX_FRAME: usize = 2_048;
/// Frames that are read at one look; more than that wait for the next, or are lost in the kernel.
const MAX_FRAMES: usize = 1_024;

/// A socket that hears announcements, and what it has heard. Clones share it.
#[derive(Debug, Clone)]
pub struct Announcements(Arc<Mutex<Hearing>>);

/// Interface, chassis and port, as they came.
type Speaker = (u32, Vec<u8>, Vec<u8>);

#[derive(Debug)]
struct Hearing {
    socket: Socket,
    /// Interfaces that take the frames.
    hears: BTreeSet<u32>,
    /// Until when what was heard holds, by interface, chassis and port.
    heard: BTreeMap<Speaker, (Instant, Announced)>,
}

impl Announcements {
    /// Opens the socket, for which `CAP_NET_RAW` is needed; not afterwards.
    ///
    /// # Errors
    /// Whatever the kernel says: above all that it is not permitted.
    pub fn open() -> io::Result<Self> {
        let protocol = Protocol::from(i32::from(ETHERTYPE.to_be()));
        let socket = Socket::new(Domain::PACKET, Type::DGRAM, Some(protocol))?;
        socket.set_nonblocking(true)?;
        let hearing = Hearing { socket, hears: BTreeSet::new(), heard: BTreeMap::new() };
        Ok(Self(Arc::new(Mutex::new(hearing))))
    }

    /// What holds now, on interfaces of these indices and names. Interfaces that are new hear from
    /// here on.
    pub(super) fn now(&self, interfaces: &BTreeMap<u32, String>) -> Vec<Announced> {
        let mut hearing = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        hearing.listen(interfaces);
        let now = Instant::now();
        hearing.read(interfaces, now);
        hearing.heard.retain(|_, (until, _)| *until > now);
        hearing.heard.values().map(|(_, announced)| announced.clone()).collect()
    }
}

impl Hearing {
    fn listen(&mut self, interfaces: &BTreeMap<u32, String>) {
        self.hears.retain(|index| interfaces.contains_key(index));
        for index in interfaces.keys() {
            if self.hears.insert(*index) {
                for group in GROUPS {
                    // An interface without groups, such as a tunnel, has no such neighbours.
                    let _ = sys::hear_group(&self.socket, *index, group);
                }
            }
        }
    }

    fn read(&mut self, interfaces: &BTreeMap<u32, String>, now: Instant) {
        let mut frame = [0; MAX_FRAME];
        for _ in 0..MAX_FRAMES {
            let (length, from) = match recvfrom::<LinkAddr>(self.socket.as_raw_fd(), &mut frame) {
                Ok(received) => received,
                Err(Errno::EINTR | Errno::ENETDOWN) => continue,
                Err(_) => return,
            };
            let Some(index) = from.and_then(|from| u32::try_from(from.ifindex()).ok()) else {
                continue;
            };
            let octets = frame.get(..length).unwrap_or_default();
            if let (Some(name), Ok(said)) = (interfaces.get(&index), Announcement::parse(octets)) {
                self.keep(index, name, said, now);
            }
        }
    }

    fn keep(&mut self, index: u32, name: &str, said: Announcement, now: Instant) {
        let key = (index, said.chassis.clone(), said.port.clone());
        // A lifetime of nothing: the neighbour says that it leaves.
        if said.lifetime_s == 0 {
            self.heard.remove(&key);
            return;
        }
        if self.heard.len() >= MAX_ITEMS && !self.heard.contains_key(&key) {
            return;
        }
        let announced = Announced {
            interface: name.to_owned(),
            system: short(&said.system_name.unwrap_or(said.chassis)),
            port: short(&said.port_description.unwrap_or(said.port)),
        };
        let until = now + Duration::from_secs(said.lifetime_s.into());
        self.heard.insert(key, (until, announced));
    }
}

fn short(octets: &[u8]) -> String {
    let mut text = from_octets(octets);
    text.truncate(text.floor_char_boundary(MAX_TEXT));
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(port: &str, lifetime_s: u16) -> Announcement {
        Announcement {
            chassis: b"02:00:00:00:00:2a".to_vec(),
            port: port.as_bytes().to_vec(),
            lifetime_s,
            port_description: None,
            system_name: Some(b"edge\0switch".repeat(60)),
        }
    }

    #[test]
    fn what_is_heard_is_bounded_and_goes_with_its_lifetime() {
        // Needs no privilege: an ordinary socket stands where nothing is read.
        let socket = Socket::new(Domain::IPV4, Type::DGRAM, None).unwrap();
        let mut hearing = Hearing { socket, hears: BTreeSet::new(), heard: BTreeMap::new() };
        let now = Instant::now();
        for port in 0..2 * MAX_ITEMS {
            hearing.keep(2, "eth0", said(&port.to_string(), 120), now);
        }
        assert_eq!(hearing.heard.len(), MAX_ITEMS);
        let known = |one: &Announced| one.system.starts_with("edge\\x00switch");
        assert!(hearing.heard.values().all(|(_, one)| one.system.len() <= MAX_TEXT && known(one)));
        hearing.keep(2, "eth0", said("7", 0), now);
        assert_eq!(hearing.heard.len(), MAX_ITEMS - 1, "it has left");
    }
}
