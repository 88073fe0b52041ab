//! What was judged at an earlier time, computed again from the stored rounds.

use crate::engine::observation;
use itinera_analysis::past;
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use itinera_store::{LoggedRound, Store, StoreError};
use std::collections::BTreeMap;
use time::{Duration, OffsetDateTime};

/// What is usual is learned from this long before.
pub(crate) const LEARNED: Duration = Duration::minutes(15);

/// Every window's assessment of some paths between two times, by path.
pub(crate) async fn assessments(
    store: &Store,
    paths: &[PathId],
    from: OffsetDateTime,
    to: OffsetDateTime,
) -> Result<BTreeMap<PathId, Vec<Assessment>>, StoreError> {
    let rounds = store.rounds_between(paths, from - LEARNED, to).await?;
    // It computes long: not on a thread that others wait for.
    let computed = tokio::task::spawn_blocking(move || judged(&rounds, from)).await;
    computed.map_err(|_| StoreError::Corrupt { what: "round that cannot be judged" })
}

fn judged(rounds: &[LoggedRound], from: OffsetDateTime) -> BTreeMap<PathId, Vec<Assessment>> {
    let from = WallTime::from(from);
    let mut by_path: BTreeMap<PathId, Vec<Assessment>> = BTreeMap::new();
    for rounds in rounds.chunk_by(|a, b| a.path == b.path) {
        let observations: Vec<_> = rounds.iter().map(observation).collect();
        let assessed = past::assessments(&observations).into_iter();
        let wanted = assessed.filter(|assessment| assessment.until >= from);
        if let Some(first) = rounds.first() {
            by_path.entry(first.path).or_default().extend(wanted);
        }
    }
    by_path
}
