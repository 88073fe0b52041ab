//! Host facts as the API shows them.

use super::message::NoteView;
use super::path::offset;
use itinera_model::host_facts::{Duplex, HostFacts, Interface, Medium};
use itinera_store::HostFactsAt;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// An interface of an agent's machine.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct InterfaceView {
    pub(crate) name: String,
    pub(crate) medium: Medium,
    pub(crate) up: bool,
    pub(crate) carrier: bool,
    pub(crate) mtu_bytes: u32,
    pub(crate) hardware_address: Option<String>,
    /// With their prefix lengths.
    pub(crate) addresses: Vec<String>,
    /// As negotiated, in megabits a second.
    pub(crate) speed_mbit_s: Option<u32>,
    /// Absent where unknown.
    pub(crate) duplex: Option<Duplex>,
    /// Receive errors and dropped packets since the previous report.
    pub(crate) damaged: Option<u64>,
    pub(crate) discarded: Option<u64>,
    /// Bits per second in and out since the previous report.
    pub(crate) in_bits_per_s: Option<u64>,
    pub(crate) out_bits_per_s: Option<u64>,
    /// The larger of both beside the speed; absent where that is not known.
    pub(crate) utilisation_ratio: Option<f64>,
}

/// A route.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RouteView {
    pub(crate) to: String,
    /// Absent on the link itself.
    pub(crate) gateway: Option<String>,
    pub(crate) interface: String,
    pub(crate) metric: u32,
}

/// A neighbour on a link.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct NeighbourView {
    pub(crate) address: String,
    /// Absent where it does not answer.
    pub(crate) hardware_address: Option<String>,
    pub(crate) interface: String,
}

/// A switch or neighbour that announces itself (IEEE 802.1AB): foreign text.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AnnouncedView {
    pub(crate) interface: String,
    pub(crate) system: String,
    pub(crate) port: String,
}

/// Where an address comes from.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LeaseView {
    pub(crate) interface: String,
    pub(crate) server: Option<String>,
    pub(crate) lifetime_s: Option<u32>,
}

/// An open socket.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SocketView {
    pub(crate) protocol: String,
    pub(crate) local: String,
    /// Absent while it listens.
    pub(crate) peer: Option<String>,
}

/// A gateway that was used.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct GatewayView {
    pub(crate) address: String,
    pub(crate) interface: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) first_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) last_at: OffsetDateTime,
    /// It is the one in use.
    pub(crate) in_use: bool,
    /// Median round trip to it while it was used; absent where it was not measured.
    pub(crate) delay_us: Option<u32>,
}

/// What an agent finds around it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HostFactsView {
    pub(crate) site: String,
    /// What to know about the machine.
    pub(crate) notes: Vec<NoteView>,
    /// When it was read; absent before the first time.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) at: Option<OffsetDateTime>,
    pub(crate) host_name: String,
    pub(crate) interfaces: Vec<InterfaceView>,
    pub(crate) routes: Vec<RouteView>,
    pub(crate) neighbours: Vec<NeighbourView>,
    pub(crate) resolvers: Vec<String>,
    pub(crate) leases: Vec<LeaseView>,
    pub(crate) announced: Vec<AnnouncedView>,
    /// Absent where the site does not let sockets be listed.
    pub(crate) sockets: Option<Vec<SocketView>>,
    /// The gateways used in the last day.
    pub(crate) gateways: Vec<GatewayView>,
}

pub(crate) fn interface(one: &Interface, before: Option<(&Interface, i64)>) -> InterfaceView {
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

pub(crate) fn view(
    site: String,
    all: &[HostFactsAt],
    notes: Vec<NoteView>,
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
        notes,
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
