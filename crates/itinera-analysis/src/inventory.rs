//! The inventory: agents, paths, pairs, checks, intended routes, limits and rules, as judgement is told of them.
//!
//! It is an input of the log, so that what was judged by it can be judged again after it has changed.

use crate::event::intended::Intended;
use crate::event::{CheckFacts, PairEnds};
use crate::limits::Limits;
use crate::rules::Rules;
use itinera_model::id::{AgentId, CheckId, PairId, PathId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use uuid::Uuid;

/// A path with an intended route.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IntendedRoute {
    /// Its agent.
    pub agent: AgentId,
    /// The agent's site.
    pub site: String,
    /// The target's name.
    pub target: String,
    /// The service that the target is part of.
    pub service: String,
    /// The kind of its probes, in words.
    pub packets: String,
    /// The address that is probed; absent where the name has none.
    pub address: Option<IpAddr>,
    /// DSCP of its probes as they are sent.
    pub dscp: u8,
    /// What is intended.
    pub intended: Intended,
}

/// What judgement is told of what is measured, and by what it is judged.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Inventory {
    /// Limits of alarms, where no rule has others.
    pub limits: Limits,
    /// Rules of alarms.
    #[serde(default)]
    pub rules: Rules,
    /// Identity of the owner map; absent before the first.
    pub owner_map: Option<Uuid>,
    /// The site of each agent.
    pub sites: BTreeMap<AgentId, String>,
    /// Active checks.
    pub checks: BTreeMap<CheckId, CheckFacts>,
    /// The path from each agent to each address: by echo where there are several.
    pub paths: BTreeMap<(AgentId, IpAddr), PathId>,
    /// Pairs that measure each other always.
    #[serde(default)]
    pub pairs: BTreeMap<PairId, PairEnds>,
    /// Paths with an intended route.
    pub intended: BTreeMap<PathId, IntendedRoute>,
}

/// The smallest address.
const FIRST: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

impl Inventory {
    /// The paths of an agent.
    pub(crate) fn paths_of(&self, agent: AgentId) -> impl Iterator<Item = PathId> {
        let own = self.paths.range((agent, FIRST)..);
        own.take_while(move |((of, _), _)| *of == agent).map(|(_, path)| *path)
    }
}
