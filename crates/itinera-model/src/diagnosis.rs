//! The diagnosis: observations between a machine's own stack and a service.

use crate::check::{Ask, CheckResult, Resolved};
use crate::diagnosis_message::{Advice, StepMessage};
use crate::host_facts::{Echoes, HostFacts};
use crate::id::DiagnosisId;
use crate::path::Family;
use crate::round_set::RoundSet;
use crate::unit::{Micros, WallTime};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// The steps diagnosis, nearest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// The machine speaks with itself.
    OwnStack,
    /// The interface that leads there.
    OwnLink,
    /// An address and a route.
    OwnAddress,
    /// The gateway.
    Gateway,
    /// The machine's resolvers.
    Resolvers,
    /// The target's name.
    Name,
    /// The hops of the site and its access provider.
    FirstHops,
    /// The first link into another network than the site's.
    ProviderEdge,
    /// What lies behind the provider, boundary by boundary.
    Boundary,
    /// The target answers echo.
    TargetEcho,
    /// It accepts connections.
    TargetConnect,
    /// TLS is agreed.
    Tls,
    /// It does what it is there for.
    Application,
    /// The return route, measured from the other end.
    #[serde(alias = "way-back")]
    ReturnRoute,
}

/// How a step was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StepResult {
    /// As it should be.
    Clean,
    /// Something to know, which need not be the fault.
    Noted,
    /// Broken, or bad enough to complain of.
    Broken,
    /// Could not be looked at, or tells nothing.
    Unknown,
}

/// A question and what came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AskResult {
    /// What was asked.
    pub ask: Ask,
    /// What came of it.
    pub result: CheckResult,
}

/// Every observation of a diagnosis, before judgement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Observations {
    /// What was to be reached, as it was given.
    pub target: String,
    /// Its name; absent where it was given by address.
    pub name: Option<String>,
    /// The address that was found and used.
    pub address: Option<IpAddr>,
    /// When it began, by the machine's clock.
    pub began: WallTime,
    /// How long it took.
    pub took_us: Micros,
    /// Whether the machine could speak with itself; absent where that was not tried.
    pub own_stack: Option<bool>,
    /// Host facts at the beginning.
    pub before: Option<HostFacts>,
    /// And at the end: what its interfaces have counted meanwhile.
    pub after: Option<HostFacts>,
    /// The gateway.
    pub gateway: Option<Echoes>,
    /// Whether the machine's resolvers answer at all.
    pub resolvers: Vec<Resolved>,
    /// What they say of the target's name; absent where it was given by address.
    pub names: Option<CheckResult>,
    /// The hops.
    pub sweep: Option<RoundSet>,
    /// Why hops could not be looked at.
    pub not_swept: Option<String>,
    /// Connection, TLS and application, as far as wanted.
    pub asked: Vec<AskResult>,
    /// Echo from each of the machine's addresses, where it has several.
    #[serde(default)]
    pub sources: Vec<FromSource>,
}

/// A user's request for a diagnosis by an agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiagnosisTask {
    /// Its name.
    pub id: DiagnosisId,
    /// What is to be reached, in the user's words.
    pub target: String,
    /// The target's address; absent where it has a name.
    pub address: Option<IpAddr>,
    /// Its name.
    pub name: Option<String>,
    /// Over which version of IP.
    pub family: Family,
    /// Connection, TLS and application, nearest first.
    pub asks: Vec<Ask>,
    /// The result is not awaited after this, by the service's clock.
    pub not_after: WallTime,
}

/// What an agent says of an order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiagnosisReport {
    /// Which.
    pub id: DiagnosisId,
    /// What.
    pub word: DiagnosisUpdate,
}

/// How far an order is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DiagnosisUpdate {
    /// A step is being looked at.
    Looking(StepKind),
    /// So many rounds of the hops are done, of so many.
    Swept(u8, u8),
    /// It is done.
    Done(Box<Observations>),
    /// It could not be done, in words.
    Failed(String),
}

/// Answers to one source address of a machine that has several.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FromSource {
    /// The machine's address.
    pub source: IpAddr,
    /// Sent from there.
    pub sent: u32,
    /// Answered to there.
    pub answered: u32,
}

/// One step, judged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    /// Which.
    pub kind: StepKind,
    /// How it was found.
    pub found: StepResult,
    /// What it says.
    pub message: StepMessage,
}

/// A part at fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// No part: nothing was found broken.
    Nothing,
    /// The machine's own, or its link's.
    Machine,
    /// The site's: gateway, inner hops.
    Site,
    /// That of resolvers, or of the name.
    Names,
    /// The network between site and target.
    Network,
    /// The target's, or the service's on it.
    Service,
    /// Itinera's own.
    Itinera,
}

/// What a diagnosis concludes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Conclusion {
    /// The target, as it was given.
    pub target: String,
    /// First broken step; absent where none is.
    pub broken: Option<StepKind>,
    /// Broken steps behind it.
    pub also_broken: Vec<StepKind>,
    /// Steps before it that are clean.
    pub excluded: Vec<StepKind>,
    /// State of the route to the target and of its return.
    pub route: StepResult,
    /// What to do.
    pub advice: Advice,
}

/// A finished diagnosis.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Diagnosis {
    /// Its steps, nearest first.
    pub steps: Vec<Step>,
    /// First part at fault.
    pub part: Part,
    /// What is broken, what was excluded, what to do.
    pub conclusion: Conclusion,
}

/// Bytes of a text, and items of a list.
const MAX_TEXT: usize = 400;
const MAX_ITEMS: usize = 64;

impl DiagnosisReport {
    /// True while nothing in it is longer than any agent makes it.
    pub fn is_bounded(&self) -> bool {
        let short = |text: &str| text.len() <= MAX_TEXT;
        match &self.word {
            DiagnosisUpdate::Looking(_) | DiagnosisUpdate::Swept(..) => true,
            DiagnosisUpdate::Failed(why) => short(why),
            DiagnosisUpdate::Done(seen) => {
                let host_facts = [&seen.before, &seen.after];
                let listed = [seen.resolvers.len(), seen.asked.len(), seen.sources.len()];
                let results = seen.asked.iter().map(|one| &one.result).chain(&seen.names);
                short(&seen.target)
                    && seen.name.as_deref().is_none_or(short)
                    && seen.not_swept.as_deref().is_none_or(short)
                    && host_facts.into_iter().flatten().all(HostFacts::is_bounded)
                    && listed.into_iter().all(|length| length <= MAX_ITEMS)
                    && results.into_iter().all(CheckResult::is_bounded)
                    && seen.sweep.as_ref().is_none_or(|sweep| sweep.check().is_ok())
            }
        }
    }
}

impl fmt::Display for StepKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::OwnStack => "own stack",
            Self::OwnLink => "own link",
            Self::OwnAddress => "own address",
            Self::Gateway => "gateway",
            Self::Resolvers => "resolvers",
            Self::Name => "name resolution",
            Self::FirstHops => "first hops",
            Self::ProviderEdge => "provider edge",
            Self::Boundary => "boundaries",
            Self::TargetEcho => "target by echo",
            Self::TargetConnect => "target by TCP",
            Self::Tls => "TLS",
            Self::Application => "application",
            Self::ReturnRoute => "return route",
        })
    }
}
