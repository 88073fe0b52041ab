//! Words of faults with a place.

use super::text::{capitalised, count, delay, interval, per_cent};
use super::{Context, Words};
use crate::responsible::Responsible;
use itinera_model::finding::{FaultDirection, Place, Reason};
use itinera_model::message::{LocatedFault, LossEstimate, Message};
use itinera_model::owner::Owner;
use itinera_model::path::Family;
use itinera_model::unit::Ratio;

fn named(owner: &Owner) -> String {
    format!("{} (AS {})", owner.name, owner.as_number)
}

fn reached(owner: &Owner) -> String {
    if owner.contact.is_empty() {
        named(owner)
    } else {
        format!("{}, {}", named(owner), owner.contact)
    }
}

/// A confidence: never 100 %.
pub fn confidence(ratio: Ratio) -> String {
    if ratio.as_ppm() >= 995_000 { "over 99 %".to_owned() } else { per_cent(ratio) }
}

/// A place by its addresses.
pub fn place(place: &Place) -> String {
    match place {
        Place::Link { from, to, .. } | Place::Boundary { from, to } => format!("{from} → {to}"),
        Place::Member { from, to } => format!("the member {from} → {to}"),
        Place::Node { address } => format!("router {address}"),
        Place::Owner { as_number } => format!("several links of AS {as_number}"),
        Place::AgentSite { .. } => "the agent's site".to_owned(),
        Place::TargetEnd { address } => format!("target {address}"),
        Place::ReturnRoute { from } => format!("the return route from {from}"),
        Place::OneProtocol { address, method } => format!("{method} to {address}"),
        Place::Unknown => "an unknown place".to_owned(),
    }
}

/// The place in a headline: by owner where one is known.
fn headline_place(
    place_at_fault: &Place,
    responsible: &Responsible,
    context: &Context<'_>,
) -> String {
    let site = match context.sites {
        [one] => one.as_str(),
        _ => "the site",
    };
    match responsible {
        Responsible::Inside(owner) => match place_at_fault {
            Place::ReturnRoute { .. } => format!("on the return route from {}", owner.name),
            Place::OneProtocol { method, .. } => {
                format!("of {method} probes inside {}", owner.name)
            }
            Place::Owner { .. } => format!("at several links of {}", owner.name),
            _ => format!("inside {}", owner.name),
        },
        Responsible::Boundary(a, b) => format!("between {} and {}", a.name, b.name),
        Responsible::SiteEdge(owner) => format!("between {site} and {}", owner.name),
        Responsible::Site => format!("inside {site}"),
        Responsible::Unknown => at(place_at_fault),
    }
}

/// A place with its preposition.
fn at(place_at_fault: &Place) -> String {
    let preposition = match place_at_fault {
        Place::Node { .. }
        | Place::Owner { .. }
        | Place::AgentSite { .. }
        | Place::TargetEnd { .. }
        | Place::Unknown => "at",
        _ => "on",
    };
    format!("{preposition} {}", place(place_at_fault))
}

fn responsible_words(place_at_fault: &Place, responsible: &Responsible) -> String {
    match responsible {
        _ if matches!(place_at_fault, Place::Owner { .. } | Place::AgentSite { .. }) => {
            String::new()
        }
        Responsible::Inside(owner) => format!(", inside {}", named(owner)),
        Responsible::Boundary(a, b) => format!(", the boundary of {} and {}", named(a), named(b)),
        Responsible::SiteEdge(owner) => {
            format!(", the link between the agent's site and {}", named(owner))
        }
        Responsible::Site => ", inside the agent's own site".to_owned(),
        Responsible::Unknown => String::new(),
    }
}

/// The owner to call, or what to check first.
pub(super) fn contact(responsible: &Responsible) -> String {
    match responsible {
        Responsible::Inside(owner) => format!("Call {}.", reached(owner)),
        Responsible::Boundary(a, b) => {
            format!("Call {} or {}: either side may have the fault.", reached(a), reached(b))
        }
        Responsible::SiteEdge(owner) => {
            format!("Check the site's own end of the link, then call {}.", reached(owner))
        }
        Responsible::Site => "Our own site: check its network.".to_owned(),
        Responsible::Unknown => {
            "No owner map names the owner of this place: import one to know.".to_owned()
        }
    }
}

fn loss_words(loss: &LossEstimate) -> String {
    match (loss.low, loss.high) {
        (Some(low), Some(high)) => {
            format!("{} packet loss (95 % interval {})", per_cent(loss.ratio), interval(low, high))
        }
        _ => format!("{} packet loss", per_cent(loss.ratio)),
    }
}

fn effect(message: &Message, fault: &LocatedFault, cleared: bool) -> (String, String) {
    let upto = if cleared { "up to " } else { "" };
    match (message, &fault.loss, fault.added_delay_us) {
        (Message::BreakLocated(_), ..) => {
            ("No packet passes".to_owned(), "No packet passes".to_owned())
        }
        (Message::MisroutingLocated(_), ..) => {
            ("Wrong route".to_owned(), "Packets take a wrong route".to_owned())
        }
        (_, Some(loss), _) => {
            (format!("{upto}{} loss", per_cent(loss.ratio)), format!("{upto}{}", loss_words(loss)))
        }
        (_, None, added) => {
            let added = delay(added.unwrap_or(0));
            (format!("{upto}+{added} delay"), format!("{upto}{added} added delay"))
        }
    }
}

/// A verb behind a count.
fn verb(count: u8, verb: &str) -> String {
    if count == 1 { format!("{verb}s") } else { verb.to_owned() }
}

fn reason(reason: &Reason) -> String {
    match reason {
        Reason::HopsBeforeAreClean { hops } => {
            format!("{} before it {} as usual", count(*hops, "hop"), verb(*hops, "answer"))
        }
        Reason::HopsBehindCarry { hops } => {
            format!("{} behind it {} the same", count(*hops, "hop"), verb(*hops, "show"))
        }
        Reason::OnlyTheLastHop => {
            "only the target is behind it, and may itself drop probes".to_owned()
        }
        Reason::SilentHops { hops } => {
            let between = count(*hops, "silent hop");
            format!("{between} between {} on which link it is", verb(*hops, "hide"))
        }
        Reason::CloseAlternative { probability_ppm } => format!(
            "another place explains it with probability {}",
            per_cent(Ratio::from_ppm(*probability_ppm))
        ),
    }
}

fn reasons(fault: &LocatedFault, supporting: bool) -> Option<String> {
    let chosen = fault.reasons.iter().filter(|one| one.supports() == supporting);
    let words: Vec<String> = chosen.map(reason).collect();
    let head = if supporting { "For it" } else { "Against it" };
    (!words.is_empty()).then(|| format!("{head}: {}.", words.join("; ")))
}

pub(super) fn words(message: &Message, fault: &LocatedFault, context: &Context<'_>) -> Words {
    let responsible = Responsible::of(&fault.place, context.map);
    let (short, long) = effect(message, fault, context.state.is_over());
    let version = match fault.place.family() {
        Some(Family::Ipv6) if !fault.both_versions => " (IPv6)",
        _ => "",
    };
    let place_words = headline_place(&fault.place, &responsible, context);
    let headline = format!("{short} {place_words}{version}");
    let direction = match fault.direction {
        _ if matches!(fault.place, Place::ReturnRoute { .. }) => "",
        FaultDirection::Forward => " in the forward direction",
        FaultDirection::Return => " in the return direction",
        FaultDirection::Undetermined => "",
    };
    let silent = match fault.place.silent_between() {
        0 => String::new(),
        hops => format!(" ({} between)", count(hops, "silent hop")),
    };
    let mut detail = vec![
        format!(
            "{}{direction} {}{silent}{}.",
            capitalised(&long),
            at(&fault.place),
            responsible_words(&fault.place, &responsible)
        ),
        format!(
            "Confidence {}. Seen on {}{}.",
            confidence(fault.confidence),
            count(fault.paths, "path"),
            if fault.both_versions { ", over IPv4 and IPv6" } else { "" }
        ),
    ];
    if !fault.indistinguishable.is_empty() {
        let others: Vec<String> = fault.indistinguishable.iter().map(place).collect();
        detail.push(format!("Cannot be told apart from {}.", others.join(" or ")));
    }
    detail.extend(reasons(fault, true));
    detail.extend(reasons(fault, false));
    let headline = if context.state.is_over() { headline } else { capitalised(&headline) };
    Words::new(headline, Some(contact(&responsible)), detail)
}
