//! The configuration file: TOML 1.0, described in `docs/configuration.md`.

mod check;
mod database;
mod notices;
#[cfg(test)]
mod tests;

use crate::disk::Watermarks;
use check::{CheckEntry, IntendedEntry, ThroughputEntry};
use database::{ConnectionsEntry, DiskEntry, RetentionEntry};
use itinera_analysis::Limits;
use itinera_model::path::{Family, Method};
use itinera_model::protocol::{Pacing, Turn};
use itinera_store::{
    Contract, MeasurementPlan, Pools, Retention, Schedule, SiteSpec, TagOf, Tagged, TargetSpec,
    ThroughputSpec, TwoWaySchedule,
};
use notices::{MailEntry, NoticesEntry, tags_of};
pub use notices::{MailServer, MailTls, NoticesConfig};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::path::PathBuf;
use toml::Spanned;

/// A checked configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Config {
    /// Directory of keys and of the private cluster.
    pub data: PathBuf,
    /// URL of a PostgreSQL; absent for a private cluster in `data`.
    pub database: Option<String>,
    /// Where users and programs reach it.
    pub listen: SocketAddr,
    /// Where users reach it through a proxy that ends TLS; absent on this machine alone.
    pub public_url: Option<PublicUrl>,
    /// Where agents reach it.
    pub listen_agents: SocketAddr,
    /// What agents measure.
    pub plan: MeasurementPlan,
    /// Fixed limits of alarms.
    pub limits: Limits,
    /// What is measured again and again of how much gets through.
    pub throughput: Vec<ThroughputRule>,
    /// Connections to the database.
    pub connections: Pools,
    /// How long measurements are kept.
    pub retention: Retention,
    /// Free space on the disk below which something waits.
    pub watermarks: Watermarks,
    /// Megabytes that the database may take; absent where it may fill its disk.
    pub database_mb: Option<u32>,
    /// What sending notices needs.
    pub notices: NoticesConfig,
    /// Tags of sites and services.
    pub tags: Vec<Tagged>,
    /// The providers that sites pay.
    pub contracts: Vec<Contract>,
}

/// Where users reach the service from elsewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicUrl {
    /// The host, without a port.
    pub host: String,
    /// All of it, without a slash at the end.
    pub url: String,
}

/// A measurement that is made again and again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ThroughputRule {
    /// Name of the site that sends.
    pub from: String,
    /// Name of the site that receives.
    pub to: String,
    /// From one to the next, in seconds.
    pub every_s: u32,
    /// What is measured.
    pub spec: ThroughputSpec,
}

/// What is wrong with a configuration file, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {reason}")]
pub struct ConfigError {
    /// Line, from 1.
    pub line: usize,
    /// What is wrong, with the key's name.
    pub reason: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default = "default_data")]
    data: PathBuf,
    database: Option<String>,
    #[serde(default = "default_listen")]
    listen: Spanned<SocketAddr>,
    #[serde(default = "default_listen_agents")]
    listen_agents: SocketAddr,
    public_url: Option<Spanned<String>>,
    #[serde(default)]
    site: Vec<SiteEntry>,
    #[serde(default)]
    target: Vec<TargetEntry>,
    #[serde(default)]
    schedule: ScheduleEntry,
    #[serde(default)]
    limits: LimitsEntry,
    #[serde(default)]
    throughput: Vec<ThroughputEntry>,
    #[serde(default)]
    connections: ConnectionsEntry,
    #[serde(default)]
    retention: RetentionEntry,
    #[serde(default)]
    disk: DiskEntry,
    #[serde(default)]
    notices: NoticesEntry,
    mail: Option<MailEntry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SiteEntry {
    name: Spanned<String>,
    #[serde(default = "default_families")]
    families: Spanned<Vec<Family>>,
    reached_at: Option<Spanned<Vec<IpAddr>>>,
    #[serde(default)]
    paired_with: Vec<Spanned<String>>,
    #[serde(default)]
    tags: Vec<Spanned<String>>,
    contract: Option<ContractEntry>,
}

/// The provider that a site pays.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ContractEntry {
    holder: Spanned<String>,
    contact: Spanned<String>,
}

impl SiteEntry {
    fn read(self) -> SiteSpec {
        SiteSpec {
            name: self.name.into_inner(),
            families: self.families.into_inner(),
            reached_at: self.reached_at.map(Spanned::into_inner).unwrap_or_default(),
            paired_with: self.paired_with.into_iter().map(Spanned::into_inner).collect(),
        }
    }
}

fn check_sites(sites: &[SiteEntry]) -> Result<(), LineError> {
    let mut names = BTreeSet::new();
    for site in sites {
        named("site", &mut names, &site.name)?;
        if site.families.as_ref().is_empty() {
            let reason = "families: at least one of ipv4, ipv6 is needed".to_owned();
            return Err((site.families.span().start, reason));
        }
        if let Some(reached_at) = &site.reached_at {
            one_of_each("reached_at", reached_at)?;
        }
        for tag in &site.tags {
            visible("tags", tag)?;
        }
        if let Some(contract) = &site.contract {
            visible("holder", &contract.holder)?;
            visible("contact", &contract.contact)?;
        }
        for paired in &site.paired_with {
            let is_other = paired.as_ref() != site.name.as_ref();
            if !is_other || !sites.iter().any(|it| it.name.as_ref() == paired.as_ref()) {
                let reason = format!("paired_with: {:?} is no other site", paired.as_ref());
                return Err((paired.span().start, reason));
            }
        }
    }
    Ok(())
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct TargetEntry {
    name: Spanned<String>,
    service: Option<Spanned<String>>,
    addresses: Option<Spanned<Vec<IpAddr>>>,
    host: Option<Spanned<String>>,
    #[serde(default = "default_families")]
    families: Spanned<Vec<Family>>,
    #[serde(default = "default_methods")]
    methods: Spanned<Vec<Method>>,
    port: Option<Spanned<u16>>,
    #[serde(default)]
    check: Vec<CheckEntry>,
    intended: Option<IntendedEntry>,
    #[serde(default)]
    tags: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, default)]
struct ScheduleEntry {
    interval_ms: Spanned<u32>,
    probes_per_hop: Spanned<u8>,
    timeout_ms: Spanned<u32>,
    size_bytes: Spanned<u16>,
    last_hop: Spanned<u8>,
    full_every: Spanned<u8>,
    enumerate_every_s: Spanned<u32>,
    agent_probes_per_s: Spanned<u32>,
    target_probes_per_s: Spanned<u32>,
    hop_answers_per_s: Spanned<f64>,
    two_way_partners: Spanned<u8>,
    two_way_interval_ms: Spanned<u32>,
    two_way_packets: Spanned<u16>,
    two_way_dscp: Spanned<u8>,
    two_way_size_bytes: Spanned<u16>,
    voice_every_s: Spanned<u32>,
    voice_for_s: Spanned<u32>,
    host_facts_every_s: Spanned<u32>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, default)]
struct LimitsEntry {
    loss_ratio: Spanned<f64>,
    added_delay_ms: Spanned<u32>,
    confidence: Spanned<f64>,
    hold_windows: Spanned<u32>,
    clear_windows: Spanned<u32>,
    seal_after_s: Spanned<u32>,
    expire_after_s: Spanned<u32>,
}

fn default_data() -> PathBuf {
    PathBuf::from("/var/lib/itinera")
}

fn default_listen() -> Spanned<SocketAddr> {
    unplaced(SocketAddr::from(([127, 0, 0, 1], 7480)))
}

fn default_listen_agents() -> SocketAddr {
    SocketAddr::from(([127, 0, 0, 1], 7481))
}

fn default_families() -> Spanned<Vec<Family>> {
    unplaced(vec![Family::Ipv4])
}

fn default_methods() -> Spanned<Vec<Method>> {
    unplaced(vec![Method::IcmpEcho])
}

/// A default: it stands nowhere in the file.
fn unplaced<T>(value: T) -> Spanned<T> {
    Spanned::new(0..0, value)
}

impl Default for ScheduleEntry {
    fn default() -> Self {
        let (pacing, two_way) = (Pacing::default(), TwoWaySchedule::default());
        Self {
            interval_ms: unplaced(10_000),
            probes_per_hop: unplaced(3),
            timeout_ms: unplaced(2_000),
            size_bytes: unplaced(64),
            last_hop: unplaced(30),
            full_every: unplaced(1),
            enumerate_every_s: unplaced(3_600),
            agent_probes_per_s: unplaced(pacing.agent_per_s),
            target_probes_per_s: unplaced(pacing.target_per_s),
            hop_answers_per_s: unplaced(f64::from(pacing.hop_per_1000_s) / 1e3),
            two_way_partners: unplaced(two_way.partners),
            two_way_interval_ms: unplaced(two_way.interval_ms),
            two_way_packets: unplaced(two_way.packets),
            two_way_dscp: unplaced(two_way.dscp),
            two_way_size_bytes: unplaced(two_way.size_bytes),
            voice_every_s: unplaced(two_way.voice_every_s),
            voice_for_s: unplaced(two_way.voice_for_s),
            host_facts_every_s: unplaced(60),
        }
    }
}

impl Default for LimitsEntry {
    fn default() -> Self {
        let limits = Limits::default();
        Self {
            loss_ratio: unplaced(f64::from(limits.loss_ppm) / 1e6),
            added_delay_ms: unplaced(limits.added_delay_us / 1_000),
            confidence: unplaced(f64::from(limits.confidence_ppm) / 1e6),
            hold_windows: unplaced(limits.hold_windows),
            clear_windows: unplaced(limits.clear_windows),
            seal_after_s: unplaced(limits.seal_after_s),
            expire_after_s: unplaced(limits.expire_after_s),
        }
    }
}

impl Config {
    /// Reads a configuration file and checks all of it.
    ///
    /// # Errors
    /// [`ConfigError`] with the line and key of the first thing wrong.
    pub fn parse(text: &str) -> Result<Self, ConfigError> {
        let line_of = |offset: usize| text[..offset.min(text.len())].matches('\n').count() + 1;
        let file: File = toml::from_str(text).map_err(|error| {
            let offset = error.span().map_or(0, |span| span.start);
            let line = line_of(offset);
            let source = text.lines().nth(line - 1).unwrap_or_default();
            let key = source.split_once('=').map(|(key, _)| key.trim());
            let reason = match key {
                Some(key) if !error.message().contains(key) => {
                    format!("{key}: {}", error.message())
                }
                _ => error.message().to_owned(),
            };
            ConfigError { line, reason }
        })?;
        let checked = file.check();
        checked.map_err(|(offset, reason)| ConfigError { line: line_of(offset), reason })
    }
}

/// Where, and what is wrong there.
type LineError = (usize, String);

fn within<T: PartialOrd + Copy + std::fmt::Display>(
    key: &str,
    value: &Spanned<T>,
    low: T,
    high: T,
) -> Result<T, LineError> {
    let number = *value.as_ref();
    if number >= low && number <= high {
        Ok(number)
    } else {
        Err((value.span().start, format!("{key} is {number}, which is outside {low} to {high}")))
    }
}

/// `https://HOST` or `https://HOST:PORT`, nothing behind it.
fn public_url(text: &Spanned<String>) -> Result<PublicUrl, LineError> {
    let rest = text.as_ref().strip_prefix("https://").map(|rest| rest.trim_end_matches('/'));
    let host = rest.map(|rest| rest.split_once(':').map_or(rest, |(host, _)| host));
    match host {
        Some(host) if !host.is_empty() && !host.contains(['/', '@', '?', '#']) => {
            let url = text.as_ref().trim_end_matches('/').to_owned();
            Ok(PublicUrl { host: host.to_owned(), url })
        }
        _ => {
            let reason = "public_url: https://HOST is needed, as users type it".to_owned();
            Err((text.span().start, reason))
        }
    }
}

fn visible(key: &str, text: &Spanned<String>) -> Result<(), LineError> {
    let inner = text.as_ref();
    if inner.trim().is_empty() || inner.chars().any(char::is_control) {
        return Err((text.span().start, format!("{key}: visible characters only, and some")));
    }
    Ok(())
}

fn named<'a>(
    kind: &str,
    seen: &mut BTreeSet<&'a str>,
    name: &'a Spanned<String>,
) -> Result<(), LineError> {
    visible("name", name)?;
    let at = name.span().start;
    let name = name.as_ref().as_str();
    if seen.insert(name) {
        Ok(())
    } else {
        Err((at, format!("name: two {kind}s are called {name:?}")))
    }
}

impl File {
    fn contracts(&self) -> Vec<Contract> {
        let of_site = |site: &SiteEntry| {
            let ContractEntry { holder, contact } = site.contract.as_ref()?;
            Some(Contract {
                site: site.name.as_ref().clone(),
                holder: holder.as_ref().clone(),
                contact: contact.as_ref().clone(),
            })
        };
        self.site.iter().filter_map(of_site).collect()
    }

    fn tags(&self) -> Vec<Tagged> {
        let of_sites = self.site.iter().map(|it| tags_of(TagOf::Site, it.name.as_ref(), &it.tags));
        let of_services = self.target.iter().map(|it| {
            let service = it.service.as_ref().unwrap_or(&it.name);
            tags_of(TagOf::Service, service.as_ref(), &it.tags)
        });
        of_sites.chain(of_services).flatten().collect()
    }

    fn check(self) -> Result<Config, LineError> {
        let listen = *self.listen.as_ref();
        let public_url = self.public_url.as_ref().map(public_url).transpose()?;
        if !listen.ip().is_loopback() && public_url.is_none() {
            let reason = format!(
                "listen: {listen} is not a loopback address; passwords must not travel in the \
                 clear, so put a proxy that ends TLS before it and name it in public_url"
            );
            return Err((self.listen.span().start, reason));
        }
        check_sites(&self.site)?;
        let connections = self.connections.check()?;
        let retention = self.retention.check()?;
        let watermarks = self.disk.check()?;
        let database_mb = self.disk.database_mb()?;
        let mut names = BTreeSet::new();
        for target in &self.target {
            named("target", &mut names, &target.name)?;
            if let Some(service) = &target.service {
                visible("service", service)?;
            }
            for tag in &target.tags {
                visible("tags", tag)?;
            }
            target.check()?;
        }
        let tags = self.tags();
        let contracts = self.contracts();
        let notices = NoticesConfig::read(self.notices, self.mail)?;
        let schedule = self.schedule.check()?;
        let limits = self.limits.check()?;
        let sites: Vec<&String> = self.site.iter().map(|site| site.name.as_ref()).collect();
        let throughput =
            self.throughput.iter().map(|entry| entry.read(&sites)).collect::<Result<_, _>>()?;
        let targets = self.target.into_iter().map(|target| {
            let checks = target.check.iter().map(CheckEntry::read).collect::<Result<_, _>>()?;
            let intended = target.intended.as_ref().map(IntendedEntry::read).transpose()?;
            let addresses = target.probed();
            let mut methods = target.methods.into_inner();
            methods.sort_unstable();
            methods.dedup();
            Ok(TargetSpec {
                checks,
                intended,
                service: target
                    .service
                    .map_or_else(|| target.name.as_ref().clone(), Spanned::into_inner),
                name: target.name.into_inner(),
                addresses,
                host: target.host.map(Spanned::into_inner),
                methods,
                port: target.port.map(Spanned::into_inner),
            })
        });
        Ok(Config {
            data: self.data,
            database: self.database,
            listen,
            public_url,
            listen_agents: self.listen_agents,
            plan: MeasurementPlan {
                targets: targets.collect::<Result<_, LineError>>()?,
                sites: self.site.into_iter().map(SiteEntry::read).collect(),
                schedule,
            },
            limits,
            throughput,
            retention,
            watermarks,
            database_mb,
            connections,
            notices,
            tags,
            contracts,
        })
    }
}

fn one_of_each(field: &str, entry: &Spanned<Vec<IpAddr>>) -> Result<(), LineError> {
    let addresses = entry.as_ref();
    let sixes = addresses.iter().filter(|address| address.is_ipv6()).count();
    if addresses.is_empty() || sixes > 1 || addresses.len() - sixes > 1 {
        let reason = format!("{field}: one of each version of IP at most, one at least");
        return Err((entry.span().start, reason));
    }
    Ok(())
}

fn check_host_name(host: &Spanned<String>) -> Result<(), LineError> {
    let label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
    };
    let name = host.as_ref();
    if name.len() > 253 || !name.trim_end_matches('.').split('.').all(label) {
        let reason = "host: a host name is needed, as resolvers know it".to_owned();
        return Err((host.span().start, reason));
    }
    Ok(())
}

impl TargetEntry {
    /// The addresses probed; unspecified ones where agents resolve a name.
    fn probed(&self) -> Vec<IpAddr> {
        match &self.addresses {
            Some(addresses) => addresses.as_ref().clone(),
            None => {
                let any = |family: &Family| match family {
                    Family::Ipv4 => IpAddr::from(Ipv4Addr::UNSPECIFIED),
                    Family::Ipv6 => IpAddr::from(Ipv6Addr::UNSPECIFIED),
                };
                let families: BTreeSet<Family> = self.families.as_ref().iter().copied().collect();
                families.iter().map(any).collect()
            }
        }
    }

    fn check_host(&self, host: &Spanned<String>) -> Result<(), LineError> {
        check_host_name(host)?;
        if self.families.as_ref().is_empty() {
            let reason = "families: at least one of ipv4, ipv6 is needed".to_owned();
            return Err((self.families.span().start, reason));
        }
        Ok(())
    }

    fn check(&self) -> Result<(), LineError> {
        match (&self.addresses, &self.host) {
            (Some(addresses), None) => one_of_each("addresses", addresses)?,
            (None, Some(host)) => self.check_host(host)?,
            (Some(_), Some(host)) => {
                let reason = "host: either a name or addresses, not both".to_owned();
                return Err((host.span().start, reason));
            }
            (None, None) => {
                let reason = "addresses: a target needs addresses, or a host to resolve".to_owned();
                return Err((self.name.span().start, reason));
            }
        }
        if self.methods.as_ref().is_empty() {
            let reason = "methods: at least one of icmp-echo, udp, tcp-syn is needed".to_owned();
            return Err((self.methods.span().start, reason));
        }
        match &self.port {
            Some(port) if *port.as_ref() == 0 => {
                return Err((port.span().start, "port: 1 to 65535 expected".to_owned()));
            }
            None if self.methods.as_ref().contains(&Method::TcpSyn) => {
                let reason = "methods: tcp-syn needs a port to knock at: set port".to_owned();
                return Err((self.methods.span().start, reason));
            }
            Some(_) | None => {}
        }
        Ok(())
    }
}

impl ScheduleEntry {
    fn check(&self) -> Result<Schedule, LineError> {
        let answers = within("hop_answers_per_s", &self.hop_answers_per_s, 0.01, 1e4)?;
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "checked to be between 0.01 and 10,000"
        )]
        let hop_per_1000_s = (answers * 1e3) as u32;
        Ok(Schedule {
            host_facts_every_s: within("host_facts_every_s", &self.host_facts_every_s, 0, 86_400)?,
            interval_ms: within("interval_ms", &self.interval_ms, 500, 3_600_000)?,
            probes_per_hop: within("probes_per_hop", &self.probes_per_hop, 1, 16)?,
            timeout_ms: within("timeout_ms", &self.timeout_ms, 10, 10_000)?,
            size_bytes: within("size_bytes", &self.size_bytes, 60, 9_216)?,
            last_hop: within("last_hop", &self.last_hop, 1, 64)?,
            full_every: within("full_every", &self.full_every, 1, 60)?,
            enumerate_every_s: within("enumerate_every_s", &self.enumerate_every_s, 0, 604_800)?,
            pacing: Pacing {
                agent_per_s: within("agent_probes_per_s", &self.agent_probes_per_s, 1, 100_000)?,
                target_per_s: within("target_probes_per_s", &self.target_probes_per_s, 1, 10_000)?,
                hop_per_1000_s,
                hop_turn: Turn::default(),
            },
            two_way: TwoWaySchedule {
                partners: within("two_way_partners", &self.two_way_partners, 0, 100)?,
                interval_ms: within("two_way_interval_ms", &self.two_way_interval_ms, 20, 60_000)?,
                packets: within("two_way_packets", &self.two_way_packets, 5, 1_000)?,
                dscp: within("two_way_dscp", &self.two_way_dscp, 0, 63)?,
                // What must be in a packet over IPv6, and what needs no path MTU to be known.
                size_bytes: within("two_way_size_bytes", &self.two_way_size_bytes, 188, 1_280)?,
                voice_every_s: within("voice_every_s", &self.voice_every_s, 0, 86_400)?,
                voice_for_s: within("voice_for_s", &self.voice_for_s, 10, 600)?,
            },
        })
    }
}

impl LimitsEntry {
    fn check(&self) -> Result<Limits, LineError> {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "checked to be between 0 and 1"
        )]
        let ppm = |ratio: f64| (ratio * 1e6).round() as u32;
        Ok(Limits {
            loss_ppm: ppm(within("loss_ratio", &self.loss_ratio, 0.001, 1.0)?),
            added_delay_us: within("added_delay_ms", &self.added_delay_ms, 1, 60_000)? * 1_000,
            confidence_ppm: ppm(within("confidence", &self.confidence, 0.5, 1.0)?),
            hold_windows: within("hold_windows", &self.hold_windows, 1, 360)?,
            clear_windows: within("clear_windows", &self.clear_windows, 1, 360)?,
            seal_after_s: within("seal_after_s", &self.seal_after_s, 5, 180)?,
            expire_after_s: within("expire_after_s", &self.expire_after_s, 120, 604_800)?,
        })
    }
}
