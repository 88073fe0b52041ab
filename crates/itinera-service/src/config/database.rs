//! Connections to the database, and how long measurements are kept.

use super::{LineError, unplaced, within};
use crate::disk::Watermarks;
use itinera_store::{Pools, Retention};
use serde::Deserialize;
use toml::Spanned;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct RetentionEntry {
    rounds_days: Spanned<u16>,
    findings_days: Spanned<u16>,
    rollups_days: Spanned<u16>,
}

impl Default for RetentionEntry {
    fn default() -> Self {
        let Retention { rounds_days, findings_days, rollups_days } = Retention::default();
        Self {
            rounds_days: unplaced(rounds_days),
            findings_days: unplaced(findings_days),
            rollups_days: unplaced(rollups_days),
        }
    }
}

impl RetentionEntry {
    pub(super) fn check(&self) -> Result<Retention, LineError> {
        let rounds_days = within("rounds_days", &self.rounds_days, 1, 3_650)?;
        let findings_days = within("findings_days", &self.findings_days, 1, 3_650)?;
        let rollups_days = within("rollups_days", &self.rollups_days, 1, 36_500)?;
        if findings_days < rounds_days {
            // A recomputation of kept rounds compares with the findings of then.
            let reason = format!(
                "findings_days: {findings_days} is below rounds_days, which is {rounds_days}"
            );
            let [rounds, findings] = [&self.rounds_days, &self.findings_days].map(Spanned::span);
            let at = if findings.is_empty() { rounds } else { findings };
            return Err((at.start, reason));
        }
        Ok(Retention { rounds_days, findings_days, rollups_days })
    }
}

/// Room on the disk: free space below which something waits.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct DiskEntry {
    low_mb: Spanned<u32>,
    full_mb: Spanned<u32>,
    database_mb: Option<Spanned<u32>>,
}

impl Default for DiskEntry {
    fn default() -> Self {
        let Watermarks { low_mb, full_mb } = Watermarks::default();
        Self { low_mb: unplaced(low_mb), full_mb: unplaced(full_mb), database_mb: None }
    }
}

impl DiskEntry {
    pub(super) fn check(&self) -> Result<Watermarks, LineError> {
        let low_mb = within("low_mb", &self.low_mb, 1, 1 << 30)?;
        let full_mb = within("full_mb", &self.full_mb, 1, 1 << 30)?;
        if full_mb > low_mb {
            let reason = format!("full_mb: {full_mb} is above low_mb, which is {low_mb}");
            let [low, full] = [&self.low_mb, &self.full_mb].map(Spanned::span);
            let at = if full.is_empty() { low } else { full };
            return Err((at.start, reason));
        }
        Ok(Watermarks { low_mb, full_mb })
    }

    /// Megabytes that the database may take, where that is given.
    pub(super) fn database_mb(&self) -> Result<Option<u32>, LineError> {
        let most = |entry| within("database_mb", entry, 1, 1 << 30);
        self.database_mb.as_ref().map(most).transpose()
    }
}

/// Connections to the database, by what they are for.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct ConnectionsEntry {
    ingest: Spanned<u32>,
    judgement: Spanned<u32>,
    users: Spanned<u32>,
}

impl Default for ConnectionsEntry {
    fn default() -> Self {
        let Pools { ingest, judgement, users } = Pools::default();
        let at = |value| Spanned::new(0..0, value);
        Self { ingest: at(ingest), judgement: at(judgement), users: at(users) }
    }
}

impl ConnectionsEntry {
    pub(super) fn check(&self) -> Result<Pools, LineError> {
        // Judgement renews its lease while another connection writes.
        for (name, entry, least) in [
            ("ingest", &self.ingest, 1),
            ("judgement", &self.judgement, 2),
            ("users", &self.users, 1),
        ] {
            if !(least..=200).contains(entry.as_ref()) {
                let reason = format!("{name}: {} is outside {least} to 200", entry.as_ref());
                return Err((entry.span().start, reason));
            }
        }
        Ok(Pools {
            ingest: *self.ingest.as_ref(),
            judgement: *self.judgement.as_ref(),
            users: *self.users.as_ref(),
        })
    }
}
