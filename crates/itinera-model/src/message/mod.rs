//! Messages: what judgement, events and complaints say, as a code with typed parameters.
//!
//! A message holds no sentence. The catalogue of `itinera-analysis` renders each code as headline,
//! contact line and detail. Units: delays in microseconds (`_us`), ratios from 0 to 1, rates in
//! bits or bytes per second.

mod check;
mod complaint;
mod host;
mod pair;

pub use check::{
    CheckFailure, CheckSuccess, DifferentAnswers, Elsewhere, LargePacketLoss, LateAnswer,
    NameFailure, PathState, ResolverAnswer, SlowTransfer, StaleAnswer,
};
pub use complaint::{CommonPlace, ComplaintFacts, FaultyPaths, Relation};
pub use host::{
    HostChange, HostFact, HostLateness, LinkUse, LowThroughput, ReceiveErrorCounts, RouteDeviation,
    RouteDeviations, SilentAgent, TakenAction, TrafficDirection,
};
pub use pair::{OneWayLoss, UnansweredPair};

use crate::finding::{FaultDirection, Place, Reason};
use crate::self_alarm::{
    Backlog, DiskSpace, FailingDuty, FailingReceiver, LateAgents, SetAsideCommits,
};
use crate::unit::Ratio;
use serde::{Deserialize, Serialize};

/// A code with its parameters.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "code", content = "parameters", rename_all = "kebab-case")]
pub enum Message {
    /// Packets are lost at a place.
    LossLocated(LocatedFault),
    /// Packets are delayed at a place.
    DelayLocated(LocatedFault),
    /// No packet passes a place.
    BreakLocated(LocatedFault),
    /// Packets take a wrong route from a place on.
    MisroutingLocated(LocatedFault),
    /// No loss or added delay begins on a path.
    PathClean(PathCounts),
    /// No hop of a path answers.
    NoHopAnswers(PathCounts),
    /// The target does not answer, and no fault begins before it.
    TargetSilent(PathCounts),
    /// A path has not been measured.
    NotMeasured,
    /// Hops limit the rate of their own answers.
    HopsRateLimited(HopList),
    /// Hops never answer, and traffic passes them.
    HopsSilent(HopList),
    /// One result of a check is as expected.
    CheckSucceeded(CheckSuccess),
    /// One result of a check is a failure.
    CheckFailed(CheckFailure),
    /// A check has never succeeded.
    CheckMismatch(CheckFailure),
    /// A check of a service fails.
    ServiceFailed(CheckFailure),
    /// Full-sized packets are lost on the route to a service.
    MtuBlackHole(LargePacketLoss),
    /// A name does not resolve.
    NameUnresolved(NameFailure),
    /// A resolver returns an address that the name no longer has.
    DnsStale(StaleAnswer),
    /// Resolvers return different addresses, and none is authoritative.
    DnsDisagree(DifferentAnswers),
    /// The first byte of a service's answer is late.
    ServiceSlow(LateAnswer),
    /// A service's content arrives slowly.
    TransferSlow(SlowTransfer),
    /// Throughput between two agents is under its limit.
    ThroughputLow(LowThroughput),
    /// Packets are lost in one direction between two agents.
    PairLoss(OneWayLoss),
    /// Two agents do not get packets from each other.
    PairUnreachable(UnansweredPair),
    /// An agent's interface counts receive errors.
    ReceiveErrors(ReceiveErrorCounts),
    /// An agent's own link is saturated.
    LinkSaturated(LinkUse),
    /// An agent's host is busy.
    HostBusy(HostLateness),
    /// An agent reports nothing.
    AgentSilent(SilentAgent),
    /// A host fact of an agent has changed.
    HostFactsChanged(HostChange),
    /// A cut-off agent took the action that its site permits.
    LocalActionTaken(TakenAction),
    /// Packets take another route than the intended one.
    RouteNotIntended(RouteDeviations),
    /// Measurements are judged late.
    JudgementBehind(Backlog),
    /// Judgement fails on commits.
    CommitsSetAside(SetAsideCommits),
    /// A duty of the service is not done.
    DutyFailing(FailingDuty),
    /// Little room is left for the database.
    DiskLow(DiskSpace),
    /// No room is left for the database.
    DiskFull(DiskSpace),
    /// Many agents report late.
    AgentsLate(LateAgents),
    /// A receiver does not get its notices.
    DeliveriesFailing(FailingReceiver),
    /// A complaint about a time at which nothing was measured.
    ComplaintNotMeasured(ComplaintFacts),
    /// A complaint while the network was clean.
    ComplaintNetworkClean(ComplaintFacts),
    /// A complaint while every service had faults from that site.
    ComplaintSite(ComplaintFacts),
    /// A complaint while every site had faults to that service.
    ComplaintService(ComplaintFacts),
    /// A complaint while some paths had faults.
    ComplaintSharedPart(ComplaintFacts),
    /// An incident to which nothing belongs.
    NothingAttached,
    /// Words that were recorded before messages had codes.
    Recorded(RecordedWords),
}

/// A fault with its place, over all paths that show it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LocatedFault {
    /// Place at fault.
    pub place: Place,
    /// Direction of packets that have it.
    pub direction: FaultDirection,
    /// Loss ratio; absent for added delay. The highest so far where the fault has cleared.
    pub loss: Option<LossEstimate>,
    /// Added delay; absent for loss. The highest so far where the fault has cleared.
    pub added_delay_us: Option<u32>,
    /// Probability of this cause at this place.
    pub confidence: Ratio,
    /// Paths that show it; of a cleared fault, that have shown it.
    pub paths: u32,
    /// True where both versions of IP show it.
    pub both_versions: bool,
    /// Places that the present agents and targets cannot tell from this one.
    pub indistinguishable: Vec<Place>,
    /// What speaks for it and against it.
    pub reasons: Vec<Reason>,
}

/// A loss ratio with what it was estimated from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LossEstimate {
    /// The estimate.
    pub ratio: Ratio,
    /// Lower end of its 95 % interval; absent where no counts were recorded.
    pub low: Option<Ratio>,
    /// Upper end of it.
    pub high: Option<Ratio>,
}

/// Probes of a path over some time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PathCounts {
    /// Probes to the target; to all hops where none answers.
    pub sent: u32,
    /// Of those, answered.
    pub answered: u32,
    /// Length of time in seconds.
    pub span_s: u32,
}

/// Some hops of a path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HopList {
    /// Their hop limits.
    pub hops: Vec<u8>,
}

/// Words of an earlier version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RecordedWords {
    /// The words.
    pub words: String,
}
