//! Changes of host facts between two reports.

use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::host_facts::{Duplex, HostFacts, Interface, Medium};
use itinera_model::id::AgentId;
use itinera_model::message::{HostChange, HostFact, Message, TakenAction};
use itinera_model::unit::WallTime;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Targets named in one message.
const SHOWN_TARGETS: usize = 3;

/// The momentary event of a change.
pub(super) fn changed(
    agent: AgentId,
    change: HostChange,
    own_addresses: Vec<IpAddr>,
    since: WallTime,
    now: WallTime,
) -> EventEffect {
    let HostChange { fact, subject, after, .. } = &change;
    let subject = format!("{fact:?} {subject:?} {after:?}");
    EventEffect::Occurred(Event {
        key: EventKey { kind: EventKind::HostFactsChanged, agent, subject },
        part: Part::Machine,
        severity: None,
        since,
        raised_at: now,
        group: format!("machine:{agent}"),
        message: Message::HostFactsChanged(change),
        service: None,
        check: None,
        own_addresses,
        route: Vec::new(),
    })
}

/// The momentary event of an action that an agent took, where it was not reported before.
pub(super) fn acted(
    agent: AgentId,
    site: &str,
    (before, after): (&HostFacts, &HostFacts),
    (at, now): (WallTime, WallTime),
) -> Option<EventEffect> {
    let action = after.action.as_ref().filter(|_| before.action != after.action)?;
    Some(EventEffect::Occurred(Event {
        key: EventKey { kind: EventKind::LocalAction, agent, subject: action.program.clone() },
        part: Part::Machine,
        severity: None,
        since: at,
        raised_at: now,
        group: format!("machine:{agent}"),
        message: Message::LocalActionTaken(TakenAction {
            site: site.to_owned(),
            action: action.clone(),
        }),
        service: None,
        check: None,
        own_addresses: own_addresses(after),
        route: Vec::new(),
    }))
}

/// Addresses of the machine's interfaces, loopback excluded.
pub(super) fn own_addresses(host_facts: &HostFacts) -> Vec<IpAddr> {
    let outside = host_facts.interfaces.iter().filter(|one| one.medium != Medium::Loopback);
    outside.flat_map(|one| one.addresses.iter().map(|net| net.addr())).collect()
}

fn listed<T: ToString>(items: impl IntoIterator<Item = T>) -> Option<String> {
    let items: Vec<String> = items.into_iter().map(|item| item.to_string()).collect();
    (!items.is_empty()).then(|| items.join(", "))
}

/// Collects the facts that changed.
struct Comparison<'a> {
    site: &'a str,
    found: Vec<HostChange>,
}

impl Comparison<'_> {
    fn push(
        &mut self,
        fact: HostFact,
        subject: Option<&str>,
        before: Option<String>,
        after: Option<String>,
    ) {
        self.found.push(HostChange {
            site: self.site.to_owned(),
            fact,
            subject: subject.map(str::to_owned),
            before,
            after,
        });
    }

    fn compare(
        &mut self,
        fact: HostFact,
        subject: Option<&str>,
        before: Option<String>,
        after: Option<String>,
    ) {
        if before != after {
            self.push(fact, subject, before, after);
        }
    }
}

fn duplex(interface: &Interface) -> Option<String> {
    let mode = match interface.duplex? {
        Duplex::Half => "half duplex",
        Duplex::Full => "full duplex",
    };
    Some(mode.to_owned())
}

fn state(interface: &Interface) -> String {
    let state = match (interface.up, interface.carrier) {
        (false, _) => "switched off",
        (true, false) => "without a carrier",
        (true, true) => "up",
    };
    state.to_owned()
}

fn compare_interfaces(before: &HostFacts, after: &HostFacts, into: &mut Comparison<'_>) {
    let by_name = |host_facts: &HostFacts| -> BTreeMap<String, Interface> {
        host_facts.interfaces.iter().map(|one| (one.name.clone(), one.clone())).collect()
    };
    let (then, now) = (by_name(before), by_name(after));
    for (name, old) in then.iter().filter(|(name, _)| !now.contains_key(*name)) {
        into.push(HostFact::Interface, Some(name), Some(state(old)), None);
    }
    for (name, new) in &now {
        let name = Some(name.as_str());
        let Some(old) = then.get(&new.name) else {
            into.push(HostFact::Interface, name, None, Some(state(new)));
            continue;
        };
        let speed = |one: &Interface| one.speed_mbit_s.map(|mbit| format!("{mbit} Mb/s"));
        into.compare(HostFact::Speed, name, speed(old), speed(new));
        into.compare(HostFact::Duplex, name, duplex(old), duplex(new));
        into.compare(HostFact::State, name, Some(state(old)), Some(state(new)));
        let (addresses, now) = (listed(&old.addresses), listed(&new.addresses));
        into.compare(HostFact::Addresses, name, addresses, now);
    }
}

/// Targets that leave by another interface now, those that moved alike in one change.
fn compare_routes(before: &HostFacts, after: &HostFacts, into: &mut Comparison<'_>) {
    let mut moved: BTreeMap<_, Vec<IpAddr>> = BTreeMap::new();
    for now in &after.routes_used {
        let then = before.routes_used.iter().find(|then| then.to == now.to);
        if let Some(then) = then.filter(|then| then.interface != now.interface) {
            let interfaces = (then.interface.as_str(), now.interface.as_str());
            moved.entry(interfaces).or_default().push(now.to.addr());
        }
    }
    for ((then, now), targets) in moved {
        let (shown, more) = targets.split_at(targets.len().min(SHOWN_TARGETS));
        let shown = listed(shown).unwrap_or_default();
        let targets =
            if more.is_empty() { shown } else { format!("{shown} and {} more", more.len()) };
        let (then, now) = (Some(then.to_owned()), Some(now.to_owned()));
        into.push(HostFact::Route, Some(&targets), then, now);
    }
}

/// What changed from one report of a site's agent to the next.
pub(super) fn changes(before: &HostFacts, after: &HostFacts, site: &str) -> Vec<HostChange> {
    let mut into = Comparison { site, found: Vec::new() };
    let (then, now) = (before.host_name.clone(), after.host_name.clone());
    into.compare(HostFact::HostName, None, Some(then), Some(now));
    for (fact, six) in [(HostFact::Ipv4Gateway, false), (HostFact::Ipv6Gateway, true)] {
        let gateway = |facts: &HostFacts| facts.gateway(six).map(|gateway| gateway.to_string());
        into.compare(fact, None, gateway(before), gateway(after));
    }
    into.compare(HostFact::Resolvers, None, listed(&before.resolvers), listed(&after.resolvers));
    compare_interfaces(before, after, &mut into);
    compare_routes(before, after, &mut into);
    let switch = |facts: &HostFacts| {
        listed(facts.announced.iter().map(|one| format!("{} {}", one.system, one.port)))
    };
    // A switch that has not announced itself yet is no change.
    if let (Some(then), Some(now)) = (switch(before), switch(after)) {
        into.compare(HostFact::Switch, None, Some(then), Some(now));
    }
    let device = |facts: &HostFacts| {
        let gateway = facts.gateway(false)?;
        facts.neighbours.iter().find(|one| one.address == gateway)?.hardware_address.clone()
    };
    if let (Some(then), Some(now)) = (device(before), device(after))
        && before.gateway(false) == after.gateway(false)
    {
        into.compare(HostFact::GatewayDevice, None, Some(then), Some(now));
    }
    into.found
}
