//! Builds a world from its scenario, thing by thing.

use super::{Arc, ArcFault, Endpoint, Host, Line, Node, Truth, TruthCause, World};
use crate::noise::Noise;
use crate::routing::Routing;
use crate::scenario::{FaultEntry, HostEntry, LinkEntry, RouterEntry, Scenario, addresses_of};
use crate::time::{nanos, ticks};
use itinera_model::unit::Tick;
use rand::RngExt;
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::net::IpAddr;
use toml::Spanned;

/// Hop limit of answers where nothing else is said.
const ANSWER_HOP_LIMIT: u8 = 64;

pub(super) struct Builder<'a> {
    scenario: &'a Scenario,
    pub(super) index: BTreeMap<&'a str, usize>,
    pub(super) world: World,
}

/// A checked number times a thousand; zero where absent.
fn thousandfold(value: Option<&Spanned<f64>>) -> i64 {
    #[allow(clippy::cast_possible_truncation, reason = "checked to be within a million")]
    value.map_or(0, |value| (value.as_ref() * 1e3).round() as i64)
}

impl<'a> Builder<'a> {
    pub(super) fn new(scenario: &'a Scenario) -> Self {
        let endpoint = |host: &HostEntry| Endpoint {
            id: host.id.as_ref().clone(),
            name: host.name.clone(),
            addresses: addresses_of(host.address.as_ref(), host.address6.as_ref()),
            clock_offset_us: thousandfold(host.clock_offset_ms.as_ref()),
            clock_drift_ppb: i32::try_from(thousandfold(host.clock_drift_ppm.as_ref()))
                .unwrap_or(0),
            clock_steps: host
                .clock_steps
                .iter()
                .map(|[at_s, ms]| {
                    #[allow(clippy::cast_possible_truncation, reason = "casts saturate")]
                    (Tick::from_nanos(nanos(at_s.max(0.0) * 1e3)), (ms * 1e3) as i64)
                })
                .collect(),
        };
        let world = World {
            nodes: Vec::new(),
            arcs: Vec::new(),
            by_address: BTreeMap::new(),
            phases: Vec::new(),
            routing: Routing::of(scenario),
            seed: 0,
            week_hour: scenario.week_hour,
            life: scenario.life,
            sites: scenario.sites.iter().map(endpoint).collect(),
            targets: scenario.targets.iter().map(endpoint).collect(),
            truth: Vec::new(),
        };
        let mut builder = Self { scenario, index: BTreeMap::new(), world };
        for host in scenario.sites.iter().chain(&scenario.targets) {
            let is_site = scenario.sites.iter().any(|site| site.id.as_ref() == host.id.as_ref());
            let addresses = addresses_of(host.address.as_ref(), host.address6.as_ref());
            builder.add_node(host.id.as_ref(), addresses, is_site, None);
            builder.node(host.id.as_ref()).host = Host {
                ignores: host.ignores.clone(),
                tcp_open: host.tcp_open.clone(),
                udp_open: host.udp_open.clone(),
                name: host.id.as_ref().clone(),
                host_facts: host.host_facts.as_ref().map(|host_facts| host_facts.as_ref().clone()),
            };
            builder.node(host.id.as_ref()).noise =
                host.noise.as_ref().map(|noise| Noise::new(noise.as_ref()));
        }
        for router in &scenario.routers {
            let addresses = addresses_of(router.address.as_ref(), router.address6.as_ref());
            builder.add_node(router.id.as_ref(), addresses, false, Some(router));
        }
        for link in &scenario.links {
            builder.add_link(link);
        }
        builder
    }

    fn add_link(&mut self, link: &LinkEntry) {
        let [a, b] = [0, 1].map(|end| self.index[link.between[end].as_ref().as_str()]);
        let share = |value: &Option<Spanned<f64>>| value.as_ref().map_or(0.0, |v| *v.as_ref());
        let interfaces = link.interfaces.as_ref().map(|both| {
            both.as_ref()
                .each_ref()
                .map(|end| end.iter().map(|a| IpAddr::V4(*a)).collect::<Vec<_>>())
        });
        let [near, far] = interfaces.unwrap_or_default();
        for (from, own) in [(a, &near), (b, &far)] {
            self.world.by_address.extend(own.iter().map(|address| (*address, from)));
        }
        let both = [(a, b, [near.clone(), far.clone()]), (b, a, [far, near])];
        for (direction, (from, to, interfaces)) in both.into_iter().enumerate() {
            let metric = link.metric.as_ref().map(|metric| metric.as_ref()[direction]);
            self.world.arcs[from].push(Arc {
                metric: nanos(metric.unwrap_or_else(|| *link.delay_ms.as_ref())).max(1),
                burst: link.burst.as_ref().map(|burst| *burst.as_ref()),
                duplicates: share(&link.duplicates),
                reorders: share(&link.reorders),
                mtu: link.mtu.as_ref().map(|mtu| *mtu.as_ref()),
                line: link.queue.as_ref().map(|queue| {
                    let queue = queue.as_ref();
                    Line {
                        nanos_per_octet: 8_000.0 / queue.mbit_per_s,
                        longest_nanos: queue.longest_ms * 1e6,
                        load: queue.load,
                    }
                }),
                to,
                delay_nanos: nanos(*link.delay_ms.as_ref()),
                jitter_nanos: link.jitter_ms.as_ref().map_or(0.0, |ms| ms.as_ref() * 1e6),
                loss: link.loss.as_ref().map_or(0.0, |loss| *loss.as_ref()),
                faults: Vec::new(),
                daily: link.daily.as_ref().map(|daily| *daily.as_ref()),
                spells: link.spells.as_ref().map(|spells| *spells.as_ref()),
                members: link.members.as_ref().map_or(1, |members| *members.as_ref()),
                interfaces,
            });
        }
    }

    fn add_node(
        &mut self,
        id: &'a str,
        addresses: Vec<IpAddr>,
        is_site: bool,
        router: Option<&RouterEntry>,
    ) {
        let index = self.world.nodes.len();
        let delay = router.and_then(|r| r.answer_delay_ms.as_ref()).map_or(0.0, |ms| *ms.as_ref());
        let jitter =
            router.and_then(|r| r.answer_jitter_ms.as_ref()).map_or(0.0, |ms| *ms.as_ref());
        let outside = router.and_then(|r| r.translates_to.as_ref()).map(|a| *a.as_ref());
        self.world.by_address.extend(outside.map(|address| (IpAddr::V4(address), index)));
        self.world.by_address.extend(addresses.iter().map(|address| (*address, index)));
        let owner = router.and_then(|r| r.owner.as_ref()).and_then(|id| {
            self.scenario.owners.iter().position(|owner| owner.id.as_ref() == id.as_ref())
        });
        self.world.nodes.push(Node {
            owner,
            slow: router.and_then(|r| r.slow.as_ref()).map(|slow| *slow.as_ref()),
            habit_share: router
                .and_then(|r| r.habit_share.as_ref())
                .map_or(1.0, |share| *share.as_ref()),
            answers_by: router.map(|r| r.answers_by).unwrap_or_default(),
            answer_hop_limit: router.and_then(|r| r.answer_hop_limit).unwrap_or(ANSWER_HOP_LIMIT),
            noise: None,
            addresses,
            is_site,
            passes: router.is_some(),
            silent: router.is_some_and(|r| r.silent),
            rate_limits: router.and_then(|r| r.rate_limits.as_ref()).map(|share| *share.as_ref()),
            answer_delay_nanos: nanos(delay),
            answer_jitter_nanos: jitter * 1e6,
            answers_per_s: router.and_then(|r| r.answers_per_s.as_ref()).map(|rate| *rate.as_ref()),
            limits_all: router.is_some_and(|r| r.limits_all),
            counts: router.is_none_or(|r| !r.hidden),
            labels: router.map(|r| r.labels.clone()).unwrap_or_default(),
            quotes_hop_limit: router.and_then(|r| r.quotes_hop_limit),
            marks_dscp: router.and_then(|r| r.marks_dscp.as_ref()).map(|dscp| *dscp.as_ref()),
            translates_to: outside,
            restores_quotes: router.is_none_or(|r| !r.leaves_quotes),
            says_too_big: router.is_none_or(|r| !r.hides_too_big),
            balances: router.and_then(|r| r.balances),
            host: Host::default(),
        });
        self.world.arcs.push(Vec::new());
        self.index.insert(id, index);
    }

    pub(super) fn node(&mut self, id: &str) -> &mut Node {
        &mut self.world.nodes[self.index[id]]
    }

    pub(super) fn add_fault(&mut self, fault: &FaultEntry, rng: &mut ChaCha8Rng) {
        let (from, to) =
            (self.index[fault.from.as_ref().as_str()], self.index[fault.to.as_ref().as_str()]);
        let begins = ticks(draw_between(*fault.at_s.as_ref(), rng));
        let ends = fault.for_s.as_ref().map(|s| begins.plus_nanos(nanos(s.as_ref() * 1e3)));
        let loss = fault.loss.as_ref().map(|r| TruthCause::Loss(draw_between(*r.as_ref(), rng)));
        let delay = fault.added_delay_ms.as_ref();
        let delay = delay.map(|r| TruthCause::AddedDelayMs(draw_between(*r.as_ref(), rng)));
        let owner = self.owner_name(fault.to.as_ref());
        let large =
            fault.swallows_over.as_ref().map(|size| TruthCause::SwallowsOver(*size.as_ref()));
        for cause in loss.into_iter().chain(delay).chain(large) {
            let arcs = &mut self.world.arcs[from];
            if let Some(arc) = arcs.iter_mut().find(|arc| arc.to == to) {
                arc.faults.push(ArcFault {
                    begins,
                    ends,
                    cause,
                    jitter_nanos: fault.jitter_ms.as_ref().map_or(0.0, |ms| ms.as_ref() * 1e6),
                    member: fault.member.as_ref().map(|member| member.as_ref() - 1),
                    spells: fault.spells.as_ref().map_or(1.0, |share| *share.as_ref()),
                    damages_frames: fault.damages_frames,
                });
            }
            self.world.truth.push(Truth {
                from: self.world.nodes[from].addresses.clone(),
                to: self.world.nodes[to].addresses.clone(),
                owner: owner.clone(),
                member: fault.member.as_ref().map(|member| *member.as_ref()),
                cause,
                begins,
                ends,
            });
        }
    }

    fn owner_name(&self, router: &str) -> Option<String> {
        let router = self.scenario.routers.iter().find(|r| r.id.as_ref() == router)?;
        let id = router.owner.as_ref()?.as_ref();
        let owner = self.scenario.owners.iter().find(|owner| owner.id.as_ref() == id)?;
        Some(owner.name.clone())
    }
}

fn draw_between([low, high]: [f64; 2], rng: &mut ChaCha8Rng) -> f64 {
    low + (high - low) * rng.random::<f64>()
}
