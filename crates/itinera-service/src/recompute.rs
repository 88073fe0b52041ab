//! Computes every finding again from the log of commits and compares it with what is recorded.

use crate::runner::{remembered, step};
use itinera_analysis::{ENGINE, Effect, Judge, Limits};
use itinera_model::finding::Finding;
use itinera_model::id::PathId;
use itinera_store::{JudgeMemory, Store, StoreError};
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use time::Date;

/// The outcome of a recomputation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Recomputation {
    /// Version of the judging engine.
    pub engine: u16,
    /// Commits read.
    pub commits: u64,
    /// Rounds read.
    pub rounds: u64,
    /// Findings recorded.
    pub recorded: u64,
    /// Findings recomputed.
    pub recomputed: u64,
    /// Digest of what is recorded, as hexadecimal SHA-256.
    pub recorded_sha256: String,
    /// Digest of what was recomputed.
    pub recomputed_sha256: String,
    /// The first differences, at most ten: path, window.
    pub differences: Vec<(PathId, i64)>,
}

impl Recomputation {
    /// True when both say the same.
    pub fn agrees(&self) -> bool {
        self.recorded_sha256 == self.recomputed_sha256
    }
}

type Findings = BTreeMap<(PathId, i64), Finding>;

fn digest(findings: &Findings) -> String {
    let mut hasher = Sha256::new();
    for ((path, window), finding) in findings {
        hasher.update(path.as_uuid().as_bytes());
        hasher.update(window.to_be_bytes());
        hasher.update(itinera_model::codec::encode(finding));
    }
    hasher.finalize().iter().map(|octet| format!("{octet:02x}")).collect()
}

/// Why nothing can be recomputed.
#[derive(Debug, thiserror::Error)]
pub enum RecomputeError {
    /// The database is away or cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The beginning is not kept any more.
    #[error(
        "the log begins at commit {first}, and no opening state of engine {ENGINE} is kept: \
         days can be recomputed from the next midnight (UTC) on"
    )]
    NoOpening {
        /// The first commit that is kept.
        first: i64,
    },
    /// There is no opening state of this day.
    #[error("no opening state of engine {ENGINE} is kept for {0}")]
    NoDay(Date),
}

/// Where a recomputation begins.
async fn beginning(store: &Store, day: Option<Date>) -> Result<JudgeMemory, RecomputeError> {
    let first = store.first_commit().await?.unwrap_or(1);
    if day.is_none() && first == 1 {
        return Ok(JudgeMemory { engine: ENGINE, ..JudgeMemory::default() });
    }
    let opening = store.opening_memory(day, ENGINE).await?;
    let nothing = || day.map_or(RecomputeError::NoOpening { first }, RecomputeError::NoDay);
    opening.map(|(_, memory)| memory).ok_or_else(nothing)
}

/// Reads the log from its beginning, from the opening state of a day, or of the first day that is
/// kept, up to where judgement has come, and judges it again. `progress` hears of the commits read so
/// far.
///
/// # Errors
/// [`RecomputeError`] when the database is unavailable or unreadable, or no state to begin with is kept.
pub async fn recompute(
    store: &Store,
    limits: Limits,
    day: Option<Date>,
    mut progress: impl FnMut(u64),
) -> Result<Recomputation, RecomputeError> {
    let memory = beginning(store, day).await?;
    let mut cursor = memory.cursor;
    let mut judge = match memory.state.is_empty() {
        true => Judge::new(limits),
        false => remembered(memory, limits)?,
    };
    let (end, known) = store.findings().await?;
    // What was said last of each window that was judged.
    let mut said: BTreeMap<(PathId, i64), Option<Finding>> = BTreeMap::new();
    let (mut commits, mut rounds) = (0u64, 0u64);
    let from_window = match cursor {
        0 => i64::MIN,
        _ => judge.newest_window().unwrap_or(i64::MIN),
    };
    while cursor < end {
        let entries = store.log_after(cursor, (end - cursor).min(256)).await?;
        let Some(last) = entries.last() else { break };
        cursor = last.commit_no;
        for entry in &entries {
            commits += 1;
            rounds += entry.rounds.len() as u64;
            for effect in step(&mut judge, entry) {
                let Effect::Assessed { window, assessment, .. } = effect else {
                    continue;
                };
                said.insert((assessment.path, window), assessment.finding);
            }
        }
        progress(commits);
    }
    let mut recorded = Findings::new();
    for (path, window, body) in known {
        // Those before the beginning were found by what is not kept.
        if window > from_window || said.contains_key(&(path, window)) {
            let finding = serde_json::from_value(body);
            let finding = finding.map_err(|_| StoreError::Corrupt { what: "finding" })?;
            recorded.insert((path, window), finding);
        }
    }
    let found = |(key, finding): (_, Option<Finding>)| Some((key, finding?));
    let findings: Findings = said.into_iter().filter_map(found).collect();
    let keys: std::collections::BTreeSet<_> = recorded.keys().chain(findings.keys()).collect();
    let differing = keys.into_iter().filter(|key| recorded.get(key) != findings.get(key));
    Ok(Recomputation {
        engine: ENGINE,
        commits,
        rounds,
        recorded: recorded.len() as u64,
        recomputed: findings.len() as u64,
        recorded_sha256: digest(&recorded),
        recomputed_sha256: digest(&findings),
        differences: differing.take(10).copied().collect(),
    })
}
