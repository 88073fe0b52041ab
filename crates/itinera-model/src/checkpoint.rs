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

/// A window of a path, in the encoding of the stage that keeps windows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredWindow {
    /// The path.
    pub path: PathId,
    /// Index.
    pub window: i64,
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
    /// The windows; of an update, those with another content.
    pub windows: Vec<StoredWindow>,
    /// Windows that an update drops: path and index.
    pub dropped: Vec<(PathId, i64)>,
}
