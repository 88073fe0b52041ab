//! Events other than loss and delay: services that fail or are slow, names with wrong addresses,
//! host facts that change, lines that damage frames or are full, routes that are not as intended,
//! loss between two agents.
//!
//! Results and host facts come in as facts, in the order of commits; what lasts is held over
//! several of them before it is said, so that one lost packet says nothing. A service that fails
//! while the path to it loses packets is said to follow from the path, and raises nothing of its
//! own.

mod checked;
mod host;
mod host_changes;
pub mod intended;
mod pair_routes;
#[cfg(test)]
mod pair_tests;
mod pairs;
mod principal;
mod silent;
#[cfg(test)]
mod tests;

use itinera_model::alarm::Severity;
use itinera_model::check::{Ask, CheckResult};
use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::finding::Assessment;
use itinera_model::host_facts::HostFacts;
use itinera_model::id::{AgentId, CheckId, PairId};
use itinera_model::message::{LowThroughput, Message, PathState, RouteDeviation, RouteDeviations};
use itinera_model::throughput::By;
use itinera_model::two_way::Direction;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;

pub(crate) use pairs::Exchanged;
pub use pairs::PairEnds;
pub use principal::{Principal, principal};

/// Facts about a check other than its results.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckFacts {
    /// Its name.
    pub id: CheckId,
    /// The asking agent.
    pub agent: AgentId,
    /// The agent's site.
    pub site: String,
    /// The target's name.
    pub target: String,
    /// The service that the target is part of.
    pub service: String,
    /// The name it is asked by.
    pub host: Option<String>,
    /// What is asked.
    pub ask: Ask,
    /// So many results in a row are believed.
    pub raise_after: u8,
}

/// Something seen.
#[derive(Debug, Clone, Copy)]
pub enum Fact<'a> {
    /// A service answered, or did not.
    Checked {
        /// Which check.
        check: &'a CheckFacts,
        /// When, by the service's estimate.
        at: WallTime,
        /// What came of it.
        result: &'a CheckResult,
        /// How late the agent's own program was as a rule while it asked, in microseconds.
        late_us: u32,
    },
    /// An agent looked around.
    HostFactsSource {
        /// Its agent.
        agent: AgentId,
        /// Its site.
        site: &'a str,
        /// When, by the service's estimate.
        at: WallTime,
        /// What it saw.
        host_facts: &'a HostFacts,
    },
    /// The access networks of an agent.
    Access {
        /// Which agent.
        agent: AgentId,
        /// Its site.
        site: &'a str,
        /// When, by the service's estimate.
        at: WallTime,
        /// AS numbers and names.
        by: &'a [(u32, &'a str)],
    },
    /// The route to a target that has an intended one was looked at.
    Route {
        /// By which agent.
        agent: AgentId,
        /// Its site.
        site: &'a str,
        /// To which target.
        target: &'a str,
        /// Of which service.
        service: &'a str,
        /// By which kind of packets: each kind may take another route.
        by: &'a str,
        /// When.
        at: WallTime,
        /// How it deviates; empty where it is the intended one.
        deviations: &'a [RouteDeviation],
        /// Its addresses.
        addresses: &'a [IpAddr],
    },
    /// It was measured how much gets through.
    Carried(Carried<'a>),
}

/// How much got through between two agents, where that is limited.
#[derive(Debug, Clone, Copy)]
pub struct Carried<'a> {
    /// The sending agent.
    pub agent: AgentId,
    /// From which site, and to which.
    pub from: &'a str,
    /// To which.
    pub to: &'a str,
    /// By which protocol.
    pub by: By,
    /// When.
    pub at: WallTime,
    /// Bits a second that arrived; absent where it failed.
    pub got_bit_s: Option<u64>,
    /// Bits a second that should.
    pub least_bit_s: u64,
    /// So many misses in a row are believed.
    pub raise_after: u8,
}

/// Looks up the newest judgement of the path from an agent to an address.
pub type Paths<'a> = dyn Fn(AgentId, IpAddr) -> Option<&'a Assessment> + 'a;

/// From this share of probes lost on, a check may fail because of the path.
const LOSSY_PPM: u64 = 50_000;

/// State of a path by its newest judgement.
fn path_state(assessment: Option<&Assessment>) -> PathState {
    match assessment {
        None => PathState::Unknown,
        Some(it) if it.end_sent == 0 => PathState::Unknown,
        // A target that never answers echo gives no evidence about the path.
        Some(it) if it.end_lost == it.end_sent && it.finding.is_none() => PathState::Unknown,
        Some(it) => {
            let (sent, lost) = (it.end_sent, it.end_lost);
            let lossy = u64::from(lost) * 1_000_000 >= u64::from(sent) * LOSSY_PPM;
            if it.finding.is_some() || lossy {
                PathState::Faulty { sent, lost, explains: false }
            } else {
                PathState::Clean { sent, lost }
            }
        }
    }
}

/// Addresses that answered on the route of a path.
pub(crate) fn addresses_on(assessment: &Assessment) -> Vec<IpAddr> {
    assessment.hops.iter().filter_map(|hop| hop.address).collect()
}

/// The message of one result of a check, with the newest judgement of the path to the server.
pub fn of_result(check: &CheckFacts, result: &CheckResult, path: Option<&Assessment>) -> Message {
    checked::of_result(check, result, path_state(path))
}

/// Something that is seen again and again, counted until it is believed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
struct Persistence {
    times: u32,
    since: WallTime,
    calm: u32,
}

/// What one fact says about one kind of event.
struct Observed {
    key: EventKey,
    part: Part,
    severity: Option<Severity>,
    group: String,
    message: Message,
    service: Option<String>,
    check: Option<CheckId>,
    own_addresses: Vec<IpAddr>,
    /// Addresses on the route that it depends on.
    route: Vec<IpAddr>,
    /// So many sights in a row are believed.
    hold: u32,
}

/// Sights in a row without which something is over.
const CLEAR_AFTER: u32 = 2;

/// The watcher's memory.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Watcher {
    checks: BTreeMap<CheckId, checked::Memory>,
    agents: BTreeMap<AgentId, host::Memory>,
    #[serde(default)]
    access: BTreeMap<AgentId, host::Access>,
    #[serde(default)]
    reports: silent::Memory,
    #[serde(default)]
    pairs: BTreeMap<PairId, pairs::Memory>,
    #[serde(default)]
    pair_routes: pair_routes::PairRoutes,
    held: Vec<(EventKey, Persistence)>,
    lasting: Vec<Event>,
}

impl Watcher {
    /// A watcher that knows which events last, and nothing else: each ends as usual.
    pub fn resumed(lasting: Vec<Event>) -> Self {
        let held = lasting.iter().map(|event| {
            (event.key.clone(), Persistence { times: u32::MAX, since: event.since, calm: 0 })
        });
        let held = held.collect();
        // A check whose service failed had succeeded before.
        let worked = lasting.iter().filter(|event| event.key.kind != EventKind::CheckMismatch);
        let checks = worked.filter_map(|event| Some((event.check?, checked::Memory::of_working())));
        Self { checks: checks.collect(), held, lasting, ..Self::default() }
    }

    /// What lasts.
    pub fn lasting(&self) -> &[Event] {
        &self.lasting
    }

    /// What an agent found around it last.
    pub fn host_facts(&self, agent: AgentId) -> Option<&HostFacts> {
        self.agents.get(&agent).map(|memory| &memory.host_facts)
    }

    /// Takes the route of a pair in one direction, measured at `at`.
    pub(crate) fn on_pair_route(
        &mut self,
        pair: PairId,
        direction: Direction,
        at: WallTime,
        hops: &[Option<IpAddr>],
    ) {
        self.pair_routes.measured(pair, direction, at, hops);
    }

    /// Forgets checks that are not asked any more; what lasted about them is over.
    pub fn keep_to(&mut self, known: &dyn Fn(CheckId) -> bool, now: WallTime) -> Vec<EventEffect> {
        self.checks.retain(|check, _| known(*check));
        let mut effects = Vec::new();
        self.lasting.retain(|event| {
            let keeps = event.check.is_none_or(known);
            if !keeps {
                effects.push(EventEffect::Ended { key: event.key.clone(), at: now });
            }
            keeps
        });
        effects
    }

    /// Takes a fact, known at `now`.
    pub fn step(&mut self, fact: Fact<'_>, paths: &Paths<'_>, now: WallTime) -> Vec<EventEffect> {
        match fact {
            Fact::Checked { check, at, result, late_us } => {
                self.on_checked(check, at, (result, late_us), paths, now)
            }
            Fact::HostFactsSource { agent, site, at, host_facts } => {
                self.on_host_facts(agent, site, at, host_facts, now)
            }
            Fact::Access { agent, site, at, by } => self.on_access(agent, site, at, by, now),
            Fact::Carried(carried) => self.on_carried(carried, now),
            Fact::Route { agent, site, target, service, by, at, deviations, addresses } => {
                let subject = format!("{target} by {by}");
                let key = EventKey { kind: EventKind::RouteNotIntended, agent, subject };
                let sight = (!deviations.is_empty()).then(|| Observed {
                    key: key.clone(),
                    part: Part::Network,
                    severity: Some(Severity::Minor),
                    group: format!("route:{target}"),
                    message: Message::RouteNotIntended(RouteDeviations {
                        site: site.to_owned(),
                        target: target.to_owned(),
                        packets: by.to_owned(),
                        deviations: deviations.to_vec(),
                    }),
                    service: Some(service.to_owned()),
                    check: None,
                    own_addresses: Vec::new(),
                    route: addresses.to_vec(),
                    hold: HOLD_ROUTE,
                });
                self.settle(vec![key], sight, at, now)
            }
        }
    }

    fn on_carried(&mut self, carried: Carried<'_>, now: WallTime) -> Vec<EventEffect> {
        let Carried { agent, from, to, by, at, got_bit_s, least_bit_s, raise_after } = carried;
        let key =
            EventKey { kind: EventKind::ThroughputLow, agent, subject: format!("{to} by {by}") };
        let missed = got_bit_s.is_none_or(|got| got < least_bit_s);
        let sight = missed.then(|| Observed {
            key: key.clone(),
            part: Part::Network,
            severity: Some(Severity::Minor),
            group: format!("throughput:{from}:{to}:{by}"),
            message: Message::ThroughputLow(LowThroughput {
                from: from.to_owned(),
                to: to.to_owned(),
                protocol: by.to_string(),
                bits_per_s: got_bit_s,
                limit_bits_per_s: least_bit_s,
                times: raise_after.max(1).into(),
            }),
            service: None,
            check: None,
            own_addresses: Vec::new(),
            route: Vec::new(),
            hold: u32::from(raise_after.max(1)),
        });
        self.settle(vec![key], sight, at, now)
    }

    /// Counts a sight, or its absence, for the kinds of event that one fact can tell of: what is
    /// seen often enough begins, what is not seen any more ends.
    fn settle(
        &mut self,
        kinds: Vec<EventKey>,
        sight: Option<Observed>,
        at: WallTime,
        now: WallTime,
    ) -> Vec<EventEffect> {
        let mut effects = Vec::new();
        for key in kinds {
            let seen = sight.as_ref().filter(|sight| sight.key == key);
            let index = self.held.iter().position(|(held, _)| *held == key);
            match (seen, index) {
                (None, None) => {}
                (None, Some(index)) => {
                    let lasts = self.lasting.iter().any(|event| event.key == key);
                    let held = &mut self.held[index].1;
                    held.calm += 1;
                    if !lasts || held.calm >= CLEAR_AFTER {
                        self.held.swap_remove(index);
                        self.lasting.retain(|event| event.key != key);
                        if lasts {
                            effects.push(EventEffect::Ended { key, at: now });
                        }
                    }
                }
                (Some(sight), index) => {
                    let index = index.unwrap_or_else(|| {
                        self.held.push((key.clone(), Persistence { times: 0, since: at, calm: 0 }));
                        self.held.len() - 1
                    });
                    let held = &mut self.held[index].1;
                    (held.times, held.calm) = (held.times.saturating_add(1), 0);
                    let (times, since) = (held.times, held.since);
                    if times >= sight.hold {
                        effects.extend(self.say(sight, since, now));
                    }
                }
            }
        }
        effects
    }

    /// Says that something lasts, or that it is worse than it was said to be.
    fn say(&mut self, sight: &Observed, since: WallTime, now: WallTime) -> Option<EventEffect> {
        if let Some(known) = self.lasting.iter_mut().find(|event| event.key == sight.key) {
            // Figures of the message are those of the beginning; only a new severity changes it.
            if known.severity.is_some() || sight.severity.is_none() {
                return None;
            }
            known.severity = sight.severity;
            known.part = sight.part;
            known.message.clone_from(&sight.message);
            return Some(EventEffect::Changed { event: known.clone(), at: now });
        }
        let event = Event {
            key: sight.key.clone(),
            part: sight.part,
            severity: sight.severity,
            since,
            raised_at: now,
            group: sight.group.clone(),
            message: sight.message.clone(),
            service: sight.service.clone(),
            check: sight.check,
            own_addresses: sight.own_addresses.clone(),
            route: sight.route.clone(),
        };
        self.lasting.push(event.clone());
        Some(EventEffect::Began(event))
    }
}

/// A wrong route has to be seen so often: one round by an unusual member of a bundle is none.
const HOLD_ROUTE: u32 = 3;
