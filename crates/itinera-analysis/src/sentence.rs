//! Findings as sentences, with the owners of the place.

use itinera_model::alarm::Alarm;
use itinera_model::finding::{Assessment, Cause, Finding, HopVerdict, Place};
use itinera_model::owner::{Owner, OwnerMap, is_private};
use itinera_model::unit::Micros;
use std::net::IpAddr;

/// Who is responsible for a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Whose {
    /// Both ends belong to one owner.
    Inside(Owner),
    /// The owner changes there; the fault may be either's.
    Boundary(Owner, Owner),
    /// Both ends are private addresses: the agent's own site.
    Site,
    /// From the site into this owner.
    SiteEdge(Owner),
    /// At least one end is in no owner map.
    Unknown,
}

enum Side {
    Owner(Owner),
    Site,
    Unknown,
}

fn side(address: IpAddr, map: &OwnerMap) -> Side {
    match map.owner_of(address) {
        Some(owner) => Side::Owner(owner.clone()),
        None if is_private(address) => Side::Site,
        None => Side::Unknown,
    }
}

/// Who is responsible for a place, by an owner map.
pub fn whose(place: &Place, map: &OwnerMap) -> Whose {
    let Place::Link { from, to, .. } = place;
    match (side(*from, map), side(*to, map)) {
        (Side::Owner(a), Side::Owner(b)) if a.as_number == b.as_number => Whose::Inside(a),
        (Side::Owner(a), Side::Owner(b)) => Whose::Boundary(a, b),
        (Side::Site, Side::Owner(owner)) | (Side::Owner(owner), Side::Site) => {
            Whose::SiteEdge(owner)
        }
        (Side::Site, Side::Site) => Whose::Site,
        (Side::Unknown, _) | (_, Side::Unknown) => Whose::Unknown,
    }
}

impl Whose {
    /// In words that go behind "on the link a to b,".
    pub fn words(&self) -> String {
        let named = |owner: &Owner| format!("{} (AS {})", owner.name, owner.as_number);
        match self {
            Self::Inside(owner) => format!("inside {}", named(owner)),
            Self::Boundary(a, b) => format!("at the boundary of {} and {}", named(a), named(b)),
            Self::Site => "inside the agent's own site".to_owned(),
            Self::SiteEdge(owner) => {
                format!("between the agent's site and {}", named(owner))
            }
            Self::Unknown => "whose owner no imported owner map names".to_owned(),
        }
    }

    /// The owners named, the one before the boundary first.
    pub fn owners(&self) -> Vec<&Owner> {
        match self {
            Self::Inside(owner) | Self::SiteEdge(owner) => vec![owner],
            Self::Boundary(a, b) => vec![a, b],
            Self::Site | Self::Unknown => Vec::new(),
        }
    }
}

fn per_cent(ppm: u32) -> String {
    format!("{:.0} %", f64::from(ppm) / 10_000.0)
}

/// A confidence as text: never 100 %.
pub fn confidence_words(ppm: u32) -> String {
    if ppm >= 995_000 { "over 99 %".to_owned() } else { per_cent(ppm) }
}

/// Where, in words that go behind a verb.
pub fn place_words(place: &Place) -> String {
    let Place::Link { from, to, silent_between } = place;
    match silent_between {
        0 => format!("on the link {from} to {to}"),
        1 => format!(
            "between {from} and {to}, around one silent hop whose two links cannot be told apart"
        ),
        n => format!(
            "between {from} and {to}, around {n} silent hops whose links cannot be told apart"
        ),
    }
}

fn effect_words(cause: Cause, loss_ppm: u32, added: Micros) -> String {
    match cause {
        Cause::Loss => format!("{} of packets are lost", per_cent(loss_ppm)),
        Cause::Delay => format!("{added} are added"),
    }
}

fn past_effect_words(cause: Cause, loss_ppm: u32, added: Micros) -> String {
    match cause {
        Cause::Loss => format!("Up to {} of packets were lost", per_cent(loss_ppm)),
        Cause::Delay => format!("Up to {added} were added"),
    }
}

/// What a finding says.
pub fn of_finding(finding: &Finding, map: &OwnerMap) -> String {
    format!(
        "{} {}, {}; {} sure.",
        effect_words(finding.cause, finding.loss_ppm, finding.added_delay_us),
        place_words(&finding.place),
        whose(&finding.place, map).words(),
        confidence_words(finding.confidence_ppm),
    )
}

/// What an assessment says: the finding first, then what is none.
pub fn of_assessment(latest: &Assessment, map: &OwnerMap) -> Vec<String> {
    let mut said = vec![match &latest.finding {
        Some(finding) => of_finding(finding, map),
        None if latest.hops.iter().all(|hop| hop.lost == hop.sent) => {
            let probes: u32 = latest.hops.iter().map(|hop| hop.sent).sum();
            format!(
                "Nothing on this path answers: {probes} probes in the last {} s came back from no \
                 hop. The first link may be down, or everything filtered; by itself this does not \
                 say which.",
                latest.span_s
            )
        }
        None if latest.end_lost == latest.end_sent => format!(
            "The far end does not answer these probes, and no loss or added delay begins before it \
             ({} s regarded): it may be down, or filter them. Try another method.",
            latest.span_s
        ),
        None => format!(
            "No loss or added delay begins on this path: {} of {} probes to the far end were \
             answered in the last {} s.",
            latest.end_sent - latest.end_lost,
            latest.end_sent,
            latest.span_s
        ),
    }];
    let hops_with = |verdict| -> Vec<String> {
        let hops = latest.hops.iter().filter(|hop| hop.verdict == verdict);
        hops.map(|hop| hop.hop.to_string()).collect()
    };
    let listed = |hops: &[String]| match hops {
        [one] => format!("Hop {one}"),
        many => format!("Hops {}", many.join(", ")),
    };
    let rate_limiting = hops_with(HopVerdict::RateLimits);
    if !rate_limiting.is_empty() {
        let (verb, own, them) = match rate_limiting.len() {
            1 => ("answers", "its", "it"),
            _ => ("answer", "their", "them"),
        };
        said.push(format!(
            "{} {verb} only a part of the probes by {own} own policy (rate_limiting): traffic passes \
             {them} undiminished, as later hops show.",
            listed(&rate_limiting)
        ));
    }
    let silent = hops_with(HopVerdict::Silent);
    if !silent.is_empty() {
        let verb = if silent.len() == 1 { "never answers" } else { "never answer" };
        said.push(format!("{} {verb}, but traffic passes.", listed(&silent)));
    }
    if latest.finding.is_some() {
        said.push(
            "Seen from one side as a round trip: the fault may lie on the return route.".to_owned(),
        );
    }
    said
}

/// What an alarm says, without its time: its current values, or, once cleared, its worst values.
pub fn of_alarm(alarm: &Alarm, cleared: bool, map: &OwnerMap) -> String {
    let (fault, paths) = if cleared {
        let worst = (alarm.worst_loss_ppm, alarm.worst_added_delay_us);
        (past_effect_words(alarm.key.cause, worst.0, worst.1), &alarm.paths)
    } else {
        (effect_words(alarm.key.cause, alarm.loss_ppm, alarm.added_delay_us), &alarm.showing)
    };
    format!(
        "{fault} {}, {}; {} sure, seen on {} {}.",
        place_words(&alarm.key.place),
        whose(&alarm.key.place, map).words(),
        confidence_words(alarm.confidence_ppm),
        paths.len(),
        if paths.len() == 1 { "path" } else { "paths" },
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::owner::OwnerEntry;

    fn map() -> OwnerMap {
        let entry = |prefix: &str, as_number, name: &str| OwnerEntry {
            prefix: prefix.parse().unwrap(),
            owner: Owner { as_number, name: name.into(), contact: String::new() },
        };
        OwnerMap::new(vec![
            entry("198.18.3.0/24", 64500, "Northmere Carriage"),
            entry("198.18.1.0/24", 64496, "Brackwater Broadband"),
        ])
    }

    fn link(from: &str, to: &str, silent_between: u8) -> Place {
        Place::Link { from: from.parse().unwrap(), to: to.parse().unwrap(), silent_between }
    }

    #[test]
    fn a_finding_is_said_with_amount_place_owner_and_confidence() {
        let finding = Finding {
            cause: Cause::Loss,
            place: link("198.18.3.3", "198.18.3.4", 0),
            confidence_ppm: 999_999,
            loss_ppm: 194_000,
            added_delay_us: Micros::ZERO,
            explanations: Vec::new(),
        };
        assert_eq!(
            of_finding(&finding, &map()),
            "19 % of packets are lost on the link 198.18.3.3 to 198.18.3.4, \
             inside Northmere Carriage (AS 64500); over 99 % sure."
        );
    }

    #[test]
    fn the_owner_depends_on_both_ends() {
        for (from, to, words) in [
            ("198.18.1.1", "198.18.3.1", "at the boundary of Brackwater"),
            ("10.1.0.1", "198.18.1.1", "between the agent's site and Brackwater"),
            ("10.1.0.2", "10.1.0.1", "the agent's own site"),
            ("192.0.2.1", "198.18.1.1", "no imported owner map"),
        ] {
            let said = whose(&link(from, to, 0), &map()).words();
            assert!(said.contains(words), "{from} to {to}: {said}");
        }
    }

    #[test]
    fn silent_hops_are_said_not_to_be_told_apart() {
        assert!(place_words(&link("198.18.3.3", "198.18.3.5", 1)).contains("cannot be told apart"));
    }
}
