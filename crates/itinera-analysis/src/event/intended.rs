//! Whether a route is the intended one.

use itinera_model::finding::Assessment;
use itinera_model::message::RouteDeviation;
use itinera_model::owner::OwnerMap;
use serde::{Deserialize, Serialize};

/// What is intended of a route; what is absent does not matter.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Intended {
    /// AS numbers of owners, in order.
    pub owners: Vec<u32>,
    /// Through a tunnel of the agent's machine, or through none.
    pub tunnel: Option<bool>,
    /// Marks arrive as they were sent.
    pub dscp_kept: bool,
}

/// What is seen of a route.
#[derive(Debug, Clone, Copy)]
pub struct RouteState<'a> {
    /// Its newest judgement, with its hops.
    pub assessment: &'a Assessment,
    /// Whether it begins in a tunnel of the agent's machine; absent where that is unknown.
    pub tunnel: Option<bool>,
    /// DSCP as sent, and as the last hop quoted it; absent where no hop quoted it.
    pub dscp: Option<(u8, u8)>,
}

/// How a route deviates from the intended one; empty where it does not.
pub fn deviations(
    intended: &Intended,
    seen: RouteState<'_>,
    map: &OwnerMap,
) -> Vec<RouteDeviation> {
    let mut found = Vec::new();
    if !intended.owners.is_empty() {
        let mut taken: Vec<(u32, String)> = Vec::new();
        for address in seen.assessment.hops.iter().filter_map(|hop| hop.address) {
            let Some(owner) = map.owner_of(address) else { continue };
            if taken.last().is_none_or(|(last, _)| *last != owner.as_number) {
                taken.push((owner.as_number, owner.name.clone()));
            }
        }
        // Owners of which no hop answered may be on the route all the same: the owners seen must be
        // intended ones, in order.
        let mut wanted = intended.owners.iter();
        let in_order = taken.iter().all(|(number, _)| wanted.any(|it| it == number));
        if !in_order && !taken.is_empty() {
            found.push(RouteDeviation::Owners {
                taken: taken.into_iter().map(|(_, name)| name).collect(),
                intended: intended.owners.clone(),
            });
        }
    }
    match (intended.tunnel, seen.tunnel) {
        (Some(true), Some(false)) => found.push(RouteDeviation::TunnelMissing),
        (Some(false), Some(true)) => found.push(RouteDeviation::TunnelTaken),
        _ => {}
    }
    if let Some((sent, arrived)) = seen.dscp.filter(|(sent, arrived)| sent != arrived)
        && intended.dscp_kept
    {
        found.push(RouteDeviation::DscpRewritten { sent, arrived });
    }
    found
}
