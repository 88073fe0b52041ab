//! Commits that are set aside as the API shows them.

use itinera_store::SetAsideRecord;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A commit that judgement failed on three times. Its rounds are recorded and not judged.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SetAsideItem {
    /// Its number in the log.
    pub(crate) commit_no: i64,
    /// The site of the agent that sent it.
    pub(crate) site: String,
    /// Rounds in it.
    pub(crate) rounds: i32,
    /// When it was set aside, or failed again.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    /// Why.
    pub(crate) error: String,
    /// It is about to be judged again.
    pub(crate) retry: bool,
}

impl From<SetAsideRecord> for SetAsideItem {
    fn from(record: SetAsideRecord) -> Self {
        let SetAsideRecord { commit_no, at, site, rounds, error, retry } = record;
        Self { commit_no, site, rounds, at, error, retry }
    }
}
