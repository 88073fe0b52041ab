//! The way: the hops of the site and its access provider, the provider's edge, what lies behind.

use super::{Evidence, step};
use crate::catalogue::{self, Context};
use crate::judge::Observation;
use crate::{messages, past};
use itinera_model::diagnosis::{Observations, Rung, Step, StepResult};
use itinera_model::finding::{Assessment, HopView};
use itinera_model::owner::is_private;
use itinera_model::route::{Flow, Route};
use std::collections::BTreeMap;

/// What the sweep says, by the very judgement of paths.
pub(super) fn assess(observed: &Observations) -> Option<Assessment> {
    let batch = observed.sweep.as_ref()?;
    let flows: BTreeMap<_, &Flow> = batch.flows.iter().map(|flow| (flow.id(), flow)).collect();
    let routes: BTreeMap<_, &Route> =
        batch.routes.iter().map(|route| (route.id(), route)).collect();
    let observations = batch.rounds.iter().filter_map(|round| {
        let source = flows.get(&round.flow)?.source;
        Some(Observation::of(round, source, &routes.get(&round.route)?.hops))
    });
    past::assessments(&observations.collect::<Vec<_>>()).pop()
}

/// Rungs of the way, each with the hops that belong to it.
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
        let reason = seen.observed.not_swept.as_deref();
        let words = match (reason, seen.observed.address) {
            (Some(reason), _) => format!("Hops could not be looked at: {reason}."),
            (None, None) => "Hops cannot be looked at without an address.".to_owned(),
            (None, Some(_)) => "No hop was looked at.".to_owned(),
        };
        return vec![step(Rung::FirstHops, StepResult::Unknown, words)];
    };
    let sections = sections(seen, &assessment.hops);
    let begins = assessment.finding.as_ref().map(|finding| {
        let context = Context { map: seen.map, cleared: false, sites: &[] };
        let words = catalogue::render(&messages::of_finding(finding), &context);
        let mut words = words.sentences().join(" ");
        if seen.by_schedule {
            words.push_str(" Measured by the schedule, which sends more probes than a diagnosis.");
        }
        (finding.place.first_with_fault(), words)
    });
    // Where nothing answers any more, and nothing else reaches the target either.
    let last = assessment.hops.iter().rfind(|hop| hop.lost < hop.sent).map(|hop| hop.hop);
    let heard = seen.connected() || seen.back.is_some_and(|back| back.arrived > 0);
    let stops = assessment.end_lost == assessment.end_sent && !heard;
    // Silence to echo alone tells nothing of a target that nothing else was asked of.
    let tried = !seen.observed.asked.is_empty();
    let mut steps = Vec::new();
    let mut broken = false;
    for (rung, hops) in [
        (Rung::FirstHops, sections.first),
        (Rung::ProviderEdge, sections.edge),
        (Rung::Boundary, sections.behind),
    ] {
        let Some((first, end)) = hops.first().zip(hops.last()) else { continue };
        let who = span_words(seen, &hops, first, end);
        if let Some((to, words)) = &begins
            && hops.iter().any(|hop| hop.address.is_some() && hop.address == *to)
        {
            broken = true;
            steps.push(step(rung, StepResult::Broken, format!("{who}: {words}")));
            continue;
        }
        let silent = hops.iter().all(|hop| hop.lost == hop.sent);
        let ends_here = stops && last.is_none_or(|last| first.hop <= last + 1 && last < end.hop);
        if let Some(last) = last.filter(|_| ends_here && !broken && !tried) {
            let words = format!(
                "{who}: nothing answers behind hop {last}. The target may ignore echo, and nothing \
                 else was asked of it."
            );
            steps.push(step(rung, StepResult::Unknown, words));
        } else if ends_here && !broken {
            broken = true;
            let words = match last {
                Some(last) => format!(
                    "{who}: nothing answers behind hop {last}, and the target accepts no \
                     connection: the way ends there, or is filtered from there on."
                ),
                None => format!("{who}: no hop answers at all: the first link, or a filter on it."),
            };
            steps.push(step(rung, StepResult::Broken, words));
        } else if silent {
            steps.push(step(rung, StepResult::Unknown, format!("{who}: nobody answers.")));
        } else if broken {
            let words = format!("{who}: carries what begins before it.");
            steps.push(step(rung, StepResult::Noted, words));
        } else {
            let words = format!("{who}: no loss or added delay begins.");
            steps.push(step(rung, StepResult::Clean, words));
        }
    }
    steps
}

/// The hops and their owners.
fn span_words(seen: &Evidence<'_>, hops: &[&HopView], first: &HopView, last: &HopView) -> String {
    let mut owners: Vec<String> = Vec::new();
    for address in hops.iter().filter_map(|hop| hop.address) {
        let whose = match seen.map.owner_of(address) {
            Some(owner) => owner.name.clone(),
            None if is_private(address) => "the site".to_owned(),
            None => continue,
        };
        if !owners.contains(&whose) {
            owners.push(whose);
        }
    }
    let owners =
        if owners.is_empty() { String::new() } else { format!(" ({})", owners.join(", ")) };
    if first.hop == last.hop {
        format!("Hop {}{owners}", first.hop)
    } else {
        format!("Hops {} to {}{owners}", first.hop, last.hop)
    }
}
