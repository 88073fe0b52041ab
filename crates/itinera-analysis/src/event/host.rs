//! What host facts say: what changed, what damages frames, what is full.

use super::host_changes::{acted, changed, changes, own_addresses};
use super::{Observed, Watcher};
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::event::{EventEffect, EventKey, EventKind};
use itinera_model::host_facts::{HostFacts, Interface};
use itinera_model::id::AgentId;
use itinera_model::message::{
    HostChange, HostFact, HostLateness, LinkUse, Message, ReceiveErrorCounts, TrafficDirection,
};
use itinera_model::unit::{Ratio, WallTime};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Damaged frames among all that came, in parts per million, from which on a line is bad enough to
/// complain of; fewer than this many are chance.
const DAMAGED_PPM: u64 = 5_000;
const DAMAGED_LEAST: u64 = 5;
/// The share of its speed from which on a line is full, in per cent.
const FULL_PER_CENT: u64 = 90;
/// Reports in a row that are believed.
const HOLD: u32 = 2;
/// So long an agent must go out by other networks than before until that is said, in microseconds.
const ELSEWHERE_US: i64 = 60_000_000;
/// An agent's host is busy when its program is this late at the 95th percentile.
const BUSY_US: u32 = 10_000;
/// Timers and packets without which the percentile says nothing.
const BUSY_LEAST: u64 = 50;
/// Reports that lie closer together say too little.
const LEAST_US: i64 = 4_000_000;

/// What is remembered of an agent's host facts.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Memory {
    at: WallTime,
    #[serde(alias = "around")]
    pub(super) host_facts: HostFacts,
}

/// The access networks of an agent.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Access {
    by: Vec<(u32, String)>,
    /// It has gone out by none of them since.
    elsewhere_since: Option<WallTime>,
}

/// The increase of interface counters between two reports.
struct CounterGrowth {
    damaged: u64,
    good: u64,
    /// Bytes in and out.
    octets: [u64; 2],
    us: u64,
}

impl CounterGrowth {
    fn between(before: &Interface, after: &Interface, us: i64) -> Option<Self> {
        let (then, now) = (before.counters, after.counters);
        Some(Self {
            // A counter that decreased was reset: this interval has no value.
            damaged: now.rx_errors.checked_sub(then.rx_errors)?,
            good: now.rx_packets.checked_sub(then.rx_packets)?,
            octets: [
                now.rx_bytes.checked_sub(then.rx_bytes)?,
                now.tx_bytes.checked_sub(then.tx_bytes)?,
            ],
            us: u64::try_from(us).ok()?,
        })
    }

    /// Share of a speed in megabits a second that was used, in and out, in per cent.
    fn used(&self, mbit_s: u32) -> [u64; 2] {
        // Bits a microsecond are megabits a second.
        let most = u64::from(mbit_s).saturating_mul(self.us).max(1);
        self.octets.map(|octets| octets.saturating_mul(800) / most)
    }
}

impl Watcher {
    pub(super) fn on_host_facts(
        &mut self,
        agent: AgentId,
        site: &str,
        at: WallTime,
        host_facts: &HostFacts,
        now: WallTime,
    ) -> Vec<EventEffect> {
        // What is dated after now was dated by a wrong clock, and says nothing of what comes.
        let before = self.agents.get(&agent).filter(|known| known.at <= now).cloned();
        let known = before.as_ref();
        if known.is_some_and(|known| at < known.at) {
            // Came late: what is so now is known already.
            return Vec::new();
        }
        let mut effects = Vec::new();
        if let Some(known) = known {
            let own: Vec<IpAddr> = own_addresses(host_facts);
            let changes = changes(&known.host_facts, host_facts, site).into_iter();
            effects.extend(changes.map(|change| changed(agent, change, own.clone(), at, now)));
            effects.extend(acted(agent, site, (&known.host_facts, host_facts), (at, now)));
            let us = at.micros_since(known.at);
            if us < LEAST_US && known.host_facts.lasting() == host_facts.lasting() {
                return effects;
            }
            for interface in &host_facts.interfaces {
                let Some(then) = known.host_facts.interface(&interface.name) else { continue };
                let Some(grown) = CounterGrowth::between(then, interface, us) else { continue };
                effects.extend(self.on_grown(
                    agent,
                    site,
                    host_facts,
                    (interface, &grown),
                    at,
                    now,
                ));
            }
            effects.extend(self.on_lateness(agent, site, host_facts, at, now));
        }
        self.agents.insert(agent, Memory { at, host_facts: host_facts.clone() });
        effects
    }

    /// Says when an agent goes out by none of the networks that it went out by before: a route that
    /// moves for a moment, or for some targets, is no move of the machine.
    pub(super) fn on_access(
        &mut self,
        agent: AgentId,
        site: &str,
        at: WallTime,
        by: &[(u32, &str)],
        now: WallTime,
    ) -> Vec<EventEffect> {
        let own = self.host_facts(agent).map(own_addresses).unwrap_or_default();
        let access = self.access.entry(agent).or_default();
        let same = access.by.iter().any(|(known, _)| by.iter().any(|(number, _)| number == known));
        if by.is_empty() {
            return Vec::new();
        }
        let since = *access.elsewhere_since.get_or_insert(at);
        let first = access.by.is_empty();
        if !same && !first && at.micros_since(since) < ELSEWHERE_US {
            return Vec::new();
        }
        let named = |all: &[(u32, String)]| {
            let all: Vec<String> =
                all.iter().map(|(number, name)| format!("{name} (AS {number})")).collect();
            all.join(", ")
        };
        let by: Vec<(u32, String)> =
            by.iter().map(|(number, name)| (*number, (*name).to_owned())).collect();
        let (then, now_by) = (named(&access.by), named(&by));
        *access = Access { by, elsewhere_since: None };
        if same || first {
            return Vec::new();
        }
        let change = HostChange {
            site: site.to_owned(),
            fact: HostFact::AccessNetwork,
            subject: None,
            before: Some(then),
            after: Some(now_by),
        };
        vec![changed(agent, change, own, since, now)]
    }

    /// An event of the agent's host, without an alarm: rounds carry their own lateness, so it
    /// does no harm to what is located.
    fn on_lateness(
        &mut self,
        agent: AgentId,
        site: &str,
        host_facts: &HostFacts,
        at: WallTime,
        now: WallTime,
    ) -> Vec<EventEffect> {
        let Some(late) = host_facts.lateness.filter(|late| late.count >= BUSY_LEAST) else {
            return Vec::new();
        };
        let key = EventKey { kind: EventKind::HostBusy, agent, subject: "processor".to_owned() };
        let sight = (late.p95_us >= BUSY_US).then(|| Observed {
            key: key.clone(),
            part: Part::Machine,
            severity: None,
            group: format!("machine:{agent}"),
            message: Message::HostBusy(HostLateness {
                site: site.to_owned(),
                p95_us: late.p95_us,
                samples: late.count,
            }),
            service: None,
            check: None,
            own_addresses: own_addresses(host_facts),
            route: Vec::new(),
            hold: HOLD,
        });
        self.settle(vec![key], sight, at, now)
    }

    fn on_grown(
        &mut self,
        agent: AgentId,
        site: &str,
        host_facts: &HostFacts,
        (interface, grown): (&Interface, &CounterGrowth),
        at: WallTime,
        now: WallTime,
    ) -> Vec<EventEffect> {
        let name = &interface.name;
        let key = |kind| EventKey { kind, agent, subject: name.clone() };
        let sight = |kind, severity, message| Observed {
            key: key(kind),
            part: Part::Machine,
            severity: Some(severity),
            group: format!("machine:{agent}"),
            message,
            service: None,
            check: None,
            own_addresses: own_addresses(host_facts),
            route: Vec::new(),
            hold: HOLD,
        };
        let all = grown.good + grown.damaged;
        let damaged = grown.damaged >= DAMAGED_LEAST
            && grown.damaged.saturating_mul(1_000_000) >= all.saturating_mul(DAMAGED_PPM);
        let seconds = grown.us / 1_000_000;
        let of_frames = damaged.then(|| {
            let message = Message::ReceiveErrors(ReceiveErrorCounts {
                site: site.to_owned(),
                interface: name.clone(),
                errors: grown.damaged,
                frames: all,
                seconds,
            });
            sight(EventKind::ReceiveErrors, Severity::Major, message)
        });
        let full = interface.speed_mbit_s.and_then(|speed_mbit_s| {
            let [inbound, outbound] = grown.used(speed_mbit_s);
            let (direction, share) = if outbound >= inbound {
                (TrafficDirection::Outbound, outbound)
            } else {
                (TrafficDirection::Inbound, inbound)
            };
            (share >= FULL_PER_CENT).then(|| {
                let ppm = u32::try_from(share.saturating_mul(10_000)).unwrap_or(u32::MAX);
                let message = Message::LinkSaturated(LinkUse {
                    site: site.to_owned(),
                    interface: name.clone(),
                    direction,
                    used: Ratio::from_ppm(ppm),
                    speed_mbit_s,
                    seconds,
                });
                sight(EventKind::LinkSaturated, Severity::Minor, message)
            })
        });
        let mut effects = self.settle(vec![key(EventKind::ReceiveErrors)], of_frames, at, now);
        effects.extend(self.settle(vec![key(EventKind::LinkSaturated)], full, at, now));
        effects
    }
}
