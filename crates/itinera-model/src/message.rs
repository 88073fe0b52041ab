//! Messages: what judgement, events and complaints say, as a code with typed parameters.
//!
//! A message holds no sentence. The catalogue of `itinera-analysis` renders each code as headline,
//! contact line and detail. Units: delays in microseconds (`_us`), ratios from 0 to 1, rates in
//! bits or bytes per second.

use crate::check::{AskKind, Step, Why};
use crate::finding::{Cause, FaultDirection, Place, Reason};
use crate::host_facts::LocalAction;
use crate::self_alarm::{
    Backlog, DiskSpace, FailingDuty, FailingReceiver, LateAgents, SetAsideCommits,
};
use crate::unit::Ratio;
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};

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

/// State of the path to a server while the server was checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum PathState {
    /// No fault on it.
    Clean {
        /// Probes sent.
        sent: u32,
        /// Of those, lost.
        lost: u32,
    },
    /// It loses or delays packets.
    Faulty {
        /// Probes sent.
        sent: u32,
        /// Of those, lost.
        lost: u32,
        /// True where that explains what the check saw.
        explains: bool,
    },
    /// Not measured.
    Unknown,
}

/// The same check from other sites.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Elsewhere {
    /// Other sites with this check.
    pub sites: u32,
    /// Of those, sites where it succeeds.
    pub working: u32,
}

/// A check that fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CheckFailure {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// The server that was asked; absent where no connection was tried.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub server: Option<SocketAddr>,
    /// Kind of check.
    pub check: AskKind,
    /// The step that failed.
    pub step: Step,
    /// Why.
    pub why: Why,
    /// HTTP status, where that is why.
    pub status: Option<u16>,
    /// True where a resolver of the site returns a wrong address for the server's name.
    pub wrong_address: bool,
    /// The path to the server.
    pub path: PathState,
    /// The same check from other sites.
    pub elsewhere: Elsewhere,
}

/// A check that succeeds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CheckSuccess {
    /// The target's name.
    pub target: String,
    /// Time that all steps took.
    pub took_us: u32,
    /// HTTP status.
    pub status: Option<u16>,
    /// Bytes per second of a transfer.
    pub bytes_per_s: Option<u64>,
    /// The name that was asked for, of a DNS check.
    pub name: Option<String>,
    /// Its addresses.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub addresses: Vec<IpAddr>,
    /// The path to the server.
    pub path: PathState,
}

/// Full-sized packets that do not reach a server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LargePacketLoss {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// The server.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub server: Option<SocketAddr>,
    /// The path to the server.
    pub path: PathState,
    /// The same check from other sites.
    pub elsewhere: Elsewhere,
}

/// A name that does not resolve.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct NameFailure {
    /// The name.
    pub name: String,
    /// The agent's site.
    pub site: String,
    /// The resolver that failed; absent where none answered.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub resolver: Option<IpAddr>,
    /// Why.
    pub why: Why,
}

/// A stale DNS answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct StaleAnswer {
    /// The name.
    pub name: String,
    /// The agent's site.
    pub site: String,
    /// The resolver.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub resolver: IpAddr,
    /// What it returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub returned: Vec<IpAddr>,
    /// The authoritative server.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub authority: IpAddr,
    /// What that returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub current: Vec<IpAddr>,
}

/// One resolver's answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ResolverAnswer {
    /// The resolver.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub resolver: IpAddr,
    /// What it returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub addresses: Vec<IpAddr>,
    /// Why it returns nothing.
    pub why: Option<Why>,
}

/// Resolvers that return different addresses.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DifferentAnswers {
    /// The name.
    pub name: String,
    /// The agent's site.
    pub site: String,
    /// What each resolver returns.
    pub answers: Vec<ResolverAnswer>,
}

/// A late first byte.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LateAnswer {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// Time to the first byte.
    pub first_byte_us: u32,
    /// Its usual value; absent before it is learned.
    pub usual_us: Option<u32>,
    /// Time to open the connection.
    pub connect_us: Option<u32>,
    /// The path to the server.
    pub path: PathState,
    /// The same check from other sites.
    pub elsewhere: Elsewhere,
}

/// A slow transfer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SlowTransfer {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// Bytes per second.
    pub bytes_per_s: u64,
    /// Its usual value; absent before it is learned.
    pub usual_bytes_per_s: Option<u64>,
    /// Time to the first byte.
    pub first_byte_us: Option<u32>,
    /// The path to the server.
    pub path: PathState,
}

/// Throughput under its limit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LowThroughput {
    /// Site of the sending agent.
    pub from: String,
    /// Site of the receiving agent.
    pub to: String,
    /// Protocol.
    pub protocol: String,
    /// Bits per second; absent where nothing arrived.
    pub bits_per_s: Option<u64>,
    /// The limit in bits per second.
    pub limit_bits_per_s: u64,
    /// Measurements in a row under it.
    pub times: u32,
}

/// Receive errors of an interface.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ReceiveErrorCounts {
    /// The agent's site.
    pub site: String,
    /// The interface.
    pub interface: String,
    /// Frames with errors.
    pub errors: u64,
    /// All frames received.
    pub frames: u64,
    /// Length of time in seconds.
    pub seconds: u64,
}

/// Direction of traffic at an interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TrafficDirection {
    /// Received.
    Inbound,
    /// Sent.
    Outbound,
}

/// Use of an agent's own link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LinkUse {
    /// The agent's site.
    pub site: String,
    /// The interface.
    pub interface: String,
    /// The direction that is saturated.
    pub direction: TrafficDirection,
    /// Share of its speed in use.
    pub used: Ratio,
    /// Its speed in megabits per second.
    pub speed_mbit_s: u32,
    /// Length of time in seconds.
    pub seconds: u64,
}

/// Lateness of an agent's own program.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HostLateness {
    /// The agent's site.
    pub site: String,
    /// 95th percentile.
    pub p95_us: u32,
    /// Timers and packets that it is estimated from.
    pub samples: u64,
}

/// An agent that reports nothing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SilentAgent {
    /// The agent's site.
    pub site: String,
    /// For how long, when it was noticed.
    pub seconds: u32,
}

/// A fact about an agent's host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HostFact {
    /// The host's name.
    HostName,
    /// The IPv4 gateway.
    Ipv4Gateway,
    /// The IPv6 gateway.
    Ipv6Gateway,
    /// The list of resolvers.
    Resolvers,
    /// An interface.
    Interface,
    /// Speed of an interface.
    Speed,
    /// Duplex mode of an interface.
    Duplex,
    /// State of an interface.
    State,
    /// Addresses of an interface.
    Addresses,
    /// The interface by which packets to some targets leave.
    Route,
    /// The switch port that the host is attached to.
    Switch,
    /// The device that answers for the gateway's address.
    GatewayDevice,
    /// The access networks.
    AccessNetwork,
}

/// A change of a host fact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HostChange {
    /// The agent's site.
    pub site: String,
    /// The fact.
    pub fact: HostFact,
    /// The interface, or the targets, that it is about.
    pub subject: Option<String>,
    /// Its value before; absent where there was none.
    pub before: Option<String>,
    /// Its value now; absent where there is none.
    pub after: Option<String>,
}

/// An action of an agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TakenAction {
    /// The agent's site.
    pub site: String,
    /// The action.
    pub action: LocalAction,
}

/// One deviation from the intended route.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum RouteDeviation {
    /// It passes other owners.
    Owners {
        /// Names of the owners that it passes.
        taken: Vec<String>,
        /// AS numbers of the intended ones.
        intended: Vec<u32>,
    },
    /// It does not pass a tunnel, and should.
    TunnelMissing,
    /// It passes a tunnel, and should not.
    TunnelTaken,
    /// The DSCP is rewritten.
    DscpRewritten {
        /// As sent.
        sent: u8,
        /// As it arrives.
        arrived: u8,
    },
}

/// A route that is not the intended one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RouteDeviations {
    /// The agent's site.
    pub site: String,
    /// The target's name.
    pub target: String,
    /// The kind of packets.
    pub packets: String,
    /// How it deviates.
    pub deviations: Vec<RouteDeviation>,
}

/// What a path is to a complaint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Relation {
    /// From the site to the service complained of.
    Own,
    /// From the same site to another service.
    SameSite,
    /// From another site to the same service.
    SameService,
}

/// Paths that were measured, and those of them that had a fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FaultyPaths {
    /// Paths that were measured.
    pub measured: u32,
    /// Of those, with a fault.
    pub faulty: u32,
}

impl FaultyPaths {
    /// True where paths were measured and all of them had a fault.
    pub const fn all(&self) -> bool {
        self.measured > 0 && self.faulty == self.measured
    }
}

/// The place that most of some faulty paths have in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CommonPlace {
    /// The place.
    pub place: Place,
    /// Class of fault.
    pub cause: Cause,
    /// Faulty paths that name it.
    pub naming: u32,
    /// Faulty paths with a finding.
    pub of: u32,
}

/// What was measured around the time of a complaint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComplaintFacts {
    /// The site.
    pub site: String,
    /// The service.
    pub service: String,
    /// Paths from the site to the service.
    pub own: FaultyPaths,
    /// Paths from the site to other services.
    pub same_site: FaultyPaths,
    /// Paths from other sites to the service.
    pub same_service: FaultyPaths,
    /// Where most faulty paths have their fault.
    pub common: Option<CommonPlace>,
}

/// Words of an earlier version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RecordedWords {
    /// The words.
    pub words: String,
}
