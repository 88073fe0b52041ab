//! The stack's view of what carries its packets.

use smoltcp::phy::{Device, DeviceCapabilities, Medium, RxToken, TxToken};
use smoltcp::time::Instant;
use std::collections::VecDeque;

/// Bytes of the largest packet: what Ethernet carries.
const MTU: usize = 1_500;

/// Packets that came in and those that are to go out.
#[derive(Debug, Default)]
pub(crate) struct Carrier {
    pub(crate) came: VecDeque<Vec<u8>>,
    pub(crate) leaving: VecDeque<Vec<u8>>,
}

pub(crate) struct ReceivedPacket(Vec<u8>);
pub(crate) struct Leaving<'a>(&'a mut VecDeque<Vec<u8>>);

impl RxToken for ReceivedPacket {
    fn consume<R, F: FnOnce(&[u8]) -> R>(self, take: F) -> R {
        take(&self.0)
    }
}

impl TxToken for Leaving<'_> {
    fn consume<R, F: FnOnce(&mut [u8]) -> R>(self, length: usize, fill: F) -> R {
        let mut packet = vec![0; length];
        let filled = fill(&mut packet);
        self.0.push_back(packet);
        filled
    }
}

impl Device for Carrier {
    type RxToken<'a> = ReceivedPacket;
    type TxToken<'a> = Leaving<'a>;

    fn receive(&mut self, _now: Instant) -> Option<(ReceivedPacket, Leaving<'_>)> {
        let packet = self.came.pop_front()?;
        Some((ReceivedPacket(packet), Leaving(&mut self.leaving)))
    }

    fn transmit(&mut self, _now: Instant) -> Option<Leaving<'_>> {
        Some(Leaving(&mut self.leaving))
    }

    fn capabilities(&self) -> DeviceCapabilities {
        let mut capabilities = DeviceCapabilities::default();
        capabilities.medium = Medium::Ip;
        capabilities.max_transmission_unit = MTU;
        capabilities
    }
}
