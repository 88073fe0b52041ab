//! Findings of a measurement other than loss and delay, as sentences: who rewrites, translates,
//! refuses, hides or shares the way.

use itinera_model::ensemble::{Balancer, Balancing, RouteEnsemble};
use itinera_model::path::Family;
use itinera_model::path_mtu::{MtuLimit, PathMtu};
use itinera_model::reading::{AnswerForm, HopReading, Reading};
use itinera_model::round::HopCounts;
use itinera_model::route::Route;
use itinera_model::unreachable;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Where a hop is, in words.
fn at(hop: usize, route: &Route) -> String {
    match hop.checked_sub(1).and_then(|index| route.hops.get(index).copied().flatten()) {
        Some(address) => format!("hop {hop} ({address})"),
        None => format!("hop {hop}"),
    }
}

/// The same at the beginning of a sentence.
fn beginning(hop: usize, route: &Route) -> String {
    at(hop, route).replacen("hop", "Hop", 1)
}

/// What the answers of a route said, given the DSCP that probes left with.
pub fn of_reading(reading: &Reading, route: &Route, sent_dscp: u8) -> Vec<String> {
    let mut said = Vec::new();
    let mut dscp = sent_dscp;
    let mut seen_at = None;
    let mut translated = false;
    for (hop, read) in (1..).zip(&reading.hops) {
        if let Some(now) = read.quoted_dscp {
            if now != dscp {
                let after = seen_at.map_or_else(
                    || "on the way to it".to_owned(),
                    |earlier: usize| format!("behind {}", at(earlier, route)),
                );
                said.push(format!(
                    "The DSCP is {now} instead of {dscp} at {}: somebody {after} marks anew.",
                    at(hop, route)
                ));
                dscp = now;
            }
            seen_at = Some(hop);
        }
        if let (Some(source), false) = (read.translated_source, translated) {
            translated = true;
            said.push(format!(
                "Probes reach {} as from {source}: addresses are translated before it.",
                at(hop, route)
            ));
        }
        said.extend(of_tunnel(hop, read, route));
    }
    said.extend(of_last(reading, route));
    said
}

fn of_tunnel(hop: usize, read: &HopReading, route: &Route) -> Option<String> {
    let place = at(hop, route);
    match (read.hidden_before(), read.labels.as_slice()) {
        (0, []) => None,
        (hidden, []) => Some(format!(
            "{} quotes a hop limit of {}: {} on the way to it did not count it down, as \
             inside a tunnel (inferred).",
            beginning(hop, route),
            hidden + 1,
            if hidden == 1 { "one hop".to_owned() } else { format!("{hidden} hops") }
        )),
        (_, labels) => {
            let numbers: Vec<String> = labels.iter().map(|label| label.label.to_string()).collect();
            Some(format!(
                "Packets reach {place} under {} {}: inside a tunnel of labels.",
                if labels.len() == 1 { "label" } else { "labels" },
                numbers.join(", ")
            ))
        }
    }
}

/// How the target answered, where that says more than that it did.
fn of_last(reading: &Reading, route: &Route) -> Option<String> {
    let form = reading.hops.last()?.form?;
    let target = beginning(reading.hops.len(), route);
    match form {
        AnswerForm::SynAck => Some(format!("{target} accepts connections on that port.")),
        AnswerForm::Reset => {
            Some(format!("{target} is there and refuses connections on that port."))
        }
        AnswerForm::Datagram => Some(format!("{target} answers on that port.")),
        AnswerForm::TimeExceeded
        | AnswerForm::Unreachable
        | AnswerForm::TooBig
        | AnswerForm::EchoReply
        | AnswerForm::PortUnreachable => None,
    }
}

/// Who refused to carry probes on, and with what words, over the hops of several rounds.
pub fn of_refusals<'a>(
    family: Family,
    rounds: impl IntoIterator<Item = (&'a Route, &'a [HopCounts])>,
) -> Vec<String> {
    let mut refusals: BTreeMap<(u8, Option<IpAddr>), u32> = BTreeMap::new();
    for (route, hops) in rounds {
        for (hop, counts) in hops.iter().enumerate() {
            let who = route.hops.get(hop).copied().flatten();
            for (code, count) in &counts.unreachable {
                *refusals.entry((*code, who)).or_default() += u32::from(*count);
            }
        }
    }
    let said = refusals.into_iter().map(|((code, who), count)| {
        let who = who.map_or_else(|| "Somebody".to_owned(), |address| address.to_string());
        let times = if count == 1 { "once".to_owned() } else { format!("{count} times") };
        format!("{who} refused {times}: {}.", unreachable::meaning(family, code))
    });
    said.collect()
}

/// What an enumeration found.
pub fn of_ensemble(found: &RouteEnsemble) -> Vec<String> {
    let chance = f64::from(found.error_ppm) / 10_000.0;
    let mut said = vec![if found.balancers.is_empty() {
        format!(
            "One way only, with a chance of {chance} % to have missed another behind any hop \
             ({} probes).",
            found.probes
        )
    } else {
        format!(
            "{} ways, with a chance of {chance} % to have missed one behind any hop ({} probes).",
            found.members.len(),
            found.probes
        )
    }];
    said.extend(found.balancers.iter().map(of_balancer));
    if !found.is_complete {
        said.push("More flows than were allowed would be needed to be that sure.".to_owned());
    }
    said
}

fn of_balancer(balancer: &Balancer) -> String {
    let who = balancer
        .address
        .map_or_else(|| format!("What stands before hop {}", balancer.hop), |a| a.to_string());
    let how = match balancer.balancing {
        Balancing::PerFlow => "flow by flow",
        Balancing::PerPacket => "packet by packet, so that packets of one flow overtake each other",
    };
    let next: Vec<String> = balancer.next.iter().map(ToString::to_string).collect();
    format!("{who} shares traffic among {} {how}.", next.join(", "))
}

/// What a search for the MTU found.
pub fn of_path_mtu(found: &PathMtu) -> String {
    let Some(mtu) = found.mtu_bytes else {
        return "The target does not answer these probes, so nothing can be said of the MTU."
            .to_owned();
    };
    match &found.limit {
        MtuLimit::NotReached => format!("Packets of {mtu} octets, the largest tried, get through."),
        MtuLimit::OwnInterface => {
            format!(
                "Packets of {mtu} octets get through; our own interface carries no larger ones."
            )
        }
        MtuLimit::Reported { by, stated_bytes } => format!(
            "Packets of {mtu} octets get through; for larger ones {by} asks for {stated_bytes} at \
             most."
        ),
        MtuLimit::Silent { after_hop, after } => {
            let place = match (after_hop, after) {
                (0, _) => "before the first hop".to_owned(),
                (hop, Some(address)) => format!("behind hop {hop} ({address})"),
                (hop, None) => format!("behind hop {hop}"),
            };
            format!(
                "Packets of {mtu} octets get through; larger ones vanish {place} and nobody says \
                 so: a black hole for whoever relies on being told."
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::reading::CarriedLabel;

    fn route() -> Route {
        Route { hops: (1..=4).map(|hop| Some([198, 18, 0, hop].into())).collect() }
    }

    fn expired(dscp: u8) -> HopReading {
        HopReading {
            form: Some(AnswerForm::TimeExceeded),
            quoted_dscp: Some(dscp),
            quoted_hop_limit: Some(1),
            ..HopReading::default()
        }
    }

    #[test]
    fn who_marks_anew_is_between_two_hops() {
        let hops = vec![expired(46), HopReading::default(), expired(0), expired(0)];
        let said = of_reading(&Reading { hops }, &route(), 46);
        assert_eq!(
            said,
            ["The DSCP is 0 instead of 46 at hop 3 (198.18.0.3): somebody behind hop 1 \
              (198.18.0.1) marks anew."]
        );
    }

    #[test]
    fn tunnels_translation_and_the_target_are_told() {
        let label = CarriedLabel { label: 24_001, traffic_class: 0, ttl: 1 };
        let hops = vec![
            HopReading { translated_source: Some([100, 64, 0, 7].into()), ..expired(0) },
            HopReading { quoted_hop_limit: Some(3), ..expired(0) },
            HopReading { labels: vec![label], ..expired(0) },
            HopReading { form: Some(AnswerForm::Reset), ..HopReading::default() },
        ];
        let said = of_reading(&Reading { hops }, &route(), 0).join("\n");
        for words in
            ["as from 100.64.0.7", "2 hops on the way", "under label 24001", "is there and refuses"]
        {
            assert!(said.contains(words), "{words}: {said}");
        }
    }

    #[test]
    fn where_nobody_answered_nothing_is_said() {
        assert!(of_reading(&Reading::default(), &Route::default(), 0).is_empty());
        assert!(of_refusals(Family::Ipv4, []).is_empty());
    }

    #[test]
    fn refusals_are_counted_by_who_and_why() {
        let counts = HopCounts { unreachable: vec![(13, 2)], ..HopCounts::default() };
        let route = route();
        let hops = [counts.clone(), counts];
        let said = of_refusals(Family::Ipv4, [(&route, &hops[..]), (&route, &hops[..])]);
        assert_eq!(said[0], "198.18.0.1 refused 4 times: a filter prohibits it.");
        assert_eq!(said.len(), 2);
    }

    #[test]
    fn each_limit_of_the_mtu_is_said_in_its_own_words() {
        let after = Some("198.18.0.3".to_owned());
        let by = [198, 18, 0, 3].into();
        for (mtu_bytes, limit, words) in [
            (None, MtuLimit::NotReached, "nothing can be said"),
            (Some(1_500), MtuLimit::NotReached, "the largest tried"),
            (Some(1_500), MtuLimit::OwnInterface, "our own interface"),
            (Some(1_400), MtuLimit::Reported { by, stated_bytes: 1_400 }, "asks for 1400"),
            (
                Some(1_400),
                MtuLimit::Silent { after_hop: 3, after },
                "vanish behind hop 3 (198.18.0.3)",
            ),
        ] {
            let said = of_path_mtu(&PathMtu { mtu_bytes, limit, probes: 9 });
            assert!(said.contains(words), "{said}");
        }
    }
}
