//! The route: the hops of the site and its access provider, the provider's edge, what lies behind.

use super::{Evidence, step};
use crate::judge::Observation;
use crate::{messages, past};
use itinera_model::diagnosis::{Observations, Step, StepKind, StepResult};
use itinera_model::diagnosis_message::{HopSpan, StepMessage};
use itinera_model::finding::{Assessment, HopView};
use itinera_model::owner::is_private;
use itinera_model::route::{Flow, Route};
use std::collections::BTreeMap;

/// What the sweep says, by the very judgement of paths.
pub(super) fn assess(observed: &Observations) -> Option<Assessment> {
    let sweep = observed.sweep.as_ref()?;
    let flows: BTreeMap<_, &Flow> = sweep.flows.iter().map(|flow| (flow.id(), flow)).collect();
    let routes: BTreeMap<_, &Route> =
        sweep.routes.iter().map(|route| (route.id(), route)).collect();
    let observations = sweep.rounds.iter().filter_map(|round| {
        let flow = flows.get(&round.flow)?;
        Some(Observation::of(round, flow, &routes.get(&round.route)?.hops))
    });
    past::assessments(&observations.collect::<Vec<_>>()).pop()
}

/// Sections of the route, each with the hops that belong to it.
struct Sections<'a> {
    first: Vec<&'a HopView>,
    edge: Vec<&'a HopView>,
    behind: Vec<&'a HopView>,
}

/// Parts the hops by owner: up to the end of the first network that an owner map names, the first
/// hop of the next one, and the rest. Without owners everything is first hops.
fn sections<'a>(seen: &Evidence<'_>, hops: &'a [HopView]) -> Sections<'a> {
    let mut sections = Sections { first: Vec::new(), edge: Vec::new(), behind: Vec::new() };
    let mut provider = None;
    for hop in hops {
        let owner = hop.address.and_then(|address| seen.map.owner_of(address));
        let number = owner.map(|owner| owner.as_number);
        let passed = !sections.edge.is_empty();
        match (provider, number) {
            _ if passed => sections.behind.push(hop),
            (Some(known), Some(other)) if known != other => sections.edge.push(hop),
            (known, other) => {
                provider = known.or(other);
                sections.first.push(hop);
            }
        }
    }
    sections
}

/// The finding's place lies among private addresses: inside the site.
pub(super) fn is_inside_site(seen: &Evidence<'_>) -> bool {
    let finding = seen.assessment.as_ref().and_then(|assessment| assessment.finding.as_ref());
    finding.is_some_and(|finding| {
        let site = |address| seen.map.owner_of(address).is_none() && is_private(address);
        finding.place.ends().is_some_and(|(from, to)| site(from) && site(to))
    })
}

pub(super) fn steps(seen: &Evidence<'_>) -> Vec<Step> {
    let Some(assessment) = &seen.assessment else {
        let reason = match (&seen.observed.not_swept, seen.observed.address) {
            (Some(reason), _) => Some(reason.clone()),
            (None, None) => None,
            (None, Some(_)) => Some("no round was measured".to_owned()),
        };
        let message = StepMessage::HopsNotProbed { reason };
        return vec![step(StepKind::FirstHops, StepResult::Unknown, message)];
    };
    let sections = sections(seen, &assessment.hops);
    let fault = assessment.finding.as_ref();
    let onset = fault.and_then(|finding| finding.place.first_with_fault());
    // Where nothing answers any more, and nothing else reaches the target either.
    let last = assessment.hops.iter().rfind(|hop| hop.lost < hop.sent).map(|hop| hop.hop);
    let heard = seen.connected() || seen.back.is_some_and(|back| back.arrived > 0);
    let stops = assessment.end_lost == assessment.end_sent && !heard;
    // Silence to echo alone tells nothing of a target that nothing else was asked of.
    let tried = !seen.observed.asked.is_empty();
    let mut steps = Vec::new();
    let mut broken = false;
    for (kind, hops) in [
        (StepKind::FirstHops, sections.first),
        (StepKind::ProviderEdge, sections.edge),
        (StepKind::Boundary, sections.behind),
    ] {
        let Some((first, end)) = hops.first().zip(hops.last()) else { continue };
        let span = span(seen, &hops, first, end);
        let begins_here = hops.iter().any(|hop| hop.address.is_some() && hop.address == onset);
        if let Some(finding) = fault.filter(|_| begins_here) {
            broken = true;
            let fault = Box::new(messages::of_finding(finding));
            let by_schedule = seen.by_schedule;
            let message = StepMessage::FaultBegins { hops: span, fault, by_schedule };
            steps.push(step(kind, StepResult::Broken, message));
            continue;
        }
        let silent = hops.iter().all(|hop| hop.lost == hop.sent);
        let ends_here = stops && last.is_none_or(|last| first.hop <= last + 1 && last < end.hop);
        let (found, message) = if ends_here && !broken {
            let found =
                if last.is_some() && !tried { StepResult::Unknown } else { StepResult::Broken };
            broken = found == StepResult::Broken;
            (found, StepMessage::RouteEnds { hops: span, last, tried })
        } else if silent {
            (StepResult::Unknown, StepMessage::HopsSilent(span))
        } else if broken {
            (StepResult::Noted, StepMessage::HopsCarryFault(span))
        } else {
            (StepResult::Clean, StepMessage::HopsClean(span))
        };
        steps.push(step(kind, found, message));
    }
    steps
}

/// The hops and their owners.
fn span(seen: &Evidence<'_>, hops: &[&HopView], first: &HopView, last: &HopView) -> HopSpan {
    let mut span = HopSpan { first: first.hop, last: last.hop, owners: Vec::new(), site: false };
    for address in hops.iter().filter_map(|hop| hop.address) {
        match seen.map.owner_of(address) {
            Some(owner) if !span.owners.contains(&owner.name) => {
                span.owners.push(owner.name.clone());
            }
            Some(_) => {}
            None => span.site |= is_private(address),
        }
    }
    span
}
