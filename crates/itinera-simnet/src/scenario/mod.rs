//! Scenario files: TOML 1.0, described in `docs/scenario.md`.

mod check;
mod service;

pub use service::TlsHabit;
pub(crate) use service::{Does, DoesEntry, HostFactsEntry, NameEntry, ServiceEntry, Speaks};

use crate::life::{Daily, Spells};
use serde::Deserialize;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use toml::Spanned;

/// A scenario as written. Every name it uses has been checked.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    /// What users call it.
    pub name: String,
    /// Hour of the week at the start, from Monday midnight.
    #[serde(default)]
    pub(crate) week_hour: f64,
    /// Number of the draw of what changes by itself with time.
    #[serde(default)]
    pub(crate) life: u64,
    #[serde(default)]
    pub(crate) exits: Exits,
    #[serde(default, rename = "site")]
    pub(crate) sites: Vec<HostEntry>,
    #[serde(default, rename = "target")]
    pub(crate) targets: Vec<HostEntry>,
    #[serde(default, rename = "router")]
    pub(crate) routers: Vec<RouterEntry>,
    #[serde(default, rename = "owner")]
    pub(crate) owners: Vec<OwnerEntry>,
    #[serde(default, rename = "link")]
    pub(crate) links: Vec<LinkEntry>,
    #[serde(default, rename = "fault")]
    pub(crate) faults: Vec<FaultEntry>,
    #[serde(default, rename = "reroute")]
    pub(crate) reroutes: Vec<RerouteEntry>,
    #[serde(default, rename = "service")]
    pub(crate) services: Vec<ServiceEntry>,
    #[serde(default, rename = "record")]
    pub(crate) names: Vec<NameEntry>,
    #[serde(default, rename = "draw")]
    pub(crate) draws: Vec<DrawEntry>,
}

/// How packets are routed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Exits {
    /// By the least sum of metrics, regardless of owners.
    #[default]
    Least,
    /// By owners: each chooses the next one by customer and peer relations, and hands over at its nearest exit.
    Nearest,
}

/// What a site adds to every delay it measures.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct NoiseEntry {
    /// Median of a log-normal time, and the standard deviation of its logarithm.
    pub(crate) median_ms: f64,
    pub(crate) sigma: f64,
    /// This share of packets waits a Pareto time instead, of this least length and exponent.
    #[serde(default)]
    pub(crate) spike_share: f64,
    #[serde(default)]
    pub(crate) spike_ms: f64,
    #[serde(default = "usual_tail")]
    pub(crate) tail: f64,
    /// Mean of an exponential time added to all.
    #[serde(default)]
    pub(crate) jitter_ms: f64,
    /// Share of packets that are later by so many milliseconds.
    pub(crate) second: Option<[f64; 2]>,
}

const fn usual_tail() -> f64 {
    1.5
}

/// A router that answers some probes late.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Slow {
    /// Share of answers.
    pub(crate) share: f64,
    /// Mean of their exponential delay.
    pub(crate) mean_ms: f64,
}

/// From which address a router answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum AnswersBy {
    /// That of the interface by which the packet came in.
    #[default]
    Incoming,
    /// That of the interface by which the answer leaves.
    Outgoing,
    /// Always its own address.
    Own,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct HostEntry {
    pub(crate) id: Spanned<String>,
    pub(crate) name: String,
    pub(crate) address: Option<Spanned<Ipv4Addr>>,
    pub(crate) address6: Option<Spanned<Ipv6Addr>>,
    /// Protocols it leaves without any answer.
    #[serde(default)]
    pub(crate) ignores: Vec<Protocol>,
    #[serde(default)]
    pub(crate) tcp_open: Vec<u16>,
    #[serde(default)]
    pub(crate) udp_open: Vec<u16>,
    /// How far a site's clock is ahead, and how fast it drifts.
    pub(crate) clock_offset_ms: Option<Spanned<f64>>,
    pub(crate) clock_drift_ppm: Option<Spanned<f64>>,
    /// Seconds after the start and milliseconds by which a site's clock is set forward.
    #[serde(default)]
    pub(crate) clock_steps: Vec<[f64; 2]>,
    pub(crate) noise: Option<Spanned<NoiseEntry>>,
    /// The host facts of a site's agent.
    pub(crate) host_facts: Option<Spanned<HostFactsEntry>>,
}

impl HostEntry {
    fn clock(&self) -> [Option<&Spanned<f64>>; 2] {
        [self.clock_offset_ms.as_ref(), self.clock_drift_ppm.as_ref()]
    }
}

/// Clocks are off by so many milliseconds at most, and drift by so many parts in a million.
const CLOCK: [f64; 2] = [1e6, 500.0];

/// What a target may be asked by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Protocol {
    Echo,
    Udp,
    Tcp,
}

/// How a router shares traffic among routes of equal metric.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Balance {
    /// By addresses, protocol and the first four bytes behind the IP header: a flow keeps its route.
    Flow,
    /// By addresses and protocol, in UDP and TCP also ports: all ICMP between two addresses keeps one route.
    Ports,
    /// Packet by packet.
    Packet,
}

/// Losses that come in bursts: a two-state chain, stepped by packet.
///
/// Source: E. N. Gilbert, Capacity of a burst-noise channel, BSTJ 39 (1960).
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Burst {
    /// Chance that a packet finds the link turning bad.
    pub(crate) enter: f64,
    /// Chance that it finds it turning good again.
    pub(crate) leave: f64,
    /// Share lost while it is bad.
    pub(crate) loss: f64,
}

/// A queue in front of a line, shared with other traffic.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Queue {
    /// Rate of the line in megabits a second.
    pub(crate) mbit_per_s: f64,
    /// What is longer than this to wait is dropped.
    pub(crate) longest_ms: f64,
    /// Share of the line that other traffic fills, in packets of 1200 bytes.
    #[serde(default)]
    pub(crate) load: f64,
}

/// The addresses of a node, IPv4 first; one at least.
pub(crate) fn addresses_of(
    four: Option<&Spanned<Ipv4Addr>>,
    six: Option<&Spanned<Ipv6Addr>>,
) -> Vec<IpAddr> {
    let four = four.map(|address| IpAddr::V4(*address.as_ref()));
    four.into_iter().chain(six.map(|address| IpAddr::V6(*address.as_ref()))).collect()
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct RouterEntry {
    pub(crate) id: Spanned<String>,
    pub(crate) address: Option<Spanned<Ipv4Addr>>,
    pub(crate) address6: Option<Spanned<Ipv6Addr>>,
    pub(crate) owner: Option<Spanned<String>>,
    #[serde(default)]
    pub(crate) silent: bool,
    pub(crate) rate_limits: Option<Spanned<[f64; 2]>>,
    pub(crate) answer_delay_ms: Option<Spanned<f64>>,
    pub(crate) answer_jitter_ms: Option<Spanned<f64>>,
    pub(crate) answers_per_s: Option<Spanned<f64>>,
    /// This rate is for all senders together.
    #[serde(default)]
    pub(crate) limits_all: bool,
    /// It forwards without counting the hop limit down: the inside of a tunnel.
    #[serde(default)]
    pub(crate) hidden: bool,
    #[serde(default)]
    pub(crate) labels: Vec<u32>,
    pub(crate) quotes_hop_limit: Option<u8>,
    pub(crate) marks_dscp: Option<Spanned<u8>>,
    pub(crate) translates_to: Option<Spanned<Ipv4Addr>>,
    /// It leaves quotes in answers as they looked outside.
    #[serde(default)]
    pub(crate) leaves_quotes: bool,
    /// It drops what is too big without saying so.
    #[serde(default)]
    pub(crate) hides_too_big: bool,
    pub(crate) balances: Option<Balance>,
    pub(crate) slow: Option<Spanned<Slow>>,
    /// Share of the time in which it limits its rate or is slow.
    pub(crate) habit_share: Option<Spanned<f64>>,
    #[serde(default)]
    pub(crate) answers_by: AnswersBy,
    /// Hop limit that its answers leave with.
    pub(crate) answer_hop_limit: Option<u8>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct OwnerEntry {
    pub(crate) id: Spanned<String>,
    pub(crate) name: String,
    /// Its transit providers.
    #[serde(default)]
    pub(crate) upstreams: Vec<Spanned<String>>,
    /// Its peers.
    #[serde(default)]
    pub(crate) peers: Vec<Spanned<String>>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct LinkEntry {
    pub(crate) between: [Spanned<String>; 2],
    pub(crate) delay_ms: Spanned<f64>,
    pub(crate) jitter_ms: Option<Spanned<f64>>,
    pub(crate) loss: Option<Spanned<f64>>,
    pub(crate) metric: Option<Spanned<[f64; 2]>>,
    pub(crate) burst: Option<Spanned<Burst>>,
    pub(crate) duplicates: Option<Spanned<f64>>,
    pub(crate) reorders: Option<Spanned<f64>>,
    pub(crate) mtu: Option<Spanned<u16>>,
    pub(crate) queue: Option<Spanned<Queue>>,
    pub(crate) daily: Option<Spanned<Daily>>,
    pub(crate) spells: Option<Spanned<Spells>>,
    /// Lines that share its traffic by flow.
    pub(crate) members: Option<Spanned<u8>>,
    /// Addresses of its interfaces at both ends: one for all members, or one for each.
    pub(crate) interfaces: Option<Spanned<[Vec<Ipv4Addr>; 2]>>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct FaultEntry {
    pub(crate) from: Spanned<String>,
    pub(crate) to: Spanned<String>,
    pub(crate) at_s: Spanned<[f64; 2]>,
    pub(crate) for_s: Option<Spanned<f64>>,
    pub(crate) loss: Option<Spanned<[f64; 2]>>,
    pub(crate) added_delay_ms: Option<Spanned<[f64; 2]>>,
    /// Packets longer than this vanish without a word.
    pub(crate) swallows_over: Option<Spanned<u16>>,
    /// Mean of an exponential time that added delay varies by.
    pub(crate) jitter_ms: Option<Spanned<f64>>,
    /// Which member of the link, from 1; all where absent.
    pub(crate) member: Option<Spanned<u8>>,
    /// Share of spells in which it acts: of 2, 4, 8, 16 or 32 seconds, those of faults that begin together alike.
    pub(crate) spells: Option<Spanned<f64>>,
    /// What it loses arrives as damaged frames, which the interface behind it counts.
    #[serde(default)]
    pub(crate) damages_frames: bool,
}

/// A change of metric: packets may take another route from then on.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct RerouteEntry {
    pub(crate) between: [Spanned<String>; 2],
    pub(crate) at_s: Spanned<f64>,
    pub(crate) metric: Spanned<[f64; 2]>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct DrawEntry {
    pub(crate) name: Spanned<String>,
    #[serde(default, rename = "option")]
    pub(crate) options: Vec<OptionEntry>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct OptionEntry {
    #[serde(default)]
    pub(crate) silent: Vec<Spanned<String>>,
    #[serde(default)]
    pub(crate) rate_limits: Vec<Spanned<String>>,
    pub(crate) rate_limiting_share: Option<Spanned<[f64; 2]>>,
    #[serde(default)]
    pub(crate) faults: Vec<FaultEntry>,
}

/// What is wrong with a scenario file, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, field {field:?}: {reason}")]
pub struct ScenarioError {
    /// Line, from 1.
    pub line: usize,
    /// The field as written.
    pub field: String,
    /// What is wrong with it.
    pub reason: String,
}

impl Scenario {
    /// Reads a scenario file and checks every name and number in it.
    ///
    /// # Errors
    /// [`ScenarioError`] with the line and field of the first thing wrong.
    pub fn parse(text: &str) -> Result<Self, ScenarioError> {
        let scenario: Self = toml::from_str(text).map_err(|error| {
            let start = error.span().map_or(0, |span| span.start);
            at(text, start, error.message().to_owned())
        })?;
        check::Checker { text, scenario: &scenario }.check()?;
        Ok(scenario)
    }
}

fn at(text: &str, offset: usize, reason: String) -> ScenarioError {
    let before = text.get(..offset).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let source = text.lines().nth(line - 1).unwrap_or_default();
    let column = before.len() - before.rfind('\n').map_or(0, |newline| newline + 1);
    // The key is the last one that stands before the value on its line.
    let upto = source.get(..column).unwrap_or(source);
    let key = if upto.contains('=') { upto } else { source };
    let key = key.rsplit_once('=').map_or(key, |(key, _)| key);
    let field = key.trim().rsplit(['{', ',', ' ']).next().unwrap_or_default();
    ScenarioError { line, field: field.trim_matches(['[', ']']).to_owned(), reason }
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: &str = r#"name = "small"
[[site]]
id = "quay"
name = "Brannock Quay"
address = "198.18.0.2"
[[router]]
id = "edge"
address = "198.18.0.1"
[[link]]
between = ["quay", "edge"]
delay_ms = 1.0
[[fault]]
from = "quay"
to = "edge"
at_s = [1, 2]
loss = [0.1, 0.2]
"#;

    #[test]
    fn a_good_scenario_is_read() {
        assert_eq!(Scenario::parse(GOOD).unwrap().name, "small");
    }

    #[test]
    fn each_mistake_names_its_line_and_field() {
        for (from, to, line, field, words) in [
            ("\"edge\"]", "\"egde\"]", 10, "between", "no site, router or target"),
            ("delay_ms = 1.0", "delay_ms = -1.0", 11, "delay_ms", "not negative"),
            ("delay_ms = 1.0", "delay_ms = \"x\"", 11, "delay_ms", "invalid type"),
            ("delay_ms = 1.0", "delay = 1.0", 11, "delay", "unknown field"),
            ("198.18.0.1\"", "198.18.0.2\"", 8, "address", "used twice"),
            ("198.18.0.1\"", "198.18.0.300\"", 8, "address", "IPv4"),
            ("address = \"198.18.0.1\"", "silent = true", 7, "id", "needs an address"),
            ("address = \"198.18.0.1\"", "address6 = \"198.18.0.1\"", 8, "address6", "IPv6"),
            ("[0.1, 0.2]", "[0.3, 0.2]", 16, "loss", "expected"),
            ("to = \"edge\"", "to = \"quay\"", 14, "to", "no link is between"),
            ("delay_ms = 1.0", "delay_ms = 1.0\nmtu = 60", 12, "mtu", "68 bytes"),
            ("delay_ms = 1.0", "delay_ms = 1.0\nreorders = 2.0", 12, "reorders", "share"),
            ("delay_ms = 1.0", "delay_ms = 1.0\nmembers = 1", 12, "members", "2 to 16"),
            (
                "delay_ms = 1.0",
                "delay_ms = 1.0\ninterfaces = [[\"198.18.0.1\"], [\"198.18.0.9\"]]",
                12,
                "interfaces",
                "used twice",
            ),
            (
                "delay_ms = 1.0",
                "delay_ms = 1.0\nspells = { share = 2, loss = 0 }",
                12,
                "spells",
                "",
            ),
            ("to = \"edge\"", "to = \"edge\"\nmember = 1", 15, "member", "no member"),
            (
                "[0.1, 0.2]",
                "[0.1, 0.2]\n[[reroute]]\nbetween = [\"quay\", \"ege\"]\nat_s = 1\nmetric = [1, 1]",
                18,
                "between",
                "no site",
            ),
            (
                "[0.1, 0.2]",
                "[0.1, 0.2]\n[[owner]]\nid = \"o\"\nname = \"O\"\npeers = [\"p\"]",
                20,
                "peers",
                "no owner",
            ),
            ("delay_ms = 1.0", "delay_ms = 1.0\nmetric = [0.0, 1.0]", 12, "metric", "over zero"),
        ] {
            let text = GOOD.replacen(from, to, 1);
            let error = Scenario::parse(&text).unwrap_err();
            assert_eq!((error.line, error.field.as_str()), (line, field), "{to}: {error}");
            assert!(error.reason.contains(words), "{to}: {error}");
        }
    }

    #[test]
    fn a_syntax_error_names_its_line() {
        let error = Scenario::parse("name = \"x\"\n[[site]\n").unwrap_err();
        assert_eq!(error.line, 2);
    }
}
