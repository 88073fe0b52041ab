//! What services are asked, as the configuration file has it.

use super::{LineError, ThroughputRule, unplaced, within};
use itinera_model::check::{Ask, AskName, AskWeb, Greeting};
use itinera_model::path::Family;
use itinera_model::throughput::{By, MOST_BYTES, MOST_SECONDS};
use itinera_store::{CheckSpec, IntendedRoute, ThroughputSpec};
use serde::Deserialize;
use std::net::IpAddr;
use toml::Spanned;

/// Bytes of content read by default: enough for most pages and to see how fast it comes.
const USUAL_BYTES: u32 = 1 << 20;
/// Resolvers asked at most.
const MAX_RESOLVERS: usize = 8;

/// What is asked.
#[derive(Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    Name,
    Connect,
    Tls,
    Web,
    Page,
    Mail,
    Pop3,
    Imap,
    Ftp,
    Ssh,
}

impl Kind {
    /// Where servers of this kind listen usually (RFC 6335).
    const fn usual_port(self, tls: bool) -> Option<u16> {
        Some(match self {
            Self::Name => 53,
            Self::Connect => return None,
            Self::Tls => 443,
            Self::Web | Self::Page if tls => 443,
            Self::Web | Self::Page => 80,
            Self::Mail => 25,
            Self::Pop3 => 110,
            Self::Imap => 143,
            Self::Ftp => 21,
            Self::Ssh => 22,
        })
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct CheckEntry {
    kind: Spanned<Kind>,
    port: Option<Spanned<u16>>,
    host: Option<Spanned<String>>,
    #[serde(default = "yes")]
    tls: bool,
    #[serde(default = "root")]
    path: Spanned<String>,
    #[serde(default)]
    content: bool,
    status: Option<Spanned<u16>>,
    words: Option<String>,
    #[serde(default = "usual_bytes")]
    most_bytes: Spanned<u32>,
    #[serde(default = "nothing")]
    resolvers: Spanned<Vec<IpAddr>>,
    #[serde(default = "nothing")]
    beside: Spanned<Vec<IpAddr>>,
    #[serde(default = "nothing")]
    families: Spanned<Vec<Family>>,
    #[serde(default)]
    by_tcp: bool,
    #[serde(default)]
    ipv6: bool,
    #[serde(default = "usual_every")]
    every_s: Spanned<u32>,
    #[serde(default = "usual_raise")]
    raise_after: Spanned<u8>,
}

fn nothing<T>() -> Spanned<Vec<T>> {
    unplaced(Vec::new())
}

const fn yes() -> bool {
    true
}

fn root() -> Spanned<String> {
    unplaced("/".to_owned())
}

fn usual_bytes() -> Spanned<u32> {
    unplaced(USUAL_BYTES)
}

fn usual_every() -> Spanned<u32> {
    unplaced(60)
}

fn usual_raise() -> Spanned<u8> {
    unplaced(3)
}

impl CheckEntry {
    /// Checks an entry and makes the agents' task of it.
    pub(super) fn read(&self) -> Result<CheckSpec, LineError> {
        let kind = *self.kind.as_ref();
        let at_kind = self.kind.span().start;
        let every_s = within("every_s", &self.every_s, 5, 86_400)?;
        let host = self.host.as_ref().map(|host| host.as_ref().clone());
        if let Some(host) = &self.host {
            super::check_host_name(host)?;
        }
        if !self.path.as_ref().starts_with('/') {
            let reason = "path: it begins with a slash".to_owned();
            return Err((self.path.span().start, reason));
        }
        for (key, listed) in [("resolvers", &self.resolvers), ("beside", &self.beside)] {
            if listed.as_ref().len() > MAX_RESOLVERS {
                let reason = format!("{key}: {MAX_RESOLVERS} at most");
                return Err((listed.span().start, reason));
            }
        }
        let port = match (&self.port, kind.usual_port(self.tls)) {
            (Some(port), _) => within("port", port, 1, u16::MAX)?,
            (None, Some(usual)) => usual,
            (None, None) => {
                return Err((at_kind, "kind: connect needs a port".to_owned()));
            }
        };
        let status =
            self.status.as_ref().map(|status| within("status", status, 100, 599)).transpose()?;
        let web = |resources: bool| -> Result<Ask, LineError> {
            Ok(Ask::Web(AskWeb {
                tls: self.tls,
                host: host.clone(),
                port,
                path: self.path.as_ref().clone(),
                content: self.content || self.words.is_some(),
                resources,
                status,
                words: self.words.clone(),
                most_bytes: within("most_bytes", &self.most_bytes, 1, 64 << 20)?,
            }))
        };
        let greeting = |protocol| Ask::Greeting { protocol, port };
        let ask = match kind {
            Kind::Name => {
                let Some(name) = host.clone() else {
                    let reason = "kind: a name check needs host, the name to ask for".to_owned();
                    return Err((at_kind, reason));
                };
                Ask::Name(AskName {
                    name,
                    ipv6: self.ipv6,
                    resolvers: self.resolvers.as_ref().clone(),
                    beside: self.beside.as_ref().clone(),
                    tcp: self.by_tcp,
                })
            }
            Kind::Connect => Ask::Connect { port },
            Kind::Tls => Ask::Tls { port, name: host.clone() },
            Kind::Web => web(false)?,
            Kind::Page => web(true)?,
            Kind::Mail => Ask::Mail { port },
            Kind::Pop3 => greeting(Greeting::Pop3),
            Kind::Imap => greeting(Greeting::Imap),
            Kind::Ftp => greeting(Greeting::Ftp),
            Kind::Ssh => greeting(Greeting::Ssh),
        };
        Ok(CheckSpec {
            ask,
            host,
            interval_ms: every_s.saturating_mul(1_000),
            families: self.families.as_ref().clone(),
            raise_after: within("raise_after", &self.raise_after, 1, 20)?,
        })
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct IntendedEntry {
    #[serde(default = "nothing")]
    owners: Spanned<Vec<u32>>,
    tunnel: Option<bool>,
    #[serde(default)]
    dscp_kept: bool,
}

impl IntendedEntry {
    pub(super) fn read(&self) -> Result<IntendedRoute, LineError> {
        let owners = self.owners.as_ref().clone();
        if owners.is_empty() && self.tunnel.is_none() && !self.dscp_kept {
            let reason = "intended: say owners, tunnel or dscp_kept".to_owned();
            return Err((self.owners.span().start, reason));
        }
        Ok(IntendedRoute { owners, tunnel: self.tunnel, dscp_kept: self.dscp_kept })
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ThroughputEntry {
    from: Spanned<String>,
    to: Spanned<String>,
    #[serde(default = "by_tcp")]
    by: By,
    #[serde(default = "six_hours")]
    every_s: Spanned<u32>,
    #[serde(default = "five_seconds")]
    seconds: Spanned<u8>,
    #[serde(default = "some_bytes")]
    most_bytes: Spanned<u64>,
    #[serde(default = "some_rate")]
    rate_mbit_s: Spanned<u32>,
    least_mbit_s: Option<Spanned<u32>>,
    #[serde(default = "usual_raise")]
    raise_after: Spanned<u8>,
}

const fn by_tcp() -> By {
    By::Tcp
}

fn six_hours() -> Spanned<u32> {
    unplaced(21_600)
}

fn five_seconds() -> Spanned<u8> {
    unplaced(5)
}

fn some_bytes() -> Spanned<u64> {
    unplaced(20_000_000)
}

fn some_rate() -> Spanned<u32> {
    unplaced(5)
}

impl ThroughputEntry {
    pub(super) fn read(&self, sites: &[&String]) -> Result<ThroughputRule, LineError> {
        for (key, site) in [("from", &self.from), ("to", &self.to)] {
            if !sites.contains(&site.as_ref()) {
                let reason = format!("{key}: no site is called {:?}", site.as_ref());
                return Err((site.span().start, reason));
            }
        }
        if self.from.as_ref() == self.to.as_ref() {
            return Err((self.to.span().start, "to: another site than from is needed".to_owned()));
        }
        let mbit =
            |key, value| within(key, value, 1, 1_000).map(|mbit| u64::from(mbit) * 1_000_000);
        let spec = ThroughputSpec {
            by: self.by,
            seconds: within("seconds", &self.seconds, 1, MOST_SECONDS)?,
            most_bytes: within("most_bytes", &self.most_bytes, 10_000, MOST_BYTES)?,
            rate_bit_s: mbit("rate_mbit_s", &self.rate_mbit_s)?,
            least_bit_s: self
                .least_mbit_s
                .as_ref()
                .map(|least| mbit("least_mbit_s", least))
                .transpose()?,
            raise_after: within("raise_after", &self.raise_after, 1, 20)?,
        };
        Ok(ThroughputRule {
            from: self.from.as_ref().clone(),
            to: self.to.as_ref().clone(),
            // Rarely: lines may be metered, and users are on them.
            every_s: within("every_s", &self.every_s, 600, 604_800)?,
            spec,
        })
    }
}
