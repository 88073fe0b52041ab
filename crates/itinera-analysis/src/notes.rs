//! Notes on a route: hops that rewrite, translate, refuse, tunnel or balance, and its MTU.

use itinera_model::ensemble::RouteEnsemble;
use itinera_model::note::{
    Enumeration, FoundMtu, HiddenHops, HopAt, LabelStack, LoadBalancer, Note, Refusals,
    RewrittenDscp, TranslatedSource,
};
use itinera_model::path::Family;
use itinera_model::path_mtu::PathMtu;
use itinera_model::reading::{AnswerForm, HopReading, Reading};
use itinera_model::round::HopCounts;
use itinera_model::route::Route;
use itinera_model::unit::Ratio;
use std::collections::BTreeMap;
use std::net::IpAddr;

fn hop_at(hop: u16, route: &Route) -> HopAt {
    let index = usize::from(hop).checked_sub(1);
    let address = index.and_then(|index| route.hops.get(index).copied().flatten());
    HopAt { hop, address }
}

/// What the answers of a route show, given the DSCP that probes left with.
pub fn of_reading(reading: &Reading, route: &Route, sent_dscp: u8) -> Vec<Note> {
    let mut notes = Vec::new();
    let mut dscp = sent_dscp;
    let mut after = None;
    let mut translated = false;
    for (hop, read) in (1..).zip(&reading.hops) {
        let seen_at = hop_at(hop, route);
        if let Some(now) = read.quoted_dscp {
            if now != dscp {
                let rewritten = RewrittenDscp { seen_at, after, before: dscp, now };
                notes.push(Note::DscpRewritten(rewritten));
                dscp = now;
            }
            after = Some(seen_at);
        }
        if let (Some(source), false) = (read.translated_source, translated) {
            translated = true;
            notes.push(Note::SourceTranslated(TranslatedSource { seen_at, source }));
        }
        notes.extend(of_tunnel(seen_at, read));
    }
    notes.extend(of_last(reading, route));
    notes
}

fn of_tunnel(seen_at: HopAt, read: &HopReading) -> Option<Note> {
    match (read.hidden_before(), read.labels.as_slice()) {
        (0, []) => None,
        (hidden, []) => Some(Note::HopsHidden(HiddenHops { seen_at, hidden })),
        (_, labels) => {
            let labels = labels.iter().map(|label| label.label).collect();
            Some(Note::MplsLabels(LabelStack { seen_at, labels }))
        }
    }
}

/// How the target answered, where that shows more than that it did.
fn of_last(reading: &Reading, route: &Route) -> Option<Note> {
    let form = reading.hops.last()?.form?;
    let target = hop_at(u16::try_from(reading.hops.len()).ok()?, route);
    match form {
        AnswerForm::SynAck => Some(Note::PortOpen(target)),
        AnswerForm::Reset => Some(Note::PortRefused(target)),
        AnswerForm::Datagram => Some(Note::PortAnswers(target)),
        AnswerForm::TimeExceeded
        | AnswerForm::Unreachable
        | AnswerForm::TooBig
        | AnswerForm::EchoReply
        | AnswerForm::PortUnreachable => None,
    }
}

/// The answers "unreachable" over the hops of several rounds, by code and address.
pub fn of_refusals<'a>(
    family: Family,
    rounds: impl IntoIterator<Item = (&'a Route, &'a [HopCounts])>,
) -> Vec<Note> {
    let mut refusals: BTreeMap<(u8, Option<IpAddr>), u32> = BTreeMap::new();
    for (route, hops) in rounds {
        for (hop, counts) in hops.iter().enumerate() {
            let by = route.hops.get(hop).copied().flatten();
            for (code, count) in &counts.unreachable {
                *refusals.entry((*code, by)).or_default() += u32::from(*count);
            }
        }
    }
    let note =
        |((icmp_code, by), count)| Note::ProbesRefused(Refusals { by, family, icmp_code, count });
    refusals.into_iter().map(note).collect()
}

/// What an enumeration found.
pub fn of_ensemble(found: &RouteEnsemble) -> Vec<Note> {
    let enumeration = Enumeration {
        members: u32::try_from(found.members.len()).unwrap_or(u32::MAX),
        missed: Ratio::from_ppm(found.error_ppm),
        probes: found.probes,
    };
    let mut notes = vec![if found.balancers.is_empty() {
        Note::SingleRoute(enumeration)
    } else {
        Note::MemberRoutes(enumeration)
    }];
    notes.extend(found.balancers.iter().map(|balancer| {
        Note::TrafficBalanced(LoadBalancer {
            hop: balancer.hop,
            address: balancer.address,
            balancing: balancer.balancing,
            next: balancer.next.clone(),
        })
    }));
    if !found.is_complete {
        notes.push(Note::FlowLimitReached);
    }
    notes
}

/// What a search for the MTU found.
pub fn of_path_mtu(found: &PathMtu) -> Note {
    match found.mtu_bytes {
        None => Note::PathMtuUnknown,
        Some(mtu_bytes) => Note::PathMtu(FoundMtu { mtu_bytes, limit: found.limit.clone() }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::path_mtu::MtuLimit;
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

    fn hop(hop: u16) -> HopAt {
        hop_at(hop, &route())
    }

    #[test]
    fn a_router_that_rewrites_is_between_two_hops() {
        let hops = vec![expired(46), HopReading::default(), expired(0), expired(0)];
        let rewritten = RewrittenDscp { seen_at: hop(3), after: Some(hop(1)), before: 46, now: 0 };
        let notes = of_reading(&Reading { hops }, &route(), 46);
        assert_eq!(notes, [Note::DscpRewritten(rewritten)]);
        assert_eq!(rewritten.seen_at.address, Some([198, 18, 0, 3].into()));
    }

    #[test]
    fn tunnels_translation_and_the_target_are_noted() {
        let label = CarriedLabel { label: 24_001, traffic_class: 0, ttl: 1 };
        let source = [100, 64, 0, 7].into();
        let hops = vec![
            HopReading { translated_source: Some(source), ..expired(0) },
            HopReading { quoted_hop_limit: Some(3), ..expired(0) },
            HopReading { labels: vec![label], ..expired(0) },
            HopReading { form: Some(AnswerForm::Reset), ..HopReading::default() },
        ];
        assert_eq!(
            of_reading(&Reading { hops }, &route(), 0),
            [
                Note::SourceTranslated(TranslatedSource { seen_at: hop(1), source }),
                Note::HopsHidden(HiddenHops { seen_at: hop(2), hidden: 2 }),
                Note::MplsLabels(LabelStack { seen_at: hop(3), labels: vec![24_001] }),
                Note::PortRefused(hop(4)),
            ]
        );
    }

    #[test]
    fn without_answers_there_is_no_note() {
        assert!(of_reading(&Reading::default(), &Route::default(), 0).is_empty());
        assert!(of_refusals(Family::Ipv4, []).is_empty());
    }

    #[test]
    fn refusals_are_counted_by_address_and_code() {
        let counts = HopCounts { unreachable: vec![(13, 2)], ..HopCounts::default() };
        let route = route();
        let hops = [counts.clone(), counts];
        let notes = of_refusals(Family::Ipv4, [(&route, &hops[..]), (&route, &hops[..])]);
        let refused = |by: [u8; 4]| {
            let (by, family) = (Some(by.into()), Family::Ipv4);
            Note::ProbesRefused(Refusals { by, family, icmp_code: 13, count: 4 })
        };
        assert_eq!(notes, [refused([198, 18, 0, 1]), refused([198, 18, 0, 2])]);
    }

    #[test]
    fn an_mtu_is_known_or_not() {
        let limit = MtuLimit::OwnInterface;
        let found = |mtu_bytes| PathMtu { mtu_bytes, limit: limit.clone(), probes: 9 };
        assert_eq!(of_path_mtu(&found(None)), Note::PathMtuUnknown);
        let known = FoundMtu { mtu_bytes: 1_500, limit: limit.clone() };
        assert_eq!(of_path_mtu(&found(Some(1_500))), Note::PathMtu(known));
    }
}
