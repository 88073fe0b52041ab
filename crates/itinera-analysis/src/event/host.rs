//! What host facts say: what changed, what damages frames, what is full.

use super::{Observed, Watcher, words};
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::host_facts::{Duplex, HostFacts, Interface, Medium};
use itinera_model::id::AgentId;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Damaged frames among all that came, in parts per million, from which on a line is bad enough to
/// complain of; fewer than this many are chance.
const DAMAGED_PPM: u64 = 5_000;
const DAMAGED_LEAST: u64 = 5;
/// The share of its speed from which on a line is full, in per cent.
const FULL_PER_CENT: u64 = 90;
/// Reports in a row that are believed.
const HOLD: u32 = 2;
/// Targets named in one sentence.
const SHOWN_TARGETS: usize = 3;
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
            // A counter that went back was made anew: nothing is known of this while.
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
            effects.extend(changes.map(|words| changed(agent, words, own.clone(), at, now)));
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
        let words = format!("{site}: it goes out by {now_by} now, before by {then}.");
        vec![changed(agent, words, own, since, now)]
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
            words: format!(
                "Agent host at {site} is busy: the agent is {} ms late at the 95th percentile \
                 ({} timers and packets). Delays that are measured there are less exact.",
                late.p95_us / 1_000,
                late.count
            ),
            service: None,
            check: None,
            own_addresses: own_addresses(host_facts),
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
        let sight = |kind, severity, words| Observed {
            key: key(kind),
            part: Part::Machine,
            severity: Some(severity),
            group: format!("machine:{agent}"),
            words,
            service: None,
            check: None,
            own_addresses: own_addresses(host_facts),
            hold: HOLD,
        };
        let all = grown.good + grown.damaged;
        let damaged = grown.damaged >= DAMAGED_LEAST
            && grown.damaged.saturating_mul(1_000_000) >= all.saturating_mul(DAMAGED_PPM);
        let seconds = grown.us / 1_000_000;
        let of_frames = damaged.then(|| {
            let share = grown.damaged as f64 * 100.0 / all.max(1) as f64;
            let words = format!(
                "Frames arrive damaged at {site}'s own agent: {} of {all} on {name} in {seconds} s \
                 ({share:.1} %). Cable, optic, radio or port at the site itself; what is lost on \
                 paths from there is lost at home.",
                grown.damaged
            );
            sight(EventKind::FramesDamaged, Severity::Major, words)
        });
        let full = interface.speed_mbit_s.and_then(|mbit_s| {
            let used = grown.used(mbit_s);
            let (way, share) = if used[1] >= used[0] { ("out", used[1]) } else { ("in", used[0]) };
            (share >= FULL_PER_CENT).then(|| {
                let words = format!(
                    "{site}'s own line is full {way}ward: {share} % of the {mbit_s} Mb/s of {name} \
                     in {seconds} s. Find who fills it before calling anyone."
                );
                sight(EventKind::LineFull, Severity::Minor, words)
            })
        });
        let mut effects = self.settle(vec![key(EventKind::FramesDamaged)], of_frames, at, now);
        effects.extend(self.settle(vec![key(EventKind::LineFull)], full, at, now));
        effects
    }
}

/// Something around an agent is another than before.
fn changed(
    agent: AgentId,
    words: String,
    own_addresses: Vec<IpAddr>,
    since: WallTime,
    now: WallTime,
) -> EventEffect {
    EventEffect::Occurred(Event {
        key: EventKey { kind: EventKind::HostFactsChanged, agent, subject: words.clone() },
        part: Part::Machine,
        severity: None,
        since,
        raised_at: now,
        group: format!("machine:{agent}"),
        words,
        service: None,
        check: None,
        own_addresses,
    })
}

fn own_addresses(host_facts: &HostFacts) -> Vec<IpAddr> {
    let outside = host_facts.interfaces.iter().filter(|one| one.medium != Medium::Loopback);
    outside.flat_map(|one| one.addresses.iter().map(|net| net.addr())).collect()
}

fn or_none(text: Option<String>) -> String {
    text.unwrap_or_else(|| "none".to_owned())
}

/// What is another now about interfaces.
fn of_interfaces(before: &HostFacts, after: &HostFacts, site: &str) -> Vec<String> {
    let mut said = Vec::new();
    let by_name = |host_facts: &HostFacts| -> BTreeMap<String, Interface> {
        host_facts.interfaces.iter().map(|one| (one.name.clone(), one.clone())).collect()
    };
    let (then, now) = (by_name(before), by_name(after));
    for name in then.keys().filter(|name| !now.contains_key(*name)) {
        said.push(format!("{site}: interface {name} is gone."));
    }
    for (name, interface) in &now {
        let Some(old) = then.get(name) else {
            said.push(format!("{site}: there is a new interface {name}."));
            continue;
        };
        let mut compare = |what: &str, then: String, now: String| {
            if then != now {
                said.push(format!("{site}: {name} {what} {now}, before {then}."));
            }
        };
        let speed = |one: &Interface| or_none(one.speed_mbit_s.map(|mbit| format!("{mbit} Mb/s")));
        compare("negotiates", speed(old), speed(interface));
        let duplex = |one: &Interface| match one.duplex {
            Some(Duplex::Half) => "half duplex".to_owned(),
            Some(Duplex::Full) => "full duplex".to_owned(),
            None => "none".to_owned(),
        };
        compare("talks", duplex(old), duplex(interface));
        let state = |one: &Interface| match (one.up, one.carrier) {
            (false, _) => "switched off".to_owned(),
            (true, false) => "without a carrier".to_owned(),
            (true, true) => "up".to_owned(),
        };
        compare("is", state(old), state(interface));
        let addresses = |one: &Interface| {
            let text: Vec<String> = one.addresses.iter().map(ToString::to_string).collect();
            or_none((!text.is_empty()).then(|| text.join(", ")))
        };
        compare("has the addresses", addresses(old), addresses(interface));
    }
    said
}

/// Targets that leave by another interface now, those that moved alike in one sentence.
fn rerouted(before: &HostFacts, after: &HostFacts, site: &str) -> Vec<String> {
    let mut moved: BTreeMap<_, Vec<IpAddr>> = BTreeMap::new();
    for now in &after.routes_used {
        let then = before.routes_used.iter().find(|then| then.to == now.to);
        if let Some(then) = then.filter(|then| then.interface != now.interface) {
            let interfaces = (then.interface.as_str(), now.interface.as_str());
            moved.entry(interfaces).or_default().push(now.to.addr());
        }
    }
    let words = moved.into_iter().map(|((then, now), targets)| {
        let (shown, more) = targets.split_at(targets.len().min(SHOWN_TARGETS));
        let others = match more.len() {
            0 => String::new(),
            1 => " and another".to_owned(),
            count => format!(" and {count} others"),
        };
        let shown = words::listed(shown);
        format!("{site}: what goes to {shown}{others} leaves by {now}, before by {then}.")
    });
    words.collect()
}

/// What is another now, each in a sentence.
fn changes(before: &HostFacts, after: &HostFacts, site: &str) -> Vec<String> {
    let mut said = Vec::new();
    let mut compare = |what: &str, then: String, now: String| {
        if then != now {
            said.push(format!("{site}: {what} is {now}, was {then}."));
        }
    };
    compare("the machine's name", before.host_name.clone(), after.host_name.clone());
    for six in [false, true] {
        let gateway =
            |host_facts: &HostFacts| or_none(host_facts.gateway(six).map(|it| it.to_string()));
        let version = if six { "the IPv6 gateway" } else { "the IPv4 gateway" };
        compare(version, gateway(before), gateway(after));
    }
    compare(
        "the list of resolvers",
        words::listed(&before.resolvers),
        words::listed(&after.resolvers),
    );
    said.extend(of_interfaces(before, after, site));
    said.extend(rerouted(before, after, site));
    let announced = |host_facts: &HostFacts| {
        let text: Vec<String> =
            host_facts.announced.iter().map(|one| format!("{} {}", one.system, one.port)).collect();
        text.join(", ")
    };
    // A switch that has not been heard yet is no change.
    if !before.announced.is_empty() && !after.announced.is_empty() {
        let (then, now) = (announced(before), announced(after));
        if then != now {
            said.push(format!("{site}: it is attached to {now}, before to {then}."));
        }
    }
    let hardware = |host_facts: &HostFacts| {
        let gateway = host_facts.gateway(false)?;
        host_facts.neighbours.iter().find(|one| one.address == gateway)?.hardware_address.clone()
    };
    if let (Some(then), Some(now)) = (hardware(before), hardware(after))
        && then != now
        && before.gateway(false) == after.gateway(false)
    {
        said.push(format!(
            "{site}: another device answers for the gateway's address: {now}, before {then}."
        ));
    }
    said
}
