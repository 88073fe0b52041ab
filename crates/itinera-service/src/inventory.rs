//! The inventory as judgement takes it, from what is recorded of agents, paths, checks and targets.

use crate::context::Shared;
use itinera_analysis::Limits;
use itinera_analysis::event::intended::Intended;
use itinera_analysis::event::{CheckFacts, PairEnds};
use itinera_analysis::inventory::{IntendedRoute, Inventory};
use itinera_analysis::rules::{RuledPath, Rules};
use itinera_model::id::{AgentId, PathId};
use itinera_model::path::{Family, Method};
use itinera_model::rule::Rule;
use itinera_store::{CheckRecord, LogEntry, PairSpec, PathRecord, StoreError, TagOf, Tagged};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Paths known by name at most.
pub(crate) const MOST_PATHS: i64 = 50_000;
/// The inventory is read again this often at least.
const REFRESH: Duration = Duration::from_secs(60);

/// The kind of packets that a path is probed by, in words.
fn packets(path: &PathRecord) -> String {
    let version = if path.family == Family::Ipv6 { "IPv6" } else { "IPv4" };
    let marked = if path.dscp == 0 { String::new() } else { format!(" marked {}", path.dscp) };
    format!("{} over {version}{marked}", path.method)
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

/// A path as rules see it.
pub(crate) fn ruled(path: &PathRecord) -> (PathId, RuledPath) {
    (path.id, RuledPath { site: path.site.clone(), service: path.service.clone() })
}

/// Rules with what they need to know of paths; nothing more than that where there are none.
pub(crate) async fn rules_with(
    shared: &Shared,
    rules: Vec<Rule>,
    paths: impl Iterator<Item = (PathId, RuledPath)>,
) -> Result<Rules, StoreError> {
    if rules.is_empty() {
        return Ok(Rules::default());
    }
    let mut known = Rules { rules, paths: paths.collect(), ..Rules::default() };
    for Tagged { tag, kind, name } in shared.store.tags().await? {
        let tags = match kind {
            TagOf::Site => &mut known.site_tags,
            TagOf::Service => &mut known.service_tags,
        };
        tags.entry(name).or_default().push(tag);
    }
    Ok(known)
}

/// Reads the inventory as it is now.
async fn read(shared: &Shared, limits: Limits) -> Result<Inventory, StoreError> {
    let checks = shared.store.checks().await?;
    let active = checks.iter().filter(|check| check.active);
    let agents = shared.store.agents().await?;
    let paths = shared.store.paths(None, MOST_PATHS).await?;
    let targets = shared.store.targets().await?;
    let (_, import) = shared.owner_map_at(shared.clock.now()).await?;
    let rules = shared.store.rules_in_force().await?;
    let pairs = shared.store.pairs().await?;
    let pairs = pairs.into_iter().filter(|pair| pair.active).map(|pair| {
        let PairSpec { sender, reflector, .. } = pair.spec;
        (pair.id, PairEnds { sender, reflector })
    });
    let mut inventory = Inventory {
        limits,
        rules: rules_with(shared, rules, paths.iter().map(ruled)).await?,
        owner_map: import.map(|import| import.id),
        sites: agents.into_iter().map(|agent| (agent.id, agent.site)).collect(),
        checks: active.map(|check| (check.id, facts_of(check))).collect(),
        paths: by_address(&paths),
        pairs: pairs.collect(),
        intended: BTreeMap::new(),
    };
    for path in &paths {
        let target = targets.iter().find(|target| target.spec.name == path.target);
        let Some(intended) = target.and_then(|target| target.spec.intended.clone()) else {
            continue;
        };
        let route = IntendedRoute {
            agent: path.agent,
            site: path.site.clone(),
            target: path.target.clone(),
            service: path.service.clone(),
            packets: packets(path),
            address: path.address.parse().ok(),
            dscp: u8::try_from(path.dscp).unwrap_or(0),
            intended: Intended {
                owners: intended.owners,
                tunnel: intended.tunnel,
                dscp_kept: intended.dscp_kept,
            },
        };
        inventory.intended.insert(path.id, route);
    }
    Ok(inventory)
}

/// Tells when the inventory may have changed.
#[derive(Debug, Default)]
pub(crate) struct InventoryWatch {
    /// When it was read last, by which versions of the schedule and of the rules.
    read: Option<(Instant, (u64, i64))>,
    /// Checks and agents that were not found when last read: not worth reading again for.
    unknown: BTreeSet<Uuid>,
    /// Others were reported since.
    unknown_reported: bool,
    /// What was entered into the log last: judgement may not have come to it yet.
    logged: Option<Inventory>,
}

impl InventoryWatch {
    /// The inventory where it is another than the last, to be entered into the log. `known` is that
    /// of judgement.
    pub(crate) async fn changed(
        &mut self,
        shared: &Shared,
        limits: Limits,
        known: &Inventory,
    ) -> Result<Option<Inventory>, StoreError> {
        let version = (*shared.schedule_version.borrow(), *shared.rules_version.borrow());
        let is_fresh = self.read.is_some_and(|(at, of)| of == version && at.elapsed() < REFRESH);
        if is_fresh && !self.unknown_reported {
            return Ok(None);
        }
        if !is_fresh {
            self.unknown.clear();
        }
        let inventory = read(shared, limits).await?;
        (self.read, self.unknown_reported) = (Some((Instant::now(), version)), false);
        if inventory == *self.logged.as_ref().unwrap_or(known) {
            return Ok(None);
        }
        self.logged = Some(inventory.clone());
        Ok(Some(inventory))
    }

    /// Notes checks and agents of these entries that are not known.
    pub(crate) fn note_unknown(&mut self, entries: &[LogEntry], known: &Inventory) {
        for report in entries.iter().filter_map(LogEntry::report) {
            let checks = report.checks.iter().map(|it| it.round.check);
            let checks = checks.filter(|check| !known.checks.contains_key(check));
            let mut unknown: BTreeSet<Uuid> = checks.map(|check| check.as_uuid()).collect();
            if !known.sites.contains_key(&report.agent) {
                unknown.insert(report.agent.as_uuid());
            }
            for id in unknown {
                self.unknown_reported |= self.unknown.insert(id);
            }
        }
    }
}
