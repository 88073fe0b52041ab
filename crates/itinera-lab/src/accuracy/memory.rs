//! What agents know of routes: the addresses that have answered, flow by flow.

use super::stage::Stage;
use super::window::{Drawn, DrawnPair};
use itinera_candidates::PairHops;
use itinera_model::id::ContentId;
use itinera_model::route::Route;
use itinera_simnet::closed_form::Sampler;
use std::net::IpAddr;

/// An agent sweeps the route of each of its pairs every so many windows: five minutes.
const SWEEP_WINDOWS: u64 = 30;

/// The routes that agents know.
#[derive(Debug, Clone)]
pub(super) struct Memory {
    /// By path and flow.
    routes: Vec<Vec<Known>>,
}

/// A route as answers have shown it.
#[derive(Debug, Clone)]
pub(super) struct Known {
    pub(super) route: Route,
    pub(super) id: ContentId,
}

impl Memory {
    /// Agents that have seen nothing yet.
    pub(super) fn new(stage: &Stage) -> Self {
        let unknown = Route::default();
        let known = Known { id: unknown.id(), route: unknown };
        let flows = stage.paths.iter().map(|plan| vec![known.clone(); plan.flows.len().max(1)]);
        Self { routes: flows.collect() }
    }

    fn flow(&self, path: usize, number: u64) -> usize {
        usize::try_from(number % self.routes[path].len() as u64).unwrap_or(0)
    }

    /// What is known of the route of a path's nth round.
    pub(super) fn route(&self, path: usize, number: u64) -> &Known {
        &self.routes[path][self.flow(path, number)]
    }

    /// Takes a round: the hops that answered show their addresses, of all that its route has.
    pub(super) fn on_round(&mut self, round: &Drawn, addresses: &[Option<IpAddr>]) {
        let flow = self.flow(round.path, round.number);
        let known = &mut self.routes[round.path][flow];
        let seen: Vec<Option<IpAddr>> = addresses
            .iter()
            .zip(&round.hops)
            .map(|(address, counts)| address.filter(|_| counts.answered != 0))
            .collect();
        let tells_nothing_new = seen.len() == known.route.hops.len()
            && seen.iter().zip(&known.route.hops).all(|(now, known)| now.is_none() || now == known);
        if !tells_nothing_new {
            let reached = seen.last().is_some_and(Option::is_some);
            let route = known.route.observed(&seen, reached);
            *known = Known { id: route.id(), route };
        }
    }

    /// The routes of the pairs that are swept in a window, where packets arrive in both directions.
    pub(super) fn pair_hops(sampler: &Sampler, window: u64, drawn: &[DrawnPair]) -> Vec<PairHops> {
        let is_swept = |it: &&DrawnPair| window % SWEEP_WINDOWS == it.pair as u64 % SWEEP_WINDOWS;
        let arrives =
            |it: &&DrawnPair| it.counts.forward.arrived > 0 && it.counts.return_.arrived > 0;
        let hops = |it: &DrawnPair| PairHops {
            pair: it.pair,
            hops: sampler.pair_hops(it.pair, it.at).map(<[_]>::to_vec),
        };
        drawn.iter().filter(is_swept).filter(arrives).map(hops).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::super::setup::Setup;
    use super::super::stretch::Stretch;
    use super::super::window::Window;
    use super::*;
    use itinera_simnet::worlds::WorldFamily;

    #[test]
    fn the_route_of_each_pair_is_swept_every_five_minutes_where_packets_arrive() {
        let setup = Setup { agents: 6, peers: 3, ..Setup::a() };
        let stage = Stage::new(&setup, WorldFamily::Plain, 4);
        let stretch = Stretch::new(&stage, 0);
        let mut sampler = stretch.calm.clone();
        let mut drawn = Window::default();
        let mut seen = vec![0; stage.pairs.len()];
        let mut arrived = vec![0; stage.pairs.len()];
        for window in 0..2 * SWEEP_WINDOWS {
            stretch.window(&mut sampler, window, 0, &mut drawn);
            for pair in drawn.pairs.iter().filter(|it| it.counts.return_.arrived > 0) {
                arrived[pair.pair] += 1;
            }
            for swept in Memory::pair_hops(&sampler, window, &drawn.pairs) {
                seen[swept.pair] += 1;
                let answers = swept.hops.iter().flatten().flatten().count();
                assert!(answers > 0, "{swept:?}");
            }
        }
        assert!(seen.len() > 5);
        for (seen, arrived) in seen.iter().zip(&arrived) {
            let always = *arrived == 2 * SWEEP_WINDOWS;
            assert!(*seen <= 2 && (*seen == 2 || !always), "{seen} sweeps, {arrived} rounds");
        }
        // A pair that nothing arrives from shows no route.
        let silent = |it: &DrawnPair| DrawnPair { counts: Default::default(), ..it.clone() };
        let silent: Vec<DrawnPair> = drawn.pairs.iter().map(silent).collect();
        let swept = (0..SWEEP_WINDOWS).map(|window| Memory::pair_hops(&sampler, window, &silent));
        assert_eq!(swept.map(|swept| swept.len()).sum::<usize>(), 0);
    }
}
