//! Events from results of checks, host facts, throughput and routes, with what is known of the paths
//! that they are about.

use super::pairs::SealedWindow;
use super::{AgentReport, Effect, Judge};
use crate::event::intended::{self, RouteState};
use crate::event::{Exchanged, Fact, PairEnds, addresses_on};
use crate::evidence::beginning_of;
use crate::inventory::{IntendedRoute, Inventory};
use crate::roaming::access_providers;
use crate::rules::Ruled;
use itinera_model::event::EventEffect;
use itinera_model::host_facts::Medium;
use itinera_model::id::{AgentId, PathId};
use itinera_model::unit::WallTime;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;

/// Facts that come later than this are kept and say nothing: three minutes.
const TOO_LATE_US: i64 = 180_000_000;

/// A DSCP that was quoted last before this tells nothing of the route any more: ten minutes.
const QUOTE_HOLDS_US: i64 = 600_000_000;

/// Addresses on the routes of one agent that are kept, the nearest first.
const MOST_ON_ROUTES: usize = 1_024;

impl Judge {
    /// What the clock says about events.
    pub(super) fn watch_clock(&mut self) -> Vec<EventEffect> {
        let Self { watcher, inventory, latest, paths, seals, .. } = self;
        let routes = |agent: AgentId| {
            let mut by_distance: BTreeSet<(usize, IpAddr)> = BTreeSet::new();
            for path in inventory.paths_of(agent) {
                by_distance.extend(paths.get(&path).map(|history| (0, history.source)));
                let hops = latest.get(&path).into_iter().flat_map(|judged| &judged.hops);
                let addresses = hops.enumerate().filter_map(|(nth, hop)| Some((nth, hop.address?)));
                by_distance.extend(addresses);
            }
            let mut known = BTreeSet::new();
            let addresses = by_distance.into_iter().map(|(_, address)| address);
            addresses.filter(|it| known.insert(*it)).take(MOST_ON_ROUTES).collect()
        };
        watcher.on_clock((&inventory.sites, &inventory.pairs), &routes, &seals.clock)
    }

    /// Events of what pairs have exchanged in windows that are complete now.
    pub(super) fn watch_pairs(&mut self, now: WallTime) -> Vec<EventEffect> {
        let mut occurred = Vec::new();
        for SealedWindow { pair, window, counts } in self.pairs.take_sealed() {
            let Self { watcher, inventory, latest, book, paths, .. } = self;
            let Some(ends) = inventory.pairs.get(&pair).copied() else { continue };
            let PairEnds { sender, reflector } = ends;
            let sites = [sender, reflector].map(|agent| inventory.sites.get(&agent));
            let [Some(near), Some(far)] = sites else { continue };
            let (near, far) = (near.as_str(), far.as_str());
            let exchanged = Exchanged {
                pair,
                ends,
                sites: [near, far],
                at: beginning_of(window),
                counts: &counts,
                limits: &book.limits_between(near, far),
            };
            let routes = |agent: AgentId| -> Vec<Vec<IpAddr>> {
                let own = inventory.paths_of(agent);
                let known = own.filter_map(|path| Some((paths.get(&path)?, latest.get(&path)?)));
                let routes = known.map(|(history, judged)| {
                    std::iter::once(history.source).chain(addresses_on(judged)).collect()
                });
                routes.collect()
            };
            let shared = || shared_by([&routes(sender), &routes(reflector)]);
            occurred.extend(watcher.on_exchanged(&exchanged, &shared, now));
        }
        occurred
    }

    /// Gives events the severity by rules, where one decides it.
    pub(super) fn grade_events(&self, effects: &mut [Effect]) {
        let Inventory { rules, sites, .. } = &self.inventory;
        if !rules.have_severity() {
            return;
        }
        let events = effects.iter_mut().filter_map(|effect| match effect {
            Effect::Event(EventEffect::Occurred(event) | EventEffect::Began(event))
            | Effect::Event(EventEffect::Changed { event, .. }) => Some(event),
            _ => None,
        });
        for event in events {
            let Some(by_figures) = event.severity else { continue };
            let site: Vec<&str> =
                sites.get(&event.key.agent).map(String::as_str).into_iter().collect();
            let service: Vec<&str> = event.service.as_deref().into_iter().collect();
            let of = Ruled::Events { sites: &site, services: &service };
            if let Some((severity, _)) = rules.severity(by_figures, of, &[]) {
                event.severity = Some(severity);
            }
        }
    }

    /// Drops what was known of checks and paths that are not in the inventory any more.
    pub(super) fn keep_to_inventory(&mut self, now: WallTime, effects: &mut Vec<Effect>) {
        let Self { watcher, inventory, arrived_dscp, .. } = self;
        arrived_dscp.retain(|path, _| inventory.intended.contains_key(path));
        let ended = watcher.keep_to(&|check| inventory.checks.contains_key(&check), now);
        let unpaired = watcher.keep_to_pairs(&inventory.pairs, now);
        effects.extend(ended.into_iter().chain(unpaired).map(Effect::Event));
    }

    /// Takes the facts of a report, after its rounds. `judged` are the paths with a newer judgement.
    pub(super) fn on_facts(
        &mut self,
        report: &AgentReport<'_>,
        judged: &[PathId],
        now: WallTime,
        effects: &mut Vec<Effect>,
    ) {
        for round in report.rounds {
            if let Some(dscp) = round.arrived_dscp
                && self.inventory.intended.contains_key(&round.path)
            {
                let quoted = (round.measured_at, dscp);
                let known = self.arrived_dscp.entry(round.path).or_insert(quoted);
                *known = quoted.max(*known);
            }
        }
        for (at, route) in report.pair_routes {
            self.watcher.on_pair_route(route.pair, route.direction, *at, &route.hops);
        }
        let mut occurred = Vec::new();
        for path in judged {
            occurred.extend(self.on_route(*path, now));
        }
        occurred.extend(self.on_checks(report, now));
        for carried in report.throughput {
            occurred.extend(self.watcher.step(Fact::Carried(*carried), &|_, _| None, now));
        }
        occurred.extend(self.on_host_facts(report, now));
        effects.extend(occurred.into_iter().map(Effect::Event));
    }

    fn on_checks(&mut self, report: &AgentReport<'_>, now: WallTime) -> Vec<EventEffect> {
        let Self { watcher, inventory, latest, .. } = self;
        let path_to = |agent: AgentId, to: IpAddr| {
            latest.get(inventory.paths.get(&(agent, to))?).map(Arc::as_ref)
        };
        let mut occurred = Vec::new();
        for (at, round) in report.checks {
            let Some(check) = inventory.checks.get(&round.check) else { continue };
            if now.micros_since(*at) > TOO_LATE_US {
                continue;
            }
            let (result, late_us) = (&round.result, round.late_us.unwrap_or(0));
            let fact = Fact::Checked { check, at: *at, result, late_us };
            occurred.extend(watcher.step(fact, &path_to, now));
        }
        occurred
    }

    fn on_host_facts(&mut self, report: &AgentReport<'_>, now: WallTime) -> Vec<EventEffect> {
        let Self { watcher, inventory, latest, owners, .. } = self;
        let mut occurred = Vec::new();
        let Some(agent) = report.agent else { return occurred };
        let Some(site) = inventory.sites.get(&agent) else { return occurred };
        for (at, host_facts) in report.host_facts {
            let at = *at;
            if now.micros_since(at) > TOO_LATE_US {
                continue;
            }
            let fact = Fact::HostFactsSource { agent, site, at, host_facts };
            occurred.extend(watcher.step(fact, &|_, _| None, now));
            let own = inventory.paths_of(agent);
            let judged = own.filter_map(|path| latest.get(&path).map(Arc::as_ref));
            let by: Vec<(u32, &str)> = access_providers(judged, owners).into_keys().collect();
            let fact = Fact::Access { agent, site, at, by: &by };
            occurred.extend(watcher.step(fact, &|_, _| None, now));
        }
        occurred
    }

    fn on_route(&mut self, path: PathId, now: WallTime) -> Vec<EventEffect> {
        let Self { watcher, inventory, latest, owners, arrived_dscp, .. } = self;
        let route = inventory.intended.get(&path).zip(latest.get(&path));
        let Some((route, assessment)) = route else { return Vec::new() };
        let IntendedRoute { agent, site, target, service, packets, .. } = route;
        let host_facts = watcher.host_facts(*agent);
        let tunnel = host_facts.zip(route.address).and_then(|(host_facts, address)| {
            let route = host_facts.route_to(address)?;
            Some(host_facts.interface(&route.interface)?.medium == Medium::Tunnel)
        });
        let quoted = arrived_dscp.get(&path);
        let quoted = quoted.filter(|(at, _)| now.micros_since(*at) <= QUOTE_HOLDS_US);
        let dscp = quoted.map(|(_, arrived)| (route.dscp, *arrived));
        let seen = RouteState { assessment, tunnel, dscp };
        let deviations = intended::deviations(&route.intended, seen, owners);
        let fact = Fact::Route {
            agent: *agent,
            site,
            target,
            service,
            by: packets,
            at: assessment.until,
            deviations: &deviations,
            addresses: &addresses_on(assessment),
        };
        watcher.step(fact, &|_, _| None, now)
    }
}

/// Addresses that are on the routes between two agents, by the routes of each to its targets, which begin with
/// the agent's own address: what all of these share, which is the access.
fn shared_by(routes: [&[Vec<IpAddr>]; 2]) -> Vec<IpAddr> {
    let mut sure = BTreeSet::new();
    for (routes, is_of_version) in routes
        .into_iter()
        .flat_map(|it| [(it, IpAddr::is_ipv4 as fn(&_) -> _), (it, IpAddr::is_ipv6)])
    {
        let mut times: BTreeMap<IpAddr, usize> = BTreeMap::new();
        let mut count = 0;
        for addresses in routes.iter().filter(|route| route.iter().any(is_of_version)) {
            count += 1;
            sure.extend(addresses.first().copied());
            for address in addresses.iter().copied().collect::<BTreeSet<_>>() {
                *times.entry(address).or_default() += 1;
            }
        }
        // A single route tells nothing of others.
        let shared = times.into_iter().filter(|(_, times)| count > 1 && *times == count);
        sure.extend(shared.map(|(address, _)| address));
    }
    sure.into_iter().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::CheckFacts;
    use crate::event::intended::Intended;
    use crate::inventory::Inventory;
    use crate::judge::{JudgeInput, Observation};
    use itinera_model::check::{Ask, AskName, CheckResult, CheckRound, Step, Why};
    use itinera_model::event::EventKind;
    use itinera_model::id::{BootId, CheckId, ContentId};
    use itinera_model::round::{Clocks, HopCounts, StampSource};
    use itinera_model::route::FlowKey;
    use itinera_model::unit::Tick;
    use std::net::Ipv4Addr;
    use uuid::Uuid;

    const AGENT: AgentId = AgentId::from_uuid(Uuid::from_u128(3));
    const PATH: PathId = PathId::from_uuid(Uuid::from_u128(4));
    const CHECK: CheckId = CheckId::from_uuid(Uuid::from_u128(5));

    fn at(second: i64) -> WallTime {
        WallTime::from_unix_seconds(1_700_000_000 + second)
    }

    fn inventory(with_check: bool) -> JudgeInput<'static> {
        let target = "db.example".to_owned();
        let check = CheckFacts {
            id: CHECK,
            agent: AGENT,
            site: "Eskerry".to_owned(),
            target: target.clone(),
            service: target.clone(),
            host: None,
            ask: Ask::Name(AskName::of("db.example".to_owned(), false)),
            raise_after: 2,
        };
        let route = IntendedRoute {
            agent: AGENT,
            site: "Eskerry".to_owned(),
            target: target.clone(),
            service: target,
            packets: "ICMP echo over IPv4 marked 46".to_owned(),
            address: None,
            dscp: 46,
            intended: Intended { dscp_kept: true, ..Intended::default() },
        };
        let inventory = Inventory {
            sites: [(AGENT, "Eskerry".to_owned())].into(),
            checks: with_check.then_some((CHECK, check)).into_iter().collect(),
            intended: [(PATH, route)].into(),
            ..Inventory::default()
        };
        JudgeInput::Inventory(Box::new(inventory), Arc::default())
    }

    /// Kinds of the events that begin, and how many end.
    fn events(effects: &[Effect]) -> (Vec<EventKind>, usize) {
        let (mut began, mut ended) = (Vec::new(), 0);
        for effect in effects {
            match effect {
                Effect::Event(EventEffect::Began(event)) => began.push(event.key.kind),
                Effect::Event(EventEffect::Ended { .. }) => ended += 1,
                _ => {}
            }
        }
        (began, ended)
    }

    #[test]
    fn results_of_checks_count_while_the_inventory_has_the_check() {
        let mut judge = Judge::default();
        let fail = |judge: &mut Judge, number: i64| {
            let result = CheckResult::broke(Step::Connect, Why::Refused);
            let clocks = Clocks {
                boot: BootId::from_uuid(Uuid::nil()),
                tick: Tick::ZERO,
                wall: at(number * 10),
                offset_us: None,
                offset_error_us: None,
            };
            let number_of = number.cast_unsigned();
            let round =
                CheckRound { check: CHECK, number: number_of, clocks, result, late_us: None };
            let checks = [(at(number * 10), &round)];
            let report =
                AgentReport { agent: Some(AGENT), checks: &checks, ..AgentReport::default() };
            events(&judge.step(JudgeInput::Report(report), at(number * 10)))
        };
        assert_eq!(fail(&mut judge, 0), (vec![], 0), "a check that is not known");
        judge.step(inventory(true), at(5));
        assert_eq!(fail(&mut judge, 1).0.len() + fail(&mut judge, 2).0.len(), 1);
        let ended = events(&judge.step(inventory(false), at(25))).1;
        assert_eq!(ended, 1, "it is not asked any more");
        assert_eq!(fail(&mut judge, 3), (vec![], 0));
    }

    #[test]
    fn a_mark_that_is_rewritten_several_times_is_an_event() {
        let mut judge = Judge::default();
        judge.step(inventory(false), at(0));
        let hop = HopCounts { sent: 3, answered: 0b111, ..HopCounts::default() };
        let mut measure = |nth: i64, arrived_dscp| {
            let round = Observation {
                path: PATH,
                measured_at: at(nth * 10),
                number: nth.cast_unsigned(),
                source: IpAddr::V4(Ipv4Addr::UNSPECIFIED),
                flow: FlowKey::default(),
                route: ContentId::of(b"route"),
                addresses: &[None],
                hops: std::slice::from_ref(&hop),
                stamps: StampSource::Kernel,
                lateness: None,
                arrived_dscp,
            };
            let report =
                AgentReport { agent: Some(AGENT), rounds: &[round], ..AgentReport::default() };
            events(&judge.step(JudgeInput::Report(report), at(nth * 10 + 1)))
        };
        for nth in 0..5 {
            assert_eq!(measure(nth, Some(46)), (vec![], 0));
        }
        let began = (5..9).map(|nth| measure(nth, Some(0)).0.len()).collect::<Vec<_>>();
        assert_eq!(began, [0, 0, 1, 0]);
        // No hop quotes the mark: the last quoted value counts for ten minutes.
        let ended: Vec<usize> = (9..71).map(|nth| measure(nth, None).1).collect();
        assert_eq!(ended.iter().position(|ended| *ended == 1), Some(60), "two rounds without it");
        let began: usize = (71..74).map(|nth| measure(nth, Some(0)).0.len()).sum();
        assert_eq!(began, 1);
        let ended: usize = (74..77).map(|nth| measure(nth, Some(46)).1).sum();
        assert_eq!(ended, 1);
    }

    #[test]
    fn between_two_agents_are_the_hops_that_all_routes_of_one_share() {
        let four = |last: u8| IpAddr::from([198, 18, 0, last]);
        let six = |last: u16| IpAddr::from([0x2001, 0xdb8, 0, 0, 0, 0, 0, last]);
        let near = [
            [1, 2, 3].map(four).to_vec(),
            [1, 2, 4].map(four).to_vec(),
            [1, 3].map(six).to_vec(),
            [1, 4].map(six).to_vec(),
            Vec::new(),
        ];
        let far = [[7, 8].map(four).to_vec()];
        let sure = [four(1), four(2), four(7), six(1)];
        assert_eq!(shared_by([&near, &far]), sure, "one route alone shares nothing but the agent");
    }
}
