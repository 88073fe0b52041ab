//! Room on the disk: what the database holds, how fast it grows, when the disk is full.

use itinera_store::{Compacted, DatabaseSize, Retention, Store, StoreError};
use std::path::Path;
use std::time::{Duration, Instant};
use time::OffsetDateTime;

/// Room on the disk.
#[derive(Debug)]
pub(crate) struct StorageState {
    pub(crate) size: DatabaseSize,
    /// Bytes by which the database may grow; absent where that is not known.
    pub(crate) free_bytes: Option<u64>,
}

impl StorageState {
    /// Days until the disk is full at the present growth; absent where that is not known or nothing
    /// grows.
    pub(crate) fn full_in_days(&self) -> Option<f64> {
        let growth = u32::try_from(self.size.growth_per_day? / BLOCK).ok().filter(|it| *it > 0)?;
        let free = u32::try_from(self.free_bytes? / BLOCK.cast_unsigned()).unwrap_or(u32::MAX);
        Some(f64::from(free) / f64::from(growth))
    }
}

/// Bytes are compared in units of 64 KiB.
const BLOCK: i64 = 65_536;

/// Free bytes of the file system that holds a directory.
pub(crate) fn free_bytes(directory: &Path) -> Option<u64> {
    let system = rustix::fs::statvfs(directory).ok()?;
    Some(system.f_bavail.saturating_mul(system.f_frsize))
}

/// How long compaction may go on before others get their turn: the next call continues.
const COMPACT_AT_MOST: Duration = Duration::from_secs(20);

/// Replaces the rounds of days that are over by blocks, for as long as it may.
pub(crate) async fn compact(store: &Store, now: OffsetDateTime) -> Result<(), StoreError> {
    let begun = Instant::now();
    while begun.elapsed() < COMPACT_AT_MOST {
        match store.compact_next(now).await? {
            Compacted::Nothing => break,
            Compacted::Part(_) => {}
            Compacted::Day(day) => tracing::info!(%day, "rounds are compacted"),
        }
    }
    Ok(())
}

/// Deletes what is older than is kept, and records the size of the database.
pub(crate) async fn apply_retention(
    store: &Store,
    keep: Retention,
    now: OffsetDateTime,
) -> Result<(), StoreError> {
    let deleted = store.apply_retention(keep, now).await?;
    if !deleted.partitions.is_empty() || deleted.rows > 0 {
        let (partitions, rows) = (deleted.partitions.join(", "), deleted.rows);
        tracing::info!(partitions, rows, "deleted: older than is kept");
    }
    if !deleted.in_use.is_empty() {
        let partitions = deleted.in_use.join(", ");
        tracing::warn!(partitions, "in use: deleted within an hour");
    }
    store.record_size(now).await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn days(growth_per_day: Option<i64>, free_bytes: Option<u64>) -> Option<f64> {
        let size = DatabaseSize { bytes: 1 << 30, tables: Vec::new(), growth_per_day };
        StorageState { size, free_bytes }.full_in_days()
    }

    #[test]
    fn the_disk_is_full_after_its_room_at_the_present_growth() {
        assert_eq!(days(Some(1 << 30), Some(40 << 30)), Some(40.0));
        assert_eq!(days(Some(1 << 30), None), None, "not our disk");
        for growth in [None, Some(0), Some(-5), Some(60_000)] {
            assert_eq!(days(growth, Some(40 << 30)), None, "{growth:?}");
        }
    }
}
