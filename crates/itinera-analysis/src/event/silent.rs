//! Agents that report nothing any more.

use super::{PairEnds, Watcher};
use crate::log_clock::LogClock;
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::id::{AgentId, PairId};
use itinera_model::message::{Message, SilentAgent};
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// An agent is silent after this, or after three times as long as between its reports: a minute and a
/// half.
const SILENT_US: i64 = 90_000_000;
/// What lasted at an agent expires when it has been silent for so long: half an hour.
const EXPIRE_US: i64 = 1_800_000_000;
/// Usual time between reports until it is known: a second.
const FIRST_GAP_US: i64 = 1_000_000;

/// Reports of one agent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Reports {
    newest: WallTime,
    /// Time between them; doubles at most with each, so that an outage is not usual.
    gap_us: i64,
}

/// Reports of all agents.
pub(super) type Memory = BTreeMap<AgentId, Reports>;

fn key_of(agent: AgentId) -> EventKey {
    EventKey { kind: EventKind::AgentSilent, agent, subject: "reports".to_owned() }
}

impl Watcher {
    /// An agent has reported at `now`.
    pub fn on_report(&mut self, agent: AgentId, now: WallTime) -> Vec<EventEffect> {
        let first = Reports { newest: now, gap_us: FIRST_GAP_US };
        let reports = self.reports.entry(agent).or_insert(first);
        let gap_us = now.micros_since(reports.newest).max(0);
        let gap_us = gap_us.min(reports.gap_us.max(FIRST_GAP_US).saturating_mul(2));
        *reports = Reports { newest: now, gap_us };
        self.end(&key_of(agent), now)
    }

    /// The clock of the log has gone on. There are agents at these sites, and these pairs; `routes` gives
    /// the addresses on the routes of an agent.
    pub(crate) fn on_clock(
        &mut self,
        (sites, pairs): (&BTreeMap<AgentId, String>, &BTreeMap<PairId, PairEnds>),
        routes: &dyn Fn(AgentId) -> Vec<IpAddr>,
        clock: &LogClock,
    ) -> Vec<EventEffect> {
        let now = clock.now;
        let mut effects = Vec::new();
        let gone = self.reports.keys().filter(|agent| !sites.contains_key(agent));
        let gone: Vec<AgentId> = gone.copied().collect();
        for agent in gone {
            self.reports.remove(&agent);
            effects.extend(self.end(&key_of(agent), now));
        }
        effects.extend(self.expire_pairs(pairs, clock, EXPIRE_US));
        let reports = &self.reports;
        let is_expired = |event: &Event| {
            let silent = reports.get(&event.key.agent).map(|it| clock.silence_us(it.newest));
            event.key.kind != EventKind::AgentSilent && silent >= Some(EXPIRE_US)
        };
        let expired = self.lasting.iter().filter(|event| is_expired(event));
        let expired: Vec<EventKey> = expired.map(|event| event.key.clone()).collect();
        for key in expired {
            self.held.retain(|(held, _)| *held != key);
            effects.extend(self.end(&key, now));
        }
        for (agent, reports) in &self.reports {
            let key = key_of(*agent);
            let silent_us = clock.silence_us(reports.newest);
            let is_silent = silent_us >= SILENT_US.max(reports.gap_us.saturating_mul(3));
            if !is_silent || self.lasting.iter().any(|event| event.key == key) {
                continue;
            }
            let Some(site) = sites.get(agent) else { continue };
            let event = Event {
                key,
                part: Part::Machine,
                severity: Some(Severity::Major),
                since: reports.newest,
                raised_at: clock.now,
                group: format!("silent:{agent}"),
                message: Message::AgentSilent(SilentAgent {
                    site: site.clone(),
                    seconds: u32::try_from(silent_us / 1_000_000).unwrap_or(u32::MAX),
                }),
                service: None,
                check: None,
                // Silence is no fault of the host's link, which may have alarms of its own.
                own_addresses: Vec::new(),
                route: routes(*agent),
            };
            self.lasting.push(event.clone());
            effects.push(EventEffect::Began(event));
        }
        effects
    }

    /// Ends a lasting event.
    pub(super) fn end(&mut self, key: &EventKey, at: WallTime) -> Vec<EventEffect> {
        let before = self.lasting.len();
        self.lasting.retain(|event| event.key != *key);
        let ended = self.lasting.len() < before;
        let effect = || EventEffect::Ended { key: key.clone(), at };
        ended.then(effect).into_iter().collect()
    }
}
