//! What messages about pairs of agents say.

use crate::finding::LossCounts;
use crate::unit::Ratio;
use serde::{Deserialize, Serialize};

/// Packet loss in one direction between two agents.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct OneWayLoss {
    /// Site of the agent that sends these packets.
    pub from: String,
    /// Site of the agent that they are sent to.
    pub to: String,
    /// Packets in this direction.
    pub lossy: LossCounts,
    /// Packets in the opposite direction in the same time.
    pub opposite: LossCounts,
    /// Limit of the loss ratio.
    pub limit: Ratio,
    /// Time that the counts are of, in seconds.
    pub seconds: u32,
}

/// Two agents that do not get packets from each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct UnansweredPair {
    /// Site of the agent that sends first.
    pub near: String,
    /// Site of the agent that answers.
    pub far: String,
    /// Packets sent, none of them answered.
    pub sent: u32,
    /// Time that the count is of, in seconds.
    pub seconds: u32,
}
