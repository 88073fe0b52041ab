//! Checks of upper layers: what is asked of a service by its own protocol, and what came of it.
//!
//! A check's result says how far it got and, where it did not get to the end, at which step it
//! broke and how. Steps are in the order in which a client takes them, so that "connects and then
//! nothing" is another result than "does not connect".

use crate::id::{CheckId, ContentId, PathId};
use crate::path::Family;
use crate::round::Clocks;
use crate::unit::{Micros, WallTime};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::{IpAddr, SocketAddr};

/// What is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ask {
    /// The addresses of a name, of each resolver by itself (RFC 1035).
    Name(AskName),
    /// A connection (RFC 9293).
    Connect {
        /// At which port.
        port: u16,
    },
    /// A connection secured by TLS (RFC 8446, RFC 5246).
    Tls {
        /// At which port.
        port: u16,
        /// The name that the certificate is to be for (RFC 9525); the target's where absent.
        name: Option<String>,
    },
    /// A resource by HTTP (RFC 9110).
    Web(AskWeb),
    /// Whether a mail server speaks with us (RFC 5321), and whether full-sized packets reach it.
    Mail {
        /// At which port.
        port: u16,
    },
    /// What a server says first, closed politely.
    Greeting {
        /// By which protocol.
        protocol: Greeting,
        /// At which port.
        port: u16,
    },
}

/// Kind of check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AskKind {
    /// A name is resolved.
    Name,
    /// A TCP connection opens.
    Connect,
    /// The TLS handshake.
    Tls,
    /// One resource is fetched over HTTP.
    Web,
    /// A page is fetched with its resources.
    Page,
    /// A mail server is asked.
    Mail,
    /// A server's greeting is read.
    Greeting,
}

impl fmt::Display for AskKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Name => "name",
            Self::Connect => "connect",
            Self::Tls => "tls",
            Self::Web => "web",
            Self::Page => "page",
            Self::Mail => "mail",
            Self::Greeting => "greeting",
        })
    }
}

/// A question for resolvers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AskName {
    /// The name.
    pub name: String,
    /// For its IPv6 addresses (AAAA, RFC 3596) instead of the IPv4 ones (A).
    #[serde(default)]
    pub ipv6: bool,
    /// Resolvers to query; the machine's own when empty.
    #[serde(default)]
    pub resolvers: Vec<IpAddr>,
    /// Further servers to query for comparison.
    #[serde(default)]
    pub beside: Vec<IpAddr>,
    /// By TCP (RFC 7766) instead of UDP.
    #[serde(default)]
    pub tcp: bool,
}

/// A question for a web server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AskWeb {
    /// Over TLS.
    pub tls: bool,
    /// The host's name, for the certificate and the server; the address where absent.
    pub host: Option<String>,
    /// At which port.
    pub port: u16,
    /// The resource, beginning with a slash.
    pub path: String,
    /// Fetch its content; only its header is asked for otherwise.
    #[serde(default)]
    pub content: bool,
    /// Fetch what the page refers to on the same server as well.
    #[serde(default)]
    pub resources: bool,
    /// The status that is right; any from 200 to 399 where absent.
    #[serde(default)]
    pub status: Option<u16>,
    /// Words that the content must have.
    #[serde(default)]
    pub words: Option<String>,
    /// Bytes of content read at most.
    pub most_bytes: u32,
}

/// What an agent asks again and again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckTask {
    /// The check.
    pub check: CheckId,
    /// The target's address; absent where it has a name.
    pub address: Option<IpAddr>,
    /// Its name, looked up each time as the machine's programs do.
    pub name: Option<String>,
    /// Over which version of IP.
    pub family: Family,
    /// What is asked.
    pub ask: Ask,
    /// From one time to the next, in milliseconds, before jitter.
    pub interval_ms: u32,
    /// The paths from the agent to the target.
    #[serde(default)]
    pub paths: Vec<PathId>,
    /// Number of requests to run it at once; a higher number starts a run.
    #[serde(default)]
    pub wanted: u32,
}

/// Protocols in which the server speaks first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Greeting {
    /// RFC 1939.
    Pop3,
    /// RFC 9051.
    Imap,
    /// RFC 959.
    Ftp,
    /// RFC 4253 section 4.2.
    Ssh,
}

/// Steps of a check, in the order in which they are taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// The name is resolved to an address.
    Name,
    /// A connection opens.
    Connect,
    /// The TLS handshake.
    Tls,
    /// The server sends its greeting.
    Greeting,
    /// The server answers the client's commands.
    Dialogue,
    /// The first byte of the answer arrives.
    FirstByte,
    /// The rest of the answer arrives.
    Transfer,
    /// The content is as expected.
    Content,
}

/// Why a step failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Why {
    /// No answer in time.
    NoAnswer,
    /// A node on the route answered "unreachable".
    Unreachable,
    /// The far end refused: a reset to the opening, or the resolver's REFUSED.
    Refused,
    /// The far end reset the connection after it was open.
    Reset,
    /// The far end closed the connection before an answer.
    Closed,
    /// The answer did not end in time.
    Unfinished,
    /// The name does not exist (NXDOMAIN).
    NoSuchName,
    /// The name exists without an address of that kind (RFC 2308 section 2.2).
    NoAddress,
    /// The resolver failed to resolve it (SERVFAIL or another failure).
    ResolverFailed,
    /// Resolvers return addresses, and none of them in common.
    Disagree,
    /// The answer is not of the expected protocol.
    NotThisProtocol,
    /// The server expects TLS from the first byte.
    ExpectsTls,
    /// The server does not speak TLS here.
    SpeaksPlain,
    /// No TLS version or cipher in common.
    NoCommonTls,
    /// The certificate has expired.
    CertificateExpired,
    /// The certificate is not valid yet.
    CertificateEarly,
    /// The certificate is for other names.
    CertificateName,
    /// No trusted CA has signed it.
    CertificateUntrusted,
    /// The server answered with an error status.
    Status,
    /// The expected words are not in the content.
    Words,
    /// Too many redirects, or one that cannot be followed.
    Redirects,
    /// The answer is longer than the limit.
    TooMuch,
    /// Small packets pass, full-sized packets are lost.
    LargeLost,
    /// The configuration of the agent's site does not allow it.
    NotAllowed,
}

/// How a check ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Every step succeeded.
    Good,
    /// A step failed.
    Broke {
        /// The step.
        at: Step,
        /// The cause.
        why: Why,
    },
}

/// How long a step took.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Phase {
    /// Which.
    pub step: Step,
    /// How long.
    pub took_us: Micros,
}

/// The answer of one resolver.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Resolved {
    /// The resolver.
    pub resolver: IpAddr,
    /// Why there is no answer; absent when there is one.
    pub why: Option<Why>,
    /// The addresses, in order.
    pub addresses: Vec<IpAddr>,
    /// How long the answer may be kept, in seconds.
    pub ttl_s: Option<u32>,
    /// The answer is authoritative; otherwise it comes from a cache or another resolver.
    pub authoritative: bool,
    /// It was too long for a datagram, and was asked for again by TCP.
    pub truncated: bool,
    /// How long it took.
    pub took_us: Micros,
}

/// One certificate of a chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Certificate {
    /// The subject.
    pub subject: String,
    /// The issuer.
    pub issuer: String,
    /// The names it is for.
    pub names: Vec<String>,
    /// From when.
    pub not_before: WallTime,
    /// Until when.
    pub not_after: WallTime,
}

/// What was seen of TLS.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TlsSeen {
    /// Such as `TLS 1.3`.
    pub version: String,
    /// The chain, the server's own first.
    pub chain: Vec<Certificate>,
}

/// What was seen of HTTP.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct WebSeen {
    /// `1.1` or `2`.
    pub version: String,
    /// Status of the last answer (RFC 9110 section 15).
    pub status: Option<u16>,
    /// Bytes of content read.
    pub size_bytes: u64,
    /// There was more, which was not read.
    pub cut: bool,
    /// Bytes a second after the first; absent where too few came to say.
    pub rate_bytes_per_s: Option<u64>,
    /// Where it was redirected to, one after the other.
    pub redirects: Vec<String>,
    /// What the page refers to, in the order of its text.
    pub resources: Vec<Fetched>,
}

/// A resource of a page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fetched {
    /// Its path.
    pub path: String,
    /// When it was asked for, counted from the page's beginning.
    pub begun_us: Micros,
    /// Until the first byte of the answer.
    pub first_byte_us: Option<Micros>,
    /// In all.
    pub took_us: Micros,
    /// Bytes.
    pub size_bytes: u64,
    /// Status.
    pub status: Option<u16>,
    /// How it failed; absent when it did not.
    pub why: Option<Why>,
}

/// Details of a check in addition to its outcome.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct CheckDetails {
    /// What each resolver said.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub resolved: Vec<Resolved>,
    /// Of TLS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsSeen>,
    /// Of HTTP.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub web: Option<WebSeen>,
    /// What the server said, as it came; foreign text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub said: Option<String>,
}

/// One result of a check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckResult {
    /// How it ended.
    pub outcome: Outcome,
    /// The very address and port that were spoken to; absent where there was none to speak to.
    pub spoke_to: Option<SocketAddr>,
    /// How long each step took, as far as it got.
    pub phases: Vec<Phase>,
    /// Details of a check in addition to its outcome.
    pub seen: CheckDetails,
}

/// A result as an agent reports it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckRound {
    /// The check.
    pub check: CheckId,
    /// Consecutive number within check and boot, from 0.
    pub number: u64,
    /// When, by the agent's clocks.
    pub clocks: Clocks,
    /// What came of it.
    pub result: CheckResult,
    /// How late the agent's own program was as a rule while it asked, in microseconds; absent from
    /// agents that do not report it.
    #[serde(default)]
    pub late_us: Option<u32>,
}

/// Bytes of any foreign text in a result, and items of any list.
pub const MAX_TEXT: usize = 2_000;
/// Items of any list in a result.
pub const MAX_ITEMS: usize = 100;

impl CheckResult {
    /// A result that broke before anything was seen.
    pub fn broke(at: Step, why: Why) -> Self {
        Self {
            outcome: Outcome::Broke { at, why },
            spoke_to: None,
            phases: Vec::new(),
            seen: CheckDetails::default(),
        }
    }

    /// How long a step took, where it was finished.
    pub fn took(&self, step: Step) -> Option<Micros> {
        self.phases.iter().find(|phase| phase.step == step).map(|phase| phase.took_us)
    }

    /// How long all steps took together.
    pub fn took_in_all(&self) -> Micros {
        let all = self.phases.iter().map(|phase| phase.took_us.as_micros());
        Micros::new(all.fold(0, u32::saturating_add))
    }

    /// True while no list and no text is longer than any agent makes it.
    pub fn is_bounded(&self) -> bool {
        let seen = &self.seen;
        let short = |text: &str| text.len() <= MAX_TEXT;
        let named = |one: &Certificate| {
            short(&one.subject)
                && short(&one.issuer)
                && one.names.len() <= MAX_ITEMS
                && one.names.iter().all(|name| short(name))
        };
        let chain = seen.tls.as_ref().is_none_or(|tls| {
            short(&tls.version) && tls.chain.len() <= MAX_ITEMS && tls.chain.iter().all(named)
        });
        let web = seen.web.as_ref().is_none_or(|web| {
            short(&web.version)
                && web.redirects.len() <= MAX_ITEMS
                && web.redirects.iter().all(|to| short(to))
                && web.resources.len() <= MAX_ITEMS
                && web.resources.iter().all(|one| short(&one.path))
        });
        let resolved = seen.resolved.len() <= MAX_ITEMS
            && seen.resolved.iter().all(|one| one.addresses.len() <= MAX_ITEMS);
        let said = seen.said.as_deref().is_none_or(short);
        self.phases.len() <= MAX_ITEMS && chain && web && resolved && said
    }
}

impl Ask {
    /// The identity of this question by its content.
    pub fn id(&self) -> ContentId {
        ContentId::of(&crate::codec::encode(self))
    }

    /// Its kind.
    pub const fn kind(&self) -> AskKind {
        match self {
            Self::Name(_) => AskKind::Name,
            Self::Connect { .. } => AskKind::Connect,
            Self::Tls { .. } => AskKind::Tls,
            Self::Web(AskWeb { resources: true, .. }) => AskKind::Page,
            Self::Web(_) => AskKind::Web,
            Self::Mail { .. } => AskKind::Mail,
            Self::Greeting { .. } => AskKind::Greeting,
        }
    }

    /// The port at which it is asked; absent for a question to resolvers.
    pub const fn port(&self) -> Option<u16> {
        match self {
            Self::Name(_) => None,
            Self::Connect { port }
            | Self::Tls { port, .. }
            | Self::Mail { port }
            | Self::Greeting { port, .. }
            | Self::Web(AskWeb { port, .. }) => Some(*port),
        }
    }
}

impl AskName {
    /// A question to the machine's own resolvers, by UDP.
    pub const fn of(name: String, ipv6: bool) -> Self {
        Self { name, ipv6, resolvers: Vec::new(), beside: Vec::new(), tcp: false }
    }
}

impl Step {
    /// Every step, in order.
    pub const ALL: [Self; 8] = [
        Self::Name,
        Self::Connect,
        Self::Tls,
        Self::Greeting,
        Self::Dialogue,
        Self::FirstByte,
        Self::Transfer,
        Self::Content,
    ];
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Name => "name",
            Self::Connect => "connect",
            Self::Tls => "TLS",
            Self::Greeting => "greeting",
            Self::Dialogue => "dialogue",
            Self::FirstByte => "first byte",
            Self::Transfer => "transfer",
            Self::Content => "content",
        })
    }
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::NoAnswer => "no answer in time",
            Self::Unreachable => "a router answered \"unreachable\"",
            Self::Refused => "refused by the far end",
            Self::Reset => "reset by the far end after it was open",
            Self::Closed => "closed by the far end before an answer",
            Self::Unfinished => "the answer did not end in time",
            Self::NoSuchName => "the resolver answers that the name does not exist",
            Self::NoAddress => "the name has no address of this version of IP",
            Self::ResolverFailed => "the resolver failed to resolve it",
            Self::Disagree => "resolvers return different addresses",
            Self::NotThisProtocol => "the server speaks another protocol",
            Self::ExpectsTls => "the server expects TLS first",
            Self::SpeaksPlain => "the server does not speak TLS at this port",
            Self::NoCommonTls => "no version or cipher of TLS in common",
            Self::CertificateExpired => "the certificate has expired",
            Self::CertificateEarly => "the certificate is not valid yet",
            Self::CertificateName => "the certificate is for another name",
            Self::CertificateUntrusted => {
                "no CA that this machine trusts has signed the certificate"
            }
            Self::Status => "the server answers with an error",
            Self::Words => "the expected words are not in the content",
            Self::Redirects => "too many redirects",
            Self::TooMuch => "the answer is longer than the limit",
            Self::LargeLost => "small packets pass, full-sized packets are lost",
            Self::NotAllowed => "the configuration of the agent's site does not allow it",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::{decode, encode};

    #[test]
    fn questions_and_results_survive_their_encodings() {
        let ask = Ask::Name(AskName {
            name: "booking.corriven.example".to_owned(),
            ipv6: false,
            resolvers: vec!["198.18.128.53".parse().unwrap(), "2001:db8::53".parse().unwrap()],
            beside: Vec::new(),
            tcp: true,
        });
        let result = CheckResult {
            spoke_to: Some("198.18.128.10:443".parse().unwrap()),
            phases: vec![Phase { step: Step::Connect, took_us: Micros::new(9_100) }],
            ..CheckResult::broke(Step::Tls, Why::CertificateExpired)
        };
        assert_eq!(decode::<Ask>(&encode(&ask)).unwrap(), ask);
        assert_eq!(decode::<CheckResult>(&encode(&result)).unwrap(), result);
        let json = serde_json::to_string(&result).unwrap();
        assert_eq!(serde_json::from_str::<CheckResult>(&json).unwrap(), result);
        assert_ne!(ask.id(), Ask::Connect { port: 53 }.id());
    }

    #[test]
    fn what_no_agent_would_say_is_out_of_bounds() {
        let mut result = CheckResult::broke(Step::Connect, Why::Refused);
        assert!(result.is_bounded());
        result.seen.said = Some("x".repeat(MAX_TEXT + 1));
        assert!(!result.is_bounded());
        result.seen = CheckDetails {
            web: Some(WebSeen {
                redirects: vec![String::new(); MAX_ITEMS + 1],
                ..WebSeen::default()
            }),
            ..CheckDetails::default()
        };
        assert!(!result.is_bounded());
    }
}
