//! Judges a diagnosis from the observations between a machine's own stack and a
//! service, the first part at fault, what is excluded, and what to do.
//!
//! Every step is judged by itself, nearest first; the first broken one names the part, and the
//! steps behind it still inform. What tells nothing (a target that ignores echo, a gateway that
//! does) is never taken for broken while something behind it answers.

mod host;
mod return_route;
mod route;
mod target;
#[cfg(test)]
mod tests;
mod text;

use itinera_model::check::{Outcome, Why};
use itinera_model::diagnosis::{
    AskResult, Conclusion, Diagnosis, Observations, Part, Step, StepKind, StepResult,
};
use itinera_model::diagnosis_message::{Advice, StepMessage};
use itinera_model::finding::Assessment;
use itinera_model::owner::OwnerMap;

pub use text::text;

/// Packets on the return route, as the two ends count them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReturnCounts {
    /// They arrived.
    pub arrived: u32,
    /// They did not.
    pub lost: u32,
}

/// Evidence other than the machine's own observations.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Context {
    /// What the schedule's own measurement said of the path there at the time: it counts where hops
    /// could not be looked at, and where it is surer of what it finds than the few probes of a look.
    pub path: Option<Assessment>,
    /// The return route, where an agent is at the other end.
    pub back: Option<ReturnCounts>,
}

/// Everything that steps are judged by.
pub(crate) struct Evidence<'a> {
    pub(crate) observed: &'a Observations,
    pub(crate) map: &'a OwnerMap,
    /// What the sweep says, or the schedule; absent where neither looked.
    pub(crate) assessment: Option<Assessment>,
    /// The schedule says it, though there was a sweep.
    pub(crate) by_schedule: bool,
    pub(crate) back: Option<ReturnCounts>,
}

impl Evidence<'_> {
    /// Something behind the gateway answered, by whatever protocol.
    pub(crate) fn anything_behind(&self) -> bool {
        let hops = self.assessment.iter().flat_map(|assessment| &assessment.hops);
        let answered = hops.skip(1).any(|hop| hop.lost < hop.sent);
        answered || self.connected()
    }

    /// Full-sized packets do not get there, small ones do.
    fn loses_large(&self) -> bool {
        let large = |one: &AskResult| {
            matches!(one.result.outcome, Outcome::Broke { why: Why::LargeLost, .. })
        };
        self.observed.asked.iter().any(large)
    }

    /// The target accepted a connection.
    pub(crate) fn connected(&self) -> bool {
        use itinera_model::check::Step as AskResult;
        self.observed.asked.iter().any(|one| one.result.took(AskResult::Connect).is_some())
    }
}

/// A judged step.
pub(crate) const fn step(kind: StepKind, found: StepResult, message: StepMessage) -> Step {
    Step { kind, found, message }
}

/// Judges what was seen.
pub fn judge(observed: &Observations, map: &OwnerMap, known: &Context) -> Diagnosis {
    let swept = route::assess(observed);
    let sure = |it: &Assessment| it.finding.as_ref().map_or(0, |finding| finding.confidence_ppm);
    let by_schedule =
        swept.as_ref().zip(known.path.as_ref()).is_some_and(|(now, then)| sure(then) > sure(now));
    let assessment = swept.filter(|_| !by_schedule).or_else(|| known.path.clone());
    let seen = Evidence { observed, map, assessment, by_schedule, back: known.back };
    let mut steps = host::steps(&seen);
    steps.extend(route::steps(&seen));
    steps.extend(target::steps(&seen));
    steps.extend(return_route::steps(&seen));
    steps.sort_by_key(|step| step.kind);
    let part = part(&steps, &seen);
    let conclusion = conclusion(&steps, part, &seen);
    Diagnosis { steps, part, conclusion }
}

/// First part at fault.
fn part(steps: &[Step], seen: &Evidence<'_>) -> Part {
    let Some(first) = steps.iter().find(|step| step.found == StepResult::Broken) else {
        return Part::Nothing;
    };
    match first.kind {
        StepKind::OwnStack | StepKind::OwnLink | StepKind::OwnAddress => Part::Machine,
        StepKind::Gateway => Part::Site,
        StepKind::Resolvers | StepKind::Name => Part::Names,
        StepKind::FirstHops if route::is_inside_site(seen) => Part::Site,
        StepKind::FirstHops
        | StepKind::ProviderEdge
        | StepKind::Boundary
        | StepKind::ReturnRoute => Part::Network,
        // Full-sized packets are lost on the path, whichever side waits.
        StepKind::Application if seen.loses_large() => Part::Network,
        StepKind::TargetEcho | StepKind::TargetConnect | StepKind::Tls | StepKind::Application => {
            Part::Service
        }
    }
}

/// State of the route to the target and of its return, whatever else is broken: not known to be
/// clean where echoes of the target are missing.
fn route_state(steps: &[Step], seen: &Evidence<'_>) -> StepResult {
    let of_route = |kind| {
        matches!(
            kind,
            StepKind::FirstHops
                | StepKind::ProviderEdge
                | StepKind::Boundary
                | StepKind::ReturnRoute
        )
    };
    let found = steps.iter().filter(|step| of_route(step.kind)).map(|step| step.found);
    let known = found.filter(|found| matches!(found, StepResult::Clean | StepResult::Broken));
    let loses = |it: &Assessment| it.end_lost > 0 && it.end_lost < it.end_sent;
    match known.max().unwrap_or(StepResult::Unknown) {
        StepResult::Clean if seen.assessment.as_ref().is_some_and(loses) => StepResult::Unknown,
        known => known,
    }
}

/// Advice, by the first part and step at fault.
const fn advice(part: Part, broken: Option<StepKind>) -> Advice {
    match (part, broken) {
        (Part::Machine, Some(StepKind::OwnLink)) => Advice::CheckLink,
        (Part::Machine, _) => Advice::CorrectHost,
        (Part::Site, _) => Advice::CheckSite,
        (Part::Names, Some(StepKind::Resolvers)) => Advice::ReplaceResolver,
        (Part::Names, _) => Advice::ReportName,
        (Part::Network, Some(StepKind::Application)) => Advice::AskForMtu,
        (Part::Network, _) => Advice::CallProvider,
        (Part::Service, _) => Advice::ReportService,
        (Part::Nothing | Part::Itinera, _) => Advice::ReportProblem,
    }
}

/// What is broken, what was excluded, what to do.
fn conclusion(steps: &[Step], part: Part, seen: &Evidence<'_>) -> Conclusion {
    let first = steps.iter().find(|step| step.found == StepResult::Broken);
    let kinds = |found: StepResult, wanted: &dyn Fn(StepKind) -> bool| -> Vec<StepKind> {
        let of = steps.iter().filter(|step| step.found == found && wanted(step.kind));
        of.map(|step| step.kind).collect()
    };
    let broken = first.map(|step| step.kind);
    Conclusion {
        target: seen.observed.target.clone(),
        broken,
        also_broken: kinds(StepResult::Broken, &|kind| broken.is_some_and(|first| kind > first)),
        excluded: kinds(StepResult::Clean, &|kind| broken.is_none_or(|first| kind < first)),
        route: route_state(steps, seen),
        advice: advice(part, broken),
    }
}
