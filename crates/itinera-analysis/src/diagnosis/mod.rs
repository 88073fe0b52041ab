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
use itinera_model::diagnosis::{AskResult, Diagnosis, Observations, Part, Rung, Step, StepResult};
use itinera_model::finding::Assessment;
use itinera_model::owner::OwnerMap;

pub use text::text;

/// Packets on the way back, as the two ends count them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WayBack {
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
    /// The way back, where an agent sits at the other end.
    pub back: Option<WayBack>,
}

/// Everything that steps are judged by.
pub(crate) struct Evidence<'a> {
    pub(crate) observed: &'a Observations,
    pub(crate) map: &'a OwnerMap,
    /// What the sweep says, or the schedule; absent where neither looked.
    pub(crate) assessment: Option<Assessment>,
    /// The schedule says it, though there was a sweep.
    pub(crate) by_schedule: bool,
    pub(crate) back: Option<WayBack>,
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

/// A step with its words.
pub(crate) fn step(rung: Rung, found: StepResult, words: impl Into<String>) -> Step {
    Step { rung, found, words: words.into() }
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
    steps.sort_by_key(|step| step.rung);
    let part = part(&steps, &seen);
    let sentence = sentence(&steps, part, &seen);
    Diagnosis { steps, part, sentence }
}

/// First part at fault.
fn part(steps: &[Step], seen: &Evidence<'_>) -> Part {
    let Some(first) = steps.iter().find(|step| step.found == StepResult::Broken) else {
        return Part::Nothing;
    };
    match first.rung {
        Rung::OwnStack | Rung::OwnLink | Rung::OwnAddress => Part::Machine,
        Rung::Gateway => Part::Site,
        Rung::Resolvers | Rung::Name => Part::Names,
        Rung::FirstHops if route::is_inside_site(seen) => Part::Site,
        Rung::FirstHops | Rung::ProviderEdge | Rung::Boundary | Rung::WayBack => Part::Network,
        // Full-sized packets are lost on the way, whoever it is that hangs.
        Rung::Application if seen.loses_large() => Part::Network,
        Rung::TargetEcho | Rung::TargetConnect | Rung::Tls | Rung::Application => Part::Service,
    }
}

/// How the way to the target and back is, whatever else is broken: not known to be good where
/// echoes of the target are missing.
fn way(steps: &[Step], seen: &Evidence<'_>) -> StepResult {
    let of_way = |rung| {
        matches!(rung, Rung::FirstHops | Rung::ProviderEdge | Rung::Boundary | Rung::WayBack)
    };
    let way = steps.iter().filter(|step| of_way(step.rung)).map(|step| step.found);
    let known = way.filter(|found| matches!(found, StepResult::Clean | StepResult::Broken));
    let loses = |it: &Assessment| it.end_lost > 0 && it.end_lost < it.end_sent;
    match known.max().unwrap_or(StepResult::Unknown) {
        StepResult::Clean if seen.assessment.as_ref().is_some_and(loses) => StepResult::Unknown,
        known => known,
    }
}

/// Advice, by the first part and step at fault, and by the state of the route.
fn advice(part: Part, rung: Option<Rung>, way: StepResult) -> String {
    let advice = match (part, rung) {
        (Part::Machine, Some(Rung::OwnLink)) => {
            "look at this machine's cable, optic or radio and at the switch port before anything else"
        }
        (Part::Machine, _) => "mend this machine's own configuration first",
        (Part::Site, _) => "look at the site's gateway and inner network; no provider can help yet",
        (Part::Names, Some(Rung::Resolvers)) => {
            "have that resolver mended or take it out of this machine's configuration"
        }
        (Part::Names, _) => "report it to the operator of the resolver or of the name",
        (Part::Network, Some(Rung::Application)) => {
            "ask the carrier for the place where packets over its MTU are dropped"
        }
        (Part::Network, _) => "call the access provider, with these lines",
        (Part::Service, _) => "report it to the operator of the service",
        (Part::Nothing, _) => {
            "find out when it last happened and report a problem: the measurements of that time are attached"
        }
    };
    let network = match (part, way) {
        (Part::Names, StepResult::Clean) => "; the network path is not at fault",
        (Part::Service, StepResult::Clean) => "; the network path works",
        (Part::Names | Part::Service, StepResult::Broken) => {
            ", and call the access provider about the network path, which is broken too"
        }
        _ => "",
    };
    format!("{advice}{network}")
}

/// One sentence: what is broken, what was excluded, what to do.
fn sentence(steps: &[Step], part: Part, seen: &Evidence<'_>) -> String {
    let first = steps.iter().find(|step| step.found == StepResult::Broken);
    let before = steps.iter().filter(|step| first.is_none_or(|first| step.rung < first.rung));
    let listed = |steps: Vec<&Step>| {
        let all: Vec<String> = steps.iter().map(|step| step.rung.to_string()).collect();
        (!all.is_empty()).then(|| all.join(", "))
    };
    let excluded = match listed(before.filter(|step| step.found == StepResult::Clean).collect()) {
        None => "nothing could be excluded".to_owned(),
        Some(some) => format!("excluded: {some}"),
    };
    let behind = steps.iter().filter(|step| first.is_some_and(|first| step.rung > first.rung));
    let also = listed(behind.filter(|step| step.found == StepResult::Broken).collect());
    let also = also.map_or_else(String::new, |also| format!(", and behind it {also}"));
    let advice = advice(part, first.map(|step| step.rung), way(steps, seen));
    match first {
        Some(first) => {
            let words = first.words.trim_end_matches('.');
            format!("Broken: {} ({words}){also}; {excluded}; to do: {advice}.", first.rung)
        }
        None => format!(
            "Nothing is broken between this machine and {} now; {excluded}; to do: {advice}.",
            seen.observed.target
        ),
    }
}
