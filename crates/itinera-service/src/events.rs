//! What watches for events while judgement runs: facts from the log, with what is known of the
//! checks, agents and paths that they are about.

use crate::context::Shared;
use itinera_analysis::Effect;
use itinera_analysis::event::intended::{self, Intended, RouteState};
use itinera_analysis::event::{Carried, CheckFacts, Fact, Watcher};
use itinera_analysis::roaming::access_providers;
use itinera_model::check::CheckRound;
use itinera_model::codec::decode;
use itinera_model::event::EventEffect;
use itinera_model::finding::Assessment;
use itinera_model::host_facts::Medium;
use itinera_model::id::{AgentId, CheckId, PathId};
use itinera_model::owner::OwnerMap;
use itinera_model::path::{Family, Method};
use itinera_store::{CheckRecord, EventQuery, LogEntry, PathRecord, StoreError};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Paths known by name at most.
pub(crate) const MOST_PATHS: i64 = 50_000;
/// Open events taken over from another version at most.
const MOST_EVENTS: u64 = 10_000;
/// Known checks, agents and paths are read again this often, and once for each unknown one.
const REFRESH: Duration = Duration::from_secs(60);
/// Facts that come later than this are kept and say nothing: three minutes.
const TOO_LATE_US: i64 = 180_000_000;

/// The smallest address.
const FIRST: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

/// A path with a configured expectation of its route.
struct RouteExpectation {
    agent: AgentId,
    site: String,
    target: String,
    service: String,
    by: String,
    address: Option<IpAddr>,
    dscp: u8,
    intended: Intended,
}

/// The kind of packets that a path is probed by, in words.
fn packets(path: &PathRecord) -> String {
    let version = if path.family == Family::Ipv6 { "IPv6" } else { "IPv4" };
    let marked = if path.dscp == 0 { String::new() } else { format!(" marked {}", path.dscp) };
    format!("{} over {version}{marked}", path.method)
}

/// Everything that facts are looked at with.
pub(crate) struct Events {
    watcher: Watcher,
    checks: BTreeMap<CheckId, CheckFacts>,
    sites: BTreeMap<AgentId, String>,
    paths: BTreeMap<(AgentId, IpAddr), PathId>,
    latest: BTreeMap<PathId, Assessment>,
    meant: BTreeMap<PathId, RouteExpectation>,
    refreshed: Instant,
    /// Checks and agents that were not found when last read: not worth reading again for.
    unknown: BTreeSet<Uuid>,
}

/// What a check's facts are, from its record.
pub(crate) fn facts_of(record: &CheckRecord) -> CheckFacts {
    CheckFacts {
        id: record.id,
        agent: record.agent,
        site: record.site.clone(),
        target: record.target.clone(),
        service: record.service.clone(),
        host: record.spec.host.clone(),
        ask: record.spec.ask.clone(),
        raise_after: record.spec.raise_after,
    }
}

/// The path from each agent to each address: by echo where there are several.
pub(crate) fn by_address(paths: &[PathRecord]) -> BTreeMap<(AgentId, IpAddr), PathId> {
    let mut found = BTreeMap::new();
    for path in paths {
        let Ok(address) = path.address.parse::<IpAddr>() else { continue };
        let known = found.entry((path.agent, address)).or_insert(path.id);
        if path.method == Method::IcmpEcho {
            *known = path.id;
        }
    }
    found
}

impl Events {
    /// Continues from the stored state.
    pub(crate) async fn restored(shared: &Shared, memory: &[u8]) -> Result<Self, StoreError> {
        let watcher = match decode(memory) {
            Ok(watcher) => watcher,
            Err(_) if memory.is_empty() => Watcher::default(),
            Err(error) => {
                tracing::warn!(%error, "state of events is of another version; open events are kept");
                let lasting = EventQuery { lasting: true, ..EventQuery::default() };
                let open = shared.store.events(lasting, None, MOST_EVENTS).await?;
                Watcher::resumed(open.into_iter().map(|record| record.event).collect())
            }
        };
        let mut it = Self {
            watcher,
            checks: BTreeMap::new(),
            sites: BTreeMap::new(),
            paths: BTreeMap::new(),
            latest: BTreeMap::new(),
            meant: BTreeMap::new(),
            refreshed: Instant::now(),
            unknown: BTreeSet::new(),
        };
        let paths = it.refresh(shared).await?;
        it.latest = paths.into_iter().filter_map(|path| Some((path.id, path.latest?))).collect();
        Ok(it)
    }

    async fn refresh(&mut self, shared: &Shared) -> Result<Vec<PathRecord>, StoreError> {
        let checks = shared.store.checks().await?;
        let active = checks.iter().filter(|check| check.active);
        self.checks = active.map(|check| (check.id, facts_of(check))).collect();
        let agents = shared.store.agents().await?;
        self.sites = agents.into_iter().map(|agent| (agent.id, agent.site)).collect();
        let paths = shared.store.paths(None, MOST_PATHS).await?;
        self.paths = by_address(&paths);
        let targets = shared.store.targets().await?;
        self.meant.clear();
        for path in &paths {
            let target = targets.iter().find(|target| target.spec.name == path.target);
            let Some(intended) = target.and_then(|target| target.spec.intended.clone()) else {
                continue;
            };
            let meant = RouteExpectation {
                agent: path.agent,
                site: path.site.clone(),
                target: path.target.clone(),
                service: path.service.clone(),
                by: packets(path),
                address: path.address.parse().ok(),
                dscp: u8::try_from(path.dscp).unwrap_or(0),
                intended: Intended {
                    owners: intended.owners,
                    tunnel: intended.tunnel,
                    dscp_kept: intended.dscp_kept,
                },
            };
            self.meant.insert(path.id, meant);
        }
        self.refreshed = Instant::now();
        Ok(paths)
    }

    /// Checks and agents of a commit that are not known.
    fn unknown_in(&self, entry: &LogEntry) -> BTreeSet<Uuid> {
        let checks = entry.checks.iter().map(|it| it.round.check);
        let checks = checks.filter(|check| !self.checks.contains_key(check)).map(CheckId::as_uuid);
        let agents = entry.host_facts.iter().map(|it| it.agent);
        let agents = agents.filter(|agent| !self.sites.contains_key(agent)).map(AgentId::as_uuid);
        checks.chain(agents).collect()
    }

    /// What is to be remembered.
    pub(crate) const fn watcher(&self) -> &Watcher {
        &self.watcher
    }

    /// Takes a commit, with what judgement said of its rounds.
    pub(crate) async fn step(
        &mut self,
        shared: &Shared,
        entry: &LogEntry,
        effects: &[Effect],
        map: &OwnerMap,
    ) -> Result<Vec<EventEffect>, StoreError> {
        let now = entry.received_at;
        let mut occurred = Vec::new();
        let unknown = self.unknown_in(entry);
        let is_due = self.refreshed.elapsed() >= REFRESH;
        if is_due || !unknown.is_subset(&self.unknown) {
            self.refresh(shared).await?;
            if is_due {
                self.unknown.clear();
            }
            let unknown = self.unknown_in(entry);
            self.unknown.extend(unknown);
            let checks = &self.checks;
            occurred.extend(self.watcher.keep_to(&|check| checks.contains_key(&check), now));
        }
        occurred.extend(match entry.agent {
            Some(agent) => self.watcher.on_report(agent, now),
            None => self.watcher.on_clock(&self.sites, now),
        });
        let mut judged = Vec::new();
        for effect in effects {
            if let Effect::Assessed { newest: true, assessment, .. } = effect {
                self.latest.insert(assessment.path, Assessment::clone(assessment));
                judged.push(assessment.path);
            }
        }
        judged.retain(|path| self.meant.contains_key(path));
        for path in judged {
            occurred.extend(self.on_route(shared, path, map, entry).await?);
        }
        let (paths, latest) = (&self.paths, &self.latest);
        let path_to = |agent: AgentId, to: IpAddr| latest.get(paths.get(&(agent, to))?);
        let in_time = |at| now.micros_since(at) <= TOO_LATE_US;
        for checked in entry.checks.iter().filter(|it| in_time(it.at)) {
            let Some(check) = self.checks.get(&checked.round.check) else { continue };
            let CheckRound { result, late_us, .. } = &checked.round;
            let late_us = late_us.unwrap_or(0);
            let fact = Fact::Checked { check, at: checked.at, result, late_us };
            occurred.extend(self.watcher.step(fact, &path_to, now));
        }
        for run in &entry.throughput {
            let (Some(least_bit_s), Some(at)) = (run.spec.least_bit_s, run.measured_at()) else {
                continue;
            };
            let by = run.spec.by.to_string();
            let carried = Carried {
                agent: run.sender,
                from: &run.from,
                to: &run.to,
                by: &by,
                at,
                got_bit_s: run.rate_bit_s(),
                least_bit_s,
                raise_after: run.spec.raise_after,
            };
            occurred.extend(self.watcher.step(Fact::Carried(carried), &path_to, now));
        }
        for host_facts in entry.host_facts.iter().filter(|it| in_time(it.at)) {
            let Some(site) = self.sites.get(&host_facts.agent) else { continue };
            let (agent, at, host_facts) =
                (host_facts.agent, host_facts.at, &host_facts.round.host_facts);
            let fact = Fact::HostFactsSource { agent, site, at, host_facts };
            occurred.extend(self.watcher.step(fact, &path_to, now));
            let own = paths.range((agent, FIRST)..).take_while(|((of, _), _)| *of == agent);
            let judged = own.filter_map(|(_, path)| latest.get(path));
            let by: Vec<(u32, &str)> = access_providers(judged, map).into_keys().collect();
            let fact = Fact::Access { agent, site, at, by: &by };
            occurred.extend(self.watcher.step(fact, &path_to, now));
        }
        Ok(occurred)
    }

    async fn on_route(
        &mut self,
        shared: &Shared,
        path: PathId,
        map: &OwnerMap,
        entry: &LogEntry,
    ) -> Result<Vec<EventEffect>, StoreError> {
        let (Some(meant), Some(assessment)) = (self.meant.get(&path), self.latest.get(&path))
        else {
            return Ok(Vec::new());
        };
        let host_facts = self.watcher.host_facts(meant.agent);
        let tunnel = host_facts.zip(meant.address).and_then(|(host_facts, address)| {
            let route = host_facts.route_to(address)?;
            Some(host_facts.interface(&route.interface)?.medium == Medium::Tunnel)
        });
        let dscp = match meant.intended.dscp_kept {
            true => shared.store.latest_read(path).await?.and_then(|read| {
                let arrived = read.reading.hops.iter().rev().find_map(|hop| hop.quoted_dscp)?;
                Some((meant.dscp, arrived))
            }),
            false => None,
        };
        let seen = RouteState { assessment, tunnel, dscp };
        let deviations = intended::deviations(&meant.intended, seen, map);
        let RouteExpectation { agent, site, target, service, by, .. } = meant;
        let fact = Fact::Route {
            agent: *agent,
            site,
            target,
            service,
            by,
            at: assessment.until,
            deviations: &deviations,
        };
        Ok(self.watcher.step(fact, &|_, _| None, entry.received_at))
    }
}
