//! Forwarding in the simulated internet, packet by packet.

#[cfg(test)]
mod tests;

use crate::answering::{self, Answer};
use crate::flow::FlowKey;
use crate::life::{Draws, purpose};
use crate::line::{LineChance, exponential};
use crate::scenario::{AnswersBy, Balance, Protocol, Scenario};
use crate::service::Service;
use crate::translate::{Translations, is_inside};
use crate::world::{Endpoint, Truth, World};
use itinera_model::host_facts::{Counters, HostFacts};
use itinera_model::unit::Tick;
use itinera_wire::{Addresses, IpHeader, TcpHeader, UdpHeader, ip};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::{BTreeMap, VecDeque};
use std::net::IpAddr;

/// Packets that may be in flight at once; further ones are dropped and counted.
const MAX_IN_FLIGHT: usize = 200_000;
/// Answers that a router with a limit gives at once after silence, as Linux does.
const ANSWER_BURST: f64 = 6.0;

/// A packet that came to a site, or to a service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// The address that it was sent to.
    pub to: IpAddr,
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
    /// Its source is neither a site nor a service of this world.
    #[error("source {0} is neither a site nor a service of this world")]
    UnknownSource(IpAddr),
}

/// A packet in flight to a node.
#[derive(Debug, Clone)]
struct Arriving {
    node: usize,
    /// The address of the interface that it comes in by, where that has one of its own.
    interface: Option<IpAddr>,
    packet: Vec<u8>,
}

/// Chance of nodes; that of links is their own.
#[derive(Debug, Clone)]
struct Chance {
    rate_limiting: ChaCha8Rng,
    answering: ChaCha8Rng,
    balancing: ChaCha8Rng,
    seed: u64,
}

impl Chance {
    fn new(seed: u64) -> Self {
        let stream = |number| {
            let mut rng = ChaCha8Rng::seed_from_u64(seed);
            rng.set_stream(number);
            rng
        };
        Self { rate_limiting: stream(4), answering: stream(8), balancing: stream(9), seed }
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
    lines: LineChance,
    /// By node and asker: answers in hand, and when that was so.
    limits: BTreeMap<(usize, Option<IpAddr>), (f64, Tick)>,
    translations: BTreeMap<usize, Translations>,
    services: Vec<Service>,
    /// What interfaces of sites have counted.
    counted: BTreeMap<usize, Counters>,
    in_flight: BTreeMap<(Tick, u64), Arriving>,
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
            lines: LineChance::new(seed),
            limits: BTreeMap::new(),
            translations: BTreeMap::new(),
            services: Service::all(scenario),
            counted: BTreeMap::new(),
            in_flight: BTreeMap::new(),
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

    /// The services, which others carry conversations for.
    pub fn services(&self) -> &[Service] {
        &self.services
    }

    /// What an agent at this address finds around it; nothing where no site is.
    pub fn host_facts(&self, address: IpAddr) -> Option<HostFacts> {
        let node = self.site_at(address)?;
        let mut host_facts = self.world.host_facts(node)?;
        if let Some(interface) = host_facts.interfaces.first_mut() {
            interface.counters = self.counted.get(&node).copied().unwrap_or_default();
        }
        Some(host_facts)
    }

    fn site_at(&self, address: IpAddr) -> Option<usize> {
        let node = self.world.by_address.get(&address).copied();
        node.filter(|node| self.world.nodes[*node].is_site)
    }

    /// The faults as they really are, for scoring and for the demonstration's own words.
    pub fn truth(&self) -> &[Truth] {
        &self.world.truth
    }

    /// Packets dropped because too many were in flight.
    pub const fn overflowed(&self) -> u64 {
        self.overflowed
    }

    /// Takes a packet that a site or a service sends now; gives its address.
    ///
    /// # Errors
    /// [`Refused`] when it is malformed or comes from neither.
    pub fn inject(&mut self, now: Tick, packet: &[u8]) -> Result<IpAddr, Refused> {
        let (header, _) = IpHeader::parse(packet).map_err(Refused::Malformed)?;
        let source = header.addresses().source();
        let node = self.site_at(source).or_else(|| {
            let served = self.services.iter().any(|service| service.addresses.contains(&source));
            self.world.by_address.get(&source).copied().filter(|_| served)
        });
        let node = node.ok_or(Refused::UnknownSource(source))?;
        if self.world.nodes[node].is_site {
            let counters = self.counted.entry(node).or_default();
            counters.tx_packets += 1;
            counters.tx_bytes += packet.len() as u64;
        }
        self.forward(node, header.addresses().destination(), packet.to_vec(), now);
        Ok(source)
    }

    /// When something happens next.
    pub fn poll_deadline(&self) -> Option<Tick> {
        self.in_flight.keys().next().map(|(at, _)| *at)
    }

    /// Lets everything happen that is due by `now`, in order of time.
    pub fn advance(&mut self, now: Tick) {
        while let Some(entry) = self.in_flight.first_entry()
            && entry.key().0 <= now
        {
            let at = entry.key().0;
            let arriving = entry.remove();
            self.arrive(arriving, at);
        }
    }

    /// The next packet that came to a site.
    pub fn poll_delivery(&mut self) -> Option<Delivery> {
        self.deliveries.pop_front()
    }

    fn arrive(&mut self, arriving: Arriving, at: Tick) {
        let Arriving { node, interface, mut packet } = arriving;
        // Every packet in flight was parsed when it entered or built here.
        let Ok((header, payload)) = IpHeader::parse(&packet) else {
            return;
        };
        let addresses = header.addresses();
        let here = &self.world.nodes[node];
        if here.translates_to.is_some_and(|own| IpAddr::V4(own) == addresses.destination()) {
            let restores = here.restores_quotes;
            let known = self.translations.entry(node).or_default();
            if known.on_coming_back(&mut packet, restores)
                && let Ok((header, _)) = IpHeader::parse(&packet)
            {
                self.forward(node, header.addresses().destination(), packet, at);
            }
            return;
        }
        if here.addresses.contains(&addresses.destination()) {
            let to = addresses.destination();
            if here.is_site {
                let counters = self.counted.entry(node).or_default();
                counters.rx_packets += 1;
                counters.rx_bytes += packet.len() as u64;
                // Echo is answered by the machine itself, whatever programs listen there.
                let echo = header.is_icmp().then(|| {
                    answering::of_host(&self.world.nodes[node].host, &header, payload, &packet)
                });
                if let Some(answer) = echo.flatten() {
                    self.answer(node, addresses, &answer, None, at);
                }
                self.deliveries.push_back(Delivery { to, at, packet });
            } else if self.is_served(node, &header, payload, at) {
                self.deliveries.push_back(Delivery { to, at, packet });
            } else if let Some(answer) = answering::of_host(&here.host, &header, payload, &packet) {
                self.answer(node, addresses, &answer, None, at);
            }
            return;
        }
        if !here.counts || ip::decrement_hop_limit(&mut packet).is_some() {
            self.pass_on(node, addresses, packet, at);
        } else if !here.silent && !self.refuses_to_answer(node, addresses.source(), at) {
            let answer = answering::time_exceeded(&self.world.nodes[node], addresses, &packet);
            self.answer(node, addresses, &answer, interface, at);
        }
    }

    /// True for what a service at this host is to hear.
    fn is_served(&self, node: usize, header: &IpHeader, payload: &[u8], at: Tick) -> bool {
        let here = &self.world.nodes[node].host;
        let port = match header.protocol() {
            ip::TCP if !here.ignores.contains(&Protocol::Tcp) => {
                TcpHeader::parse(payload).ok().map(|(tcp, _)| tcp.destination_port)
            }
            ip::UDP if !here.ignores.contains(&Protocol::Udp) => {
                UdpHeader::parse(payload).ok().map(|(udp, _)| udp.destination_port)
            }
            _ => None,
        };
        let (to, by_datagram) = (header.addresses().destination(), header.protocol() == ip::UDP);
        let serves = |service: &Service| {
            Some(service.port) == port
                && service.addresses.contains(&to)
                && !service.refuses(at)
                && (!by_datagram || service.is_resolver())
        };
        self.services.iter().any(serves)
    }

    /// Forwards for others, as a router marks and translates.
    fn pass_on(&mut self, node: usize, addresses: Addresses, mut packet: Vec<u8>, at: Tick) {
        let here = &self.world.nodes[node];
        if let Some(dscp) = here.marks_dscp {
            let _unmarkable = ip::rewrite_dscp(&mut packet, dscp);
        }
        if let Some(outside) = here.translates_to
            && is_inside(addresses.source())
            && !is_inside(addresses.destination())
            && !self.translations.entry(node).or_default().on_leaving(&mut packet, outside)
        {
            return;
        }
        self.forward(node, addresses.destination(), packet, at);
    }

    fn refuses_to_answer(&mut self, node: usize, asker: IpAddr, at: Tick) -> bool {
        let here = &self.world.nodes[node];
        if let Some(per_s) = here.answers_per_s {
            let key = (node, (!here.limits_all).then_some(asker));
            let (in_hand, since) = self.limits.get(&key).copied().unwrap_or((ANSWER_BURST, at));
            let more = f64::from(at.since(since).as_micros()) / 1e6 * per_s;
            let in_hand = (in_hand + more).min(ANSWER_BURST);
            let gives = in_hand >= 1.0;
            let left = if gives { in_hand - 1.0 } else { in_hand };
            self.limits.insert(key, (left, at));
            if !gives {
                return true;
            }
        }
        let Some(bounds) = here.rate_limits.filter(|_| self.world.follows_habits(node, at)) else {
            return false;
        };
        let share = self.world.rate_limiting_share(node, bounds, at);
        self.chance.rate_limiting.random::<f64>() < share
    }

    /// Sends an answer of a node back to the sender.
    fn answer(
        &mut self,
        node: usize,
        asked: Addresses,
        answer: &Answer,
        interface: Option<IpAddr>,
        at: Tick,
    ) {
        let here = &self.world.nodes[node];
        let back = if here.addresses.contains(&asked.destination()) {
            Addresses::try_new(asked.destination(), asked.source())
        } else {
            let interface = match here.answers_by {
                AnswersBy::Incoming => interface,
                AnswersBy::Outgoing => self.leaving_interface(node, asked.source(), at),
                AnswersBy::Own => None,
            };
            let own = interface.iter().chain(&here.addresses);
            own.filter_map(|own| Addresses::try_new(*own, asked.source())).next()
        };
        let Some(back) = back else {
            return;
        };
        let (protocol, octets) = answer.emit(back);
        let mut jitter = exponential(&mut self.chance.answering, here.answer_jitter_nanos);
        if let Some(slow) = here.slow.filter(|_| self.world.follows_habits(node, at))
            && self.chance.answering.random::<f64>() < slow.share
        {
            jitter += exponential(&mut self.chance.answering, slow.mean_ms * 1e6);
        }
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "not negative; float to integer casts saturate"
        )]
        let leaves = at.plus_nanos(here.answer_delay_nanos + jitter as u64);
        let mut packet = Vec::new();
        IpHeader::new(back, protocol, here.answer_hop_limit, 0, 0, 0).emit(&octets, &mut packet);
        self.forward(node, asked.source(), packet, leaves);
    }

    fn forward(&mut self, node: usize, destination: IpAddr, packet: Vec<u8>, at: Tick) {
        let Some(end) = self.world.by_address.get(&destination).copied() else {
            return;
        };
        let six = usize::from(destination.is_ipv6());
        let count = self.world.next_at(at)[six][node][end].len();
        let Some(nth) = self.choose(node, count, &packet) else {
            return;
        };
        let index = self.world.next_at(at)[six][node][end][nth];
        let arc = &self.world.arcs[node][index];
        if let Some(mtu) = arc.mtu.filter(|mtu| packet.len() > usize::from(*mtu)) {
            self.too_big(node, mtu, &packet, at);
            return;
        }
        if arc.swallows(packet.len(), at) {
            return;
        }
        let to = arc.to;
        let member = match arc.members {
            0 | 1 => 0,
            _ => FlowKey::of(&packet).map_or(0, |flow| self.world.member_of(node, index, &flow)),
        };
        let interface = arc.interface(1, member);
        let state = self.world.state_of(node, index, member, at);
        let passed = self.lines.pass((node, index), arc, state, packet.len(), at);
        if passed[0].is_none() && self.world.nodes[to].is_site && arc.damages_frames(at) {
            self.counted.entry(to).or_default().rx_errors += 1;
        }
        let flow = match arc.reorders > 0.0 {
            true => None,
            false => FlowKey::of(&packet).filter(FlowKey::is_stream),
        };
        for nanos in passed.into_iter().flatten() {
            if self.in_flight.len() >= MAX_IN_FLIGHT {
                self.overflowed += 1;
                return;
            }
            self.order += 1;
            let nanos = nanos + self.noise_of(to, destination);
            let arriving = Arriving { node: to, interface, packet: packet.clone() };
            let mut arrives = at.plus_nanos(nanos);
            if let Some(flow) = flow {
                arrives = self.lines.behind((node, index), flow, at, arrives);
            }
            self.in_flight.insert((arrives, self.order), arriving);
        }
    }

    /// What a site adds to its measurements by its own stamps and line.
    fn noise_of(&self, node: usize, destination: IpAddr) -> u64 {
        let node = &self.world.nodes[node];
        let noise = node.noise.as_ref().filter(|_| node.addresses.contains(&destination));
        noise.map_or(0, |noise| {
            let mut of = Draws::of([self.chance.seed, purpose::PACKET, self.order]);
            noise.at(of.bits())
        })
    }

    /// The address of the interface by which a node's answer to a sender leaves.
    fn leaving_interface(&self, node: usize, asker: IpAddr, at: Tick) -> Option<IpAddr> {
        let end = self.world.by_address.get(&asker).copied()?;
        let six = usize::from(asker.is_ipv6());
        let index = self.world.next_at(at)[six][node][end].first().copied()?;
        self.world.arcs[node][index].interface(0, 0)
    }

    /// Which of several routes of equal metric a packet takes.
    fn choose(&mut self, node: usize, routes: usize, packet: &[u8]) -> Option<usize> {
        match self.world.nodes[node].balances.filter(|_| routes > 1) {
            None => (routes > 0).then_some(0),
            Some(Balance::Ports) => Some(self.world.branch_of(node, routes, &FlowKey::of(packet)?)),
            Some(Balance::Packet) => Some(self.chance.balancing.random_range(0..routes)),
            Some(Balance::Flow) => {
                let hash = answering::flow_hash(self.chance.seed ^ (node as u64) << 32, packet)?;
                usize::try_from(hash % routes as u64).ok()
            }
        }
    }

    /// A packet that does not fit the next link: dropped, and said so unless the router hides
    /// it. Packets are not fragmented: those that allow it are lost all the same.
    fn too_big(&mut self, node: usize, mtu: u16, packet: &[u8], at: Tick) {
        let here = &self.world.nodes[node];
        let Ok((header, _)) = IpHeader::parse(packet) else {
            return;
        };
        if here.is_site || !here.says_too_big || !header.is_unfragmented() {
            return;
        }
        let addresses = header.addresses();
        let datagram = answering::quote_of(addresses, packet);
        let answer = Answer::TooBig { mtu: u32::from(mtu), datagram };
        self.answer(node, addresses, &answer, None, at);
    }
}
