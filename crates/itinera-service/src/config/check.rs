//! What services are asked, as the configuration file has it.

use super::{Wrong, unplaced, within};
use itinera_model::check::{Ask, AskName, AskWeb, Greeting};
use itinera_model::path::Family;
use itinera_store::{CheckSpec, IntendedWay};
use serde::Deserialize;
use std::net::IpAddr;
use toml::Spanned;

/// Octets of content read by default: enough for most pages and to see how fast it comes.
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
    /// Checks an entry and makes of it what agents are told.
    pub(super) fn read(&self) -> Result<CheckSpec, Wrong> {
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
        let web = |resources: bool| -> Result<Ask, Wrong> {
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
    pub(super) fn read(&self) -> Result<IntendedWay, Wrong> {
        let owners = self.owners.as_ref().clone();
        if owners.is_empty() && self.tunnel.is_none() && !self.dscp_kept {
            let reason = "intended: say owners, tunnel or dscp_kept".to_owned();
            return Err((self.owners.span().start, reason));
        }
        Ok(IntendedWay { owners, tunnel: self.tunnel, dscp_kept: self.dscp_kept })
    }
}
