//! Watches come to their end: what they found is summed up and kept.

use crate::past::LEARNED;
use crate::runner::observation;
use crate::server::Shared;
use itinera_analysis::watch::{WatchSummary, sum_up};
use itinera_store::{StoreError, WatchRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Rounds come in a little after they were measured.
const STRAGGLERS: time::Duration = time::Duration::seconds(10);

/// What a watch found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub(crate) struct WatchFound {
    pub(crate) rounds: u32,
    /// Probes to the far end.
    pub(crate) sent: u32,
    /// Of those, unanswered in time.
    pub(crate) lost: u32,
    /// Round-trip delay to the far end: smallest, median, 95th percentile.
    pub(crate) delay_us: Option<[u32; 3]>,
    /// Different ways taken.
    pub(crate) routes: u32,
    pub(crate) sentences: Vec<String>,
}

impl From<WatchSummary> for WatchFound {
    fn from(summary: WatchSummary) -> Self {
        let WatchSummary { rounds, sent, lost, delay, routes, sentences } = summary;
        let delay_us = delay.map(|all| all.map(|one| one.as_micros()));
        Self { rounds, sent, lost, delay_us, routes, sentences }
    }
}

/// Sums up what a watch has found until now.
pub(crate) async fn found(shared: &Shared, watch: &WatchRecord) -> Result<WatchFound, StoreError> {
    let asked = &watch.asked;
    let until = asked.ends_at.min(OffsetDateTime::now_utc());
    let rounds =
        shared.store.rounds_between(&[asked.path], asked.begins_at - LEARNED, until).await?;
    let (map, _) = shared.owner_map_at(until).await?;
    let watch = watch.clone();
    let summed = tokio::task::spawn_blocking(move || {
        let at = |us: i64| OffsetDateTime::from_unix_timestamp_nanos(i128::from(us) * 1_000);
        let (before, within): (Vec<_>, Vec<_>) = rounds
            .iter()
            .map(observation)
            .filter_map(|o| at(o.measured_at.as_unix_micros()).ok().map(|at| (at, o)))
            .partition(|(at, _)| *at < watch.asked.begins_at);
        let before: Vec<_> = before.into_iter().map(|(_, observation)| observation).collect();
        let within: Vec<_> =
            within.into_iter().filter(|(at, _)| watch.covers(*at)).map(|(_, o)| o).collect();
        WatchFound::from(sum_up(&before, &within, &map))
    });
    summed.await.map_err(|_| StoreError::Corrupt { what: "round that cannot be summed up" })
}

/// Keeps the summary of every watch that is over.
pub(crate) async fn finish(shared: Arc<Shared>) -> Result<(), StoreError> {
    for watch in shared.store.watches_to_sum_up().await? {
        if watch.asked.ends_at + STRAGGLERS > OffsetDateTime::now_utc() {
            continue;
        }
        let found = found(&shared, &watch).await?;
        let version = shared.store.keep_watch_summary(watch.id, serde_json::json!(found)).await?;
        shared.tell_agents(version);
    }
    Ok(())
}
