//! Notes on a route, as sentences: hops that rewrite, translate, refuse, tunnel or balance.

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
                    || "before it".to_owned(),
                    |earlier: usize| format!("behind {}", at(earlier, route)),
                );
                said.push(format!(
                    "{} sees DSCP {now} instead of {dscp}: a router {after} rewrites it.",
                    beginning(hop, route)
                ));
                dscp = now;
            }
            seen_at = Some(hop);
        }
        if let (Some(source), false) = (read.translated_source, translated) {
            translated = true;
            said.push(format!(
                "{} sees probes from {source}: addresses are translated before it.",
                beginning(hop, route)
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
            "{} quotes hop limit {}: {} before it did not decrease it, as inside a tunnel \
             (inferred).",
            beginning(hop, route),
            hidden + 1,
            if hidden == 1 { "one hop".to_owned() } else { format!("{hidden} hops") }
        )),
        (_, labels) => {
            let numbers: Vec<String> = labels.iter().map(|label| label.label.to_string()).collect();
            Some(format!(
                "Packets reach {place} with MPLS {} {}.",
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
        AnswerForm::Reset => Some(format!("{target} is up and refuses connections on that port.")),
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
        let who = who.map_or_else(|| "An unknown hop".to_owned(), |address| address.to_string());
        let times = if count == 1 { "once".to_owned() } else { format!("{count} times") };
        format!("{who} answered {times}: {}.", unreachable::meaning(family, code))
    });
    said.collect()
}

/// What an enumeration found.
pub fn of_ensemble(found: &RouteEnsemble) -> Vec<String> {
    let chance = f64::from(found.error_ppm) / 10_000.0;
    let mut said = vec![if found.balancers.is_empty() {
        format!(
            "One route. The probability of a missed second one behind any hop is {chance} % ({} \
             probes).",
            found.probes
        )
    } else {
        format!(
            "{} member routes. The probability of a missed one behind any hop is {chance} % ({} \
             probes).",
            found.members.len(),
            found.probes
        )
    }];
    said.extend(found.balancers.iter().map(of_balancer));
    if !found.is_complete {
        said.push("The limit on flows was reached before that probability.".to_owned());
    }
    said
}

fn of_balancer(balancer: &Balancer) -> String {
    let who = balancer
        .address
        .map_or_else(|| format!("A router before hop {}", balancer.hop), |a| a.to_string());
    let how = match balancer.balancing {
        Balancing::PerFlow => "by flow",
        Balancing::PerPacket => "by packet, which reorders packets of one flow",
    };
    let next: Vec<String> = balancer.next.iter().map(ToString::to_string).collect();
    format!("{who} balances traffic over {} {how}.", next.join(", "))
}

/// What a search for the MTU found.
pub fn of_path_mtu(found: &PathMtu) -> String {
    let Some(mtu) = found.mtu_bytes else {
        return "The target does not answer these probes: the path MTU is unknown.".to_owned();
    };
    match &found.limit {
        MtuLimit::NotReached => format!("Packets of {mtu} bytes pass, the largest tried."),
        MtuLimit::OwnInterface => {
            format!("Packets of {mtu} bytes pass; the own interface carries no larger ones.")
        }
        MtuLimit::Reported { by, stated_bytes } => format!(
            "Packets of {mtu} bytes pass; for larger ones {by} reports an MTU of {stated_bytes}."
        ),
        MtuLimit::Silent { after_hop, after } => {
            let place = match (after_hop, after) {
                (0, _) => "before the first hop".to_owned(),
                (hop, Some(address)) => format!("behind hop {hop} ({address})"),
                (hop, None) => format!("behind hop {hop}"),
            };
            format!(
                "Packets of {mtu} bytes pass; larger ones are lost {place} and no router reports \
                 it (path MTU black hole, RFC 2923)."
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
    fn a_router_that_rewrites_is_between_two_hops() {
        let hops = vec![expired(46), HopReading::default(), expired(0), expired(0)];
        let said = of_reading(&Reading { hops }, &route(), 46);
        assert_eq!(
            said,
            ["Hop 3 (198.18.0.3) sees DSCP 0 instead of 46: a router behind hop 1 (198.18.0.1) \
              rewrites it."]
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
            ["from 100.64.0.7", "2 hops before it", "MPLS label 24001", "is up and refuses"]
        {
            assert!(said.contains(words), "{words}: {said}");
        }
    }

    #[test]
    fn without_answers_nothing_is_said() {
        assert!(of_reading(&Reading::default(), &Route::default(), 0).is_empty());
        assert!(of_refusals(Family::Ipv4, []).is_empty());
    }

    #[test]
    fn refusals_are_counted_by_who_and_why() {
        let counts = HopCounts { unreachable: vec![(13, 2)], ..HopCounts::default() };
        let route = route();
        let hops = [counts.clone(), counts];
        let said = of_refusals(Family::Ipv4, [(&route, &hops[..]), (&route, &hops[..])]);
        assert_eq!(said[0], "198.18.0.1 answered 4 times: a filter prohibits it.");
        assert_eq!(said.len(), 2);
    }

    #[test]
    fn each_limit_of_the_mtu_is_said_in_its_own_words() {
        let after = Some("198.18.0.3".to_owned());
        let by = [198, 18, 0, 3].into();
        for (mtu_bytes, limit, words) in [
            (None, MtuLimit::NotReached, "is unknown"),
            (Some(1_500), MtuLimit::NotReached, "the largest tried"),
            (Some(1_500), MtuLimit::OwnInterface, "the own interface"),
            (Some(1_400), MtuLimit::Reported { by, stated_bytes: 1_400 }, "an MTU of 1400"),
            (
                Some(1_400),
                MtuLimit::Silent { after_hop: 3, after },
                "lost behind hop 3 (198.18.0.3)",
            ),
        ] {
            let said = of_path_mtu(&PathMtu { mtu_bytes, limit, probes: 9 });
            assert!(said.contains(words), "{said}");
        }
    }
}
