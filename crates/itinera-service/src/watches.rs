//! Watches come to their end: what they found is summed up and kept.

use crate::context::Shared;
use crate::engine::observation;
use crate::past::LEARNED;
use itinera_analysis::Observation;
use itinera_analysis::watch::{WatchSum, WatchSummary};
use itinera_model::note::Note;
use itinera_store::{StoreError, WatchRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::OffsetDateTime;

/// Rounds arrive a little later than they were measured.
const STRAGGLERS: time::Duration = time::Duration::seconds(10);

/// What a watch found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct WatchFound {
    pub(crate) rounds: u32,
    /// Probes to the far end.
    pub(crate) sent: u32,
    /// Of those, unanswered in time.
    pub(crate) lost: u32,
    /// Round-trip delay to the far end: smallest, median, 95th percentile.
    pub(crate) delay_us: Option<[u32; 3]>,
    /// Number of different routes.
    pub(crate) routes: u32,
    #[serde(default)]
    pub(crate) notes: Vec<Note>,
    /// What summaries of earlier versions have in place of notes.
    #[serde(default, skip_serializing)]
    pub(crate) sentences: Vec<String>,
}

impl From<WatchSummary> for WatchFound {
    fn from(summary: WatchSummary) -> Self {
        let WatchSummary { rounds, sent, lost, delay, routes, notes } = summary;
        let delay_us = delay.map(|all| all.map(|one| one.as_micros()));
        Self { rounds, sent, lost, delay_us, routes, notes, sentences: Vec::new() }
    }
}

/// Rounds read at once.
const PAGE: i64 = 2_000;

/// Sums up what a watch has found until now.
pub(crate) async fn found(shared: &Shared, watch: &WatchRecord) -> Result<WatchFound, StoreError> {
    let asked = &watch.asked;
    let until = asked.ends_at.min(OffsetDateTime::now_utc());
    let span = (asked.begins_at - LEARNED, until);
    let (mut sum, mut after) = (WatchSum::default(), None);
    loop {
        let page = shared.store.rounds_page(asked.path, span, after, PAGE).await?;
        let watch = watch.clone();
        let added = tokio::task::spawn_blocking(move || {
            let within = |o: &Observation<'_>| {
                o.measured_at
                    .date_time()
                    .is_some_and(|at| at >= watch.asked.begins_at && watch.covers(at))
            };
            let mut rounds: Vec<_> = page.rounds.iter().map(observation).collect();
            rounds.sort_by_key(|round| round.measured_at);
            sum.add(&rounds, within);
            (sum, page.next)
        });
        let added = added.await;
        (sum, after) = added.map_err(|_| StoreError::Corrupt { what: "round of a watch" })?;
        if after.is_none() {
            return Ok(sum.finish().into());
        }
    }
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
