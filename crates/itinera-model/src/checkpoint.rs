//! What judgement remembers, as it is stored.

use crate::id::PathId;
use std::net::IpAddr;

/// The state of one stage of judgement. A stage does not read a state that another version of it
/// wrote.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StageState {
    /// The stage's name.
    pub stage: String,
    /// The version that wrote it.
    pub version: u16,
    /// The state, in the stage's own encoding.
    pub content: Vec<u8>,
}

/// The windows of a minute of a path, in the encoding of the stage that keeps windows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredMinute {
    /// The path.
    pub path: PathId,
    /// Number of the minute since 1970.
    pub minute: i64,
    /// The agent's address.
    pub source: IpAddr,
    /// Content.
    pub content: Vec<u8>,
}

/// Everything that judgement needs to continue from a place in the log; as an update, what differs
/// from the checkpoint before.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Checkpoint {
    /// The stages; of an update, those with another state.
    pub stages: Vec<StageState>,
    /// The windows of all paths by minute; of an update, the minutes with another content.
    pub minutes: Vec<StoredMinute>,
    /// Minutes that an update drops: path and number.
    pub dropped: Vec<(PathId, i64)>,
}
