//! What the messages about the service itself say.

use serde::{Deserialize, Serialize};

/// Measurements that are not judged yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Backlog {
    /// Commits not judged yet.
    pub commits: u64,
    /// Age of the oldest of them, in seconds.
    pub seconds: u32,
}

/// Commits that judgement fails on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SetAsideCommits {
    /// Their number.
    pub commits: u64,
    /// The error of the newest.
    pub error: String,
}

/// A duty of the service that is not done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FailingDuty {
    /// Its name, as in `/readyz`.
    pub duty: String,
}

/// Agents that report late or not at all.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LateAgents {
    /// Agents with a last report older than a minute.
    pub late: u32,
    /// All agents that have reported within a day.
    pub agents: u32,
}

/// Free space on a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DiskSpace {
    /// What is free, in megabytes.
    pub free_mb: u32,
    /// What has to be free until nothing waits, in megabytes.
    pub needed_mb: u32,
}

/// A receiver that does not get its notices.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FailingReceiver {
    /// Its name.
    pub receiver: String,
    /// Deliveries that wait after three attempts, or failed within an hour.
    pub deliveries: u32,
    /// Why the last attempt failed.
    pub reason: String,
}
