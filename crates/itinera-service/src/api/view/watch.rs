//! Watches and suppressions as the API shows them.

use crate::watches::WatchFound;
use itinera_model::path::{Family, Method};
use itinera_store::{NewSuppression, SuppressionRecord};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// State of a watch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum WatchState {
    /// The path is measured more often.
    Running,
    /// The path is measured as usual for now.
    Paused,
    /// It has ended.
    Over,
}

/// A watch.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WatchItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) path: Uuid,
    pub(crate) site: String,
    pub(crate) target: String,
    /// Absent where the path is gone.
    pub(crate) family: Option<Family>,
    /// Absent where the path is gone.
    pub(crate) method: Option<Method>,
    /// From round to round while it lasts.
    pub(crate) interval_ms: u32,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) begins_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) ends_at: OffsetDateTime,
    pub(crate) state: WatchState,
    pub(crate) reason: String,
    pub(crate) user: String,
    /// The incident it belongs to.
    pub(crate) incident: Option<Uuid>,
    pub(crate) incident_no: Option<i64>,
    /// What it found: kept once it is over, until now while it lasts. Absent in lists while it
    /// lasts.
    pub(crate) found: Option<WatchFound>,
}

/// A while in which nothing is measured on purpose.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SuppressionItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    /// From this site only; from all where absent.
    pub(crate) site: Option<String>,
    /// To this target only; to all where absent.
    pub(crate) target: Option<String>,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) until: OffsetDateTime,
    pub(crate) reason: String,
    pub(crate) user: String,
}

impl From<SuppressionRecord> for SuppressionItem {
    fn from(record: SuppressionRecord) -> Self {
        let SuppressionRecord { id, no, asked } = record;
        let NewSuppression { site, target, from, until, reason, user } = asked;
        Self { id, no, site, target, from, until, reason, user }
    }
}
