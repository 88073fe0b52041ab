//! Routes between agents, as each of them measures the direction in which it sends.

use super::pairs::PairEnds;
use itinera_model::id::PairId;
use itinera_model::two_way::Direction;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// A route that was measured so long before may not be that of now: two hours. Agents report theirs every
/// hour.
const HOLDS_US: i64 = 7_200_000_000;

/// The newest route of one direction.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Measured {
    at: WallTime,
    addresses: Vec<IpAddr>,
}

/// The newest routes of all pairs.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub(super) struct PairRoutes(BTreeMap<PairId, BTreeMap<Direction, Measured>>);

impl PairRoutes {
    /// Takes a route that was measured at `at`; an older one than the known is left.
    pub(super) fn measured(
        &mut self,
        pair: PairId,
        direction: Direction,
        at: WallTime,
        hops: &[Option<IpAddr>],
    ) {
        let known = self.0.entry(pair).or_default();
        if known.get(&direction).is_some_and(|known| known.at > at) {
            return;
        }
        let addresses = hops.iter().copied().flatten().collect();
        known.insert(direction, Measured { at, addresses });
    }

    /// Adds the addresses of the route of a direction, where one holds at `now`, without copies. What is in
    /// `route` of the other version of IP is taken out: the packets of the pair do not pass there.
    pub(super) fn add(
        &self,
        pair: PairId,
        direction: Direction,
        now: WallTime,
        route: &mut Vec<IpAddr>,
    ) {
        let known = self.0.get(&pair).and_then(|routes| routes.get(&direction));
        let holds = known.filter(|known| now.micros_since(known.at) <= HOLDS_US);
        let Some(newest) = holds else { return };
        if let Some(first) = newest.addresses.first() {
            route.retain(|address| address.is_ipv4() == first.is_ipv4());
        }
        for address in &newest.addresses {
            if !route.contains(address) {
                route.push(*address);
            }
        }
    }

    /// Forgets pairs that are not measured any more.
    pub(super) fn keep_to(&mut self, known: &BTreeMap<PairId, PairEnds>) {
        self.0.retain(|pair, _| known.contains_key(pair));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    const OTHER_VERSION: IpAddr =
        IpAddr::V6(std::net::Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1));

    #[test]
    fn the_newest_route_of_a_direction_holds_for_two_hours() {
        let pair = PairId::from_uuid(Uuid::from_u128(9));
        let four = |last: u8| IpAddr::from([198, 18, 0, last]);
        let second = WallTime::from_unix_seconds;
        let mut routes = PairRoutes::default();
        let mut measured = |at, hops: &[Option<IpAddr>]| {
            routes.measured(pair, Direction::Forward, second(at), hops);
        };
        measured(20, &[Some(four(1)), None, Some(four(3))]);
        measured(10, &[Some(four(2))]);
        let at = |direction, now| {
            let mut route = vec![four(3), OTHER_VERSION];
            routes.add(pair, direction, second(now), &mut route);
            route
        };
        assert_eq!(at(Direction::Forward, 30), [four(3), four(1)], "the older one came later");
        assert_eq!(at(Direction::Return, 30), [four(3), OTHER_VERSION], "none is known");
        assert_eq!(at(Direction::Forward, 20 + 7_201), [four(3), OTHER_VERSION]);
        routes.keep_to(&BTreeMap::new());
        assert_eq!(routes, PairRoutes::default());
    }
}
