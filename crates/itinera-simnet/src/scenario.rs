//! Scenario files: TOML 1.0, described in `docs/scenario.md`.

use serde::Deserialize;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use toml::Spanned;

/// A scenario as written. Every name it uses has been checked.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    /// What people call it.
    pub name: String,
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
    #[serde(default, rename = "draw")]
    pub(crate) draws: Vec<DrawEntry>,
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

/// How a router shares traffic among ways of equal metric.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Balance {
    /// By addresses, protocol and ports: a flow keeps its way.
    Flow,
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
    /// Share of the line that other traffic fills, in packets of 1200 octets.
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
    pub(crate) polices: Option<Spanned<[f64; 2]>>,
    pub(crate) answer_delay_ms: Option<Spanned<f64>>,
    pub(crate) answer_jitter_ms: Option<Spanned<f64>>,
    pub(crate) answers_per_s: Option<Spanned<f64>>,
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
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct OwnerEntry {
    pub(crate) id: Spanned<String>,
    pub(crate) name: String,
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
    pub(crate) polices: Vec<Spanned<String>>,
    pub(crate) polices_share: Option<Spanned<[f64; 2]>>,
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
        Checker { text, scenario: &scenario }.check()?;
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

struct Checker<'a> {
    text: &'a str,
    scenario: &'a Scenario,
}

impl Checker<'_> {
    fn fail<T>(&self, value: &Spanned<T>, reason: String) -> ScenarioError {
        at(self.text, value.span().start, reason)
    }

    fn check(&self) -> Result<(), ScenarioError> {
        let s = self.scenario;
        let hosts = s.sites.iter().chain(&s.targets);
        let ids = hosts.clone().map(|h| &h.id).chain(s.routers.iter().map(|r| &r.id));
        self.unique(ids)?;
        let routers = s.routers.iter();
        let four = hosts.clone().filter_map(|h| h.address.as_ref());
        self.unique(four.chain(routers.clone().filter_map(|r| r.address.as_ref())))?;
        let six = hosts.clone().filter_map(|h| h.address6.as_ref());
        self.unique(six.chain(routers.clone().filter_map(|r| r.address6.as_ref())))?;
        let nodes = hosts.map(|h| (&h.id, h.address.is_some() || h.address6.is_some()));
        let nodes =
            nodes.chain(routers.map(|r| (&r.id, r.address.is_some() || r.address6.is_some())));
        if let Some((id, _)) = nodes.into_iter().find(|(_, addressed)| !addressed) {
            let reason = format!("{:?} needs an address, an address6, or both", id.as_ref());
            return Err(self.fail(id, reason));
        }
        for (host, bound) in s.sites.iter().flat_map(|site| site.clock().into_iter().zip(CLOCK)) {
            if let Some(value) = host
                && !(-bound..=bound).contains(value.as_ref())
            {
                let reason = format!("a clock is off by at most {bound} either way");
                return Err(self.fail(value, reason));
            }
        }
        if let Some(value) = s.targets.iter().flat_map(HostEntry::clock).flatten().next() {
            return Err(self.fail(value, "only sites have clocks".to_owned()));
        }
        self.unique(s.owners.iter().map(|o| &o.id))?;
        for router in &s.routers {
            if let Some(owner) = &router.owner
                && !s.owners.iter().any(|known| known.id.as_ref() == owner.as_ref())
            {
                return Err(self.fail(owner, format!("no owner has the id {:?}", owner.as_ref())));
            }
            self.share_range(router.polices.as_ref())?;
            self.at_least_zero(router.answer_delay_ms.as_ref())?;
            self.at_least_zero(router.answer_jitter_ms.as_ref())?;
            if let Some(rate) = &router.answers_per_s
                && !(*rate.as_ref() > 0.0 && rate.as_ref().is_finite())
            {
                return Err(self.fail(rate, "a rate is finite and over zero".to_owned()));
            }
            if let Some(dscp) = router.marks_dscp.as_ref().filter(|dscp| *dscp.as_ref() > 63) {
                return Err(self.fail(dscp, "a DSCP is between 0 and 63".to_owned()));
            }
        }
        for link in &s.links {
            link.between.iter().try_for_each(|end| self.known_node(end))?;
            self.at_least_zero(Some(&link.delay_ms))?;
            self.at_least_zero(link.jitter_ms.as_ref())?;
            self.link(link)?;
        }
        s.faults.iter().try_for_each(|fault| self.fault(fault))?;
        for draw in &s.draws {
            if draw.options.is_empty() {
                return Err(self.fail(&draw.name, "a draw needs at least one option".to_owned()));
            }
            for option in &draw.options {
                for router in option.silent.iter().chain(&option.polices) {
                    if !s.routers.iter().any(|r| r.id.as_ref() == router.as_ref()) {
                        let id = router.as_ref();
                        return Err(self.fail(router, format!("no router has the id {id:?}")));
                    }
                }
                self.share_range(option.polices_share.as_ref())?;
                option.faults.iter().try_for_each(|fault| self.fault(fault))?;
            }
        }
        Ok(())
    }

    fn link(&self, link: &LinkEntry) -> Result<(), ScenarioError> {
        let share = |value: f64| (0.0..=1.0).contains(&value);
        for value in [&link.loss, &link.duplicates, &link.reorders].into_iter().flatten() {
            if !share(*value.as_ref()) {
                return Err(self.fail(value, "a share is between 0 and 1".to_owned()));
            }
        }
        if let Some(metric) = &link.metric
            && !metric.as_ref().iter().all(|metric| metric.is_finite() && *metric > 0.0)
        {
            return Err(self.fail(metric, "a metric is finite and over zero".to_owned()));
        }
        if let Some(burst) = &link.burst {
            let Burst { enter, leave, loss } = *burst.as_ref();
            if ![enter, leave, loss].into_iter().all(share) {
                return Err(self.fail(burst, "shares are between 0 and 1".to_owned()));
            }
        }
        if let Some(mtu) = link.mtu.as_ref().filter(|mtu| *mtu.as_ref() < 68) {
            return Err(self.fail(mtu, "an MTU is 68 octets or more (RFC 791)".to_owned()));
        }
        if let Some(queue) = &link.queue {
            let Queue { mbit_per_s, longest_ms, load } = *queue.as_ref();
            let fits = mbit_per_s.is_finite()
                && mbit_per_s > 0.0
                && longest_ms.is_finite()
                && longest_ms >= 0.0
                && (0.0..1.0).contains(&load);
            if !fits {
                let reason = "a queue has a rate over zero, a longest wait, and a load under 1";
                return Err(self.fail(queue, reason.to_owned()));
            }
        }
        Ok(())
    }

    fn unique<'b, T: Ord + std::fmt::Debug + 'b>(
        &self,
        values: impl Iterator<Item = &'b Spanned<T>>,
    ) -> Result<(), ScenarioError> {
        let mut seen = std::collections::BTreeSet::new();
        for value in values {
            if !seen.insert(value.as_ref()) {
                return Err(self.fail(value, format!("{:?} is used twice", value.as_ref())));
            }
        }
        Ok(())
    }

    fn known_node(&self, id: &Spanned<String>) -> Result<(), ScenarioError> {
        let s = self.scenario;
        let hosts = s.sites.iter().chain(&s.targets).map(|h| &h.id);
        let known = hosts.chain(s.routers.iter().map(|r| &r.id)).any(|k| k.as_ref() == id.as_ref());
        if known {
            Ok(())
        } else {
            let reason = format!("no site, router or target has the id {:?}", id.as_ref());
            Err(self.fail(id, reason))
        }
    }

    fn at_least_zero(&self, value: Option<&Spanned<f64>>) -> Result<(), ScenarioError> {
        match value {
            Some(v) if !v.as_ref().is_finite() || *v.as_ref() < 0.0 => {
                Err(self.fail(v, "a time is finite and not negative".to_owned()))
            }
            _ => Ok(()),
        }
    }

    fn range(&self, value: Option<&Spanned<[f64; 2]>>, max: f64) -> Result<(), ScenarioError> {
        let Some(value) = value else { return Ok(()) };
        let [low, high] = *value.as_ref();
        if low >= 0.0 && low <= high && high <= max {
            Ok(())
        } else {
            Err(self.fail(value, format!("[from, to] with 0 <= from <= to <= {max} expected")))
        }
    }

    fn share_range(&self, value: Option<&Spanned<[f64; 2]>>) -> Result<(), ScenarioError> {
        self.range(value, 1.0)
    }

    fn fault(&self, fault: &FaultEntry) -> Result<(), ScenarioError> {
        self.known_node(&fault.from)?;
        self.known_node(&fault.to)?;
        let ends = [fault.from.as_ref(), fault.to.as_ref()];
        let linked = self.scenario.links.iter().any(|link| {
            let between = [link.between[0].as_ref(), link.between[1].as_ref()];
            between == ends || between == [ends[1], ends[0]]
        });
        if !linked {
            let reason = format!("no link is between {:?} and {:?}", ends[0], ends[1]);
            return Err(self.fail(&fault.to, reason));
        }
        if fault.loss.is_none() && fault.added_delay_ms.is_none() {
            let reason = "a fault needs loss or added_delay_ms".to_owned();
            return Err(self.fail(&fault.from, reason));
        }
        self.range(Some(&fault.at_s), 1e9)?;
        self.at_least_zero(fault.for_s.as_ref())?;
        self.share_range(fault.loss.as_ref())?;
        self.range(fault.added_delay_ms.as_ref(), 60_000.0)
    }
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
            ("delay_ms = 1.0", "delay_ms = 1.0\nmtu = 60", 12, "mtu", "68 octets"),
            ("delay_ms = 1.0", "delay_ms = 1.0\nreorders = 2.0", 12, "reorders", "share"),
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
