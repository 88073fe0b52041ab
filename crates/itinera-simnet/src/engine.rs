//! Forwarding in the simulated internet, packet by packet.

use crate::scenario::Scenario;
use crate::world::{Arc, Endpoint, Truth, TruthCause, World};
use itinera_model::unit::Tick;
use itinera_wire::{Icmpv4, Ipv4Header, icmpv4, ipv4};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::{BTreeMap, VecDeque};
use std::net::Ipv4Addr;

/// Packets that may be under way at once; further ones are dropped and counted.
const MAX_UNDER_WAY: usize = 200_000;
/// A policing router draws its share anew this often.
const POLICING_PERIOD_NANOS: u64 = 60_000_000_000;
/// Octets of the offending transport that answers quote (RFC 792).
const QUOTED_TRANSPORT: usize = 8;

/// A packet that came to a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// The site's address.
    pub site: Ipv4Addr,
    /// When.
    pub at: Tick,
    /// The whole IP packet.
    pub packet: Vec<u8>,
}

/// Why a packet could not enter the simulated internet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Refused {
    /// Not an IPv4 packet.
    #[error("not an IPv4 packet")]
    Malformed(#[source] itinera_wire::ParseError),
    /// Its source is no site of this world.
    #[error("source {0} is no site of this world")]
    UnknownSource(Ipv4Addr),
}

/// Independent chance for each purpose, so that a fault changes nothing but what it touches.
#[derive(Debug, Clone)]
struct Chance {
    loss: ChaCha8Rng,
    jitter: ChaCha8Rng,
    policing: ChaCha8Rng,
    seed: u64,
}

impl Chance {
    fn new(seed: u64) -> Self {
        let stream = |number| {
            let mut rng = ChaCha8Rng::seed_from_u64(seed);
            rng.set_stream(number);
            rng
        };
        Self { loss: stream(2), jitter: stream(3), policing: stream(4), seed }
    }

    /// The share of answers a node refuses at a time: the same whenever it is asked.
    fn policing_share(&self, node: usize, bounds: [f64; 2], now: Tick) -> f64 {
        let mut rng = ChaCha8Rng::seed_from_u64(self.seed);
        rng.set_stream(1_000 + node as u64 * 1_000_000 + now.as_nanos() / POLICING_PERIOD_NANOS);
        bounds[0] + (bounds[1] - bounds[0]) * rng.random::<f64>()
    }
}

/// The simulated internet.
///
/// Driving it: [`inject`](Self::inject) packets that sites send, [`advance`](Self::advance) to
/// the present, drain [`poll_delivery`](Self::poll_delivery), come back by
/// [`poll_deadline`](Self::poll_deadline).
#[derive(Debug, Clone)]
pub struct Simnet {
    world: World,
    chance: Chance,
    under_way: BTreeMap<(Tick, u64), (usize, Vec<u8>)>,
    deliveries: VecDeque<Delivery>,
    order: u64,
    overflowed: u64,
}

impl Simnet {
    /// The world of a scenario, with everything it leaves open drawn by the seed.
    pub fn new(scenario: &Scenario, seed: u64) -> Self {
        Self {
            world: World::draw(scenario, seed),
            chance: Chance::new(seed),
            under_way: BTreeMap::new(),
            deliveries: VecDeque::new(),
            order: 0,
            overflowed: 0,
        }
    }

    /// The sites.
    pub fn sites(&self) -> &[Endpoint] {
        &self.world.sites
    }

    /// The targets.
    pub fn targets(&self) -> &[Endpoint] {
        &self.world.targets
    }

    /// The faults as they really are, for scoring and for the demonstration's own words.
    pub fn truth(&self) -> &[Truth] {
        &self.world.truth
    }

    /// Packets dropped because too many were under way.
    pub const fn overflowed(&self) -> u64 {
        self.overflowed
    }

    /// Takes a packet that a site sends now.
    ///
    /// # Errors
    /// [`Refused`] when it is malformed or comes from no site of this world.
    pub fn inject(&mut self, now: Tick, packet: &[u8]) -> Result<(), Refused> {
        let (header, _) = Ipv4Header::parse(packet).map_err(Refused::Malformed)?;
        let node = self.world.by_address.get(&header.source).copied();
        let node = node.filter(|node| self.world.nodes[*node].is_site);
        let node = node.ok_or(Refused::UnknownSource(header.source))?;
        self.forward(node, header.destination, packet.to_vec(), now);
        Ok(())
    }

    /// When something happens next.
    pub fn poll_deadline(&self) -> Option<Tick> {
        self.under_way.keys().next().map(|(at, _)| *at)
    }

    /// Lets everything happen that is due by `now`, in order of time.
    pub fn advance(&mut self, now: Tick) {
        while let Some(entry) = self.under_way.first_entry()
            && entry.key().0 <= now
        {
            let at = entry.key().0;
            let (node, packet) = entry.remove();
            self.arrive(node, packet, at);
        }
    }

    /// The next packet that came to a site.
    pub fn poll_delivery(&mut self) -> Option<Delivery> {
        self.deliveries.pop_front()
    }

    fn arrive(&mut self, node: usize, mut packet: Vec<u8>, at: Tick) {
        // Every packet under way was parsed when it entered or built here.
        let Ok((header, payload)) = Ipv4Header::parse(&packet) else {
            return;
        };
        let here = &self.world.nodes[node];
        if header.destination == here.address {
            if here.is_site {
                self.deliveries.push_back(Delivery { site: here.address, at, packet });
            } else if let Some(message) = answer_of_target(&header, payload, &packet) {
                self.answer(node, header.source, &message, at);
            }
            return;
        }
        if ipv4::decrement_ttl(&mut packet).is_some() {
            self.forward(node, header.destination, packet, at);
        } else if !here.silent && !self.refuses_to_answer(node, at) {
            let mut message = Vec::new();
            let quote = quote_of(&packet);
            Icmpv4::TimeExceeded { code: 0, quote }.emit(&mut message);
            self.answer(node, header.source, &message, at);
        }
    }

    fn refuses_to_answer(&mut self, node: usize, at: Tick) -> bool {
        let Some(bounds) = self.world.nodes[node].polices else {
            return false;
        };
        let share = self.chance.policing_share(node, bounds, at);
        self.chance.policing.random::<f64>() < share
    }

    fn answer(&mut self, node: usize, destination: Ipv4Addr, message: &[u8], at: Tick) {
        let here = &self.world.nodes[node];
        let header = Ipv4Header {
            source: here.address,
            destination,
            protocol: ipv4::ICMP,
            ttl: 64,
            traffic_class: 0,
            identification: 0,
            dont_fragment: false,
        };
        let leaves = at.plus_nanos(here.answer_delay_nanos);
        let mut packet = Vec::new();
        header.emit(message, &mut packet);
        self.forward(node, destination, packet, leaves);
    }

    fn forward(&mut self, node: usize, destination: Ipv4Addr, packet: Vec<u8>, at: Tick) {
        let Some(end) = self.world.by_address.get(&destination) else {
            return;
        };
        let Some(index) = self.world.next[node][*end] else {
            return;
        };
        let arc = &self.world.arcs[node][index];
        let (loss, added_nanos) = effect(arc, at);
        if loss > 0.0 && self.chance.loss.random::<f64>() < loss {
            return;
        }
        if self.under_way.len() >= MAX_UNDER_WAY {
            self.overflowed += 1;
            return;
        }
        // Queueing noise: exponential, as many small waits and few long ones.
        let wait = -(1.0 - self.chance.jitter.random::<f64>()).ln() * arc.jitter_nanos;
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "not negative; float to integer casts saturate"
        )]
        let nanos = arc.delay_nanos + wait as u64 + added_nanos;
        self.order += 1;
        self.under_way.insert((at.plus_nanos(nanos), self.order), (arc.to, packet));
    }
}

/// Loss and added delay of a directed link at a time.
fn effect(arc: &Arc, at: Tick) -> (f64, u64) {
    let active = arc
        .faults
        .iter()
        .filter(|(begins, ends, _)| *begins <= at && ends.is_none_or(|ends| at < ends));
    active.fold((arc.loss, 0), |(loss, added), (_, _, cause)| match cause {
        TruthCause::Loss(more) => (1.0 - (1.0 - loss) * (1.0 - more), added),
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "checked when the scenario was read"
        )]
        TruthCause::AddedDelayMs(ms) => (loss, added + (ms * 1e6) as u64),
    })
}

fn quote_of(packet: &[u8]) -> &[u8] {
    packet.get(..ipv4::HEADER_LEN + QUOTED_TRANSPORT).unwrap_or(packet)
}

/// What a host answers: echo to echo (RFC 1122, 3.2.2.6), "port unreachable" to UDP (4.1.3.1).
fn answer_of_target(header: &Ipv4Header, payload: &[u8], packet: &[u8]) -> Option<Vec<u8>> {
    let mut message = Vec::new();
    match header.protocol {
        ipv4::ICMP => {
            let Ok(Icmpv4::EchoRequest { id, seq, data }) = Icmpv4::parse(payload) else {
                return None;
            };
            Icmpv4::EchoReply { id, seq, data }.emit(&mut message);
        }
        ipv4::UDP => {
            let quote = quote_of(packet);
            Icmpv4::Unreachable { code: icmpv4::PORT_UNREACHABLE, quote }.emit(&mut message);
        }
        _ => return None,
    }
    Some(message)
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINE: &str = r#"name = "line"
site = [{ id = "s", name = "S", address = "198.18.0.1" }]
target = [{ id = "t", name = "T", address = "198.18.0.9" }]
[[router]]
id = "a"
address = "198.18.0.2"
[[router]]
id = "b"
address = "198.18.0.3"
[[link]]
between = ["s", "a"]
delay_ms = 1.0
[[link]]
between = ["a", "b"]
delay_ms = 2.0
[[link]]
between = ["b", "t"]
delay_ms = 3.0
"#;

    fn probe(ttl: u8) -> Vec<u8> {
        let mut message = Vec::new();
        Icmpv4::EchoRequest { id: 1, seq: 2, data: b"xy" }.emit(&mut message);
        let mut packet = Vec::new();
        let header = Ipv4Header {
            source: Ipv4Addr::new(198, 18, 0, 1),
            destination: Ipv4Addr::new(198, 18, 0, 9),
            protocol: ipv4::ICMP,
            ttl,
            traffic_class: 0,
            identification: 5,
            dont_fragment: true,
        };
        header.emit(&message, &mut packet);
        packet
    }

    fn answers(text: &str, ttl: u8, count: u32) -> Vec<(Ipv4Addr, u64)> {
        let mut net = Simnet::new(&Scenario::parse(text).unwrap(), 3);
        for n in 0..count {
            net.inject(Tick::from_millis(u64::from(n) * 100), &probe(ttl)).unwrap();
        }
        net.advance(Tick::from_millis(1_000_000));
        assert_eq!(net.poll_deadline(), None);
        std::iter::from_fn(|| net.poll_delivery())
            .map(|d| {
                let (header, _) = Ipv4Header::parse(&d.packet).unwrap();
                (header.source, d.at.as_nanos() / 1_000_000 % 100)
            })
            .collect()
    }

    #[test]
    fn each_hop_limit_is_answered_by_its_node_after_its_delay() {
        let at = |last| Ipv4Addr::new(198, 18, 0, last);
        assert_eq!(answers(LINE, 1, 1), [(at(2), 2)]);
        assert_eq!(answers(LINE, 2, 1), [(at(3), 6)]);
        assert_eq!(answers(LINE, 3, 1), [(at(9), 12)]);
        assert_eq!(answers(LINE, 64, 1), [(at(9), 12)]);
    }

    #[test]
    fn silent_and_policing_routers_still_forward() {
        let silent =
            LINE.replace("address = \"198.18.0.2\"", "address = \"198.18.0.2\"\nsilent = true");
        assert!(answers(&silent, 1, 5).is_empty());
        assert_eq!(answers(&silent, 2, 5).len(), 5);
        let polices = LINE
            .replace("address = \"198.18.0.2\"", "address = \"198.18.0.2\"\npolices = [0.4, 0.6]");
        let heard = answers(&polices, 1, 1_000).len();
        assert!((400..=600).contains(&heard), "{heard} of 1000");
        assert_eq!(answers(&polices, 3, 1_000).len(), 1_000);
    }

    #[test]
    fn a_fault_works_in_its_direction_and_time_only() {
        let fault =
            "[[fault]]\nfrom = \"a\"\nto = \"b\"\nat_s = [0, 0]\nfor_s = 50\nloss = [0.2, 0.2]\n";
        let text = format!("{LINE}{fault}");
        assert_eq!(answers(&text, 1, 500).len(), 500);
        let heard = answers(&text, 2, 1_000).len();
        assert!((870..=930).contains(&heard), "500 at 20 % and 500 clean, {heard} heard");
        let back = text.replace("from = \"a\"\nto = \"b\"", "from = \"b\"\nto = \"a\"");
        assert!(answers(&back, 2, 1_000).len() < 950, "answers cross the link backwards");
        let truth = Simnet::new(&Scenario::parse(&text).unwrap(), 3).truth().to_vec();
        assert_eq!(truth[0].from, Ipv4Addr::new(198, 18, 0, 2));
    }

    #[test]
    fn an_added_delay_reaches_every_hop_behind_it() {
        let fault =
            "[[fault]]\nfrom = \"a\"\nto = \"b\"\nat_s = [0, 0]\nadded_delay_ms = [20, 20]\n";
        let text = format!("{LINE}{fault}");
        assert_eq!(answers(&text, 1, 1)[0].1, 2);
        assert_eq!(answers(&text, 2, 1)[0].1, 26);
        assert_eq!(answers(&text, 3, 1)[0].1, 32);
    }

    #[test]
    fn strangers_and_garbage_are_refused() {
        let mut net = Simnet::new(&Scenario::parse(LINE).unwrap(), 1);
        let mut packet = probe(3);
        packet[12] = 9;
        assert!(matches!(net.inject(Tick::ZERO, &packet), Err(Refused::Malformed(_))));
        let header = Ipv4Header {
            source: Ipv4Addr::new(192, 0, 2, 1),
            destination: Ipv4Addr::new(198, 18, 0, 9),
            protocol: ipv4::UDP,
            ttl: 3,
            traffic_class: 0,
            identification: 0,
            dont_fragment: false,
        };
        let mut stranger = Vec::new();
        header.emit(&[], &mut stranger);
        assert!(matches!(net.inject(Tick::ZERO, &stranger), Err(Refused::UnknownSource(_))));
        assert_eq!(net.poll_deadline(), None);
    }
}
