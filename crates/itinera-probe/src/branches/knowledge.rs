//! What an enumeration has seen, and what it has still to see.

use itinera_model::ensemble::{Balancer, Balancing, MemberRoute, RouteEnsemble};
use itinera_model::route::Route;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// The answer to a probe.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Observation {
    NoAnswer,
    Router(IpAddr),
    /// A node that refused to forward it.
    Refused(IpAddr),
    Target,
}

/// A node of the graph: the address that answers at the hop before. Silent ones at one hop are taken for one.
type Vertex = Option<IpAddr>;

/// The probes that have to be sent to `known` next hops, so that the chance of not having seen
/// one more is at most `error_ppm`.
///
/// Source: Veitch et al. 2009, section III: with k + 1 equal branches, (k + 1) (k / (k + 1))^n bounds
/// the chance that n probes see k of them at most.
pub fn probes_needed(known: usize, error_ppm: u32) -> usize {
    #[allow(clippy::cast_precision_loss, reason = "a few next hops")]
    let k = known.max(1) as f64;
    let allowed = f64::from(error_ppm) / 1e6;
    let n = libm::ceil(libm::log(allowed / (k + 1.0)) / libm::log(k / (k + 1.0)));
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "positive and small; float to integer casts saturate"
    )]
    let n = n as usize;
    n.max(1)
}

#[derive(Debug)]
pub(super) struct Knowledge {
    first_port: u16,
    max_flows: usize,
    error_ppm: u32,
    flows: Vec<u16>,
    seen: BTreeMap<(u16, u8), Observation>,
    /// Further answers to a flow with a known route, by port and hop.
    again: BTreeMap<(u16, u8), BTreeSet<Observation>>,
    /// Nodes whose next hops have been asked about twice.
    checked: BTreeSet<(u8, Vertex)>,
    per_packet: BTreeSet<(u8, Vertex)>,
    pub(super) is_complete: bool,
}

impl Knowledge {
    pub(super) fn new(first_port: u16, max_flows: u16, error_ppm: u32) -> Self {
        Self {
            first_port,
            max_flows: usize::from(max_flows),
            error_ppm,
            flows: vec![first_port],
            seen: BTreeMap::new(),
            again: BTreeMap::new(),
            checked: BTreeSet::new(),
            per_packet: BTreeSet::new(),
            is_complete: true,
        }
    }

    pub(super) fn on_seen(&mut self, port: u16, ttl: u8, seen: Observation) {
        self.seen.insert((port, ttl), seen);
    }

    pub(super) fn on_again(&mut self, port: u16, ttl: u8, seen: Observation) {
        if seen != Observation::NoAnswer {
            self.again.entry((port, ttl)).or_default().insert(seen);
        }
    }

    pub(super) fn address_at(&self, port: u16, ttl: u8) -> Option<IpAddr> {
        match self.seen.get(&(port, ttl))? {
            Observation::Router(address) | Observation::Refused(address) => Some(*address),
            Observation::NoAnswer | Observation::Target => None,
        }
    }

    /// Whether a probe may get as far as the target, for all that is known.
    pub(super) fn may_arrive(&self, port: u16, ttl: u8) -> bool {
        !matches!(self.seen.get(&(port, ttl)), Some(Observation::Router(_)))
    }

    /// The node that a flow passes before `hop`; absent when it is not known, or when the flow
    /// ends earlier.
    fn parent(&self, port: u16, hop: u8) -> Option<Vertex> {
        if hop == 1 {
            return Some(None);
        }
        let ended = (1..hop).any(|ttl| self.has_ended(port, ttl));
        if ended {
            return None;
        }
        match self.seen.get(&(port, hop - 1))? {
            Observation::Router(address) => Some(Some(*address)),
            Observation::NoAnswer => Some(None),
            Observation::Refused(_) | Observation::Target => None,
        }
    }

    fn has_ended(&self, port: u16, ttl: u8) -> bool {
        matches!(self.seen.get(&(port, ttl)), Some(Observation::Target | Observation::Refused(_)))
    }

    /// The flows through each node before `hop`.
    fn parents(&self, hop: u8) -> BTreeMap<Vertex, Vec<u16>> {
        let mut parents: BTreeMap<Vertex, Vec<u16>> = BTreeMap::new();
        for port in &self.flows {
            if let Some(parent) = self.parent(*port, hop) {
                parents.entry(parent).or_default().push(*port);
            }
        }
        parents
    }

    /// The addresses that answer at `hop` to these flows.
    fn next_hops(&self, flows: &[u16], hop: u8) -> BTreeSet<Observation> {
        let seen = flows.iter().filter_map(|port| self.seen.get(&(*port, hop)));
        seen.copied().filter(|seen| *seen != Observation::NoAnswer).collect()
    }

    /// Probes to send, as port and hop limit, before `hop` is known well enough.
    pub(super) fn wanted_at(&mut self, hop: u8) -> Vec<(u16, u8)> {
        let mut wanted = Vec::new();
        for (_, flows) in self.parents(hop) {
            let known = self.next_hops(&flows, hop).len();
            let needed = probes_needed(known, self.error_ppm);
            let (asked, open): (Vec<u16>, Vec<u16>) =
                flows.iter().partition(|port| self.seen.contains_key(&(**port, hop)));
            let missing = needed.saturating_sub(asked.len());
            wanted.extend(open.iter().take(missing).map(|port| (*port, hop)));
            let fresh = missing.saturating_sub(open.len());
            for _ in 0..fresh {
                let Some(port) = self.fresh_flow() else {
                    self.is_complete = false;
                    break;
                };
                // Where it passes has to be seen first.
                wanted.push((port, hop.max(2) - 1));
            }
        }
        wanted
    }

    fn fresh_flow(&mut self) -> Option<u16> {
        if self.flows.len() >= self.max_flows {
            return None;
        }
        let nth = u16::try_from(self.flows.len()).ok()?;
        let port = self.first_port.wrapping_add(nth).max(1);
        self.flows.push(port);
        Some(port)
    }

    /// Flows to be asked again at `hop`, and how often: behind a node with several next hops, one
    /// flow tells whether it keeps its route.
    pub(super) fn repeats_at(&mut self, hop: u8) -> Vec<(u16, usize)> {
        let mut repeats = Vec::new();
        for (parent, flows) in self.parents(hop) {
            let next = self.next_hops(&flows, hop);
            if next.len() < 2 || !self.checked.insert((hop, parent)) {
                continue;
            }
            let answered = flows.iter().find(|port| {
                self.seen.get(&(**port, hop)).is_some_and(|seen| *seen != Observation::NoAnswer)
            });
            let times = probes_needed(1, self.error_ppm);
            repeats.extend(answered.map(|port| (*port, times)));
        }
        repeats
    }

    pub(super) fn is_silent_at(&self, hop: u8) -> bool {
        self.flows
            .iter()
            .all(|port| matches!(self.seen.get(&(*port, hop)), None | Some(Observation::NoAnswer)))
    }

    /// True when no flow continues behind `hop`.
    pub(super) fn all_arrived(&self, hop: u8) -> bool {
        let ends = |port: &u16| (1..=hop).any(|ttl| self.has_ended(*port, ttl));
        let known = |port: &u16| (1..=hop).any(|ttl| self.seen.contains_key(&(*port, ttl)));
        self.flows.iter().any(&ends)
            && self
                .flows
                .iter()
                .filter(|port| known(port))
                .all(|port| ends(port) || !self.seen.contains_key(&(*port, hop)))
    }

    /// Flows that together show every node, at most so many: greedily those that add most.
    fn members(&self, last: u8, most: usize) -> Vec<u16> {
        let nodes = |port: u16| -> BTreeSet<(u8, Observation)> {
            let hops = (1..=last).filter_map(|ttl| Some((ttl, *self.seen.get(&(port, ttl))?)));
            hops.filter(|(_, seen)| *seen != Observation::NoAnswer).collect()
        };
        let mut covered: BTreeSet<(u8, Observation)> = BTreeSet::new();
        let mut members: Vec<u16> = Vec::new();
        while members.len() < most {
            let rest = self.flows.iter().filter(|port| !members.contains(port));
            let gain = |port: &&u16| nodes(**port).difference(&covered).count();
            // Of equal ones the earliest.
            let Some(best) = rest.max_by_key(|port| (gain(port), u16::MAX - **port)) else {
                break;
            };
            if gain(&best) == 0 && !members.is_empty() {
                break;
            }
            covered.extend(nodes(*best));
            members.push(*best);
        }
        members
    }

    /// What is not known of the member routes.
    pub(super) fn gaps_of_members(&self, last: u8, most: usize) -> Vec<(u16, u8)> {
        let mut gaps = Vec::new();
        for port in self.members(last, most) {
            let end = (1..=last).find(|ttl| self.has_ended(port, *ttl)).unwrap_or(last);
            let open = (1..=end).filter(|ttl| !self.seen.contains_key(&(port, *ttl)));
            gaps.extend(open.map(|ttl| (port, ttl)));
        }
        gaps
    }

    /// The routes of the flows that are known to their end, and with each the other flows that can
    /// only have taken it; a route that is not known to its end stands for itself.
    fn member_routes(&self, last: u8, target: IpAddr) -> Vec<MemberRoute> {
        let mut members: Vec<MemberRoute> = Vec::new();
        let (whole, partly): (Vec<u16>, Vec<u16>) =
            self.flows.iter().partition(|port| self.is_known(**port, last));
        let (ended, open): (Vec<u16>, Vec<u16>) =
            whole.iter().partition(|port| (1..=last).any(|ttl| self.has_ended(**port, ttl)));
        let mut ended: Vec<(u16, Route)> =
            ended.iter().map(|port| (*port, self.route_of(*port, last, Some(target)))).collect();
        // The most complete first, for the others to be told apart by.
        ended.sort_by_key(|(_, route)| {
            (route.hops.iter().filter(|hop| hop.is_none()).count(), route.hops.len())
        });
        for (port, route) in ended {
            match members.iter_mut().find(|member| agree(&member.route, &route)) {
                Some(member) => complete(member, port, &route),
                None => members.push(MemberRoute { route, source_ports: vec![port] }),
            }
        }
        for (port, stands) in
            open.iter().map(|p| (p, true)).chain(partly.iter().map(|p| (p, false)))
        {
            let mut route = self.route_of(*port, last, Some(target));
            while route.hops.pop_if(|hop| hop.is_none()).is_some() {}
            let mut fitting: Vec<&mut MemberRoute> =
                members.iter_mut().filter(|member| can_be(&member.route, &route)).collect();
            match fitting.as_mut_slice() {
                [] if stands => members.push(MemberRoute { route, source_ports: vec![*port] }),
                [only] => complete(only, *port, &route),
                _ => {}
            }
        }
        members
    }

    fn is_known(&self, port: u16, last: u8) -> bool {
        let end = (1..=last).find(|ttl| self.has_ended(port, *ttl)).unwrap_or(last);
        (1..=end).all(|ttl| self.seen.contains_key(&(port, ttl)))
    }

    fn route_of(&self, port: u16, last: u8, target: Option<IpAddr>) -> Route {
        let mut hops = Vec::new();
        for ttl in 1..=last {
            match self.seen.get(&(port, ttl)) {
                Some(Observation::Router(address) | Observation::Refused(address)) => {
                    hops.push(Some(*address))
                }
                Some(Observation::Target) => {
                    hops.push(target);
                    break;
                }
                Some(Observation::NoAnswer) | None => hops.push(None),
            }
        }
        Route { hops }
    }

    /// Everything that was found, up to hop `last`.
    pub(super) fn ensemble(&mut self, last: u8, probes: u32, target: IpAddr) -> RouteEnsemble {
        for ((port, hop), answers) in &self.again {
            let first = self.seen.get(&(*port, *hop));
            if first.is_some_and(|first| answers.iter().any(|again| again != first))
                && let Some(parent) = self.parent(*port, *hop)
            {
                self.per_packet.insert((*hop, parent));
            }
        }
        let mut balancers = Vec::new();
        // Behind a balancer by packet the branch of a flow is unknown until all branches meet.
        let mut mixed = false;
        for hop in 1..=last {
            mixed &= self.next_hops(&self.flows, hop).len() > 1;
            if mixed {
                continue;
            }
            for (parent, flows) in self.parents(hop) {
                let next: BTreeSet<IpAddr> = self
                    .next_hops(&flows, hop)
                    .into_iter()
                    .map(|seen| match seen {
                        Observation::Router(address) | Observation::Refused(address) => address,
                        Observation::Target | Observation::NoAnswer => target,
                    })
                    .collect();
                if next.len() < 2 {
                    continue;
                }
                let balancing = if self.per_packet.contains(&(hop, parent)) {
                    Balancing::PerPacket
                } else {
                    Balancing::PerFlow
                };
                mixed |= balancing == Balancing::PerPacket;
                let next = next.into_iter().collect();
                balancers.push(Balancer { hop, address: parent, balancing, next });
            }
        }
        let members = self.member_routes(last, target);
        let (error_ppm, is_complete) = (self.error_ppm, self.is_complete);
        RouteEnsemble { error_ppm, is_complete, probes, balancers, members }
    }
}

/// True when two routes to their end can be one route, the first not longer: no contradicting
/// address, and what the second has more is silence just before the end, where the target's own
/// answers may have been lost.
fn agree(a: &Route, b: &Route) -> bool {
    let Some(before) = a.hops.len().checked_sub(1).filter(|_| a.hops.len() <= b.hops.len()) else {
        return false;
    };
    let (head, rest) = b.hops.split_at(before);
    let more = rest.split_last().map_or(&[][..], |(_, more)| more);
    let overlaps = a.hops.iter().zip(head).all(|(a, b)| a.is_none() || b.is_none() || a == b);
    overlaps && more.iter().all(Option::is_none)
}

/// True when a route can be the beginning of another, or in the other order.
fn can_be(a: &Route, b: &Route) -> bool {
    a.hops.iter().zip(&b.hops).all(|(a, b)| a.is_none() || b.is_none() || a == b)
}

/// Adds a flow to a member: what did not answer to one flow may have answered to the other.
fn complete(member: &mut MemberRoute, port: u16, route: &Route) {
    member.source_ports.push(port);
    let before = member.route.hops.len().saturating_sub(1);
    for (known, now) in member.route.hops.iter_mut().take(before).zip(&route.hops) {
        *known = known.or(*now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_numbers_of_the_published_table() {
        // Veitch et al. 2009, table I: 5 % and 1 %.
        let table = |ppm| -> Vec<usize> { (1..=5).map(|k| probes_needed(k, ppm)).collect() };
        assert_eq!(table(50_000), [6, 11, 16, 21, 27]);
        assert_eq!(table(10_000), [8, 15, 21, 28, 36]);
    }
}
