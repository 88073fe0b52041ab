//! Hosts of the simulated internet that serve: stacks in user space with test servers on them.

use super::Arrived;
use crate::exit::{Code, Failure};
use itinera_simnet::{Delivery, Simnet};
use itinera_stack::Stack;
use itinera_testserver::{Authority, Clock, serve_on_stack};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::mpsc::SyncSender;
use std::time::Instant;
use tokio::sync::mpsc;

/// Packets waiting at a host.
const BACKLOG: usize = 4_096;

/// Where packets for hosts that serve go.
pub(super) struct Hosts(BTreeMap<IpAddr, mpsc::Sender<Vec<u8>>>);

impl Hosts {
    /// Starts every host that has services; what it sends goes among the `packets`.
    pub(super) fn start(
        net: &Simnet,
        authority: &Authority,
        begun: Instant,
        seed: u64,
        packets: &SyncSender<Arrived>,
    ) -> Result<Self, Failure> {
        let mut doors = BTreeMap::new();
        let mut stacks: BTreeMap<Vec<IpAddr>, Stack> = BTreeMap::new();
        for service in net.services() {
            let stack = stacks.entry(service.addresses.clone()).or_insert_with(|| {
                let (door, came) = mpsc::channel(BACKLOG);
                let (leaving, mut sent) = mpsc::channel::<Vec<u8>>(BACKLOG);
                for address in &service.addresses {
                    doors.insert(*address, door.clone());
                }
                let packets = packets.clone();
                tokio::spawn(async move {
                    while let Some(packet) = sent.recv().await {
                        // Full: dropped, as any network would.
                        let _full = packets.try_send(Arrived::FromHost(packet));
                    }
                });
                let nth = doors.len() as u64;
                Stack::new(service.addresses.clone(), came, leaving, seed.wrapping_add(nth))
            });
            serve_on_stack(service, stack, authority, Clock::since(begun))
                .map_err(|error| Failure::new(Code::Failed, error))?;
        }
        // Each lives as long as a service uses it.
        Ok(Self(doors))
    }

    /// Hands a packet to its host; gives it back where none serves there.
    pub(super) fn deliver(&self, delivery: Delivery) -> Option<Delivery> {
        match self.0.get(&delivery.to) {
            Some(door) => {
                let _full = door.try_send(delivery.packet);
                None
            }
            None => Some(delivery),
        }
    }
}
