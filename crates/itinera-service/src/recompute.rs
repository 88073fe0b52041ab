//! Computes every finding again from the log of commits and compares it with what is recorded.

use crate::runner::step;
use itinera_analysis::{ENGINE, Effect, Judge, Limits};
use itinera_model::finding::Finding;
use itinera_model::id::PathId;
use itinera_store::{Store, StoreError};
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

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

/// Reads the log up to where judgement has come, and judges it again. `progress` hears of the
/// commits read so far.
///
/// # Errors
/// [`StoreError`] when the database is unavailable or unreadable.
pub async fn recompute(
    store: &Store,
    limits: Limits,
    mut progress: impl FnMut(u64),
) -> Result<Recomputation, StoreError> {
    let end = store.judge_memory().await?.cursor;
    let mut judge = Judge::new(limits);
    let mut findings = Findings::new();
    let (mut cursor, mut commits, mut rounds) = (0, 0u64, 0u64);
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
                let key = (assessment.path, window);
                match assessment.finding {
                    Some(finding) => findings.insert(key, finding),
                    None => findings.remove(&key),
                };
            }
        }
        progress(commits);
    }
    let mut recorded = Findings::new();
    for (path, window, body) in store.findings().await? {
        let finding = serde_json::from_value(body);
        let finding = finding.map_err(|_| StoreError::Corrupt { what: "finding" })?;
        recorded.insert((path, window), finding);
    }
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
