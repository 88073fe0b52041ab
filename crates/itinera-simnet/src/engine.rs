//! Forwarding in the simulated internet, packet by packet.

use crate::scenario::Scenario;
use crate::world::{Arc, Endpoint, Truth, TruthCause, World};
use itinera_model::unit::Tick;
use itinera_wire::{Addresses, Icmp, IpHeader, icmp, ip};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::{BTreeMap, VecDeque};
use std::net::IpAddr;

/// Packets that may be under way at once; further ones are dropped and counted.
const MAX_UNDER_WAY: usize = 200_000;
/// A policing router draws its share anew this often.
const POLICING_PERIOD_NANOS: u64 = 60_000_000_000;
/// Octets of the offending transport that answers quote (RFC 792).
const QUOTED_TRANSPORT: usize = 8;

/// A packet that came to a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// The site's address that it was sent to.
    pub site: IpAddr,
    /// When.
    pub at: Tick,
    /// The whole IP packet.
    pub packet: Vec<u8>,
}

/// Why a packet could not enter the simulated internet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Refused {
    /// Not an IP packet.
    #[error("not an IP packet")]
    Malformed(#[source] itinera_wire::ParseError),
    /// Its source is no site of this world.
    #[error("source {0} is no site of this world")]
    UnknownSource(IpAddr),
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

    /// Takes a packet that a site sends now; gives the site's address.
    ///
    /// # Errors
    /// [`Refused`] when it is malformed or comes from no site of this world.
    pub fn inject(&mut self, now: Tick, packet: &[u8]) -> Result<IpAddr, Refused> {
        let (header, _) = IpHeader::parse(packet).map_err(Refused::Malformed)?;
        let source = header.addresses().source();
        let node = self.world.by_address.get(&source).copied();
        let node = node.filter(|node| self.world.nodes[*node].is_site);
        let node = node.ok_or(Refused::UnknownSource(source))?;
        self.forward(node, header.addresses().destination(), packet.to_vec(), now);
        Ok(source)
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
        let Ok((header, payload)) = IpHeader::parse(&packet) else {
            return;
        };
        let addresses = header.addresses();
        let here = &self.world.nodes[node];
        if here.addresses.contains(&addresses.destination()) {
            if here.is_site {
                self.deliveries.push_back(Delivery { site: addresses.destination(), at, packet });
            } else if let Some(message) = answer_of_target(&header, payload, &packet) {
                self.answer(node, addresses.source(), message, at);
            }
            return;
        }
        if ip::decrement_hop_limit(&mut packet).is_some() {
            self.forward(node, addresses.destination(), packet, at);
        } else if !here.silent && !self.refuses_to_answer(node, at) {
            let quote = quote_of(addresses, &packet);
            self.answer(node, addresses.source(), Icmp::TimeExceeded { code: 0, quote }, at);
        }
    }

    fn refuses_to_answer(&mut self, node: usize, at: Tick) -> bool {
        let Some(bounds) = self.world.nodes[node].polices else {
            return false;
        };
        let share = self.chance.policing_share(node, bounds, at);
        self.chance.policing.random::<f64>() < share
    }

    fn answer(&mut self, node: usize, destination: IpAddr, message: Icmp<'_>, at: Tick) {
        let here = &self.world.nodes[node];
        let pairs = here.addresses.iter().map(|own| Addresses::try_new(*own, destination));
        let Some(addresses) = pairs.flatten().next() else {
            return;
        };
        let mut octets = Vec::new();
        message.emit(addresses, &mut octets);
        let leaves = at.plus_nanos(here.answer_delay_nanos);
        let mut packet = Vec::new();
        IpHeader::new(addresses, addresses.icmp(), 64, 0, 0, 0).emit(&octets, &mut packet);
        self.forward(node, destination, packet, leaves);
    }

    fn forward(&mut self, node: usize, destination: IpAddr, packet: Vec<u8>, at: Tick) {
        let Some(end) = self.world.by_address.get(&destination) else {
            return;
        };
        let Some(index) = self.world.next[usize::from(destination.is_ipv6())][node][*end] else {
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

fn quote_of(addresses: Addresses, packet: &[u8]) -> &[u8] {
    packet.get(..addresses.header_len() + QUOTED_TRANSPORT).unwrap_or(packet)
}

/// What a host answers: echo to echo (RFC 1122 section 3.2.2.6, RFC 4443 section 4.2), "port
/// unreachable" to UDP (RFC 1122 section 4.1.3.1, RFC 4443 section 3.1).
fn answer_of_target<'a>(
    header: &IpHeader,
    payload: &'a [u8],
    packet: &'a [u8],
) -> Option<Icmp<'a>> {
    let addresses = header.addresses();
    if header.is_icmp() {
        return match Icmp::parse(addresses, payload).ok()? {
            Icmp::EchoRequest { id, seq, data } => Some(Icmp::EchoReply { id, seq, data }),
            _ => None,
        };
    }
    let (code, quote) = (icmp::port_unreachable(addresses), quote_of(addresses, packet));
    (header.protocol() == ip::UDP).then_some(Icmp::Unreachable { code, quote })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{Ipv4Addr, Ipv6Addr};

    const LINE: &str = r#"name = "line"
site = [{ id = "s", name = "S", address = "198.18.0.1", address6 = "2001:db8::1" }]
target = [{ id = "t", name = "T", address = "198.18.0.9", address6 = "2001:db8::9" }]
[[router]]
id = "a"
address = "198.18.0.2"
address6 = "2001:db8::2"
[[router]]
id = "b"
address = "198.18.0.3"
address6 = "2001:db8::3"
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

    const FOUR: Addresses = Addresses::V4 {
        source: Ipv4Addr::new(198, 18, 0, 1),
        destination: Ipv4Addr::new(198, 18, 0, 9),
    };
    const SIX: Addresses = Addresses::V6 {
        source: Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1),
        destination: Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 9),
    };

    fn probe(addresses: Addresses, ttl: u8) -> Vec<u8> {
        let mut message = Vec::new();
        Icmp::EchoRequest { id: 1, seq: 2, data: b"xy" }.emit(addresses, &mut message);
        let mut packet = Vec::new();
        IpHeader::new(addresses, addresses.icmp(), ttl, 0, 0, 5).emit(&message, &mut packet);
        packet
    }

    fn answers_of(text: &str, addresses: Addresses, ttl: u8, count: u32) -> Vec<(IpAddr, u64)> {
        let mut net = Simnet::new(&Scenario::parse(text).unwrap(), 3);
        for n in 0..count {
            net.inject(Tick::from_millis(u64::from(n) * 100), &probe(addresses, ttl)).unwrap();
        }
        net.advance(Tick::from_millis(1_000_000));
        assert_eq!(net.poll_deadline(), None);
        std::iter::from_fn(|| net.poll_delivery())
            .map(|d| {
                let (header, payload) = IpHeader::parse(&d.packet).unwrap();
                assert!(Icmp::parse(header.addresses(), payload).is_ok());
                (header.addresses().source(), d.at.as_nanos() / 1_000_000 % 100)
            })
            .collect()
    }

    fn answers(text: &str, ttl: u8, count: u32) -> Vec<(IpAddr, u64)> {
        answers_of(text, FOUR, ttl, count)
    }

    #[test]
    fn each_hop_limit_is_answered_by_its_node_after_its_delay() {
        let at = |last| IpAddr::from([198, 18, 0, last]);
        assert_eq!(answers(LINE, 1, 1), [(at(2), 2)]);
        assert_eq!(answers(LINE, 2, 1), [(at(3), 6)]);
        assert_eq!(answers(LINE, 3, 1), [(at(9), 12)]);
        assert_eq!(answers(LINE, 64, 1), [(at(9), 12)]);
    }

    #[test]
    fn both_versions_take_the_same_way_where_both_are_there() {
        for ttl in [1, 2, 3, 64] {
            let (four, six) = (answers_of(LINE, FOUR, ttl, 1), answers_of(LINE, SIX, ttl, 1));
            assert_eq!(four[0].1, six[0].1, "hop limit {ttl}");
            let IpAddr::V6(responder) = six[0].0 else { panic!("{six:?}") };
            assert_eq!(responder.segments()[7], [2, 3, 9][usize::from(ttl.min(3)) - 1]);
        }
        // A router without an IPv6 address carries none.
        let text = LINE.replace("address6 = \"2001:db8::3\"\n", "");
        assert_eq!(answers_of(&text, FOUR, 3, 1).len(), 1);
        assert_eq!(answers_of(&text, SIX, 3, 1).len(), 0);
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
        assert_eq!(truth[0].from[0], IpAddr::from([198, 18, 0, 2]));
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
        let mut packet = probe(FOUR, 3);
        packet[12] = 9;
        assert!(matches!(net.inject(Tick::ZERO, &packet), Err(Refused::Malformed(_))));
        let foreign = Addresses::V4 {
            source: Ipv4Addr::new(192, 0, 2, 1),
            destination: Ipv4Addr::new(198, 18, 0, 9),
        };
        let header = IpHeader::new(foreign, ip::UDP, 3, 0, 0, 0);
        let mut stranger = Vec::new();
        header.emit(&[], &mut stranger);
        assert!(matches!(net.inject(Tick::ZERO, &stranger), Err(Refused::UnknownSource(_))));
        assert_eq!(net.poll_deadline(), None);
    }
}
