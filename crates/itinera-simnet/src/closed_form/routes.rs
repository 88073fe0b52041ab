//! The routes of a flow's packets and of the answers: everything about a path that does not
//! depend on chance.

use super::LinkId;
use crate::flow::FlowKey;
use crate::scenario::AnswersBy;
use crate::world::World;
use itinera_model::unit::Tick;
use itinera_wire::ip;
use std::net::IpAddr;

/// More nodes than this on one route are a loop.
const LONGEST: usize = 200;

/// One directed link on a route, and which of its members carries the flow.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Passage {
    /// The link.
    pub link: LinkId,
    /// The member, from 0.
    pub member: u8,
}

/// One hop of a path: the route to it, and that of its answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RouteHop {
    /// The node that the probe ends at.
    pub node: usize,
    /// The address it answers from; absent where it is silent.
    pub address: Option<IpAddr>,
    /// Directed links to it.
    pub there: Vec<Passage>,
    /// Directed links of its answers back.
    pub return_: Vec<Passage>,
    /// Hop limit that its answers arrive with.
    pub hop_limit: u8,
}

/// The hops of a path for one flow, in the order of hop limits.
pub type TrueRoute = Vec<RouteHop>;

/// Finds routes as they are at one time.
pub(super) struct Pathfinder<'a> {
    pub(super) world: &'a World,
    pub(super) offsets: &'a [usize],
    pub(super) at: Tick,
}

impl Pathfinder<'_> {
    /// The nodes and passages from one node to the owner of an address; what ends early has no
    /// route on.
    fn walk(&self, from: usize, flow: &FlowKey, to: IpAddr) -> Vec<(usize, usize, u8)> {
        let Some(end) = self.world.by_address.get(&to).copied() else {
            return Vec::new();
        };
        let next = &self.world.next_at(self.at)[usize::from(to.is_ipv6())];
        let mut steps = Vec::new();
        let mut node = from;
        while node != end && steps.len() < LONGEST {
            let open = &next[node][end];
            let balances = self.world.nodes[node].balances.filter(|_| open.len() > 1);
            let branch = balances.map_or(0, |_| self.world.branch_of(node, open.len(), flow));
            let Some(index) = open.get(branch).copied() else {
                return Vec::new();
            };
            steps.push((node, index, self.world.member_of(node, index, flow)));
            node = self.world.arcs[node][index].to;
        }
        if node == end { steps } else { Vec::new() }
    }

    fn passages(&self, steps: &[(usize, usize, u8)]) -> Vec<Passage> {
        let passage = |(from, index, member): &(usize, usize, u8)| Passage {
            link: LinkId(self.offsets[*from] + index),
            member: *member,
        };
        steps.iter().map(passage).collect()
    }

    /// The hops from a site to a target or another site. Ports are absent in ICMP echo.
    pub(super) fn hops(&self, site: usize, target: usize, ports: Option<u32>) -> TrueRoute {
        let [source, destination] = [site, target].map(|node| self.world.nodes[node].addresses[0]);
        let protocol = if ports.is_some() { ip::UDP } else { icmp_of(source) };
        let flow = FlowKey::new(source, destination, protocol, ports.unwrap_or(0));
        let steps = self.walk(site, &flow, destination);
        let there = self.passages(&steps);
        let mut route = Vec::new();
        for (nth, (from, index, member)) in steps.iter().enumerate() {
            let arc = &self.world.arcs[*from][*index];
            let node = &self.world.nodes[arc.to];
            let is_end = arc.to == target;
            if !is_end && !node.counts {
                continue;
            }
            let interface = match node.answers_by {
                AnswersBy::Incoming => arc.interface(1, *member),
                AnswersBy::Outgoing => self.leaving(arc.to, source),
                AnswersBy::Own => None,
            };
            let address = interface.filter(|_| !is_end).unwrap_or(node.addresses[0]);
            let back = FlowKey::new(address, source, icmp_of(source), 0);
            let steps = self.walk(arc.to, &back, source);
            let passed = steps.iter().skip(1).filter(|(node, ..)| self.world.nodes[*node].counts);
            let passed = u8::try_from(passed.count()).unwrap_or(u8::MAX);
            route.push(RouteHop {
                hop_limit: node.answer_hop_limit.saturating_sub(passed),
                node: arc.to,
                address: (!node.silent || is_end).then_some(address),
                there: there[..=nth].to_vec(),
                return_: self.passages(&steps),
            });
        }
        route
    }

    fn leaving(&self, node: usize, asker: IpAddr) -> Option<IpAddr> {
        let end = self.world.by_address.get(&asker).copied()?;
        let next = &self.world.next_at(self.at)[usize::from(asker.is_ipv6())];
        let index = next[node][end].first().copied()?;
        self.world.arcs[node][index].interface(0, 0)
    }
}

/// The protocol number of ICMP beside this version of IP (RFC 792, RFC 4443).
const fn icmp_of(address: IpAddr) -> u8 {
    match address {
        IpAddr::V4(_) => 1,
        IpAddr::V6(_) => 58,
    }
}
