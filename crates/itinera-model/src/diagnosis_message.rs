//! Messages of diagnosis steps: a code with typed parameters for everything that a step can say.

use crate::check::{AskKind, Step, Why};
use crate::message::Message;
use crate::path::Family;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// An interface as a step saw it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LinkSeen {
    /// Its name.
    pub interface: String,
    /// Its speed in megabits per second.
    pub speed_mbit_s: Option<u32>,
    /// True for half duplex, false for full duplex; absent where unknown.
    pub half_duplex: Option<bool>,
    /// Frames with errors while the diagnosis ran, in both directions.
    pub errors: u64,
    /// Packets discarded while it ran, in both directions.
    pub discards: u64,
    /// Packets while it ran, in both directions.
    pub packets: u64,
}

/// Probes to one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct EchoCounts {
    /// Sent.
    pub sent: u32,
    /// Answered.
    pub answered: u32,
    /// Median round-trip delay.
    pub median_us: Option<u32>,
}

/// Whether a resolver answers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ResolverSeen {
    /// The resolver.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub resolver: IpAddr,
    /// Time that an answer took; absent where none came.
    pub took_us: Option<u32>,
}

/// A resolver's answer for the target's name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct NameAnswer {
    /// The resolver.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub resolver: IpAddr,
    /// Addresses that it returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub addresses: Vec<IpAddr>,
    /// Seconds for which they may be cached.
    pub ttl_s: Option<u32>,
    /// True for an authoritative answer.
    pub authoritative: bool,
    /// Why it returns none.
    pub why: Option<Why>,
}

/// Some consecutive hops.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HopSpan {
    /// Hop limit of the first.
    pub first: u8,
    /// Hop limit of the last.
    pub last: u8,
    /// Names of their owners, in order.
    pub owners: Vec<String>,
    /// True where private addresses of the site are among them.
    pub site: bool,
}

/// What the application step saw of a transfer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ApplicationSeen {
    /// Kind of check.
    pub check: AskKind,
    /// HTTP status.
    pub status: Option<u16>,
    /// Time to the server's greeting.
    pub greeting_us: Option<u32>,
    /// Time to the first byte.
    pub first_byte_us: Option<u32>,
    /// Time of the transfer.
    pub transfer_us: Option<u32>,
    /// Bytes per second of the transfer.
    pub bytes_per_s: Option<u64>,
}

/// What a step of a diagnosis says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "code", content = "parameters", rename_all = "kebab-case")]
pub enum StepMessage {
    /// The loopback address answers.
    LoopbackAnswers,
    /// The loopback address does not answer.
    LoopbackSilent,
    /// The loopback address was not tried: the host is simulated.
    LoopbackNotTried,
    /// The host facts could not be read.
    HostFactsUnreadable,
    /// The host has no interface but its loopback.
    NoInterface,
    /// An interface is switched off.
    InterfaceDown {
        /// The interface.
        interface: String,
    },
    /// An interface has no carrier.
    NoCarrier {
        /// The interface.
        interface: String,
    },
    /// The link counts errors.
    LinkErrors(LinkSeen),
    /// The link is half duplex.
    LinkHalfDuplex(LinkSeen),
    /// The link is wireless.
    LinkWireless(LinkSeen),
    /// The link is a tunnel.
    LinkTunnel(LinkSeen),
    /// The link is slower than usual ports.
    LinkSlow(LinkSeen),
    /// The link counts a few errors or discards.
    LinkFewErrors(LinkSeen),
    /// The link has no errors.
    LinkClean(LinkSeen),
    /// The interface has only an address that it assigned itself.
    SelfAssignedAddress {
        /// The interface.
        interface: String,
        /// The address.
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        address: IpAddr,
        /// Version of IP.
        family: Family,
    },
    /// The interface has no address.
    NoAddress {
        /// The interface.
        interface: String,
        /// Version of IP.
        family: Family,
    },
    /// No route leads to the target.
    NoRoute {
        /// Version of IP.
        family: Family,
    },
    /// The host has an address and a route.
    AddressAndRoute {
        /// The address with its prefix length.
        address: String,
        /// The gateway; absent where the target is on the same link.
        #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
        gateway: Option<IpAddr>,
    },
    /// The target is on the same link: no gateway is needed.
    GatewayNotNeeded,
    /// The gateway could not be probed.
    GatewayNotProbed,
    /// The gateway answers probes.
    GatewayAnswers {
        /// The gateway.
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        gateway: IpAddr,
        /// Probes to it.
        echoes: EchoCounts,
        /// True where packets to the target are lost as well.
        target_loses: bool,
    },
    /// The gateway answers no probe, and hops behind it do.
    GatewayForwardsOnly {
        /// The gateway.
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        gateway: IpAddr,
    },
    /// Neither the gateway nor anything behind it answers.
    GatewaySilent {
        /// The gateway.
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        gateway: IpAddr,
        /// Probes sent.
        sent: u32,
        /// True where its hardware address was resolved.
        on_link: bool,
    },
    /// No resolver is configured.
    NoResolver,
    /// Whether each resolver answers.
    Resolvers {
        /// The resolvers in their order.
        resolvers: Vec<ResolverSeen>,
    },
    /// What each resolver returns for the target's name.
    NameAnswers {
        /// The name.
        name: String,
        /// The answers.
        answers: Vec<NameAnswer>,
        /// The address in the host's own files, where no resolver returns one.
        #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
        host_file: Option<IpAddr>,
    },
    /// The hops could not be probed.
    HopsNotProbed {
        /// Why; absent where there was no address to probe.
        reason: Option<String>,
    },
    /// A fault begins among these hops.
    FaultBegins {
        /// The hops.
        hops: HopSpan,
        /// The fault.
        fault: Box<Message>,
        /// True where the schedule's probes found it, which are more.
        by_schedule: bool,
    },
    /// Nothing behind a hop answers.
    RouteEnds {
        /// The hops.
        hops: HopSpan,
        /// The last hop that answers; absent where none does.
        last: Option<u8>,
        /// True where the target was tried by another protocol, too.
        tried: bool,
    },
    /// These hops do not answer.
    HopsSilent(HopSpan),
    /// These hops have a fault that begins before them.
    HopsCarryFault(HopSpan),
    /// No fault begins among these hops.
    HopsClean(HopSpan),
    /// How the target answers echo.
    TargetEcho {
        /// Probes to it.
        echoes: EchoCounts,
        /// True where it accepts connections.
        connected: bool,
        /// True where the loss begins before it.
        carried: bool,
    },
    /// The target accepts connections.
    PortOpen {
        /// The port.
        port: Option<u16>,
        /// Time that it took.
        took_us: u32,
    },
    /// The target accepts no connection.
    PortClosed {
        /// The port.
        port: Option<u16>,
        /// Why; absent where it was not tried.
        why: Option<Why>,
        /// True where it answers echo.
        answers_echo: bool,
    },
    /// TLS fails.
    TlsFails {
        /// Why.
        why: Why,
        /// The certificate.
        certificate: Option<CertificateSeen>,
    },
    /// TLS succeeds.
    TlsWorks {
        /// The certificate.
        certificate: Option<CertificateSeen>,
        /// True where it expires within two weeks.
        expires_soon: bool,
    },
    /// The application fails.
    ApplicationFails {
        /// The step that fails.
        step: Step,
        /// Why.
        why: Why,
        /// HTTP status.
        status: Option<u16>,
        /// The server's last line.
        said: Option<String>,
    },
    /// The first byte is late.
    ApplicationLate(ApplicationSeen),
    /// The transfer is slow.
    ApplicationSlow(ApplicationSeen),
    /// The application works.
    ApplicationWorks(ApplicationSeen),
    /// Answers return to one source address and not to another.
    ReturnToOneSource {
        /// The source address with answers.
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        with: IpAddr,
        /// The source address without.
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        without: IpAddr,
        /// Probes from each: sent, answered to the first.
        echoes: EchoCounts,
    },
    /// The agent at the other end sent nothing in time.
    ReturnNotMeasured,
    /// Packets from the agent at the other end.
    ReturnCounted {
        /// Packets sent by it.
        sent: u32,
        /// Of those, lost.
        lost: u32,
    },
}

/// A certificate as a step saw it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CertificateSeen {
    /// Version of TLS.
    pub version: String,
    /// The name that it is for; absent where none was shown.
    pub name: Option<String>,
    /// The day on which it expires, in UTC.
    pub expires: Option<String>,
}

/// What to do after a diagnosis.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Advice {
    /// Check the host's own link.
    CheckLink,
    /// Correct the host's configuration.
    CorrectHost,
    /// Check the site's gateway and network.
    CheckSite,
    /// Repair or replace a resolver.
    ReplaceResolver,
    /// Report to the operator of the resolver or the name.
    ReportName,
    /// Ask the provider where large packets are dropped.
    AskForMtu,
    /// Call the access provider.
    CallProvider,
    /// Report to the operator of the service.
    ReportService,
    /// Report a problem with the time at which it last occurred.
    ReportProblem,
}
