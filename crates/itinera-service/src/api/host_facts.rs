//! What agents find around them.

use super::view::offset;
use crate::context::Shared;
use crate::events::MOST_PATHS;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_analysis::roaming;
use itinera_model::finding::Assessment;
use itinera_model::host_facts::{Duplex, HostFacts, Interface, Medium};
use itinera_model::id::AgentId;
use itinera_store::HostFactsAt;
use serde::Serialize;
use std::net::IpAddr;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;

/// How far back gateways are looked for.
const LOOKED_BACK: Duration = Duration::days(1);

/// An interface of an agent's machine.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct InterfaceView {
    name: String,
    medium: Medium,
    up: bool,
    carrier: bool,
    mtu_bytes: u32,
    hardware_address: Option<String>,
    /// With their prefix lengths.
    addresses: Vec<String>,
    /// As negotiated, in megabits a second.
    speed_mbit_s: Option<u32>,
    /// Absent where unknown.
    duplex: Option<Duplex>,
    /// Receive errors and dropped packets since the previous report.
    damaged: Option<u64>,
    discarded: Option<u64>,
    /// Bits per second in and out since the previous report.
    in_bits_per_s: Option<u64>,
    out_bits_per_s: Option<u64>,
    /// The larger of both beside the speed; absent where that is not known.
    utilisation_ratio: Option<f64>,
}

/// A route.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RouteView {
    to: String,
    /// Absent on the link itself.
    gateway: Option<String>,
    interface: String,
    metric: u32,
}

/// A neighbour on a link.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct NeighbourView {
    address: String,
    /// Absent where it does not answer.
    hardware_address: Option<String>,
    interface: String,
}

/// A switch or neighbour that announces itself (IEEE 802.1AB): foreign text.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AnnouncedView {
    interface: String,
    system: String,
    port: String,
}

/// Where an address comes from.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LeaseView {
    interface: String,
    server: Option<String>,
    lifetime_s: Option<u32>,
}

/// An open socket.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SocketView {
    protocol: String,
    local: String,
    /// Absent while it listens.
    peer: Option<String>,
}

/// A gateway that was used.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct GatewayView {
    address: String,
    interface: String,
    #[serde(with = "time::serde::rfc3339")]
    first_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    last_at: OffsetDateTime,
    /// It is the one in use.
    in_use: bool,
    /// Median round trip to it while it was used; absent where it was not measured.
    delay_us: Option<u32>,
}

/// What an agent finds around it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HostFactsView {
    site: String,
    /// What is worth a word, in sentences.
    sentences: Vec<String>,
    /// When it was read; absent before the first time.
    #[serde(with = "time::serde::rfc3339::option")]
    at: Option<OffsetDateTime>,
    host_name: String,
    interfaces: Vec<InterfaceView>,
    routes: Vec<RouteView>,
    neighbours: Vec<NeighbourView>,
    resolvers: Vec<String>,
    leases: Vec<LeaseView>,
    announced: Vec<AnnouncedView>,
    /// Absent where the site does not let sockets be listed.
    sockets: Option<Vec<SocketView>>,
    /// The gateways used in the last day.
    gateways: Vec<GatewayView>,
}

fn interface(one: &Interface, before: Option<(&Interface, i64)>) -> InterfaceView {
    let grown = |of: fn(&Interface) -> u64| {
        let (before, _) = before?;
        of(one).checked_sub(of(before))
    };
    let rate = |of: fn(&Interface) -> u64| {
        let us = u64::try_from(before?.1).ok().filter(|us| *us > 0)?;
        Some(grown(of)?.saturating_mul(8_000_000) / us)
    };
    let (inbound, outbound) = (rate(|it| it.counters.rx_bytes), rate(|it| it.counters.tx_bytes));
    let speed = one.speed_mbit_s.map(|mbit| f64::from(mbit) * 1e6).filter(|speed| *speed > 0.0);
    #[allow(clippy::cast_precision_loss, reason = "bits per second for display")]
    let used = inbound.max(outbound).zip(speed).map(|(bits, speed)| bits as f64 / speed);
    InterfaceView {
        name: one.name.clone(),
        medium: one.medium,
        up: one.up,
        carrier: one.carrier,
        mtu_bytes: one.mtu_bytes,
        hardware_address: one.hardware_address.clone(),
        addresses: one.addresses.iter().map(ToString::to_string).collect(),
        speed_mbit_s: one.speed_mbit_s,
        duplex: one.duplex,
        damaged: grown(|it| it.counters.rx_errors + it.counters.tx_errors),
        discarded: grown(|it| it.counters.rx_discards + it.counters.tx_discards),
        in_bits_per_s: inbound,
        out_bits_per_s: outbound,
        utilisation_ratio: used,
    }
}

fn view(
    site: String,
    all: &[HostFactsAt],
    targets: &[(&str, IpAddr)],
    gateways: Vec<GatewayView>,
) -> HostFactsView {
    let newest = all.last();
    let nothing = HostFacts::default();
    let host_facts = newest.map_or(&nothing, |newest| &newest.round.host_facts);
    let before = all.len().checked_sub(2).and_then(|index| all.get(index));
    let before_of = |name: &str| {
        let (before, newest) = (before?, newest?);
        Some((before.round.host_facts.interface(name)?, newest.at.micros_since(before.at)))
    };
    let text = |address: &std::net::IpAddr| address.to_string();
    HostFactsView {
        site,
        sentences: newest.map_or_else(
            || vec!["This agent has not reported host facts yet.".to_owned()],
            |newest| roaming::remarks(&newest.round.host_facts, targets),
        ),
        at: newest.map(|newest| offset(newest.at)),
        host_name: host_facts.host_name.clone(),
        interfaces: host_facts
            .interfaces
            .iter()
            .map(|one| interface(one, before_of(&one.name)))
            .collect(),
        routes: host_facts
            .routes
            .iter()
            .map(|route| RouteView {
                to: route.to.to_string(),
                gateway: route.gateway.as_ref().map(text),
                interface: route.interface.clone(),
                metric: route.metric,
            })
            .collect(),
        neighbours: host_facts
            .neighbours
            .iter()
            .map(|one| NeighbourView {
                address: one.address.to_string(),
                hardware_address: one.hardware_address.clone(),
                interface: one.interface.clone(),
            })
            .collect(),
        resolvers: host_facts.resolvers.iter().map(text).collect(),
        leases: host_facts
            .leases
            .iter()
            .map(|lease| LeaseView {
                interface: lease.interface.clone(),
                server: lease.server.as_ref().map(text),
                lifetime_s: lease.lifetime_s,
            })
            .collect(),
        announced: host_facts
            .announced
            .iter()
            .map(|one| AnnouncedView {
                interface: one.interface.clone(),
                system: one.system.clone(),
                port: one.port.clone(),
            })
            .collect(),
        sockets: host_facts.sockets.as_ref().map(|sockets| {
            let view = |socket: &itinera_model::host_facts::OpenSocket| SocketView {
                protocol: socket.protocol.clone(),
                local: socket.local.to_string(),
                peer: socket.peer.map(|peer| peer.to_string()),
            };
            sockets.iter().map(view).collect()
        }),
        gateways,
    }
}

/// What an agent finds around it, with the gateways it used in the last day.
#[utoipa::path(get, path = "/agents/{id}/host-facts", operation_id = "getHostFacts",
    params(("id" = String, Path, description = "The agent's id")), responses(
    (status = 200, body = HostFactsView),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn host_facts(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<HostFactsView>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let agent: AgentId = id.parse().map_err(|_| unknown())?;
    let agents = shared.store.agents().await?;
    let record = agents.into_iter().find(|record| record.id == agent).ok_or_else(unknown)?;
    let now = OffsetDateTime::now_utc();
    let all = shared.store.host_facts_between(agent, now - LOOKED_BACK, now).await?;
    let reports: Vec<roaming::Report<'_>> = all
        .iter()
        .map(|it| roaming::Report {
            at: it.at,
            host_facts: &it.round.host_facts,
            gateway: it.round.gateway.as_ref(),
        })
        .collect();
    let (used, better) = roaming::gateways(&reports);
    let gateways = used.into_iter().map(|used| GatewayView {
        address: used.address.to_string(),
        interface: used.interface,
        first_at: offset(used.first_at),
        last_at: offset(used.last_at),
        in_use: used.in_use,
        delay_us: used.delay.map(|delay| delay.as_micros()),
    });
    let paths = shared.store.paths(None, MOST_PATHS).await?;
    let own = paths.iter().filter(|path| path.agent == agent);
    let judged: Vec<&Assessment> = own.clone().filter_map(|path| path.latest.as_ref()).collect();
    let (map, _) = shared.owner_map_at(now).await?;
    let provider = roaming::access_provider(&judged, &map);
    let mut targets: Vec<(&str, IpAddr)> =
        own.filter_map(|path| Some((path.target.as_str(), path.address.parse().ok()?))).collect();
    targets.sort_unstable();
    let mut view = view(record.site, &all, &targets, gateways.collect());
    view.sentences.extend(provider);
    view.sentences.extend(better);
    Ok(Json(view))
}
