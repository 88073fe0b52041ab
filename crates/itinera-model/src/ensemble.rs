//! Route ensembles: all the routes that load balancing gives packets of one path (RFC 9198).

use crate::route::Route;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// How a router chooses among routes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Balancing {
    /// By flow: packets of one flow keep their route.
    PerFlow,
    /// By packet: packets of one flow take several routes.
    PerPacket,
}

/// A load balancer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Balancer {
    /// Hop limit at which the first routers behind it answer.
    pub hop: u8,
    /// The last address before the routes part; absent for one that is silent, or the sender.
    pub address: Option<IpAddr>,
    /// How it chooses.
    pub balancing: Balancing,
    /// The first addresses behind it, in order.
    pub next: Vec<IpAddr>,
}

/// One route, and which flows take it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MemberRoute {
    /// The route.
    pub route: Route,
    /// Source ports (or identifiers) that were seen to take it.
    pub source_ports: Vec<u16>,
}

/// All routes that were found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RouteEnsemble {
    /// Probability, in parts per million, that a further route behind any one router was missed,
    /// given that it shares traffic evenly.
    pub error_ppm: u32,
    /// False when the probes allowed did not suffice for that.
    pub is_complete: bool,
    /// Probes sent.
    pub probes: u32,
    /// The load balancers.
    pub balancers: Vec<Balancer>,
    /// The member routes.
    pub members: Vec<MemberRoute>,
}

impl RouteEnsemble {
    /// One source port for each member, as many as there are up to `most`: rounds that take them
    /// in turn show every route.
    pub fn one_flow_each(&self, most: usize) -> Vec<u16> {
        let ports = self.members.iter().filter_map(|member| member.source_ports.first().copied());
        ports.take(most).collect()
    }
}
