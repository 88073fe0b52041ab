//! Notes: what measurements of one path, pair, watch or machine show apart from faults, as a code
//! with typed parameters.
//!
//! A note holds no sentence. The catalogue of `itinera-analysis` renders each code as one text.
//! Units: delays in microseconds (`_us`), ratios from 0 to 1, rates in bits per second.

use crate::ensemble::Balancing;
use crate::finding::LossCounts;
use crate::message::{Message, RecordedWords};
use crate::path::Family;
use crate::path_mtu::MtuLimit;
use crate::self_alarm::DiskSpace;
use crate::throughput::By;
use crate::two_way::Fitness;
use crate::unit::Ratio;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// A code with its parameters.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "code", content = "parameters", rename_all = "kebab-case")]
pub enum Note {
    /// A router rewrites the DSCP of probes.
    DscpRewritten(RewrittenDscp),
    /// The source addresses of probes are translated.
    SourceTranslated(TranslatedSource),
    /// Hops did not decrease the hop limit, as inside a tunnel.
    HopsHidden(HiddenHops),
    /// Packets arrive at a hop with MPLS labels.
    MplsLabels(LabelStack),
    /// The target accepts connections.
    PortOpen(HopAt),
    /// The target refuses connections.
    PortRefused(HopAt),
    /// The target answers datagrams.
    PortAnswers(HopAt),
    /// Hops refused to forward probes.
    ProbesRefused(Refusals),
    /// One route is in use.
    SingleRoute(Enumeration),
    /// Several member routes are in use.
    MemberRoutes(Enumeration),
    /// Rounds use several flows in turn.
    FlowsInTurn(FlowCount),
    /// A router balances traffic over several next hops.
    TrafficBalanced(LoadBalancer),
    /// The enumeration of routes stopped at its limit of flows.
    FlowLimitReached,
    /// The target answers no probe of the search for the MTU.
    PathMtuUnknown,
    /// The path MTU, and what limits it.
    PathMtu(FoundMtu),
    /// Packets of one size are answered, larger ones are not.
    LargerUnanswered(SizePair),
    /// Larger packets take longer.
    LargerSlower(SizeDelay),
    /// A path was not measured in the time asked for.
    NothingMeasured,
    /// Loss to the target over some rounds.
    TargetLoss(TargetLoss),
    /// Round-trip delay to the target.
    TargetDelay(DelayQuantiles),
    /// No probe was answered.
    NothingAnswered,
    /// Several routes were used one after the other.
    RoutesUsed(RouteCount),
    /// The worst finding of a watch.
    WorstFinding(Box<Message>),
    /// A watch located no fault.
    NoFaultLocated,
    /// The disk of the service has little room: what can be made up for later waits.
    DiskLow(DiskSpace),
    /// The disk of the service is full: agents keep their measurements.
    DiskFull(DiskSpace),
    /// No packets were exchanged between two agents.
    NothingExchanged,
    /// Two agents cannot reach each other.
    PairUnreachable(PairCounts),
    /// Neither direction of a pair loses much.
    PairLossNone(PairLoss),
    /// The forward direction of a pair loses packets.
    PairLossForward(PairLoss),
    /// The return direction of a pair loses packets.
    PairLossReturn(PairLoss),
    /// Both directions of a pair lose packets.
    PairLossBoth(PairLoss),
    /// Packets were not answered, and the direction of the loss is unknown.
    DirectionUnknown(PacketCount),
    /// The DSCP of packets between two agents is rewritten.
    PairDscpRewritten(PairDscp),
    /// Packets between two agents arrive twice or out of order.
    PacketsDisordered(Disorder),
    /// A clock was set while a pair was measured.
    ClockSet,
    /// The clocks of a pair are not synchronised.
    ClocksNotSynchronised,
    /// The rating of one direction for voice.
    VoiceRated(VoiceRating),
    /// Agents did not measure throughput in time.
    ThroughputLate,
    /// A measurement of throughput waits, or runs.
    ThroughputWaiting,
    /// A measurement of throughput failed.
    ThroughputFailed(FailedThroughput),
    /// The result of a measurement of throughput.
    ThroughputMeasured(MeasuredThroughput),
    /// An agent has not reported host facts.
    NoHostFacts,
    /// An interface has no carrier.
    NoCarrier(InterfaceName),
    /// An interface is wireless.
    WirelessInterface(InterfaceName),
    /// An interface is half duplex.
    HalfDuplex(InterfaceName),
    /// A wired interface negotiated less than 1 Gb/s.
    LowSpeed(InterfaceSpeed),
    /// An interface is a tunnel.
    TunnelInterface(TunnelUse),
    /// A machine has no resolver.
    NoResolver,
    /// A machine has no gateway.
    NoGateway,
    /// A switch announces itself on an interface.
    AttachedTo(Attachment),
    /// The network that most paths of an agent enter first.
    AccessNetwork(NetworkName),
    /// A gateway that was used before had a lower delay.
    BetterGateway(GatewayPair),
    /// Words that were recorded before notes had codes.
    Recorded(RecordedWords),
}

/// A hop of a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HopAt {
    /// Its hop limit, from 1.
    pub hop: u16,
    /// Its address; absent for a silent one.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub address: Option<IpAddr>,
}

/// A DSCP that changes on the route.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RewrittenDscp {
    /// The first hop that quotes the new value.
    pub seen_at: HopAt,
    /// The last hop that quotes the old value; absent where none does.
    pub after: Option<HopAt>,
    /// The old value.
    pub before: u8,
    /// The new value.
    pub now: u8,
}

/// A translated source address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TranslatedSource {
    /// The first hop that quotes it.
    pub seen_at: HopAt,
    /// The address that the hop sees.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub source: IpAddr,
}

/// Hops that did not decrease the hop limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HiddenHops {
    /// The hop with the answer that shows it.
    pub seen_at: HopAt,
    /// How many.
    pub hidden: u8,
}

/// MPLS labels (RFC 4950).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LabelStack {
    /// The hop that quotes them.
    pub seen_at: HopAt,
    /// From the top of the stack on.
    pub labels: Vec<u32>,
}

/// Answers "unreachable" of one kind from one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Refusals {
    /// The answering address; absent where it is unknown.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub by: Option<IpAddr>,
    /// Version of IP.
    pub family: Family,
    /// The ICMP code of the answers.
    pub icmp_code: u8,
    /// How many.
    pub count: u32,
}

/// Result of an enumeration of member routes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Enumeration {
    /// Member routes found.
    pub members: u32,
    /// Probability that one more exists behind a hop.
    pub missed: Ratio,
    /// Probes sent.
    pub probes: u32,
}

/// Flows that rounds use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FlowCount {
    /// How many.
    pub flows: u64,
}

/// A load balancer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadBalancer {
    /// Hop limit of the first routers behind it.
    pub hop: u8,
    /// Its address; absent for a silent one.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub address: Option<IpAddr>,
    /// By flow or by packet.
    pub balancing: Balancing,
    /// The first addresses behind it.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub next: Vec<IpAddr>,
}

/// A path MTU.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FoundMtu {
    /// Largest packet that passes, in bytes.
    pub mtu_bytes: u16,
    /// What limits it.
    pub limit: MtuLimit,
}

/// Two sizes of packets, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SizePair {
    /// The smaller one.
    pub small_bytes: u16,
    /// The larger one.
    pub large_bytes: u16,
}

/// How much longer larger packets take, minimum to minimum.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SizeDelay {
    /// The smaller size in bytes.
    pub small_bytes: u16,
    /// The larger size in bytes.
    pub large_bytes: u16,
    /// The difference; negative where the larger ones are faster.
    pub longer_us: i64,
}

/// Probes to the target over some rounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TargetLoss {
    /// Rounds.
    pub rounds: u32,
    /// Probes sent.
    pub sent: u32,
    /// Of those, unanswered in time.
    pub lost: u32,
}

/// Round-trip delays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DelayQuantiles {
    /// Minimum.
    pub min_us: u32,
    /// Median.
    pub median_us: u32,
    /// 95th percentile.
    pub p95_us: u32,
}

/// Different routes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RouteCount {
    /// How many.
    pub routes: u32,
}

/// Packets between two sites.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PairCounts {
    /// The sender's site.
    pub near: String,
    /// The reflector's site.
    pub far: String,
    /// Packets sent.
    pub sent: u32,
}

/// Loss of both directions of a pair.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PairLoss {
    /// The sender's site.
    pub near: String,
    /// The reflector's site.
    pub far: String,
    /// Packets of known fate from near to far.
    pub forward: LossCounts,
    /// Packets of known fate from far to near.
    #[serde(rename = "return")]
    pub return_: LossCounts,
}

/// Some packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PacketCount {
    /// How many.
    pub packets: u32,
}

/// A DSCP that changes between two sites.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PairDscp {
    /// The sending site.
    pub from: String,
    /// The receiving site.
    pub to: String,
    /// As sent.
    pub sent: u8,
    /// As received.
    pub arrived: u8,
}

/// Packets that arrive twice or out of order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Disorder {
    /// The sending site.
    pub from: String,
    /// The receiving site.
    pub to: String,
    /// Arrived twice (RFC 5560).
    pub duplicated: u32,
    /// Arrived out of order (RFC 4737).
    pub reordered: u32,
    /// Arrived at all.
    pub arrived: u32,
}

/// The rating of one direction for voice (ITU-T G.107).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct VoiceRating {
    /// The speaking site.
    pub from: String,
    /// The listening site.
    pub to: String,
    /// The rating.
    pub fitness: Fitness,
    /// Rating factor R, 0 to 93.2.
    pub r: f64,
    /// Mean opinion score, 1 to 4.5.
    pub mos: f64,
    /// Mouth-to-ear delay in milliseconds.
    pub delay_ms: f64,
    /// Packets lost or too late, 0 to 1.
    pub loss_ratio: f64,
    /// Mean length of bursts of loss over that of as much random loss.
    pub burst_ratio: f64,
}

/// A measurement of throughput that failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FailedThroughput {
    /// The sending site.
    pub from: String,
    /// The receiving site.
    pub to: String,
    /// Protocol.
    pub by: By,
    /// The cause, in the agent's words.
    pub cause: String,
}

/// Throughput between two sites.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MeasuredThroughput {
    /// The sending site.
    pub from: String,
    /// The receiving site.
    pub to: String,
    /// Protocol.
    pub by: By,
    /// Bits per second that arrived; absent where too few arrived.
    pub rate_bit_s: Option<u64>,
    /// The limit it is compared with; absent without one.
    pub least_bit_s: Option<u64>,
    /// Packets sent by UDP; 0 for TCP.
    pub packets: u32,
    /// Of those, lost.
    pub lost: u32,
}

/// An interface.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct InterfaceName {
    /// Its name.
    pub interface: String,
}

/// The speed of an interface.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct InterfaceSpeed {
    /// Its name.
    pub interface: String,
    /// Negotiated megabits per second.
    pub mbit_s: u32,
}

/// What is routed through a tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TunnelUse {
    /// Name of the interface.
    pub interface: String,
    /// Prefixes of the main routing table, at most five.
    pub prefixes: Vec<String>,
    /// Targets.
    pub targets: Vec<String>,
}

/// A switch and its port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Attachment {
    /// The machine's interface.
    pub interface: String,
    /// Name that the switch announces.
    pub system: String,
    /// Port that the switch announces.
    pub port: String,
}

/// An autonomous system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct NetworkName {
    /// Its number.
    pub as_number: u32,
    /// Its name in the owner map.
    pub name: String,
}

/// Two gateways with the medians of their delays.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct GatewayPair {
    /// The better one.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub better: IpAddr,
    /// Its interface.
    pub interface: String,
    /// Median round-trip delay to it.
    pub better_us: u32,
    /// The one in use.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub in_use: IpAddr,
    /// Median round-trip delay to that.
    pub in_use_us: u32,
}
