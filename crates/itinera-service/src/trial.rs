//! Rules tried on the findings of the last days.

use crate::context::Shared;
use crate::inventory::{MOST_PATHS, ruled, rules_with};
use crate::problem::ApiError;
use itinera_analysis::WINDOW_US;
use itinera_analysis::trial::{Trial, TriedAlarm};
use itinera_model::finding::Finding;
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::rule::Rule;
use itinera_model::unit::WallTime;
use itinera_store::{FindingRecord, PathRecord};
use std::collections::BTreeMap;
use std::sync::Arc;
use time::OffsetDateTime;
use tokio::sync::Semaphore;

/// Trials that one process makes at one time.
static TRIALS: Semaphore = Semaphore::const_new(1);
/// Findings up to which a day is read at once; more are read ten minutes at a time.
const FEW_FINDINGS: i64 = 200_000;
const DAY_WINDOWS: i64 = 8_640;
const TEN_MINUTES_WINDOWS: i64 = 60;

/// What rules would have raised, and what the rules in force would have.
pub(crate) struct Tried {
    pub(crate) paths: Vec<PathRecord>,
    pub(crate) owners: Arc<OwnerMap>,
    /// Findings that the rules were tried on.
    pub(crate) findings: i64,
    pub(crate) tried: Vec<TriedAlarm>,
    pub(crate) in_force: Vec<TriedAlarm>,
}

fn window_at(at: OffsetDateTime) -> i64 {
    WallTime::from(at).as_unix_micros().div_euclid(WINDOW_US)
}

/// Findings by window, of findings in order of their windows.
fn by_window(findings: Vec<FindingRecord>) -> BTreeMap<i64, Vec<(PathId, Finding)>> {
    let mut windows: BTreeMap<i64, Vec<(PathId, Finding)>> = BTreeMap::new();
    for it in findings {
        windows.entry(it.window).or_default().push((it.path, it.finding));
    }
    windows
}

/// Tries rules on the findings of a range, beside the rules in force.
pub(crate) async fn try_rules(
    shared: &Shared,
    rules: Vec<Rule>,
    in_force: Vec<Rule>,
    (from, to): (OffsetDateTime, OffsetDateTime),
) -> Result<Tried, ApiError> {
    let closed = |error: tokio::sync::AcquireError| ApiError::Internal(Box::new(error));
    let _turn = TRIALS.acquire().await.map_err(closed)?;
    let store = &shared.store;
    let paths = store.paths(None, MOST_PATHS).await?;
    let (owners, _) = shared.owner_map_at(shared.clock.now()).await?;
    let hops = |path: &PathRecord| Some((path.id, path.latest.as_ref()?.hops.clone()));
    let routes: BTreeMap<_, _> = paths.iter().filter_map(hops).collect();
    let mut trials = Vec::new();
    for rules in [rules, in_force] {
        let rules = rules_with(shared, rules, paths.iter().map(ruled)).await?;
        trials.push(Trial::new(shared.limits, rules, Arc::clone(&owners), routes.clone()));
    }
    let (first, end) = (window_at(from), window_at(to));
    let findings = store.count_findings(first).await?;
    let step = if findings < FEW_FINDINGS { DAY_WINDOWS } else { TEN_MINUTES_WINDOWS };
    let mut next = first;
    while next < end {
        let until = next.saturating_add(step).min(end);
        let found = store.findings(next, until).await?;
        next = until;
        if found.is_empty() {
            continue;
        }
        let play = move || {
            for (window, findings) in by_window(found) {
                for trial in &mut trials {
                    trial.on_window(window, findings.clone());
                }
            }
            trials
        };
        let played = tokio::task::spawn_blocking(play).await;
        trials = played.map_err(|error| ApiError::Internal(Box::new(error)))?;
    }
    // Alarms of the newest windows are still open.
    let mut results = trials.into_iter().map(|trial| trial.finish(end - 1));
    let (tried, in_force) =
        (results.next().unwrap_or_default(), results.next().unwrap_or_default());
    Ok(Tried { paths, owners, findings, tried, in_force })
}
